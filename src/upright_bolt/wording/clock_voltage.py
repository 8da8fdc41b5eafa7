"""Sentences on clocks and voltages of a graphics chip."""

from upright_bolt.analysis.clock_voltage import Asked
from upright_bolt.model.quantity import CLOCK, VOLTAGE
from upright_bolt.wording.search import settings_words


def no_pairs(part: str) -> str:
    """Return why nothing can be worked out yet, and what to do."""
    return (
        f"Too few clocks of {part} were seen under load for that. Measure some, at its own voltages: "
        f"sweep {part}.highest-clock=LOW..HIGH/STEP graphics --on {part}."
    )


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
