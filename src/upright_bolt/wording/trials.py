"""Sentences on settings and trials: what was refused, what was recovered, what is in force."""

from upright_bolt.errors import BadInput, Refused
from upright_bolt.model.control import show_value
from upright_bolt.model.note import CONSEQUENCES
from upright_bolt.model.settings import show_settings
from upright_bolt.model.trial import ApplyReport, ApplyRow, Drift, Recovery, RecoveryOutcome, Status, Trial
from upright_bolt.wording import notes


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
    if recovery.outcome is RecoveryOutcome.RENEWED:
        return f"The second copy of the stock values ({names}) was damaged. It was written anew; the old one is {kept}."
    return f"The record of what was changed on this machine ({names}) was damaged. It is {kept}."


def _put_to_stock(trial: Trial | None) -> str:
    if trial is None:
        return "As far as is known nothing had been changed since the last restart."
    return (
        "What this program may have changed since the last restart was put back to stock: "
        f"{show_settings(trial.before_values)}. Nothing is kept any more; to be certain, restart the machine."
    )


def _recovered_trial(recovery: Recovery) -> str:
    trial = recovery.trial
    if recovery.outcome is RecoveryOutcome.STOCK:
        return _put_to_stock(trial)
    if trial is None:
        return ""
    what = f"The trial of {trial.since} ({show_settings(trial.settings)}, by {trial.by})"
    if recovery.outcome is RecoveryOutcome.RESTARTED:
        return f"{what} ended with a restart of the machine, which put the firmware's values back."
    if recovery.outcome is RecoveryOutcome.ENDED:
        return f"{what} has ended: what was in force before it holds again."
    if recovery.outcome is RecoveryOutcome.PUT_BACK:
        said = f"{what} outlived its program, so what was in force before it was put back."
        return f"{said} {unrecorded(trial)}".rstrip()
    return (
        f"{what} outlived its program. Not everything could be put back: {', '.join(recovery.left)} did not take the "
        "earlier value. The trial stays on record; try again with the rights to write these files, or restart the "
        "machine."
    )


def unrecorded(trial: Trial) -> str:
    """Return that a trial's end could not be written down, and what follows; empty if it was."""
    if not trial.unrecorded:
        return ""
    return (
        "It is put back, but that could not be written down, so the next start will put it back once more. "
        f"{trial.unrecorded}"
    )


def drift(entry: Drift) -> str:
    """Return that a control no longer holds what was set, and what to do about it."""
    wanted, got = show_value(entry.name, entry.expected), show_value(entry.name, entry.got)
    return (
        f"{entry.name}: {wanted} was set, but {got} is in force. Firmware or another program has changed it; "
        "look for a power service that sets the same files, and let only one of the two do so."
    )


def trial_ends(status: Status) -> str:
    """Return how the running trial ends; empty without one."""
    if status.trial is None:
        return ""
    return "keep or put back" if status.trial.standing else "Put back, closing this window, a restart or a crash"
