"""The first look of a process at its boot: how the last one ended, and what is under suspicion since."""

from upright_bolt.model.catalogue import declaration_of
from upright_bolt.model.hold import Cause, LogEntry, LogKind
from upright_bolt.model.settings import show_settings
from upright_bolt.model.trial import RecoveryOutcome
from upright_bolt.profiles.record import Record, Remembered, Suspicion
from upright_bolt.settings.engine import SettingsEngine
from upright_bolt.settings.stamp import now_stamp
from upright_bolt.wording.failures import failure_text

STOCK_AFTER = 2
"""After so many unclean boots in a row with something settling or tried: stock until a person says otherwise."""


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
    if suspicion is None and now.boot_id == boot_id:
        return Cause.RESUMED
    unclean = now.unclean
    if suspicion is not None:
        unclean += 1
        record.tell(LogEntry(now_stamp(), LogKind.SUSPECT, Cause.DOUBT, suspicion.profile, settings=suspicion.settings))
    record.change(
        suspicion=suspicion or now.suspicion, unclean=unclean, boot_id=boot_id, settling=None,
        active=now.hold and now.boot,
    )  # fmt: skip
    return Cause.BOOT


def _begin_anew(record: Record, engine: SettingsEngine, boot_id: str) -> Cause:
    """Begin after damage to what was remembered: everything goes to stock, and nothing is applied unasked."""
    record.keep_damaged()
    if engine.kept:
        engine.to_stock((), "the start, since the record of what was applied is damaged")
    suspicion = Suspicion("", {}, now_stamp(), damaged=True)
    record.adopt(Remembered(boot_id=boot_id, suspicion=suspicion))
    record.tell(LogEntry(now_stamp(), LogKind.NOT_USED, Cause.DOUBT, why=DAMAGED))
    return Cause.RESUMED


DAMAGED = "the record of what was applied is damaged, so nothing is applied until you choose a profile"


def tell_damage(record: Record, engine: SettingsEngine) -> None:
    """Write into the log what was found damaged as this process began, and what the last boot has taught."""
    for failure in engine.failures.found:
        record.tell(
            LogEntry(now_stamp(), LogKind.FAILED, Cause.BOOT, settings=dict(failure.values), why=failure_text(failure))
        )
    for name in engine.failures.log.repaired:
        record.tell(LogEntry(now_stamp(), LogKind.DAMAGED, Cause.DOUBT, control=name))
    if record.unreadable:
        record.tell(LogEntry(now_stamp(), LogKind.DAMAGED, Cause.DOUBT, control="hold-log"))


def _suspicion(now: Remembered, engine: SettingsEngine, boot_id: str) -> Suspicion | None:
    """Return what the last boot leaves under suspicion; None if it ended in order, or nothing was at risk."""
    settling, clean = now.settling, engine.failures.log.now.clean_boot
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
