"""A twin's files of its graphics chips: under amdgpu with its overdrive table, or under i915.

Every file of a chip but those that the kernel answers from memory wakes it when it is read or written, as it does on a
machine: ``GraphicsState.woken`` counts that.
"""

import errno
import re
from collections.abc import Callable
from functools import partial

from upright_bolt.kernel import paths
from upright_bolt.kernel.gpu import overdrive
from upright_bolt.simulator.graphics import Gpu
from upright_bolt.simulator.graphics_spec import GraphicsDriver
from upright_bolt.simulator.physics import Physics

Readers = dict[str, Callable[[], str]]
Writers = dict[str, Callable[[str], None]]
LEVELS = ("auto", "low", "high", "manual", "profile_standard", "profile_min_sclk", "profile_min_mclk", "profile_peak")
LEAST_OFFSET_MV = -200
_COMMAND = re.compile(r"(s|m) ([01]) (\d+)|vo (-?\d+)|(r)|(c)")


def files_of(physics: Physics) -> tuple[Readers, Writers]:
    """Return readers and writers of all chips."""
    readers: Readers = {}
    writers: Writers = {}
    for index in range(len(physics.spec.graphics)):
        _OfChip(physics, index, readers, writers).add()
    return readers, writers


class _OfChip:
    """The files of one chip."""

    def __init__(self, physics: Physics, index: int, readers: Readers, writers: Writers) -> None:
        self._physics = physics
        self._index = index
        self._readers = readers
        self._writers = writers
        self._spec = physics.spec.graphics[index]
        self._card = f"{paths.DRM}/card{self._spec.card}"
        self._device = f"{paths.PCI_DEVICES}/{self._spec.place}"

    @property
    def _chip(self) -> Gpu:
        return self._physics.graphics.chips[self._index]

    def add(self) -> None:
        """Add all of them."""
        spec = self._spec
        driver, add = {
            GraphicsDriver.CLOCK_FILES: ("i915", self._add_i915),
            GraphicsDriver.LIBRARY: ("nvidia", self._add_nvidia),
        }.get(spec.driver, ("amdgpu", self._add_amdgpu))
        vendor, number = spec.ids.split(":")
        event = f"DRIVER={driver}\nPCI_CLASS=30000\nPCI_ID={spec.ids.upper()}\nPCI_SLOT_NAME={spec.place}"
        for path in (f"{self._card}/device/uevent", f"{self._device}/uevent"):
            self._readers[path] = partial(str, event)
        self._readers[f"{self._device}/vendor"] = lambda: f"0x{vendor}"
        self._readers[f"{self._device}/device"] = lambda: f"0x{number}"
        status = self._status
        self._readers[f"{self._device}/power/runtime_status"] = status
        self._readers[f"{self._card}/device/power/runtime_status"] = status
        if spec.drives_screen:
            self._readers[f"{self._card}-eDP-1/enabled"] = lambda: "enabled"
        add()

    def _status(self) -> str:
        return "suspended" if self._chip.state.asleep else "active"

    def _read(self, path: str, make: Callable[[Gpu], str]) -> None:
        """Add a file that wakes the chip when it is read."""

        def read() -> str:
            self._chip.touch(self._physics.state.time_s)
            return make(self._chip)

        self._readers[path] = read

    def _write(self, path: str, take: Callable[[Gpu, str], None]) -> None:
        def write(text: str) -> None:
            self._chip.touch(self._physics.state.time_s)
            take(self._chip, text)

        self._writers[path] = write

    def _add_i915(self) -> None:
        card, spec = self._card, self._spec
        self._read(f"{card}/gt_act_freq_mhz", lambda chip: f"{chip.state.clock_mhz:.0f}")
        self._read(f"{card}/gt_cur_freq_mhz", lambda chip: f"{chip.state.clock_mhz:.0f}")
        self._read(f"{card}/gt_RPn_freq_mhz", lambda _chip: f"{spec.clock_min_mhz:.0f}")
        self._read(f"{card}/gt_RP0_freq_mhz", lambda _chip: f"{spec.clock_top_mhz:.0f}")
        for end, word in enumerate(("min", "max")):
            path = f"{card}/gt_{word}_freq_mhz"
            self._read(path, lambda chip, end=end: f"{chip.state.clocks_mhz[end]:.0f}")  # type: ignore[misc]
            self._write(path, partial(_set_bound, end=end))
        self._read(f"{card}/gt_boost_freq_mhz", lambda chip: f"{chip.state.boost_mhz:.0f}")
        self._write(f"{card}/gt_boost_freq_mhz", _set_boost)

    def _add_nvidia(self) -> None:
        """Its driver has no files of its own: what it tells goes through its library (``ManagedChips``)."""
        control = f"{self._device}/power/control"
        self._read(f"{self._device}/config", lambda _chip: self._spec.ids)
        self._readers[control] = lambda: "auto"
        self._writers[control] = lambda _text: None

    def _add_amdgpu(self) -> None:
        device, spec = self._device, self._spec
        sensors = f"{device}/hwmon/hwmon{6 + spec.card}"
        self._readers[f"{sensors}/name"] = lambda: "amdgpu"
        if spec.built_in:
            self._readers[f"{sensors}/in1_label"] = lambda: "vddnb"
        self._read(f"{device}/gpu_busy_percent", lambda chip: f"{100.0 * chip.state.busy:.0f}")
        self._read(f"{sensors}/power1_average", lambda chip: f"{chip.state.watts * 1e6:.0f}")
        self._read(f"{sensors}/temp1_crit", lambda chip: f"{chip.spec.ceiling_c * 1000:.0f}")
        self._read(f"{sensors}/temp1_input", lambda chip: f"{round(self._heat(chip)) * 1000}")
        self._read(f"{sensors}/freq1_input", lambda chip: f"{round(chip.state.clock_mhz) * 1_000_000}")
        self._read(f"{sensors}/in0_input", lambda chip: f"{1000.0 * chip.volts(chip.state.clock_mhz):.0f}")
        level = f"{device}/{overdrive.LEVEL}"
        self._read(level, lambda chip: chip.state.level)
        self._write(level, _set_level)
        self._read(f"{device}/{overdrive.FILE}", _table)
        self._write(f"{device}/{overdrive.FILE}", _command)
        if spec.memory_mhz[0]:
            self._read(f"{sensors}/freq2_input", lambda chip: f"{round(chip.state.memory_mhz) * 1_000_000}")
        if spec.limit_w[0]:
            _, low, high = spec.limit_w
            for word, watts in (("cap_min", low), ("cap_max", high), ("cap_default", spec.limit_w[0])):
                self._read(f"{sensors}/power1_{word}", lambda _chip, watts=watts: f"{watts * 1e6:.0f}")  # type: ignore[misc]
            self._read(f"{sensors}/power1_cap", lambda chip: f"{chip.state.limit_w * 1e6:.0f}")
            self._write(f"{sensors}/power1_cap", _set_limit)

    def _heat(self, chip: Gpu) -> float:
        """Return a chip's temperature; one within the processor is as warm as that."""
        return chip.state.die_c if not chip.resting else self._physics.state.die_c


def _set_bound(chip: Gpu, text: str, *, end: int) -> None:
    mhz, bounds = float(int(text)), list(chip.state.clocks_mhz)
    bounds[end] = mhz
    if not chip.spec.clock_min_mhz <= mhz <= chip.spec.clock_top_mhz or bounds[0] > bounds[1]:
        raise ValueError(text)
    chip.state.clocks_mhz = bounds


def _set_boost(chip: Gpu, text: str) -> None:
    if not chip.spec.clock_min_mhz <= int(text) <= chip.spec.clock_top_mhz:
        raise ValueError(text)
    chip.state.boost_mhz = float(int(text))


def _set_limit(chip: Gpu, text: str) -> None:
    watts = int(text) // 1_000_000  # the driver keeps whole watts
    if not chip.spec.limit_w[1] <= watts <= chip.spec.limit_w[2]:
        raise ValueError(text)
    chip.state.limit_w = float(watts)


def _set_level(chip: Gpu, text: str) -> None:
    if text not in LEVELS:
        raise ValueError(text)
    chip.state.level = text


def _table(chip: Gpu) -> str:
    spec, state = chip.spec, chip.state
    low, high = state.clocks_mhz
    lines = ["OD_SCLK:", f"0: {low:.0f}Mhz", f"1: {high:.0f}Mhz"]
    ranges = [f"SCLK: {spec.clock_min_mhz:7.0f}Mhz {spec.clock_top_mhz:10.0f}Mhz"]
    if spec.memory_mhz[0]:
        lines += ["OD_MCLK:", "0: 97Mhz", f"1: {state.memory_mhz:.0f}MHz"]
        ranges += [f"MCLK: {spec.memory_mhz[1]:7.0f}Mhz {spec.memory_mhz[2]:10.0f}Mhz"]
    if spec.driver is GraphicsDriver.OFFSET_TABLE:
        lines += ["OD_VDDGFX_OFFSET:", f"{state.offset_mv:.0f}mV"]
        ranges += [f"VDDGFX_OFFSET: {LEAST_OFFSET_MV:7d}mv {0:10d}mv"]
    return "\n".join([*lines, "OD_RANGE:", *ranges])


def _command(chip: Gpu, text: str) -> None:
    """Take a command to the table. Raises ValueError or OSError, as the driver refuses."""
    match = _COMMAND.fullmatch(text)
    state, spec = chip.state, chip.spec
    if match is None:
        raise ValueError(text)
    if state.level != overdrive.MANUAL:
        raise OSError(errno.EINVAL, "the level is not manual")
    letter, end, number, offset, reset, commit = match.groups()
    if reset:
        state.table_to_stock(spec)
    elif commit:
        asked, state.asked = state.asked, []
        for each in asked:
            _take(chip, each)
    elif offset is not None:
        if spec.driver is not GraphicsDriver.OFFSET_TABLE or not LEAST_OFFSET_MV <= int(offset) <= 0:
            raise ValueError(text)
        state.asked.append(text)
    else:
        low, high = (spec.clock_min_mhz, spec.clock_top_mhz) if letter == "s" else spec.memory_mhz[1:]
        if not low <= int(number) <= high or (letter == "m" and end != "1"):
            raise ValueError(text)
        state.asked.append(text)


def _take(chip: Gpu, command: str) -> None:
    word, *rest = command.split()
    if word == "vo":
        chip.state.offset_mv = float(rest[0])
    elif word == "m":
        chip.state.memory_mhz = float(rest[1])
    else:
        chip.state.clocks_mhz[int(rest[0])] = float(rest[1])
