"""Sentences on settings that have no effect."""

from upright_bolt.analysis.comparison.no_effect import NoEffect, Why
from upright_bolt.model.catalogue import title_of
from upright_bolt.model.control import show_value
from upright_bolt.sanitize import small

_WORDS = {
    Why.ABOVE_BURST: "{what} lies above the burst limit, {by_value}, which holds at every moment: it has no effect",
    Why.NO_BURST: "{what} has no effect, since a burst limit of {by_value} leaves no burst to last",
    Why.BEYOND_PEAK: "{what} lies beyond the peak limit, {by_value}, which is never exceeded: it has no effect",
    Why.NOT_ENFORCED: "{what} has no effect while limits are not enforced (limiter off)",
    Why.ABOVE_CLOCK: "{what} has no effect: the highest clock is {by_value}",
    Why.TURBO_OFF: "{what} has no effect while turbo is off",
    Why.ALONE_ON_RAIL: "{what} is deeper than the {by} ({by_value}). Where core and cache share a voltage rail, as on "
    "most chips, the weaker of the two counts and the rest has no effect; set both alike",
}


def no_effect(found: NoEffect) -> str:
    """Return that a setting has no effect, and why."""
    what = f"{title_of(found.name)}: {show_value(found.name, found.value)}"
    by_value = "" if found.by_value is None or not found.by else show_value(found.by, found.by_value)
    by = small(title_of(found.by)) if found.by else ""
    return _WORDS[found.why].format(what=what, by=by, by_value=by_value) + "."
