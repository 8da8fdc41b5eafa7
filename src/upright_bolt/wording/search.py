"""Sentences on searches for an edge: rungs, why the next one is what it is, and what came of it."""

from collections.abc import Iterable, Mapping

from upright_bolt.analysis.broken_ground import Broken
from upright_bolt.analysis.edge_ahead import Ahead
from upright_bolt.analysis.edge_belief import Estimate
from upright_bolt.analysis.edge_choice import BOLDNESS
from upright_bolt.analysis.edge_course import Course
from upright_bolt.analysis.edge_plan import VOLTAGE
from upright_bolt.model.catalogue import TOGETHER, title_of
from upright_bolt.model.control import Value, show_value
from upright_bolt.model.quantity import CLOCK, POWER, TEMPERATURE
from upright_bolt.model.search import Asked, Outcome, Purpose, Rung, RungEnd, Search, Why
from upright_bolt.model.settings import show_settings
from upright_bolt.wording.times import date_and_time, span

KINDS = {"full": "full load", "steps": "load steps", "light": "light load", "idle": "idle"}


def axis_title(controls: tuple[str, ...]) -> str:
    """Return what an axis is called."""
    if set(controls) == set(TOGETHER):
        return "core and cache"
    return " and ".join(title_of(name).lower().removesuffix(" voltage offset") for name in controls)


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


def search_label(search: int) -> str:
    """Return what the labels of a search's runs begin with."""
    return f"Search {search}, "


def rung_label(search: int, rung: Rung) -> str:
    """Return the label of a rung's run."""
    return f"{search_label(search)}{rung.purpose.value} {rung.number}: {settings_words(rung.settings)}"


def rung_line(rung: Rung, end: RungEnd) -> str:
    """Return a rung in a line: where, under what, how it ended, and what was measured."""
    said = [f"{rung.purpose.value} {rung.number}, {settings_words(rung.settings)}: {outcome_words(end)}"]
    if end.clock_mhz is not None and end.power_w is not None:
        said.append(f"{CLOCK.show(end.clock_mhz)} at {POWER.show(end.power_w)}")
    if end.temp_c is not None:
        said.append(TEMPERATURE.show(end.temp_c))
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
        Purpose.BESIDE: f"Stock for {lasts}, to set one control alone beside it.",
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
    if end is not None and end.why is Why.NO_EFFECT:
        one = axis_title(search.asked.controls)
        return (
            f"Lowering {one} alone changes neither score nor watts here, so what passed proves nothing: it shares a "
            "rail with another part. Search both together."
        )
    if not course.recommended:
        return "Nothing beyond stock can be recommended so far."
    slope = course.outlook().slope.value
    kept = settings_words(course.recommended)
    proven = proven_words(proven_s, from_cool=course.from_cool)
    failing = f"predicted: fails in {of(course.predicted)} of eight-hour loads"
    return f"{kept}; {proven}; {failing}, resting on a slope of {slope:.1f} mV{_seen_down_to(search)}."


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
    place = settings_words(rung.settings)
    if end.outcome is Outcome.FROZE:
        return (
            f"This machine froze and restarted in rung {rung.number} of search {number}, at {place}. That is on record "
            "as what froze it. Nothing of it is in force, and the search can go on from there."
        )
    return (
        f"Search {number} was cut off in rung {rung.number}, at {place}, with the program that made it. That proves "
        f"nothing, and nothing of it is in force. The search can go on from there."
    )


def over_ground(found: Broken, settings: Mapping[str, Value]) -> str:
    """Return what has failed at settings that are asked for, or before them."""
    how = "froze this machine" if found.froze else "gave wrong results here"
    where = f" (run {found.run_id})" if found.run_id is not None else ""
    return f"{show_settings(found.offsets)} {how}{where}; {show_settings(settings)} is that or beyond."


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
    words = settings_words(course.recommended)
    return words[:1].upper() + words[1:] if course.recommended else "Stock"


def stands_words(course: Course) -> str:
    """Return how a search ended, or that it has not."""
    end = course.search.end
    if end is None:
        return "Nothing beyond stock can be recommended so far." if not course.recommended else "It can go on."
    if end.why is not Why.FOUND and end.why is not Why.STOPPED:
        return result(course, {})
    ended = "It ended by itself" if end.why is Why.FOUND else "It was ended"
    if not course.recommended:
        return f"{ended}. Nothing beyond stock can be recommended."
    slope = course.outlook().slope.value
    return f"{ended}. The forecast rests on a slope of {slope:.1f} mV{_seen_down_to(course.search)}."


def span_words(estimate: Estimate, unit: str, sign: float, digits: int = 0) -> str:
    """Return a number with the bounds between which it lies in 95 of 100 cases."""
    low, high = sorted((sign * estimate.low, sign * estimate.high))
    value, low_text, high_text = (
        f"{number:.{digits}f}".replace("-", "−") for number in (sign * estimate.value, low, high)
    )
    return f"{value} {unit} ({low_text} to {high_text})"


def spent_words(search: Search) -> str:
    """Return what a search has cost."""
    return f"{span(60.0 * search.minutes)}, {_count(search.freezes, 'freeze')}"


def rung_in_short(rung: Rung, end: RungEnd | None, stock_score: float | None) -> str:
    """Return a rung for a narrow list, in two lines."""
    first = f"{rung.number}  {settings_words(rung.settings)}"
    if rung.purpose is not Purpose.TEST:
        first += f", {rung.purpose.value}"
    if end is None:
        return f"{first}\n     goes on"
    second = outcome_words(end).replace(" of checked load", "")
    compared = rung.settings and rung.purpose is not Purpose.COOL_SOAK
    if end.score and stock_score and compared and end.outcome is Outcome.PASSED:
        second += f", score {100.0 * (end.score / stock_score - 1.0):+.1f} %".replace("-", "−")
    return f"{first}\n     {second}"


def proven_words(proven_s: Mapping[str, float], *, from_cool: bool) -> str:
    """Return what passed at what is recommended, by kind of load, and what has not been shown there."""
    passed = _listed(f"{span(seconds)} of {KINDS[kind]}" for kind, seconds in proven_s.items() if seconds >= 1.0)
    if not passed:
        return "nothing proven there yet"
    missing = [words for kind, words in KINDS.items() if proven_s.get(kind, 0.0) < 1.0]
    missing += [] if from_cool else ["a start from cool"]
    return f"{passed} without an error" + (f"; not shown: {_listed(missing)}" if missing else "")


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
