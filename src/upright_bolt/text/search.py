"""Sentences on searches for an edge: rungs, why the next one is what it is, and what came of it."""

from collections.abc import Iterable, Mapping

from upright_bolt.analysis.stability.belief import Estimate
from upright_bolt.analysis.stability.course import Course
from upright_bolt.analysis.stability.forecast import Ahead
from upright_bolt.analysis.stability.planner import prior_of
from upright_bolt.analysis.stability.test_choice import BOLDNESS
from upright_bolt.model.axis import Axis
from upright_bolt.model.catalogue import TOGETHER, declaration_of, part_of
from upright_bolt.model.control import Value, show_value
from upright_bolt.model.quantity import CLOCK, POWER, TEMPERATURE
from upright_bolt.model.search import SOAKING, Asked, Outcome, Purpose, Rung, RungEnd, RungError, Search, Why
from upright_bolt.sanitize import capital, small
from upright_bolt.text.times import date_and_time, span

KINDS = {"full": "full load", "steps": "load steps", "light": "light load", "idle": "idle", "use": "your own use"}
"""Kinds of load; the last one is missed by nobody who has not asked for it."""


SCENES = {"light": "the light scene", "heavy": "the heavy scene", "steps": "steps between scenes"}


def axis_title(controls: tuple[str, ...]) -> str:
    """Return what an axis is called."""
    if set(controls) == set(TOGETHER):
        return "core and cache"
    return " and ".join(_title(name) for name in controls)


def axis_words(controls: tuple[str, ...]) -> str:
    """Return what an axis is called at the beginning of a line; the name of a chip stays as it is."""
    return capital(axis_title(controls))


def _title(name: str) -> str:
    part, title = part_of(name), small(declaration_of(name).title)
    return f"{part} {title}" if part else title.removesuffix(" voltage offset")


def settings_words(settings: Mapping[str, Value]) -> str:
    """Return what is kept: “core and cache −85 mV”, “core −95 mV, cache −78 mV”, “stock” for nothing."""
    if not settings:
        return "stock"
    values = set(settings.values())
    if len(values) == 1 and len(settings) > 1:
        return f"{axis_title(tuple(settings))} {_value(next(iter(settings)), values.pop())}"
    return ", ".join(f"{axis_title((name,))} {_value(name, value)}" for name, value in settings.items())


def _value(name: str, value: Value) -> str:
    """Return a value with all the digits that a search tells apart."""
    clock = declaration_of(name).quantity is CLOCK and not isinstance(value, str)
    return f"{value:.0f} MHz" if clock else show_value(name, value)


def kept_words(settings: Mapping[str, Value]) -> str:
    """Return settings as they are written on the command line."""
    return " ".join(
        f"{name}={_value(name, value).replace(' ', '').replace('−', '-')}" for name, value in settings.items()
    )


def search_label(search: int) -> str:
    """Return what the labels of a search's runs begin with."""
    return f"Search {search}, "


def moved_words(asked: Asked, rung: Rung) -> str:
    """Return what a rung moves from stock; what is held in all of them is left out."""
    return settings_words(asked.axis.moved(rung.settings))


def rung_label(asked: Asked, rung: Rung) -> str:
    """Return the label of a rung's run."""
    return f"{search_label(asked.id)}{rung.purpose.value} {rung.number}: {moved_words(asked, rung)}"


def rung_line(asked: Asked, rung: Rung, end: RungEnd) -> str:
    """Return a rung in a line: where, under what, how it ended, and what was measured."""
    said = [f"{rung.purpose.value} {rung.number}, {moved_words(asked, rung)}: {outcome_words(end)}"]
    if end.clock_mhz is not None and end.power_w is not None:
        said.append(f"{CLOCK.show(end.clock_mhz)} at {POWER.show(end.power_w)}")
    if end.temp_c is not None:
        said.append(TEMPERATURE.show(end.temp_c))
    return ", ".join(said)


def outcome_words(end: RungEnd) -> str:
    """Return how a rung ended."""
    lasted = span(end.load_s)
    if end.outcome is Outcome.WRONG:
        places = ", ".join(dict.fromkeys(_place_of(error) for error in end.errors))
        return f"✕ {_count(len(end.errors), 'wrong result')} after {span(end.errors[0].time_s)} ({places})"
    if end.outcome is Outcome.STOPPED and not end.load_s:
        return "cut off before it showed anything"
    return {
        Outcome.PASSED: f"passed {lasted} of checked load",
        Outcome.DIED: f"✕ a worker died after {lasted}",
        Outcome.RESET: f"✕ the driver reset the chip after {lasted}",
        Outcome.FROZE: "✕ the machine froze and restarted",
        Outcome.HOT: f"ended by the temperature ceiling after {lasted} without an error",
        Outcome.REFUSED: "the machine did not take the setting",
        Outcome.STOPPED: f"stopped after {lasted} without an error",
    }[end.outcome]


def _place_of(error: RungError) -> str:
    """Return where something went wrong."""
    return f"processor {error.cpu} in {error.block or 'a block'}" if error.cpu >= 0 else error.block


def step_words(axis: Axis, step: float) -> str:
    """Return a step along an axis towards danger: “−10 mV”, “+25 MHz”."""
    return f"{'−' if axis.towards < 0 else '+'}{step:g} {axis.quantity.unit}"


def place_words(axis: Axis, position: float) -> str:
    """Return a position along an axis as a value without its unit: “−85”, “1010”."""
    return f"{axis.value(position):.0f}".replace("-", "−")


def begins(asked: Asked) -> str:
    """Return how far a search dares to go."""
    axis = asked.axis
    held = f" with {settings_words(asked.held)}" if asked.held else ""
    if asked.plain_step:
        step = step_words(axis, asked.plain_step)
        return f"Search {asked.id}: {axis_title(asked.controls)}{held} in steps of {step} until one fails."
    bold = BOLDNESS[asked.bold.value]
    reach = f"{asked.reach or bold.reach * prior_of(axis).slope:.0f} {axis.quantity.unit}"
    return (
        f"Search {asked.id}, {asked.bold.value}: {axis_title(asked.controls)}{held}, never more than {reach} beyond "
        f"what has passed, and nothing whose freeze is likelier than {percent(bold.freeze_cap)}."
    )


def why_next(asked: Asked, rung: Rung) -> str:
    """Return why a rung is what it is."""
    place = moved_words(asked, rung)
    lasts = span(rung.load_s)
    scene = f", {SCENES[rung.scene]}," if rung.purpose in SOAKING and rung.scene else ""
    fixed = {
        Purpose.WARM_UP: f"A load at stock for {lasts}, so that all rungs begin warm.",
        Purpose.BASELINE: f"Stock once more for {lasts}: gains are counted from here.",
        Purpose.BESIDE: f"Stock for {lasts}, to set one control alone beside it.",
        Purpose.ALONE: f"{place} alone for {lasts}: does it bring a gain by itself? Then each is searched apart.",
        Purpose.SOAK: f"A soak of {lasts}{scene} at {place}, the value that would be kept.",
        Purpose.COOL_SOAK: f"{lasts} more of it{scene} from a machine that has cooled down: {place}.",
        Purpose.IN_USE: f"Use it yourself for {lasts} at {place}, as you always do, and say how it went.",
    }
    if rung.purpose in fixed:
        return fixed[rung.purpose]
    if asked.plain_step:
        return f"The next step of {step_words(asked.axis, asked.plain_step)}: {place} for {lasts}."
    unit = asked.axis.quantity.unit
    narrows = f"±{rung.spread:.0f} to ±{rung.spread_after:.0f} {unit}"
    return (
        f"{place} for up to {lasts}: errs with a likelihood of {percent(rung.fails)}, freezes with "
        f"{percent(rung.freezes)}, and narrows what is sought from {narrows}."
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
        return "Machine, processor or firmware are not those it began with: its proof is history. Begin a new search."
    if end is not None and end.why is Why.NO_EFFECT:
        one = axis_title(search.asked.controls)
        return (
            f"Lowering {one} alone changes neither score nor watts here, so what passed proves nothing: it shares a "
            "rail with another part. Search both together."
        )
    if not course.recommended:
        return f"Nothing beyond stock can be recommended so far. {withdrawn_words(course)}".rstrip()
    slope = course.outlook().slope.value
    kept = settings_words(course.recommended)
    proven = proven_words(proven_s, from_cool=course.from_cool)
    failing = f"predicted: fails in {of(course.predicted)} of eight-hour loads"
    unit = search.asked.axis.quantity.unit
    kept += f", {brought_words(course)}" if course.axis.part and brought_words(course) else ""
    said = f"{kept}; {proven}; {failing}, resting on a slope of {slope:.1f} {unit}{_seen_down_to(search)}."
    return f"{said} {withdrawn_words(course)}".rstrip()


def withdrawn_words(course: Course) -> str:
    """Return that what a search ended with is no longer recommended; empty if it is."""
    if not course.is_withdrawn or course.search.end is None:
        return ""
    before = settings_words(course.search.end.settings)
    return f"The search ended with {before}; errors or freezes since then speak against that."


def brought_words(course: Course) -> str:
    """Return what the value recommended has brought against stock: score and watts; empty if neither was measured."""
    gained, watts = course.gained(), course.watts_part()
    said = [] if gained is None else [f"score {signed_percent(gained)}"]
    said += [] if watts is None else [f"watts {signed_percent(watts - 1.0)}"]
    return _listed(said)


def signed_percent(part: float) -> str:
    """Return a change in percent with its sign."""
    return f"{100.0 * part:+.1f} %".replace("-", "−")


def story(search: Search, *, cut_off: bool) -> str:
    """Return what happened to a search that has not ended while nobody looked.

    Args:
        search: its record, with the rung that was cut off closed.
        cut_off: whether its last rung was open until now.
    """
    rung = search.rungs[-1] if search.rungs else None
    end = search.ends.get(rung.number) if rung is not None else None
    number = search.asked.id
    if not cut_off or rung is None or end is None:
        return f"Search {number} has not ended. It can go on from where it was."
    place = moved_words(search.asked, rung)
    if end.outcome is Outcome.FROZE:
        return (
            f"This machine froze and restarted in rung {rung.number} of search {number}, at {place}. That is on record "
            "as what froze it. Nothing of it is in force, and the search can go on from there."
        )
    return (
        f"Search {number} was cut off in rung {rung.number}, at {place}, with the program that made it. That proves "
        f"nothing, and nothing of it is in force. The search can go on from there."
    )


def ahead_words(ahead: Ahead) -> str:
    """Return what is still expected of a search."""
    return f"about {ahead.minutes:.0f} min, {ahead.freezes:.2f} freezes"


def named(search: Search) -> str:
    """Return what a search is called."""
    asked = search.asked
    ends = "" if search.end is not None else ", not ended"
    return f"Search {asked.id} of {date_and_time(asked.began_at)}: {axis_title(asked.controls)}{ends}"


def kept_title(course: Course) -> str:
    """Return what is recommended, as a title."""
    return capital(settings_words(course.recommended))


def stands_words(course: Course) -> str:
    """Return how a search ended, or that it has not."""
    end = course.search.end
    if end is None:
        return "Nothing beyond stock can be recommended so far." if not course.recommended else "It can go on."
    if end.why is not Why.FOUND and end.why is not Why.STOPPED:
        return result(course, {})
    ended = "It ended by itself" if end.why is Why.FOUND else "It was ended"
    if not course.recommended:
        return f"{ended}. Nothing beyond stock can be recommended. {withdrawn_words(course)}".rstrip()
    slope = course.outlook().slope.value
    unit = course.axis.quantity.unit
    said = f"{ended}. The forecast rests on a slope of {slope:.1f} {unit}{_seen_down_to(course.search)}."
    return f"{said} {withdrawn_words(course)}".rstrip()


def edge_words(axis: Axis, edge: Estimate) -> str:
    """Return where an edge lies, with the bounds between which it lies in 95 of 100 cases."""
    low, high = sorted((axis.value(edge.low), axis.value(edge.high)))
    value, low_text, high_text = (f"{number:.0f}".replace("-", "−") for number in (axis.value(edge.value), low, high))
    return f"{value} {axis.quantity.unit} ({low_text} to {high_text})"


def slope_words(axis: Axis, slope: Estimate) -> str:
    """Return over which way errors grow by a factor of e, with the bounds of 95 of 100 cases."""
    return f"{slope.value:.1f} {axis.quantity.unit} ({slope.low:.1f} to {slope.high:.1f})"


def spent_words(search: Search) -> str:
    """Return what a search has cost."""
    return f"{span(60.0 * search.minutes)}, {_count(search.freezes, 'freeze')}"


def rung_in_short(asked: Asked, rung: Rung, end: RungEnd | None, stock_score: float | None) -> str:
    """Return a rung for a narrow list, in two lines."""
    first = f"{rung.number}  {moved_words(asked, rung)}"
    if rung.purpose is not Purpose.TEST:
        first += f", {rung.purpose.value}"
    if end is None:
        return f"{first}\n     goes on"
    second = outcome_words(end).replace(" of checked load", "")
    compared = rung.settings and rung.purpose is not Purpose.COOL_SOAK and rung.scene in ("", "heavy")
    if end.score and stock_score and compared and end.outcome is Outcome.PASSED:
        second += f", score {signed_percent(end.score / stock_score - 1.0)}"
    return f"{first}\n     {second}"


def proven_words(proven_s: Mapping[str, float], *, from_cool: bool) -> str:
    """Return what passed at what is recommended, by kind of load, and what has not been shown there."""
    passed = _listed(f"{span(seconds)} of {KINDS[kind]}" for kind, seconds in proven_s.items() if seconds >= 1.0)
    if not passed:
        return "nothing proven there yet"
    missing = [words for kind, words in KINDS.items() if proven_s.get(kind, 0.0) < 1.0 and kind != "use"]
    missing += [] if from_cool else ["a start from cool"]
    return f"{passed} without an error" + (f"; not shown: {_listed(missing)}" if missing else "")


def _seen_down_to(search: Search) -> str:
    """Return how far the slope was measured: only errors at two positions show one."""
    rates = {rung.position: end.load_s / len(end.errors) for rung, end in search.ended if end.errors}
    if len(rates) < 2:
        return " that is assumed: errors at two positions would show it"
    return f" that was seen down to one error in {span(max(1.0, *rates.values()))}"


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
