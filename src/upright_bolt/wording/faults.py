"""What went wrong in a run, in few words: wrong results, dead workers, a machine that went down with it."""

from upright_bolt.analysis.numbers import Number
from upright_bolt.model.run import RunRecord, RunRole, RunState

WRONG = "wrong result"


def fault_words(run: RunRecord) -> str:
    """Return e.g. ``"35 wrong results"`` or ``"froze or restarted"``; empty for a run in which all was right."""
    wrong = sum(error.what.startswith(WRONG) for error in run.errors)
    other = len(run.errors) - wrong
    said = ["the machine froze or restarted"] if run.end.state is RunState.RESTARTED else []
    said += [f"{wrong} wrong result{'s' if wrong != 1 else ''}"] if wrong else []
    said += [f"{other} worker{'s' if other != 1 else ''} died or hung"] if other else []
    return ", ".join(said)


def state_words(run: RunRecord) -> str:
    """Return how a run stands, what went wrong first: ``"✕ 35 wrong results, finished"``."""
    wrong = fault_words(run)
    said = [f"✕ {wrong}"] if wrong else []
    if run.end.state is not RunState.RESTARTED:
        said.append(run.end.state.value)
    return ", ".join(said + (["warm-up, not counted"] if run.head.role is RunRole.WARM_UP else []))


def struck(text: str) -> str:
    """Return a number that does not count, for places that cannot strike it through."""
    return f"✕ {text}"


def does_not_count(run: RunRecord, number: Number) -> bool:
    """Tell whether a run's number stands for nothing, since results were wrong: shown, but struck through."""
    return number.of_work and run.broke
