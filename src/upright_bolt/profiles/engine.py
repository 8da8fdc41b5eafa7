"""Profiles of one machine, as people and other processes see them: files, rules, what is in force, hold and boot.

It lives beside the settings engine, in the process that has the rights; what it does by itself is in ``reconciler``.
"""

from dataclasses import replace
from pathlib import Path

from upright_bolt.errors import BadInput, InUse
from upright_bolt.kernel.machine_ports import MachinePorts
from upright_bolt.model.hold import Cause, EnforcementStatus, LogEntry, LogKind, ProfileView, Resting, RuleView
from upright_bolt.model.profile import STOCK
from upright_bolt.profiles.folder import ProfileFolder
from upright_bolt.profiles.plan import Plan
from upright_bolt.profiles.reconciler import Reconciler, said
from upright_bolt.profiles.record import KEPT_ENTRIES, Record
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.engine import SettingsEngine
from upright_bolt.text.failures import failures_in_short
from upright_bolt.text.rules import sentence, until, why


class ProfileEngine:
    """``ProfileAccess`` in the process that has the rights.

    Args:
        engine: decides about settings.
        backend: the same machine.
        ports: the same machine.
        files: the folder of its profiles.
        folder: the folder of its record.

    Attributes:
        reconciler: keeps the active profile applied.
    """

    near = True

    def __init__(
        self, engine: SettingsEngine, backend: Backend, ports: MachinePorts, files: Path, folder: Path
    ) -> None:
        self.files = ProfileFolder(files)
        self.record = Record(folder)
        self.reconciler = Reconciler(engine, backend, ports, self.files, self.record)
        self.planner = self.reconciler.planner
        self._engine = engine
        self._backend = backend

    def reconcile(self) -> float:
        """Take up what has happened and do what is due; return in how many seconds to call again at the latest."""
        return self.reconciler.reconcile()

    def log(self, most: int = KEPT_ENTRIES) -> tuple[LogEntry, ...]:
        """Return the latest entries of the log, oldest first."""
        return self.record.entries(most)

    def text(self, name: str) -> str:
        """Return the text of a profile's file. Raises NotFound or BadInput."""
        return self.files.text(name)

    def save(self, name: str, text: str) -> None:
        """Make a text the profile of that name. Raises BadInput or BoltError."""
        self.files.save(name, text)
        self.reconciler.look_soon()

    def delete(self, name: str) -> None:
        """Delete a profile, unless it is in force. Raises NotFound, BadInput or BoltError."""
        if name.strip() == self.record.now.wanted and self.record.now.active:
            raise BadInput(f"The profile {name.strip()} is in force; use another one first.")
        self.files.delete(name)

    def save_rules(self, text: str) -> None:
        """Make a text the rules. Raises BadInput or BoltError."""
        self.files.save_rules(text)
        self.reconciler.look_soon()

    def use(self, name: str, by: str = "") -> None:
        """Put a profile in force and hold it; what was under suspicion is trusted again.

        Raises:
            NotFound: there is no such profile.
            BadInput: a trial is running, or the kernel's command line says no.
            InUse: a run is going on, or another program holds the machine.
            Refused: it cannot be written down.
        """
        found = self.files.found()
        profile = self.reconciler.profile(STOCK if name.strip().casefold() == STOCK else name.strip(), found)
        if profile is None:
            raise BadInput(found.broken.get(f"{name}.toml") or self.files.no_such(name))
        self._may_change()
        rule = found.rules.counting(self.reconciler.situation(found.rules))
        chosen = replace(
            self.record.now, active=True, hold=True, suspicion=None, unclean=0,
            by_hand=rule is None or rule.profile != profile.name, rule=said(rule),
        )  # fmt: skip
        self.reconciler.apply(chosen, profile, self.planner.plan(profile, chosen), Cause.BY_HAND, by)
        self.reconciler.looked()

    def _may_change(self) -> None:
        self.reconciler.start.retry()
        if self.reconciler.off:
            raise BadInput(f"No profile is used: {self.reconciler.off}. A trial still works.")
        if self._engine.closed:
            raise InUse(self._engine.closed)
        if self._engine.trial is not None:
            raise BadInput("A trial is running. Keep it or put it back first, then use the profile.")
        if self.reconciler.busy():
            raise InUse("A run is going on, which a change of settings would spoil. Use the profile when it has ended.")

    def set_hold(self, *, on: bool) -> None:
        """Keep profiles in force and follow rules from now on, or leave everything as it is. Raises BoltError."""
        self.reconciler.start.retry()
        if on and self.reconciler.off:
            raise BadInput(f"Nothing can be held: {self.reconciler.off}.")
        self.record.change(hold=on, active=on, boot_id=self._backend.boot_id())
        self.reconciler.forget_fights()
        self.reconciler.look_soon()

    def set_boot(self, *, on: bool) -> None:
        """Begin by itself at the next boot, or not. Raises BoltError."""
        self.reconciler.start.retry()
        self.record.change(boot=on)
        self.record.mark_boot(on=on)

    def report_failure(self, by: str = "") -> None:
        """Record that what is applied now has failed, in a run that gave a wrong result or lost a worker.

        Kept values at or beyond it are reset to stock at once, and no profile applies them any more.

        Raises:
            BadInput: nothing is applied that could have failed.
            Refused: some files did not take their stock value.
            BoltError: it cannot be written.
        """
        self._engine.check_writable()
        failed, reset = self._engine.failures.report(by)
        if failed or reset:
            self.reconciler.log(LogKind.FAILED, Cause.DOUBT, who=by, settings=dict(failed or reset))
            self.reconciler.look_soon()

    def clear_failures(self, by: str = "") -> None:
        """Forget what has failed on this processor; an administrator's decision. Raises InUse or BoltError."""
        self._engine.check_writable()
        gone = self._engine.failures.log.clear(by)
        self.reconciler.log(LogKind.CLEARED, Cause.BY_HAND, who=by, why=failures_in_short(gone))
        self.reconciler.look_soon()

    def status(self) -> EnforcementStatus:
        """Return how profiles, rules and enforcement stand."""
        reconciler = self.reconciler
        found, now = self.files.found(), self.record.now
        standing = found.rules.stand(reconciler.situation(found.rules))
        counting = next((each.rule for each in standing if each.counts), None)
        doubts, failures = self.planner.doubts(), self._engine.failures.log.now
        active = now.wanted if now.active and not reconciler.off else ""
        plan = reconciler.plan or self._applied_before()
        at_boot = (counting.profile if counting is not None and not now.by_hand else now.wanted) if now.boot else ""
        return EnforcementStatus(
            profiles=tuple(ProfileView(p, self.planner.plan(p).held_back) for p in found.profiles.values()),
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

    def _applied_before(self) -> Plan | None:
        """Return what an earlier process of this boot has put in force, as far as it is known; None if nothing."""
        profile = self.reconciler.profile(self.record.now.wanted, self.files.found())
        if profile is None:
            return None
        kept, plan = self._engine.kept, self.planner.plan(profile)
        return Plan({name: kept[name] for name in plan.settings if name in kept}, plan.held_back)

    def close(self) -> None:
        """Listen to the machine no more."""
        self.reconciler.close()
