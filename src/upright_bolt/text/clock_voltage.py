"""Sentences on clocks and voltages of a graphics chip."""

from collections.abc import Mapping

from upright_bolt.analysis.clock_voltage import Asked, ClockLadder, can_set
from upright_bolt.analysis.limits.gpu_limits import HIGHEST_CLOCK
from upright_bolt.model.control import Control
from upright_bolt.model.quantity import CLOCK, VOLTAGE
from upright_bolt.text.search import settings_words


def no_pairs(part: str) -> str:
    """Return why nothing can be worked out yet."""
    return f"Too few clocks of {part} were seen under load for that."


def no_ladder(part: str, controls: Mapping[str, Control]) -> str:
    """Return why it is not known which clocks of a chip could be measured."""
    if can_set(controls, part, HIGHEST_CLOCK):
        return "It sleeps, so its clocks are not known yet; a first run with the graphics load shows the highest."
    return "It has no highest clock that could be set to see others."


def measuring_words(ladder: ClockLadder) -> str:
    """Return what measures clocks of a chip."""
    span = f"from {CLOCK.show(ladder.first)} down to {CLOCK.show(ladder.last)}"
    return f"Runs the graphics load at {ladder.count} clocks, {span}, a minute each, at its own voltages"


def asked_words(asked: Asked) -> str:
    """Return what a change sets, and what it is expected to bring."""
    at = f" at {VOLTAGE.show(asked.volts)}" if asked.volts is not None else ""
    expected = []
    if asked.watts_part is not None:
        expected.append(f"about {100.0 * asked.watts_part:.0f} % of the watts")
    if asked.frames_part is not None:
        expected.append(f"about {100.0 * asked.frames_part:.0f} % of the frames")
    said = f"{CLOCK.show(asked.clock_mhz)}{at}: {settings_words(asked.settings)}."
    return f"{said} Expected: {' and '.join(expected)} at stock." if expected else said
