"""Restoring enforced settings that something else has changed, and giving up on what is fought for."""

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field

from upright_bolt.kernel import paths
from upright_bolt.model.change import MachineChange, better_named
from upright_bolt.model.control import Value
from upright_bolt.model.hold import Cause, LogEntry, LogKind
from upright_bolt.model.trial import Drift
from upright_bolt.profiles.plan_application import revert_one
from upright_bolt.profiles.record import Record
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.engine import SettingsEngine
from upright_bolt.settings.timestamp import now_stamp
from upright_bolt.text.notes import clause

MOST = 5
WITHIN_S = 600.0
PAUSES_S = (0.0, 1.0, 3.0, 10.0, 30.0)
"""From one putting back of a setting to the next: at once the first time, then longer each time."""


@dataclass(slots=True)
class RestoreBackoff:
    """How often one setting has been put back lately.

    Attributes:
        times_s: when, oldest first.
        resting: it is left alone.
        who: who changed it last, in words.
        since: date and time from which it is left alone.
    """

    times_s: list[float] = field(default_factory=list)
    resting: bool = False
    who: str = ""
    since: str = ""

    def due_s(self, now_s: float) -> float:
        """Return when it may be put back again; forget what is long past."""
        self.times_s = [at for at in self.times_s if now_s - at < WITHIN_S]
        if not self.times_s:
            return now_s
        return max(now_s, self.times_s[-1] + PAUSES_S[min(len(self.times_s), len(PAUSES_S) - 1)])

    @property
    def exhausted(self) -> bool:
        """Whether it has been put back so often that it is to be left alone."""
        return len(self.times_s) >= MOST


VAIN_LOOKS = 4


class VainWrites:
    """Counts writes that change nothing: of the present value, or of a register beside those that are enforced."""

    def __init__(self) -> None:
        self._looks: dict[str, int] = {}

    def after_look(self, written: Collection[str], changed: Collection[str]) -> set[str]:
        """Return the files that were written before each of the last looks, none of which found a change.

        Args:
            written: files that were written before this look.
            changed: files of what it found changed.
        """
        self._looks = {path: self._looks.get(path, 0) + 1 for path in written if path not in changed}
        return {path for path, looks in self._looks.items() if looks >= VAIN_LOOKS}


VAIN_S, UNREAD_S = 5.0, 1.0


class DriftRestorer:
    """Restores what no longer holds, with longer and longer pauses, until it suspends the setting.

    Args:
        engine: decides about settings.
        backend: the same machine.
        record: where each restore is logged.

    Attributes:
        backoff: how often each setting was restored lately.
        written: who has written which file since the last look, in words.
        waits: files of settings that were restored lately: a write to one is seen to when its pause is over.
    """

    def __init__(self, engine: SettingsEngine, backend: Backend, record: Record) -> None:
        self.backoff: dict[str, RestoreBackoff] = {}
        self.written: dict[str, str] = {}
        self.waits: set[str] = set()
        self._engine = engine
        self._backend = backend
        self._record = record
        self._vain = VainWrites()

    def note_write(self, change: MachineChange) -> None:
        """Remember who has written a file; a name that is known is not lost to a later writer without one."""
        self.written[change.path] = better_named(change.who, self.written.get(change.path, ""))

    def forget(self) -> None:
        """Restore anew whatever was suspended."""
        self.backoff.clear()
        self.waits.clear()

    def is_suspended(self, name: str) -> bool:
        """Tell whether a setting is left to whoever fights for it."""
        return name in self.backoff and self.backoff[name].resting

    def drifts(self, held: Mapping[str, Value], *, silent_only: bool) -> tuple[Drift, ...]:
        """Return what no longer holds; ``silent_only``: of what can change without a word from the kernel."""
        return self._engine.drift(self._silent(held) if silent_only else held)

    def _silent(self, held: Iterable[str]) -> list[str]:
        """Return what can change without a write that anybody reports: registers, and whatever firmware sets.

        Clocks, governor and preference are the kernel's own, and it reports changes of the platform mode.
        """
        return [n for n in held if any(not path.startswith(paths.TOLD) for path in self._backend.files_of(n))]

    def restore(self, drifts: Iterable[Drift], now_s: float, moved: Cause | None) -> tuple[list[float], bool]:
        """Restore what is due.

        Args:
            drifts: what no longer holds.
            now_s: the machine's clock.
            moved: what has come or gone since the last look; None if nothing has.

        Returns:
            When to look again, and whether what is watched is as before.

        Raises:
            InUse: another program holds the machine.
            Refused: it cannot be written down.
        """
        looks_s: list[float] = []
        waits: set[str] = set()
        unread: set[str] = set()
        due: list[Drift] = []
        # What is suspended is no longer watched, so a change of this list is a change of what to watch.
        before = [name for name in self.backoff if self.is_suspended(name)]
        for drift in drifts:
            files = set(self._backend.files_of(drift.name))
            if drift.got is None:  # nobody knows what it holds; its driver is on its way, or its file half written
                unread |= (fresh := self.written.keys() & files)
                looks_s += [now_s + UNREAD_S] if fresh else []
                continue
            backoff = self.backoff.setdefault(drift.name, RestoreBackoff())
            if backoff.resting:
                continue
            at_s = backoff.due_s(now_s)
            if backoff.exhausted:
                self._suspend(drift, backoff, moved)
            elif at_s > now_s:
                looks_s.append(at_s)
                waits |= files
            else:
                due.append(drift)
        if due:
            self._restore_now(due, now_s, moved)
        vain = self._in_vain(now_s)
        looks_s += [now_s + VAIN_S] if vain else []
        self.waits = waits | vain
        kept = self.waits | unread
        # Names are kept only for what is still to be restored; any other name would be blamed for a later change.
        self.written = {path: who for path, who in self.written.items() if path in kept}
        return looks_s, not due and before == [name for name in self.backoff if self.is_suspended(name)]

    def _in_vain(self, now_s: float) -> set[str]:
        """Return files that are written again and again though nothing changes: a later look is soon enough."""
        reset = [name for name, one in self.backoff.items() if one.times_s and one.times_s[-1] == now_s]
        return self._vain.after_look(self.written, {path for name in reset for path in self._backend.files_of(name)})

    def _cause_of(self, drift: Drift, moved: Cause | None) -> tuple[Cause, str]:
        writers = [self.written[path] for path in self._backend.files_of(drift.name) if path in self.written]
        if writers:
            return Cause.PROGRAM, next((who for who in writers if who), "")
        if moved is not None:
            return moved, ""
        if drift.why is not None and not self._silent([drift.name]):  # only a processor brings its own value along
            return Cause.PROCESSORS, ""
        return Cause.FIRMWARE, ""

    def _suspend(self, drift: Drift, backoff: RestoreBackoff, moved: Cause | None) -> None:
        cause, who = self._cause_of(drift, moved)
        backoff.resting, backoff.since = True, now_stamp()
        backoff.who = better_named(who, backoff.who)
        self._log(LogKind.RESTS, cause, drift, backoff.who)

    def _restore_now(self, due: list[Drift], now_s: float, moved: Cause | None) -> None:
        # All at once first, as one record and one pass; one by one only to find which is refused.
        together = revert_one(self._engine, [drift.name for drift in due], "hold")
        for drift in due:
            backoff = self.backoff[drift.name]
            cause, who = self._cause_of(drift, moved)
            backoff.times_s.append(now_s)
            backoff.who = better_named(who, backoff.who)
            if together or revert_one(self._engine, [drift.name], "hold"):
                self._log(LogKind.RESET, cause, drift, who)
            else:
                self._suspend(drift, backoff, moved)

    def _log(self, kind: LogKind, cause: Cause, drift: Drift, who: str) -> None:
        self._record.append(
            LogEntry(
                now_stamp(), kind, cause, self._record.now.wanted, drift.name, drift.expected, drift.got, who,
                why=clause(drift.why).rstrip(".") if drift.why is not None and drift.got == drift.expected else "",
            )
        )  # fmt: skip
