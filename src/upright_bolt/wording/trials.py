"""Sentences on settings and trials: what was refused, what was recovered, what is in force."""

from upright_bolt.errors import BadInput, Refused
from upright_bolt.model.control import show_value
from upright_bolt.model.note import CONSEQUENCES
from upright_bolt.model.settings import show_settings
from upright_bolt.model.trial import ApplyReport, ApplyRow, Drift, Recovery, RecoveryOutcome, Status
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
    """Return what was done about a trial that an earlier process left; empty if nothing."""
    if recovery is None:
        return ""
    trial = recovery.trial
    what = f"The trial of {trial.since} ({show_settings(trial.settings)}, by {trial.by})"
    if recovery.outcome is RecoveryOutcome.RESTARTED:
        return f"{what} ended with a restart of the machine, which put the firmware's values back."
    if recovery.outcome is RecoveryOutcome.PUT_BACK:
        return f"{what} outlived its program, so what was in force before it was put back."
    return (
        f"{what} outlived its program. Not everything could be put back: {', '.join(recovery.left)} did not take the "
        "earlier value. The trial stays on record; try again with the rights to write these files, or restart the "
        "machine."
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
