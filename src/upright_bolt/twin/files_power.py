"""A twin's powercap files: two copies of the package limits, kept as the register keeps them.

Rounding as in the kernel's intel_rapl driver (6.1): watts down to steps of 1/8 W in 15 bits, windows down to
2^Y·(1+Z/4) of a unit of 1/1024 s, energy in units of 2^-14 J that wrap at 32 bits.
"""

from functools import partial

from upright_bolt.kernel import paths
from upright_bolt.twin.files_board import Readers, Writers
from upright_bolt.twin.physics import Physics

STEP_W = 0.125
WINDOW_UNIT_US = 976
ENERGY_UNIT_J = 2.0**-14
COPIES = ("intel-rapl:0", "intel-rapl-mmio:0")


def kept_watts(watts: float) -> float:
    """Return the watts a package limit register keeps when asked for ``watts``."""
    return min(int(watts / STEP_W + 1e-9), 0x7FFF) * STEP_W


def kept_window_s(seconds: float) -> float:
    """Return the window a package limit register keeps: the next 2^Y·(1+Z/4) units below what is asked."""
    units = int(seconds * 1e6) // WINDOW_UNIT_US
    if units < 1:
        return WINDOW_UNIT_US / 1e6
    exponent = units.bit_length() - 1
    quarter = (4 * (units - (1 << exponent))) >> exponent
    return (1 << exponent) * (1 + quarter / 4) * WINDOW_UNIT_US / 1e6


def energy_uj(joules: float) -> int:
    """Return the counter in µJ, wrapped."""
    return int(int(joules / ENERGY_UNIT_J) % (1 << 32) * ENERGY_UNIT_J * 1e6)


def files_of(physics: Physics) -> tuple[Readers, Writers]:
    """Return readers and writers of both copies and of the core zone."""
    readers: Readers = {}
    writers: Writers = {}
    highest = str(int(physics.spec.limit_range_w[1] * 1e6))
    span = str(int(((1 << 32) - 1) * ENERGY_UNIT_J * 1e6))
    for copy, folder in enumerate(COPIES):
        zone = f"{paths.POWERCAP}/{folder}"
        for name, text in {
            "name": "package-0",
            "enabled": "1",
            "max_energy_range_uj": span,
            "constraint_0_name": "long_term",
            "constraint_0_max_power_uw": highest,
            "constraint_1_name": "short_term",
            "constraint_1_max_power_uw": highest,
            "constraint_1_time_window_us": "2440",
        }.items():
            readers[f"{zone}/{name}"] = partial(str, text)
        readers[f"{zone}/energy_uj"] = lambda: str(energy_uj(physics.state.energy_j))
        for file, column in (
            ("constraint_0_power_limit_uw", 0),
            ("constraint_1_power_limit_uw", 1),
            ("constraint_0_time_window_us", 2),
        ):
            readers[f"{zone}/{file}"] = partial(_show, physics, copy, column)
            writers[f"{zone}/{file}"] = partial(_set, physics, copy, column)
    return readers, writers


def _show(physics: Physics, copy: int, column: int) -> str:
    value = physics.state.limits[copy][column]
    return str(round((kept_window_s(value) if column == 2 else kept_watts(value)) * 1e6))


def _set(physics: Physics, copy: int, column: int, text: str) -> None:
    micro = int(text)
    if micro < 0:
        raise ValueError(text)
    kept = kept_window_s if column == 2 else kept_watts
    physics.state.limits[copy][column] = kept(micro / 1e6)
