"""What went wrong in a run, in few words: wrong results, dead workers, a machine that went down with it."""

from upright_bolt.analysis.numbers import Number
from upright_bolt.model.run import RunRecord, RunRole, RunState

WRONG = ("wrong result", "wrong frame")
"""What errors say first that are no deaths, each a kind of its own."""


def fault_words(run: RunRecord) -> str:
    """Return e.g. ``"35 wrong results"`` or ``"froze or restarted"``; empty for a run in which all was right."""
    counts = {words: sum(error.what.startswith(words) for error in run.errors) for words in WRONG}
    other = len(run.errors) - sum(counts.values())
    said = ["the machine froze or restarted"] if run.end.state is RunState.RESTARTED else []
    said += [f"{count} {words}{'s' if count != 1 else ''}" for words, count in counts.items() if count]
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


def place_of(cpu: int, block: str) -> str:
    """Return where something went wrong, in words: on which processor, in which part of the work."""
    parts = ([f"processor {cpu}"] if cpu >= 0 else []) + ([block] if block else [])
    return ", ".join(parts) or "nowhere in particular"
