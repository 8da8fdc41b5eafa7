"""Sentences on settings and trials: what was refused, what was recovered, what is in force."""

from collections.abc import Iterable, Mapping

from upright_bolt.errors import BadInput, Refused
from upright_bolt.model.catalogue import FIRMWARE_LIMITS
from upright_bolt.model.control import Value, show_value
from upright_bolt.model.note import CONSEQUENCES, Diagnostic, DiagnosticCode
from upright_bolt.model.settings import show_settings
from upright_bolt.model.trial import ApplyReport, ApplyRow, Drift, Recovery, RecoveryOutcome, Status, Trial
from upright_bolt.text import notes
from upright_bolt.text.times import date_and_time

STOCK_UNKNOWN = (
    "Stock values are unknown until the next restart: an earlier record of this boot could not be read. Restart the "
    "machine to return to stock."
)


def row_sentence(row: ApplyRow) -> str:
    """Return why a setting is not exactly as asked; empty if it is."""
    return "" if row.why is None else notes.about(row.name, row.why)


def refusal(report: ApplyReport) -> str:
    """Return why settings were refused, without what only follows from that, and what could not be put back."""
    rows = [row for row in report.rows if not row.ok and row.why is not None and row.why.code not in CONSEQUENCES]
    said = dict.fromkeys(row_sentence(row) for row in rows)
    if report.left_changed:
        files = ", ".join(report.left_changed)
        said[f"These files could not be put back and hold something else: {files}."] = None
    return " ".join(said)


def as_error(report: ApplyReport) -> BadInput | Refused:
    """Return the error of a refused report: what was asked can never be, or this machine refused it."""
    return (BadInput if report.bad_input else Refused)(refusal(report))


def recovered(recovery: Recovery | None) -> str:
    """Return what was done about what an earlier process left; empty if nothing."""
    if recovery is None:
        return ""
    return " ".join(part for part in (_damaged(recovery), _recovered_trial(recovery)) if part)


def _damaged(recovery: Recovery) -> str:
    if not recovery.damaged:
        return ""
    names = " and ".join(recovery.damaged)
    kept = f"kept as {' and '.join(recovery.aside)}" if recovery.aside else "not kept, since there is no room for it"
    if recovery.older:
        return (
            f"An earlier version of this program has left a record of this boot ({names}) that this version does not "
            f"read. It is {kept}. {STOCK_UNKNOWN}"
        )
    if recovery.outcome is RecoveryOutcome.RENEWED:
        return f"The second copy of the stock values ({names}) was damaged. It was written anew; the old one is {kept}."
    return f"The record of what was changed on this machine ({names}) was damaged. It is {kept}."


def _put_to_stock(trial: Trial | None, *, older: bool) -> str:
    if trial is None:
        return "" if older else "As far as is known nothing had been changed since the last restart."
    return (
        "What this program may have changed since the last restart was put back to stock: "
        f"{show_settings(trial.before_values)}. Nothing is kept any more; to be certain, restart the machine."
    )


def _recovered_trial(recovery: Recovery) -> str:
    trial = recovery.trial
    if recovery.outcome is RecoveryOutcome.STOCK:
        return _put_to_stock(trial, older=recovery.older)
    if trial is None:
        return ""
    what = f"The trial of {date_and_time(trial.since)} ({show_settings(trial.settings)}, by {trial.by})"
    if recovery.outcome is RecoveryOutcome.RESTARTED:
        return f"{what} ended with a restart of the machine, which put the firmware's values back."
    if recovery.outcome is RecoveryOutcome.ENDED:
        return f"{what} has ended: what was in force before it holds again."
    if recovery.outcome is RecoveryOutcome.PUT_BACK:
        said = f"{what} outlived its program, so what was in force before it was put back."
        return " ".join(part for part in (said, left_to_firmware(trial), unrecorded(trial)) if part)
    return f"{what} outlived its program. {not_reverted(recovery.left, recovery.why)}"


def revert(trial: Trial) -> str:
    """Return what is in force again, and what was left to the firmware."""
    said = f"Put back: {show_settings(trial.before_values)}." if trial.before_values else ""
    return " ".join(part for part in (said, left_to_firmware(trial), unrecorded(trial)) if part)


def left_to_firmware(trial: Trial) -> str:
    """Return what was not put back, since the firmware has set it for another power source; empty for nothing."""
    if not trial.left_to_firmware:
        return ""
    return f"Left as the firmware has set it since for another power source: {show_settings(trial.left_to_firmware)}."


def reset_to_stock(trial: Trial) -> str:
    """Return that the machine's own values are in force."""
    said = f"The machine's own values are in force: {show_settings(trial.before_values)}. Nothing of them is kept."
    if trial.left_to_firmware:
        said += f" Left as the firmware has set it: {show_settings(trial.left_to_firmware)}."
    return f"{said} {unrecorded(trial)}".rstrip()


def limits_changed(before: Mapping[str, Value], after: Mapping[str, Value]) -> str:
    """Return what the firmware has changed of its limits; empty if nothing."""
    changes = [
        f"{name} {show_value(name, before[name])} → {show_value(name, after[name])}"
        for name in FIRMWARE_LIMITS
        if name in before and name in after and before[name] != after[name]
    ]
    return f"The firmware has changed {', '.join(changes)}." if changes else ""


def unrecorded(trial: Trial) -> str:
    """Return that a trial's end could not be written down, and what follows; empty if it was."""
    if not trial.unrecorded:
        return ""
    return (
        "It is put back, but that could not be written down, so the next start will put it back once more. "
        f"{trial.unrecorded}"
    )


def drift(entry: Drift, status: Status | None = None) -> str:
    """Return that a control no longer holds what was set, and what to do about it."""
    wanted, got = show_value(entry.name, entry.expected), show_value(entry.name, entry.got)
    if status is not None and _by_firmware(entry, status):
        return (
            f"{entry.name}: {wanted} was set; the firmware has set {got} since the charger was {_way(status)}. "
            "Putting back leaves it so; try again to set it anew."
        )
    if entry.got is None:
        why = "" if entry.why is None else f" {notes.sentence(entry.why)}"
        return f"{entry.name}: {wanted} was set; whether it is in force cannot be read now.{why}"
    if status is not None and status.slept:
        return (
            f"{entry.name}: {wanted} was set, but {got} is in force: the machine has slept since, and its firmware "
            "sets its own values on waking. Try it again to set it anew."
        )
    if entry.why is not None:
        return f"{entry.name}: {wanted} was set; {notes.clause(entry.why)}. Try it again to set all of them."
    return (
        f"{entry.name}: {wanted} was set, but {got} is in force. Firmware or another program has changed it; "
        "look for a power service that sets the same files, and let only one of the two do so."
    )


def not_applied(drifts: Iterable[Drift]) -> str:
    """Return as a clause what is read in place of what was set."""
    return "; ".join(
        f"{each.name} cannot be read" if each.got is None and each.why is None
        else f"{each.name}: {notes.clause(each.why).rstrip('.')}" if each.why is not None
        else f"{each.name} reads {show_value(each.name, each.got)} instead of {show_value(each.name, each.expected)}"
        for each in drifts
    )  # fmt: skip


def not_reverted(files: Iterable[str], why: Diagnostic | None) -> str:
    """Return that files did not take their earlier values, why if that is known, and what to do."""
    said = f"Not everything could be reverted: {', '.join(files)} did not take the earlier value"
    said += f", since {notes.clause(why).rstrip('.')}." if why is not None else "."
    needs_root = why is not None and why.code is DiagnosticCode.NEEDS_ROOT
    remedy = "revert it as root, or restart the machine" if needs_root else "restart the machine"
    return f"{said} The trial stays on record; {remedy}."


def drifts_in_short(status: Status) -> str:
    """Return in few words what no longer holds what was set, the firmware's doing first; empty for nothing."""
    firmware = [f"{e.name} {show_value(e.name, e.got)}" for e in status.drift if _by_firmware(e, status)]
    others = [entry.name for entry in status.drift if not _by_firmware(entry, status)]
    said = [f"▽ {_way(status)}: the firmware set {', '.join(firmware)}"] if firmware else []
    said += [f"▽ no longer in force: {', '.join(others)}"] if others else []
    return "  ".join([*said, *([f"▽ held down: {', '.join(status.capped)}"] if status.capped else [])])


def _by_firmware(entry: Drift, status: Status) -> bool:
    """Tell whether it is a limit that firmware sets by itself, and the power source has changed since the trial."""
    trial = status.trial
    if trial is None or entry.name not in FIRMWARE_LIMITS:
        return False
    return "" not in (trial.power_source, status.power_source) and trial.power_source != status.power_source


def _way(status: Status) -> str:
    return "unplugged" if status.power_source == "battery" else "plugged in"


def capped(status: Status) -> list[str]:
    """Return a sentence for each control that was set and is held down for now."""
    return [notes.about(name, why) for name, why in status.capped.items()]


def trial_ends(status: Status) -> str:
    """Return how the running trial ends; empty without one."""
    if status.trial is None:
        return ""
    return "keep or put back" if status.trial.standing else "Put back, closing this window, a restart or a crash"
