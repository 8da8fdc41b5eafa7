"""A twin's powercap files and platform mode: two copies of the package limits, kept as the register keeps them.

Rounding as in the kernel's intel_rapl driver (6.1): watts down to steps of 1/8 W in 15 bits, windows down to
2^Y·(1+Z/4) of a unit of 1/1024 s, energy in units of 2^-14 J that wrap at 32 bits.
"""

import errno
from functools import partial

from upright_bolt.kernel import paths
from upright_bolt.simulator.chip import KernelInterfaces
from upright_bolt.simulator.files_board import Readers, Writers
from upright_bolt.simulator.physics import Physics

STEP_W = 0.125
WINDOW_UNIT_US = 976
ENERGY_UNIT_J = 2.0**-14
MODES = ("quiet", "balanced", "performance")
COPIES = ("intel-rapl:0", "intel-rapl-mmio:0")


def kept_watts(watts: float) -> float:
    """Return the watts a package limit register keeps when asked for ``watts``."""
    # The register field has 15 bits; 1e-9 keeps a whole number of steps from falling to the one below.
    return min(int(watts / STEP_W + 1e-9), 0x7FFF) * STEP_W


def kept_window_s(seconds: float) -> float:
    """Return the window a package limit register keeps: the next 2^Y·(1+Z/4) units below what is asked."""
    units = int(seconds * 1e6) // WINDOW_UNIT_US
    if units < 1:
        return WINDOW_UNIT_US / 1e6
    exponent = units.bit_length() - 1
    # Z has two bits in the register: quarters of the power of two below.
    quarter = (4 * (units - (1 << exponent))) >> exponent
    return (1 << exponent) * (1 + quarter / 4) * WINDOW_UNIT_US / 1e6


def energy_uj(joules: float) -> int:
    """Return the counter in µJ, wrapped."""
    # The hardware counter has 32 bits, so it wraps every few hours of full load; readers have to unwrap it.
    return int(int(joules / ENERGY_UNIT_J) % (1 << 32) * ENERGY_UNIT_J * 1e6)


def files_of(physics: Physics) -> tuple[Readers, Writers]:
    """Return readers and writers of limits, energy and mode, in the form of this machine's interfaces."""
    readers: Readers = {}
    writers: Writers = {}
    if physics.spec.interfaces is KernelInterfaces.ATTRIBUTES:
        _attributes(physics, readers, writers)
    else:
        _powercap(physics, readers, writers)
        if physics.spec.board_w:
            _board(physics, readers, writers)
    readers[paths.PLATFORM_PROFILE] = lambda: physics.state.mode
    readers[f"{paths.PLATFORM_PROFILE}_choices"] = partial(str, " ".join(MODES))
    writers[paths.PLATFORM_PROFILE] = partial(_set_mode, physics)
    return readers, writers


def _energy_files(physics: Physics, zone: str, readers: Readers) -> None:
    span = str(int(((1 << 32) - 1) * ENERGY_UNIT_J * 1e6))
    readers[f"{zone}/name"] = partial(str, "package-0")
    readers[f"{zone}/max_energy_range_uj"] = partial(str, span)
    readers[f"{zone}/energy_uj"] = lambda: str(energy_uj(physics.state.energy_j))


def _powercap(physics: Physics, readers: Readers, writers: Writers) -> None:
    highest = str(int(physics.spec.limit_range_w[1] * 1e6))
    for copy, folder in enumerate(COPIES):
        zone = f"{paths.POWERCAP}/{folder}"
        _energy_files(physics, zone, readers)
        readers[f"{zone}/enabled"] = partial(_show_enabled, physics, copy)
        writers[f"{zone}/enabled"] = partial(_enable, physics, copy)
        # The memory-mapped copy has no peak limit, as in the kernel's rapl_mmio.
        if physics.spec.peak_w and copy == 0:
            readers[f"{zone}/constraint_2_name"] = partial(str, "peak_power")
            readers[f"{zone}/constraint_2_power_limit_uw"] = lambda: str(round(kept_watts(physics.state.peak_w) * 1e6))
            readers[f"{zone}/constraint_2_max_power_uw"] = partial(str, "0")
            writers[f"{zone}/constraint_2_power_limit_uw"] = partial(_set_peak, physics)
        for name, text in {
            "constraint_0_name": "long_term",
            "constraint_0_max_power_uw": highest,
            "constraint_1_name": "short_term",
            "constraint_1_max_power_uw": highest,
            # The burst window is fixed, and nobody can write it.
            "constraint_1_time_window_us": "2440",
        }.items():
            readers[f"{zone}/{name}"] = partial(str, text)
        for file, column in (
            ("constraint_0_power_limit_uw", 0),
            ("constraint_1_power_limit_uw", 1),
            ("constraint_0_time_window_us", 2),
        ):
            readers[f"{zone}/{file}"] = partial(_show, physics, copy, column)
            writers[f"{zone}/{file}"] = partial(_set, physics, copy, column)


def _board(physics: Physics, readers: Readers, writers: Writers) -> None:
    zone = f"{paths.POWERCAP}/intel-rapl:1"
    _energy_files(physics, zone, readers)
    readers[f"{zone}/name"] = partial(str, "psys")
    readers[f"{zone}/energy_uj"] = lambda: str(
        energy_uj(physics.state.energy_j + physics.spec.rest_w * physics.state.time_s)
    )
    readers[f"{zone}/constraint_0_name"] = partial(str, "long_term")
    readers[f"{zone}/constraint_0_power_limit_uw"] = lambda: str(round(kept_watts(physics.state.board_w) * 1e6))
    # Real boards declare 0 here, which means that no highest value is known.
    readers[f"{zone}/constraint_0_max_power_uw"] = partial(str, "0")
    writers[f"{zone}/constraint_0_power_limit_uw"] = partial(_set_board, physics)


def _set_board(physics: Physics, text: str) -> None:
    if int(text) <= 0:
        raise ValueError(text)
    physics.state.board_w = kept_watts(int(text) / 1e6)


def _show_enabled(physics: Physics, copy: int) -> str:
    return str(int(physics.state.limits_on[copy]))


def _enable(physics: Physics, copy: int, text: str) -> None:
    if physics.spec.locked:
        raise OSError(errno.EACCES, "locked by firmware")
    state, enable = physics.state, int(text) != 0
    state.limits_on[copy] = state.burst_on[copy] = enable
    if copy == 0:  # the kernel writes the bits for clamping with it, in the register that is this copy
        state.clamp = state.burst_clamp = enable


def _set_peak(physics: Physics, text: str) -> None:
    if int(text) <= 0:
        raise ValueError(text)
    physics.state.peak_w = kept_watts(int(text) / 1e6)


def _attributes(physics: Physics, readers: Readers, writers: Writers) -> None:
    _energy_files(physics, f"{paths.POWERCAP}/{COPIES[0]}", readers)
    low, high = physics.spec.limit_range_w
    stock = physics.spec.stock
    board = f"{paths.FIRMWARE_ATTRIBUTES}/quayboard/attributes"
    for name, column, default in (("ppt_pl1_spl", 0, stock.sustained_w), ("ppt_pl2_sppt", 1, stock.burst_w)):
        for file, value in (
            ("min_value", low),
            ("max_value", high),
            ("default_value", default),
            ("scalar_increment", 1),
        ):
            readers[f"{board}/{name}/{file}"] = partial(str, round(value))
        readers[f"{board}/{name}/type"] = partial(str, "integer")
        readers[f"{board}/{name}/current_value"] = partial(_show_watts, physics, column)
        writers[f"{board}/{name}/current_value"] = partial(_set_watts, physics, column)


def _show_watts(physics: Physics, column: int) -> str:
    return str(round(physics.state.limits[0][column]))


def _set_watts(physics: Physics, column: int, text: str) -> None:
    low, high = physics.spec.limit_range_w
    if not low <= int(text) <= high:
        raise ValueError(text)
    # Firmware sets both copies at once; a program that writes powercap sets one.
    for limits in physics.state.limits:
        limits[column] = float(int(text))


def _set_mode(physics: Physics, text: str) -> None:
    if text not in MODES:
        raise ValueError(text)
    physics.set_mode(text)


def _show(physics: Physics, copy: int, column: int) -> str:
    value = physics.state.limits[copy][column]
    return str(round((kept_window_s(value) if column == 2 else kept_watts(value)) * 1e6))


def _set(physics: Physics, copy: int, column: int, text: str) -> None:
    if physics.spec.locked:
        # Bit 63 of register 0x610: the kernel answers EACCES then.
        raise OSError(errno.EACCES, "locked by firmware")
    micro = int(text)
    if micro < 0:
        raise ValueError(text)
    kept = kept_window_s if column == 2 else kept_watts
    physics.state.limits[copy][column] = kept(micro / 1e6)
