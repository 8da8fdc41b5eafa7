"""Sentences on searches for an edge: rungs, why the next one is what it is, and what came of it."""

from collections.abc import Iterable, Mapping

from upright_bolt.analysis.edge_belief import Estimate
from upright_bolt.analysis.edge_choice import BOLDNESS
from upright_bolt.analysis.edge_plan import VOLTAGE, Outlook
from upright_bolt.model.catalogue import TOGETHER, title_of
from upright_bolt.model.control import show_value
from upright_bolt.model.quantity import CLOCK, POWER, TEMPERATURE
from upright_bolt.model.search import Asked, Outcome, Rung, RungEnd, Search, Why
from upright_bolt.wording.times import span

KINDS = {"full": "full load", "steps": "load steps", "light": "light load", "idle": "idle"}


def axis_title(controls: tuple[str, ...]) -> str:
    """Return what an axis is called."""
    if set(controls) == set(TOGETHER):
        return "core and cache"
    return " and ".join(title_of(name).lower() for name in controls)


def position_words(controls: tuple[str, ...], position: float) -> str:
    """Return a position as the value of its controls: “−85 mV”; “stock” for none."""
    return show_value(controls[0], -position) if position else "stock"


def rung_line(controls: tuple[str, ...], rung: Rung, end: RungEnd) -> str:
    """Return a rung in a line: where, under what, how it ended, and what was measured."""
    what = "soak" if rung.soak else "rung" if rung.settings else "baseline" if rung.is_baseline else "warm-up"
    said = [f"{what} {rung.number}, {position_words(controls, rung.position)}: {outcome_words(end)}"]
    if end.clock_mhz is not None and end.power_w is not None:
        said.append(f"{CLOCK.show(end.clock_mhz)} at {POWER.show(end.power_w)}")
    if end.temp_c is not None:
        said.append(f"highest {TEMPERATURE.show(end.temp_c)}")
    return ", ".join(said)


def outcome_words(end: RungEnd) -> str:
    """Return how a rung ended."""
    lasted = span(end.load_s)
    if end.outcome is Outcome.WRONG:
        places = ", ".join(dict.fromkeys(f"processor {e.cpu} in {e.block or 'a block'}" for e in end.errors))
        return f"✕ {_count(len(end.errors), 'wrong result')} after {span(end.errors[0].time_s)} ({places})"
    if end.outcome is Outcome.STOPPED and not end.load_s:
        return "cut off before it showed anything"
    return {
        Outcome.PASSED: f"passed {lasted} of checked load",
        Outcome.DIED: f"✕ a worker died after {lasted}",
        Outcome.FROZE: "✕ the machine froze and restarted",
        Outcome.HOT: f"ended by the temperature ceiling after {lasted} without an error",
        Outcome.REFUSED: "the machine did not take the setting",
        Outcome.STOPPED: f"stopped after {lasted} without an error",
    }[end.outcome]


def begins(asked: Asked) -> str:
    """Return how far a search dares to go."""
    if asked.plain_step:
        step = show_value(asked.controls[0], -asked.plain_step)
        return f"Search {asked.id}: {axis_title(asked.controls)} in steps of {step} until one fails."
    bold = BOLDNESS[asked.bold.value]
    reach = show_value(asked.controls[0], asked.reach or bold.reach * VOLTAGE.slope)
    return (
        f"Search {asked.id}, {asked.bold.value}: {axis_title(asked.controls)}, never more than {reach} beyond what has "
        f"passed, and nothing whose freeze is likelier than {_percent(bold.freeze_cap)}."
    )


def why_next(asked: Asked, rung: Rung) -> str:
    """Return why a rung is what it is."""
    place = position_words(asked.controls, rung.position)
    if rung.is_baseline:
        return f"Stock once more for {span(rung.load_s)}: gains are counted from here."
    if not rung.settings:
        return f"A load at stock for {span(rung.load_s)}, so that all rungs begin warm."
    if rung.soak:
        return f"A soak of {span(rung.load_s)} at {place}, the value that would be kept."
    if asked.plain_step:
        return f"The next step of {show_value(asked.controls[0], -asked.plain_step)}: {place} for {span(rung.load_s)}."
    return (
        f"{place} for up to {span(rung.load_s)}: errs with a likelihood of {_percent(rung.fails)}, freezes with "
        f"{_percent(rung.freezes)}, and narrows what is sought from ±{rung.spread:.0f} to ±{rung.spread_after:.0f} mV."
    )


def result(search: Search, outlook: Outlook, proven_s: Mapping[str, float]) -> str:
    """Return what came of a search.

    Args:
        search: the search.
        outlook: what is known at its end.
        proven_s: seconds that passed without an error at the value kept or beyond it, by kind of load.
    """
    end = search.end
    controls = search.asked.controls
    if end is not None and end.why is Why.DAMAGED:
        return "Its record is damaged, so nothing of it is recommended; stock counts. Begin a new search."
    if end is not None and end.why is Why.REFUSED:
        return f"The machine did not take a setting: {end.detail}"
    if end is not None and end.why is Why.CHIP_CHANGED:
        return "Processor, firmware or microcode are not those it began with: its proof is history. Begin a new search."
    position = end.position if end is not None else outlook.final
    if not position:
        return "Nothing beyond stock can be recommended so far."
    proven = _listed(f"{span(seconds)} of {KINDS[kind]}" for kind, seconds in proven_s.items() if seconds >= 1.0)
    shown = f"{proven} without an error" if proven else "nothing proven there yet"
    return (
        f"{axis_title(controls)} {position_words(controls, position)}; {shown}; predicted: fails in "
        f"{_of(outlook.predicted)} of eight-hour loads, resting on a slope of {outlook.slope.value:.1f} mV"
        f"{_seen_down_to(search)}."
    )


def _seen_down_to(search: Search) -> str:
    rates = [end.load_s / len(end.errors) for end in search.ends.values() if end.errors]
    return f" that was seen down to one error in {span(max(1.0, *rates))}" if rates else " that no error has shown yet"


def _of(estimate: Estimate) -> str:
    return f"{_percent(estimate.value)} ({_percent(estimate.low)} to {_percent(estimate.high)})"


def _percent(share: float) -> str:
    percent = 100.0 * share
    if percent < 0.005:
        return "under 0.01 %"
    return f"{percent:.2f} %" if percent < 0.1 else f"{percent:.1f} %" if percent < 10.0 else f"{percent:.0f} %"


def _listed(parts: Iterable[str]) -> str:
    *most, last = [*parts] or [""]
    return f"{', '.join(most)} and {last}" if most else last


def _count(number: int, what: str) -> str:
    return f"{number} {what}{'' if number == 1 else 's'}"
