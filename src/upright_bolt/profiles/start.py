"""The first look of a process at its boot: how the last one ended, and what is under suspicion since."""

from math import inf

from upright_bolt.errors import BoltError
from upright_bolt.kernel.clock import Clock
from upright_bolt.model.catalogue import declaration_of
from upright_bolt.model.hold import Cause, LogEntry, LogKind
from upright_bolt.model.settings import show_settings
from upright_bolt.model.trial import RecoveryOutcome
from upright_bolt.profiles.record import Record, Remembered, Suspicion
from upright_bolt.settings.engine import SettingsEngine
from upright_bolt.settings.timestamp import now_stamp
from upright_bolt.text.failures import failure_text

AGAIN_S = 30.0
STOCK_AFTER = 2
"""After so many unclean boots in a row with something settling or tried: stock until a person says otherwise."""


class BootStart:
    """The first look at this boot. Where that cannot be written down it is tried again: until then, nothing is applied.

    Args:
        record: what is remembered.
        engine: has just looked back at what an earlier process left.
        boot_id: the present boot.
        clock: the machine's.

    Attributes:
        cause: why a profile will be applied in this boot.
        why_not: why none can be, as a clause; empty if one can.
    """

    def __init__(self, record: Record, engine: SettingsEngine, boot_id: str, clock: Clock) -> None:
        self.cause = Cause.RESUMED
        self.why_not = ""
        self._record, self._engine, self._boot_id, self._clock = record, engine, boot_id, clock
        self._due_s = inf
        # A process that may only read leaves the boot to the one that will keep profiles applied.
        if not engine.closed:
            self._begin()
            tell_damage(record, engine)

    def _begin(self) -> None:
        try:
            self.cause = begin_boot(self._record, self._engine, self._boot_id)
        except BoltError as fault:
            why = str(fault).rstrip(".")
            self.why_not = f"the start of this boot cannot be written down, so no profile is applied ({why})"
            self._due_s = self._clock.now_s() + AGAIN_S
        else:
            self.why_not, self._due_s = "", inf

    def retry(self) -> None:
        """Try again at once, if it could not be written down."""
        if self.why_not:
            self._begin()

    def reconcile(self) -> float:
        """Try again if it is time to; return in how many seconds to call again at the latest."""
        if self._due_s <= self._clock.now_s():
            self._begin()
        return max(0.0, self._due_s - self._clock.now_s())


def begin_boot(record: Record, engine: SettingsEngine, boot_id: str) -> Cause:
    """Take note of the present boot, and return why a profile will be put in force in it.

    Args:
        record: what is remembered; saved if it changes.
        engine: has just looked back at what an earlier process left.
        boot_id: the present boot.

    Raises:
        BoltError: it cannot be written down.
    """
    if record.damaged:
        return _begin_anew(record, engine, boot_id)
    now = record.now
    suspicion = _suspicion(now, engine, boot_id)
    # The service alone was restarted: the machine, and what is applied on it, went on.
    if suspicion is None and now.boot_id == boot_id:
        return Cause.RESUMED
    record.change(
        suspicion=suspicion or now.suspicion, unclean=now.unclean + (suspicion is not None), boot_id=boot_id,
        settling=None, active=now.hold and now.boot,
    )  # fmt: skip
    if suspicion is not None:  # told once it is written down: what cannot be is begun again
        record.append(
            LogEntry(now_stamp(), LogKind.SUSPECT, Cause.DOUBT, suspicion.profile, settings=suspicion.settings)
        )
    return Cause.BOOT


def _begin_anew(record: Record, engine: SettingsEngine, boot_id: str) -> Cause:
    """Begin after damage to what was remembered: everything goes to stock, and nothing is applied unasked."""
    # Aside and not deleted: it may tell a person what had been applied.
    record.keep_damaged()
    if engine.kept:
        engine.reset_to_stock((), "the start, since the record of what was applied is damaged")
    suspicion = Suspicion("", {}, now_stamp(), damaged=True)
    record.adopt(Remembered(boot_id=boot_id, suspicion=suspicion))
    record.append(LogEntry(now_stamp(), LogKind.NOT_USED, Cause.DOUBT, why=DAMAGED))
    return Cause.RESUMED


DAMAGED = "the record of what was applied is damaged, so nothing is applied until you choose a profile"


def tell_damage(record: Record, engine: SettingsEngine) -> None:
    """Write into the log what was found damaged as this process began, and what the last boot has taught."""
    for failure in engine.failures.found:
        record.append(
            LogEntry(now_stamp(), LogKind.FAILED, Cause.BOOT, settings=dict(failure.values), why=failure_text(failure))
        )
    for name in engine.failures.log.repaired:
        record.append(LogEntry(now_stamp(), LogKind.DAMAGED, Cause.DOUBT, control=name))
    if record.unreadable:
        record.append(LogEntry(now_stamp(), LogKind.DAMAGED, Cause.DOUBT, control="hold-log"))


def _suspicion(now: Remembered, engine: SettingsEngine, boot_id: str) -> Suspicion | None:
    """Return what the last boot leaves under suspicion; None if it ended in order, or nothing was at risk."""
    settling, clean = now.settling, engine.failures.log.now.clean_boot
    # Still settling in a boot that is over and did not end in order: it went down within minutes of being applied.
    if settling is not None and settling.boot_id not in (boot_id, clean):
        return Suspicion(settling.profile, settling.settings, now_stamp())
    recovered = engine.recovered
    if recovered is None or recovered.outcome is not RecoveryOutcome.RESTARTED or recovered.trial is None:
        return None
    trial = recovered.trial
    risky = {name: value for name, value in trial.settings.items() if declaration_of(name).risky}
    return Suspicion("", risky, now_stamp()) if risky and trial.boot_id != clean else None


def suspicion_words(now: Remembered) -> tuple[str, str]:
    """Return why nothing risky is put in force, and why nothing at all is; each empty if nothing speaks against it."""
    if now.suspicion is None:
        return "", ""
    of = now.suspicion
    if of.damaged:
        return "", DAMAGED
    what = f"the profile {of.profile}" if of.profile else "a trial"
    risky = f" ({show_settings(of.settings)})" if of.settings else ""
    if now.unclean >= STOCK_AFTER:
        return "", f"the machine went down uncleanly {now.unclean} times in a row, last with {what}{risky}"
    return f"the machine went down uncleanly with {what}{risky} in force", ""
