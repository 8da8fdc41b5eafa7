"""What went wrong in a run, in few words: wrong results, dead workers, a machine that went down with it."""

from upright_bolt.model.run import RunRecord, RunState

WRONG = "wrong result"


def fault_words(run: RunRecord) -> str:
    """Return e.g. ``"35 wrong results"`` or ``"froze or restarted"``; empty for a run in which all was right."""
    wrong = sum(error.what.startswith(WRONG) for error in run.errors)
    other = len(run.errors) - wrong
    said = ["the machine froze or restarted"] if run.end.state is RunState.RESTARTED else []
    said += [f"{wrong} wrong result{'s' if wrong != 1 else ''}"] if wrong else []
    said += [f"{other} worker{'s' if other != 1 else ''} died or hung"] if other else []
    return ", ".join(said)
