"""What a run waits for before it begins, as a sentence."""

from math import isnan

from upright_bolt.model.quantity import POWER, TEMPERATURE, clock_text
from upright_bolt.model.start import Waiting


def waiting(found: Waiting) -> str:
    """Return e.g. ``"Resting: 43.2 °C, 1.8 °C less than a minute before; average 6.1 W, to fall to 3.5 W; …"``."""
    said = []
    if found.pause_s is not None:
        said.append(f"a pause of {clock_text(found.pause_s)} more")
    if found.below_c is not None:
        said.append(f"{TEMPERATURE.show(found.temp_c)}, to fall to {TEMPERATURE.show(found.below_c)}")
    if found.change_c is not None:
        said.append(_settling(found.temp_c, found.change_c))
    if found.average_w is not None:
        said.append(f"average of up to {POWER.show(round(found.average_w, 1))}, to fall to "
                    f"{POWER.show(round(found.goal_w or 0.0, 1))}")  # fmt: skip
    if found.busy_percent is not None:
        said.append(f"other programs keep the processor {found.busy_percent:.0f} % busy")
    return f"Resting: {'; '.join(said)}; {clock_text(found.left_s)} at most"


def _settling(temp_c: float | None, change_c: float) -> str:
    now = TEMPERATURE.show(temp_c)
    if isnan(change_c):
        return f"{now}, to be watched for two minutes"
    return f"{now}, {abs(change_c):.1f} °C {'less' if change_c < 0 else 'more'} than a minute before"
