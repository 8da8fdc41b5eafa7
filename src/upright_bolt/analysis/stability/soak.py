"""The soak at the end of a search: its stages, what is left of them, and what has shown a value to hold.

For processors it is one load, its last part from a machine that has cooled down. For a graphics chip it goes as people
go about it: a light scene, a heavy one, steps between them from cool. Passing the light scene alone means little, so it
counts for nothing by itself. At the end a person may use the machine, and say how it went.
"""

from collections.abc import Mapping

from upright_bolt.model.control import Value
from upright_bolt.model.search import FAILED, SOAKING, Outcome, Purpose, Rung, RungEnd, Search
from upright_bolt.model.settings import Settings

PART_S = 120.0
"""Length of one part of a soak that is made in breaks."""
COOL_PART, SHORTEST_COOL_S = 0.25, 30.0
"""Part of the soak that is made after the machine has cooled down, and its least length."""
LIGHT_PART, HEAVY_PART = 0.1, 0.3
"""Parts of a graphics chip's soak that are made in the light scene and in the heavy one; the rest has steps between."""
SHORTEST_PROOF_S = 60.0
"""Controls that were searched apart are tested together for so long at least, whatever soak is asked."""


def is_shown(search: Search, rung: Rung, end: RungEnd, settings: Mapping[str, Value]) -> bool:
    """Tell whether a rung has passed at ``settings`` or further towards danger."""
    return end.outcome is Outcome.PASSED and bool(settings) and search.asked.axis.as_far(rung.settings, settings)


def failed_soaks(search: Search) -> list[tuple[Rung, RungEnd]]:
    """Return the soaks that have failed."""
    return [(rung, end) for rung, end in search.ended if rung.purpose in SOAKING and end.outcome in FAILED]


def next_soak(search: Search, final: Settings) -> Rung | None:
    """Return the next stage of the soak at ``final``, still without number and boot; None if all is shown."""
    asked = search.asked
    if asked.in_breaks:
        return _next_part(search, final)
    for purpose, scene, load_s in _stages(search, final):
        passed = any(
            rung.purpose is purpose and rung.scene == scene and is_shown(search, rung, end, final)
            for rung, end in search.ended
        )
        if load_s and not passed:
            return _soak(search, final, load_s, purpose, scene)
    return None


def _stages(search: Search, final: Settings) -> list[tuple[Purpose, str, float]]:
    """Return the stages: what each is for, its scene, and how long it lasts in s."""
    asked = search.asked
    apart = len(set(asked.axis.positions(final).values())) > 1
    soak_s = max(asked.soak_s, SHORTEST_PROOF_S) if apart else asked.soak_s
    cool_s = max(SHORTEST_COOL_S, COOL_PART * soak_s) if soak_s > 2.0 * SHORTEST_COOL_S else 0.0
    used = (Purpose.IN_USE, "", asked.in_use_s)
    if not asked.axis.part:
        return [(Purpose.SOAK, "", soak_s - cool_s), (Purpose.COOL_SOAK, "", cool_s), used]
    light_s, heavy_s = LIGHT_PART * soak_s, HEAVY_PART * soak_s
    return [
        (Purpose.SOAK, "light", light_s),
        (Purpose.SOAK, "heavy", heavy_s),
        (Purpose.COOL_SOAK, "steps", soak_s - light_s - heavy_s),
        used,
    ]


def _next_part(search: Search, final: Settings) -> Rung | None:
    """Return the next part of a soak that is made in breaks; None once they have lasted long enough together."""
    shown = sum(
        end.load_s
        for rung, end in search.ended
        if rung.purpose in SOAKING and end.outcome not in FAILED and search.asked.axis.as_far(rung.settings, final)
    )
    scene = "heavy" if search.asked.axis.part else ""
    return _soak(search, final, PART_S, Purpose.SOAK, scene) if search.asked.soak_s - shown > 1.0 else None


def _soak(search: Search, final: Settings, load_s: float, purpose: Purpose, scene: str) -> Rung:
    position = search.asked.axis.furthest(final)
    return Rung(0, position, dict(final), load_s, 1, purpose, scene=scene)
