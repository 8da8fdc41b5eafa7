"""What goes on by itself: which profile should be in force on a machine, putting it there, and keeping it there.

It is driven by ``reconcile``: called when the machine reports a change, and when the time that the last call returned
is over. Everything that decides what is applied is read anew each time (files, situation, record), so it ends where the
last state asks for, whatever happened on the way.
"""

from collections.abc import Callable, Iterable
from contextlib import suppress
from dataclasses import replace
from math import inf

from upright_bolt.errors import BoltError, FileFault
from upright_bolt.kernel import paths
from upright_bolt.kernel.machine_ports import MachinePorts
from upright_bolt.kernel.rule_context import read_situation
from upright_bolt.model.catalogue import declaration_of
from upright_bolt.model.change import ChangeKind, MachineChange
from upright_bolt.model.control import Value
from upright_bolt.model.hold import Cause, LogEntry, LogKind
from upright_bolt.model.profile import STOCK, Profile
from upright_bolt.model.rule import Condition, Rule, Rules, Situation
from upright_bolt.profiles.drift_restorer import DriftRestorer
from upright_bolt.profiles.folder import Found, ProfileFolder
from upright_bolt.profiles.plan import Plan, Planner
from upright_bolt.profiles.plan_application import MODE, apply_plan
from upright_bolt.profiles.record import Record, Remembered, Settling
from upright_bolt.profiles.start import AGAIN_S, BootStart
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.engine import SettingsEngine
from upright_bolt.settings.timestamp import now_stamp
from upright_bolt.text.rules import sentence

SETTLE_S = 300.0
LOOK_EVERY_S = 30.0
LOOK_ON_BATTERY_S = 60.0
AFTER_LOOKS_S = (0.4, 1.0, 2.0, 4.0)
FOLLOWED = (ChangeKind.SUPPLY, ChangeKind.MODE, ChangeKind.WAKE, ChangeKind.PROCESSORS, ChangeKind.DRIVERS)
"""After these, firmware sets its own limits a moment later, or a driver makes its files, and tells nobody."""
PROGRAMS_EVERY_S = 3.0
BUSY_S = 1.0
CHIPS_EVERY_S = 2.0
"""While something waits for a graphics chip to wake: the kernel tells nobody of that, and its status costs nothing."""
WHOLE_EVERY = 10
"""So often a look by routine reads everything that is held, and not only what can change unheard."""
OFF_WORD = "upright-bolt=off"
OFF_WORDS = f"the kernel's command line has {OFF_WORD}, so no profile is applied in this boot"


class Reconciler:
    """Which profile should be in force on one machine, putting it there, and keeping it there.

    Args:
        engine: decides about settings.
        backend: the same machine.
        ports: the same machine; tells of changes.
        files: profiles and rules.
        record: what is remembered.

    Attributes:
        busy: tells whether a run goes on, during which nothing is changed.
        files, record: as given.
        restorer: restores what something else has changed.
        planner: says what of a profile is put in force.
        start: what the last boot has left.
    """

    def __init__(
        self, engine: SettingsEngine, backend: Backend, ports: MachinePorts, files: ProfileFolder, record: Record
    ) -> None:
        self.busy: Callable[[], bool] = _never
        self.files = files
        self.record = record
        self._engine = engine
        self._backend = backend
        self._ports = ports
        self.planner = Planner(backend, record, engine)
        self._waiting: frozenset[str] = frozenset()
        """Settings of the profile that wait for their chip to wake."""
        self.plan: Plan | None = None
        """What this process knows to be in force; None before its first look."""
        self._planned_for: tuple[str, Plan] | None = None
        self.restorer = DriftRestorer(engine, backend, record)
        self._woken = self._watches_pending = False
        self._moved: Cause | None = None
        """What has come or gone since the last look: processors, or drivers."""
        now_s = ports.clock.now_s()  # an earlier process may have died before firmware had done what it does
        self._looks_s = [now_s, *(now_s + after for after in AFTER_LOOKS_S)]
        self._routine_looks = 0
        self._routine_due_s = 0.0
        self.start = BootStart(record, engine, backend.boot_id(), ports.clock)

    @property
    def off(self) -> str:
        """Why nothing is done in this boot, as a clause; empty if it is."""
        with suppress(FileFault):
            # Read anew each time: the file never changes within a boot, but a test's machine may start again.
            if OFF_WORD in self._ports.files.read(paths.COMMAND_LINE).decode("ascii", "replace").split():
                return OFF_WORDS
        return self.start.why_not

    def handles(self) -> tuple[int, ...]:
        """Return file descriptors; when one can be read, ``reconcile`` has something to do."""
        return self._ports.changes.handles()

    def notify(self, change: MachineChange) -> None:
        """Take note of a change that somebody else tells of."""
        self._hear([change], self._ports.clock.now_s())

    # What goes on by itself

    def reconcile(self) -> float:
        """Take up what has happened and do what is due; return in how many seconds to call again at the latest."""
        # A simulated machine's time goes on by itself; what it does has to be made up for first.
        self._ports.keep_up()
        changes = self._ports.changes.take()
        now_s = self._ports.clock.now_s()
        self._hear(changes, now_s)
        if self._engine.has_pending_restores != self._watches_pending:
            self._watch()  # first, so that no processor comes back unheard
        if self._engine.has_pending_restores:
            self._engine.look_at_processors()
        at_most_s = (
            CHIPS_EVERY_S if any(path.startswith(paths.OF_GRAPHICS) for path in self._backend.pending_restores) else inf
        )
        at_most_s = min(at_most_s, self.start.reconcile())
        if not self.record.now.active or self._engine.closed or self.off:
            return at_most_s
        # A trial or a run must not be disturbed. What happens meanwhile is looked at as soon as it is over.
        if self._engine.trial is not None or self.busy():
            self._looks_s = [*(at for at in self._looks_s if at > now_s), now_s]
            return BUSY_S
        self._settle(now_s)
        # A file that waits for its turn is not looked at because it was written once more: that is how a fight goes.
        news = [each for each in changes if each.kind is not ChangeKind.WRITTEN or each.path not in self.restorer.waits]
        if news or any(at <= now_s for at in (*self._looks_s, self._routine_due_s)):
            # Most routine looks read only what changes without a word from the kernel; every so-manyth reads all.
            by_routine = not news and not any(at <= now_s for at in self._looks_s)
            self._looks_s = [at for at in self._looks_s if at > now_s]
            self._routine_looks = self._routine_looks + 1 if by_routine else 0
            try:
                self._look(now_s, silent_only=self._routine_looks % WHOLE_EVERY > 0)
            except BoltError as fault:  # another program has the machine, or the disk is full: later
                self._looks_s.append(now_s + AGAIN_S)
                self._tell_trouble(str(fault))
            self.looked()
        return min(at_most_s, max(0.0, min(self._routine_due_s, *self._looks_s, inf) - now_s))

    def _tell_trouble(self, why: str) -> None:
        """Say once why nothing could be done, however often it is tried again."""
        last = self.record.entries(1)
        if not last or (last[0].kind, last[0].why) != (LogKind.NOT_USED, why):
            self.log(LogKind.NOT_USED, self.start.cause, why=why)

    def _routine_s(self) -> float:
        """Return how often to look for what changes silently."""
        if self._waiting:
            return CHIPS_EVERY_S
        if self.files.known.rules.named(Condition.PROGRAM):
            return PROGRAMS_EVERY_S
        return LOOK_ON_BATTERY_S if self._backend.power_source() == "battery" else LOOK_EVERY_S

    def _hear(self, changes: Iterable[MachineChange], now_s: float) -> None:
        for change in changes:
            if change.kind is ChangeKind.WRITTEN:
                self.restorer.note_write(change)
            elif change.kind is ChangeKind.WAKE:
                self._woken = True
            elif change.kind is ChangeKind.PROCESSORS:
                self._moved = Cause.PROCESSORS
            # Firmware acts up to seconds after what made it act, so one look at once would come too early.
            if change.kind in FOLLOWED:
                self._looks_s = [now_s + after for after in AFTER_LOOKS_S]

    def _settle(self, now_s: float) -> None:
        now = self.record.now
        if now.settling is None:
            return
        if now_s - now.settling.since_s >= SETTLE_S or now_s < now.settling.since_s:
            profile = now.settling.profile
            # Five minutes without a crash: whatever went down before was not this profile.
            self.record.change(settling=None, unclean=0)
            self.log(LogKind.SETTLED, self.start.cause, profile)

    def _look(self, now_s: float, *, silent_only: bool) -> None:
        """See what should be in force, and see to it; ``silent_only``: of what can change unheard. Raises BoltError."""
        self._see_what_moved()
        # Before anything is planned: bounds, and even which controls there are, go with the processors.
        if self._moved is not None:
            self._backend.processors_changed()
            self._watch()
        found, now = self.files.found(), self.record.now
        wanted, cause = self._wanted(found)
        if not wanted:
            return None
        # A person's choice lasts until the rules come to another verdict than the one it overrode.
        if cause is Cause.RULE and now.by_hand:
            self.record.change(by_hand=False)
        profile = self.profile(wanted, found)
        if profile is None:
            return self._lost(wanted)
        plan = self.planner.plan(profile)
        waited, self._waiting = self._waiting, frozenset(self.planner.waiting(profile))
        # After a restart of the service alone nothing is written again: values are there, and the log would lie.
        if self._planned_for is None and wanted == now.wanted and self._holds_already(plan):
            self.plan, self._planned_for = plan, (wanted, plan)
            self._watch()
        elif wanted != now.wanted or self._planned_for != (wanted, plan):
            if wanted == now.wanted:
                cause = self.start.cause if self._planned_for is None else self._moved or Cause.EDITED
                cause = Cause.CHIP_AWAKE if self._waiting < waited else cause
            self._put(profile, plan, cause)
        elif self._woken:
            self._put(profile, plan, Cause.WAKE)
        elif self._moved is not None and self.plan is not None and self.plan.settings != plan.settings:
            self._put(profile, plan, self._moved)  # what a processor that went in the middle has kept out
        else:
            self._restore(now_s, silent_only=silent_only and self._moved is None)
        self._woken, self._moved = False, None
        return None

    def _restore(self, now_s: float, *, silent_only: bool) -> None:
        """Restore what no longer holds. Raises InUse or Refused."""
        held = self.plan.settings if self.plan is not None else {}
        drifts = self.restorer.drifts(held, silent_only=silent_only)
        # The name of a writer comes as an event of its own, often after the value could already be read.
        if drifts:
            self._hear(self._ports.changes.take(), now_s)  # who has written since this look began
        looks_s, watched = self.restorer.restore(drifts, now_s, self._moved)
        self._looks_s += looks_s
        if not watched:
            self._watch()

    def _see_what_moved(self) -> None:
        """See whether processors or drivers have come or gone; the kernel may not have told yet."""
        if self._ports.changes.replaced():
            self._moved = Cause.DRIVERS
        elif self._moved is None and self._backend.processors_moved:
            self._moved = Cause.PROCESSORS

    def _wanted(self, found: Found) -> tuple[str, Cause]:
        """Return which profile should be in force, and why: a person's choice until another rule counts, else rules."""
        now = self.record.now
        rule = found.rules.counting(self.situation(found.rules))
        # Compared by its sentence, since a rule's place in the file says nothing once that was edited.
        if now.by_hand and said(rule) == now.rule:
            return now.wanted, Cause.BY_HAND
        if rule is None:
            return now.wanted, Cause.BY_HAND
        return rule.profile, Cause.RULE

    def situation(self, rules: Rules) -> Situation:
        """Return what rules look at."""
        mode = self._backend.values([MODE]).get(MODE, "")
        named = rules.named(Condition.PROGRAM)
        return read_situation(self._ports.files, str(mode), self._ports.programs(named) if named else frozenset())

    def profile(self, name: str, found: Found) -> Profile | None:
        """Return a profile by its name, stock among them; None if there is none that can be used."""
        return Profile(STOCK, {}) if name == STOCK else found.profiles.get(name)

    def _lost(self, wanted: str) -> None:
        """A profile that should be in force is broken or gone: what is in force stays, and is said once."""
        if self._planned_for is None or self._planned_for[0] != wanted:
            self._planned_for = (wanted, Plan({}, ()))
            self.log(LogKind.NOT_USED, self.start.cause, wanted, why=f"there is no profile “{wanted}” that can be used")

    def _holds_already(self, plan: Plan) -> bool:
        """Tell whether an earlier process of this boot has put all of a plan in force, and it still is."""
        return self._engine.kept == plan.settings and not self._engine.drift()

    def _put(self, profile: Profile, plan: Plan, cause: Cause) -> None:
        """Put a plan in force. Raises InUse or Refused."""
        self.apply(self.record.now, profile, plan, cause)

    def apply(self, now: Remembered, profile: Profile, plan: Plan, cause: Cause, who: str = "") -> None:
        """Put a plan in force, with ``now`` on the disk before the first write. Raises InUse or Refused."""
        boot_id = self._backend.boot_id()
        settling = now.settling
        # Waking applies the same values as before, which have settled already.
        if cause not in (Cause.WAKE, Cause.RESUMED):
            risky = {n: v for n, v in plan.settings.items() if declaration_of(n).risky}
            settling = Settling(boot_id, profile.name, risky, self._ports.clock.now_s())
        # On the disk before the first write: if the machine goes down with it, the next boot knows what was applied.
        self.record.adopt(replace(now, wanted=profile.name, boot_id=boot_id, settling=settling))
        by = f"profile {profile.name}" + (f", chosen by {who}" if who else "")
        woken = self._woken or cause is Cause.WAKE
        self.plan = apply_plan(self._engine, self._backend, plan, by, woken=woken)
        self._planned_for = (profile.name, plan)
        # Another profile is another matter: who fought for a value of the last one may have no quarrel with this.
        self.forget_fights()
        self.restorer.written.clear()
        if MODE in plan.settings:  # its limits follow a moment later
            now_s = self._ports.clock.now_s()
            self._looks_s = [now_s + after for after in AFTER_LOOKS_S]
        self._watch()
        self.log(LogKind.USED, cause, profile.name, who=who, settings=dict(self.plan.settings))

    def forget_fights(self) -> None:
        """Restore anew whatever was suspended."""
        self.restorer.forget()

    def _watch(self) -> None:
        """Let the machine tell of writes to what is held, and of processors for which something is pending.

        What is left alone is watched no longer: whoever fights for it would wake this process with every write.
        """
        applied = self.plan.settings if self.plan is not None else {}
        held = [name for name in applied if not self.restorer.is_suspended(name)]
        self._watches_pending = self._engine.has_pending_restores
        processors = (paths.CPU_ONLINE, *self._backend.pending_restores) if self._watches_pending else ()
        self._ports.changes.watch([*(path for name in held for path in self._backend.files_of(name)), *processors])

    def looked(self) -> None:
        """All has been looked at now: the next look by routine is a while off."""
        now_s = self._ports.clock.now_s()
        self._routine_due_s = now_s + self._routine_s()
        self._hear_of_own(now_s)

    def _hear_of_own(self, now_s: float) -> None:
        """Take what this program's own reading and writing has raised, and what happened meanwhile."""
        # Writes without a name are taken for this program's own; where the kernel names writers, others have one.
        others = [c for c in self._ports.changes.take() if c.who or c.kind is not ChangeKind.WRITTEN]
        self._hear(others, now_s)
        if others:
            self.look_soon()

    def close(self) -> None:
        """Listen to the machine no more."""
        self._ports.changes.close()

    def look_soon(self) -> None:
        """Let the next call see to everything."""
        self._looks_s.append(self._ports.clock.now_s())

    def log(self, kind: LogKind, cause: Cause, profile: str = "", *, who: str = "", why: str = "",
             settings: dict[str, Value] | None = None) -> None:  # fmt: skip
        """Add an entry to the log of enforcement."""
        self.record.append(
            LogEntry(now_stamp(), kind, cause, profile or self.record.now.wanted, who=who, why=why,
                     settings=settings or {})
        )  # fmt: skip


def said(rule: Rule | None) -> str:
    """Return a rule as its sentence; empty for none."""
    return "" if rule is None else sentence(rule)


def _never() -> bool:
    return False
