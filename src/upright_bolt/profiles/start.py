"""The first look of a process at its boot: how the last one ended, and what is under suspicion since."""

from upright_bolt.model.catalogue import declaration_of
from upright_bolt.model.hold import Cause, LogEntry, LogKind
from upright_bolt.model.settings import show_settings
from upright_bolt.model.trial import RecoveryOutcome
from upright_bolt.profiles.record import Record, Remembered, Suspicion
from upright_bolt.settings.engine import SettingsEngine
from upright_bolt.settings.stamp import now_stamp

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
    now = record.now
    if record.damaged:
        record.tell(LogEntry(now_stamp(), LogKind.NOT_USED, Cause.DOUBT, why=DAMAGED))
        now.boot_id = boot_id
        return Cause.RESUMED
    suspicion = _suspicion(now, engine, boot_id)
    if suspicion is None and now.boot_id == boot_id:
        if now.clean_boot and now.active:  # what goes wrong from now on was not ended in order
            now.clean_boot = ""
            record.save()
        return Cause.RESUMED
    if suspicion is not None:
        now.suspicion, now.unclean = suspicion, now.unclean + 1
        record.tell(LogEntry(now_stamp(), LogKind.SUSPECT, Cause.DOUBT, suspicion.profile, settings=suspicion.settings))
    now.boot_id, now.settling = boot_id, None
    now.active = now.hold and now.boot
    record.save()
    return Cause.BOOT


DAMAGED = "the record of what was in force is damaged, so nothing is put in force until a profile is chosen"


def _suspicion(now: Remembered, engine: SettingsEngine, boot_id: str) -> Suspicion | None:
    """Return what the last boot leaves under suspicion; None if it ended in order, or nothing was at risk."""
    settling = now.settling
    if not now.hold:
        return None
    if settling is not None and settling.boot_id not in (boot_id, now.clean_boot):
        return Suspicion(settling.profile, settling.settings, now_stamp())
    recovered = engine.recovered
    if recovered is None or recovered.outcome is not RecoveryOutcome.RESTARTED or recovered.trial is None:
        return None
    trial = recovered.trial
    risky = {name: value for name, value in trial.settings.items() if declaration_of(name).risky}
    return Suspicion("", risky, now_stamp()) if risky and trial.boot_id != now.clean_boot else None


def suspicion_words(now: Remembered) -> tuple[str, str]:
    """Return why nothing risky is put in force, and why nothing at all is; each empty if nothing speaks against it."""
    if now.suspicion is None:
        return "", ""
    of = now.suspicion
    what = f"the profile {of.profile}" if of.profile else "a trial"
    risky = f" ({show_settings(of.settings)})" if of.settings else ""
    if now.unclean >= STOCK_AFTER:
        return "", f"the machine went down uncleanly {now.unclean} times in a row, last with {what}{risky}"
    return f"the machine went down uncleanly with {what}{risky} in force", ""
