"""How profiles, rules, hold and boot stand, put together for whoever shows them."""

from typing import TYPE_CHECKING

from upright_bolt.model.hold import EnforcementStatus, ProfileView, Resting, RuleView
from upright_bolt.text.rules import sentence, until, why

if TYPE_CHECKING:
    from upright_bolt.profiles.engine import ProfileEngine


def status_of(engine: "ProfileEngine") -> EnforcementStatus:
    """Return how profiles, rules and enforcement of a machine stand."""
    reconciler = engine.reconciler
    found, now = engine.files.found(), engine.record.now
    standing = found.rules.stand(reconciler.situation(found.rules))
    counting = next((each.rule for each in standing if each.counts), None)
    doubts, failures = engine.planner.doubts(), engine.failure_record
    active = now.wanted if now.active and not reconciler.off else ""
    plan = reconciler.plan or engine.told_before()
    at_boot = (counting.profile if counting is not None and not now.by_hand else now.wanted) if now.boot else ""
    return EnforcementStatus(
        profiles=tuple(ProfileView(p, engine.planner.plan(p).held_back) for p in found.profiles.values()),
        broken=dict(found.broken),
        rules=tuple(
            RuleView(sentence(each.rule), each.rule.profile, each.counts, why(each, counting)) for each in standing
        ),
        rules_text=found.rules_text,
        rules_broken=found.rules_broken,
        active=active,
        applied=dict(plan.settings) if plan is not None and active else {},
        held_back=plan.held_back if plan is not None and active else (),
        by_hand=until(found.rules) if active and now.by_hand else "",
        hold=now.active,
        boot=now.boot,
        resting=tuple(
            Resting(name, one.who, one.since) for name, one in reconciler.restorer.backoff.items() if one.resting
        ),
        settling=now.settling is not None,
        suspects=doubts.suspects or doubts.stock_only,
        off=reconciler.off,
        failures=tuple(doubts.failed),
        failures_lost=failures.lost,
        cleared_at=failures.cleared_at,
        at_boot=at_boot,
    )
