"""Sentences on searches for an edge: rungs, why the next one is what it is, and what came of it."""

from collections.abc import Iterable, Mapping

from upright_bolt.analysis.edge_belief import Estimate
from upright_bolt.analysis.edge_choice import BOLDNESS
from upright_bolt.analysis.edge_course import Course
from upright_bolt.analysis.edge_plan import VOLTAGE
from upright_bolt.model.catalogue import TOGETHER, title_of
from upright_bolt.model.control import Value, show_value
from upright_bolt.model.quantity import CLOCK, POWER, TEMPERATURE
from upright_bolt.model.search import Asked, Outcome, Purpose, Rung, RungEnd, Search, Why
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


def settings_words(settings: Mapping[str, Value]) -> str:
    """Return what is kept: “core and cache −85 mV”, “core −95 mV, cache −78 mV”, “stock” for nothing."""
    if not settings:
        return "stock"
    values = set(settings.values())
    if len(values) == 1 and len(settings) > 1:
        return f"{axis_title(tuple(settings))} {show_value(next(iter(settings)), values.pop())}"
    return ", ".join(f"{axis_title((name,))} {show_value(name, value)}" for name, value in settings.items())


def kept_words(settings: Mapping[str, Value]) -> str:
    """Return settings as they are written on the command line."""
    return " ".join(
        f"{name}={show_value(name, value).replace(' ', '').replace('−', '-')}" for name, value in settings.items()
    )


def rung_line(rung: Rung, end: RungEnd) -> str:
    """Return a rung in a line: where, under what, how it ended, and what was measured."""
    said = [f"{rung.purpose.value} {rung.number}, {settings_words(rung.settings)}: {outcome_words(end)}"]
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
        f"passed, and nothing whose freeze is likelier than {percent(bold.freeze_cap)}."
    )


def why_next(asked: Asked, rung: Rung) -> str:
    """Return why a rung is what it is."""
    place = settings_words(rung.settings)
    lasts = span(rung.load_s)
    fixed = {
        Purpose.WARM_UP: f"A load at stock for {lasts}, so that all rungs begin warm.",
        Purpose.BASELINE: f"Stock once more for {lasts}: gains are counted from here.",
        Purpose.ALONE: f"{place} alone for {lasts}: does it bring a gain by itself? Then each is searched apart.",
        Purpose.SOAK: f"A soak of {lasts} at {place}, the value that would be kept.",
        Purpose.COOL_SOAK: f"{lasts} more of it from a machine that has cooled down: {place}.",
    }
    if rung.purpose in fixed:
        return fixed[rung.purpose]
    if asked.plain_step:
        return f"The next step of {show_value(asked.controls[0], -asked.plain_step)}: {place} for {lasts}."
    return (
        f"{place} for up to {lasts}: errs with a likelihood of {percent(rung.fails)}, freezes with "
        f"{percent(rung.freezes)}, and narrows what is sought from ±{rung.spread:.0f} to ±{rung.spread_after:.0f} mV."
    )


def result(course: Course, proven_s: Mapping[str, float]) -> str:
    """Return what came of a search, or what it has found so far.

    Args:
        course: the search.
        proven_s: seconds that passed at what is recommended, by kind of load.
    """
    search = course.search
    end = search.end
    if end is not None and end.why is Why.DAMAGED:
        return "Its record is damaged, so nothing of it is recommended; stock counts. Begin a new search."
    if end is not None and end.why is Why.REFUSED:
        return f"The machine did not take a setting: {end.detail}"
    if end is not None and end.why is Why.CHIP_CHANGED:
        return "Processor, firmware or microcode are not those it began with: its proof is history. Begin a new search."
    if not course.recommended:
        return "Nothing beyond stock can be recommended so far."
    slope = course.outlook().slope.value
    kept = settings_words(course.recommended)
    failing = f"predicted: fails in {of(course.predicted)} of eight-hour loads"
    return f"{kept}; {proven_words(proven_s)}; {failing}, resting on a slope of {slope:.1f} mV{_seen_down_to(search)}."


def proven_words(proven_s: Mapping[str, float]) -> str:
    """Return what passed at what is recommended, by kind of load."""
    passed = _listed(f"{span(seconds)} of {KINDS[kind]}" for kind, seconds in proven_s.items() if seconds >= 1.0)
    return f"{passed} without an error" if passed else "nothing proven there yet"


def _seen_down_to(search: Search) -> str:
    rates = [end.load_s / len(end.errors) for end in search.ends.values() if end.errors]
    return f" that was seen down to one error in {span(max(1.0, *rates))}" if rates else " that no error has shown yet"


def of(estimate: Estimate) -> str:
    """Return a share with its bounds."""
    return f"{percent(estimate.value)} ({percent(estimate.low)} to {percent(estimate.high)})"


def percent(share: float) -> str:
    """Return a share with as many digits as it deserves."""
    of_100 = 100.0 * share
    if of_100 < 0.005:
        return "under 0.01 %"
    return f"{of_100:.2f} %" if of_100 < 0.1 else f"{of_100:.1f} %" if of_100 < 10.0 else f"{of_100:.0f} %"


def _listed(parts: Iterable[str]) -> str:
    *most, last = [*parts] or [""]
    return f"{', '.join(most)} and {last}" if most else last


def _count(number: int, what: str) -> str:
    return f"{number} {what}{'' if number == 1 else 's'}"
