"""A twin's clock files, as intel_pstate in active mode or amd-pstate-epp, with hardware preference, shows them.

Behaviour taken from the kernel's documentation and source (6.1): under governor ``performance`` the preference is
0 and a write of any other is refused with EBUSY; the earlier preference returns with the governor. A clock bound
outside the range is clamped silently; with turbo off the highest clock shown is the base clock, and the wished
one returns with turbo. amd-pstate-epp takes preferences by name only.
"""

import errno
from collections.abc import Callable
from functools import partial

from upright_bolt.kernel import paths
from upright_bolt.model.control import PREFERENCE_NAMES
from upright_bolt.simulator.chip import KernelInterfaces
from upright_bolt.simulator.files_board import Readers, Writers
from upright_bolt.simulator.physics import Physics

GOVERNORS = ("performance", "powersave")
_NAMES = {number: word for word, number in PREFERENCE_NAMES.items()}
DEFAULT_PREFERENCE = 128


def files_of(physics: Physics) -> tuple[Readers, Writers]:
    """Return readers and writers of cpufreq and intel_pstate."""
    readers: Readers = {}
    writers: Writers = {}
    state, chip = physics.state, physics.spec.chip
    names_and_numbers = physics.spec.interfaces is KernelInterfaces.POWERCAP
    for cpu in range(chip.cores * 2):
        policy = _Policy(physics, cpu, names_only=not names_and_numbers)
        fixed = {
            "scaling_driver": "intel_pstate" if names_and_numbers else "amd-pstate-epp",
            "scaling_available_governors": " ".join(GOVERNORS),
            "energy_performance_available_preferences": "default " + " ".join(PREFERENCE_NAMES),
            "cpuinfo_min_freq": _khz(chip.clock_min_mhz),
            "related_cpus": str(cpu),
            "affected_cpus": str(cpu),
        }
        if names_and_numbers:
            fixed["base_frequency"] = _khz(chip.base_mhz)
        for name, text in fixed.items():
            readers[paths.policy(cpu, name)] = partial(str, text)
        live: dict[str, tuple[Callable[[], str], Callable[[str], None] | None]] = {
            "cpuinfo_max_freq": (policy.range_top, None),
            "scaling_cur_freq": (policy.clock, None),
            "scaling_governor": (policy.governor, policy.set_governor),
            "scaling_min_freq": (policy.low, policy.set_low),
            "scaling_max_freq": (policy.high, policy.set_high),
            "energy_performance_preference": (policy.preference, policy.set_preference),
        }
        for name, (get, put) in live.items():
            readers[paths.policy(cpu, name)] = get
            if put is not None:
                writers[paths.policy(cpu, name)] = put
    if physics.spec.interfaces is KernelInterfaces.ATTRIBUTES:
        readers[paths.BOOST] = lambda: "0" if state.no_turbo else "1"
        writers[paths.BOOST] = partial(_set_boost, physics)
        return readers, writers
    readers[paths.NO_TURBO] = lambda: "1" if state.no_turbo else "0"
    writers[paths.NO_TURBO] = partial(_set_no_turbo, physics)
    readers[f"{paths.PSTATE}/status"] = partial(str, "active")
    return readers, writers


def _khz(mhz: float) -> str:
    return str(round(mhz * 1000))


def _set_boost(physics: Physics, text: str) -> None:
    physics.state.no_turbo = int(text) == 0


def _set_no_turbo(physics: Physics, text: str) -> None:
    physics.state.no_turbo = int(text) != 0


class _Policy:
    def __init__(self, physics: Physics, cpu: int, *, names_only: bool) -> None:
        self._physics = physics
        self._names_only = names_only
        self._cpu = cpu

    def _top_mhz(self) -> float:
        chip = self._physics.spec.chip
        return chip.base_mhz if self._physics.state.no_turbo else chip.turbo_table_mhz[0]

    def range_top(self) -> str:
        return _khz(self._top_mhz())

    def clock(self) -> str:
        state = self._physics.state
        # Clocks read from real processors differ by some MHz from core to core and from read to read.
        wobble = ((self._cpu * 37 + int(state.time_s * 10) * 13) % 21 - 10) * 0.9
        top = min(self._top_mhz(), state.clock_high_mhz[self._cpu])
        lowest = self._physics.spec.chip.clock_min_mhz  # limits take the clock below the bound that is set, too
        return _khz(max(lowest, min(top, state.clock_mhz + wobble)))

    def low(self) -> str:
        return _khz(self._physics.state.clock_low_mhz[self._cpu])

    def governor(self) -> str:
        return self._physics.state.governor[self._cpu]

    def high(self) -> str:
        # What was wished stays kept and comes back with turbo, as in intel_pstate.
        return _khz(min(self._top_mhz(), self._physics.state.clock_high_mhz[self._cpu]))

    def set_low(self, text: str) -> None:
        """Take over the lowest clock in kHz. Raises OSError as the kernel does; ValueError for no number."""
        state, chip = self._physics.state, self._physics.spec.chip
        wanted = max(chip.clock_min_mhz, min(int(text) / 1000.0, self._top_mhz()))
        # Outside the range the kernel clamps silently; bounds that cross are the one thing it refuses.
        if wanted > state.clock_high_mhz[self._cpu]:
            raise OSError(errno.EINVAL, "lowest above highest")
        state.clock_low_mhz[self._cpu] = wanted

    def set_high(self, text: str) -> None:
        """Take over the highest clock in kHz. Raises OSError as the kernel does; ValueError for no number."""
        state, chip = self._physics.state, self._physics.spec.chip
        wanted = max(chip.clock_min_mhz, min(int(text) / 1000.0, chip.turbo_table_mhz[0]))
        if wanted < state.clock_low_mhz[self._cpu]:
            raise OSError(errno.EINVAL, "highest below lowest")
        state.clock_high_mhz[self._cpu] = wanted

    def set_governor(self, text: str) -> None:
        """Take over the governor. Raises OSError as the kernel does."""
        state, cpu = self._physics.state, self._cpu
        if text not in GOVERNORS:
            raise OSError(errno.EINVAL, "no such governor")
        # Writing the same governor again must not overwrite the preference kept for its return.
        if text == state.governor[cpu]:
            return
        if text == "performance":
            state.epp_before[cpu] = state.epp[cpu]
            state.epp[cpu] = 0
        else:
            state.epp[cpu] = state.epp_before[cpu]
        state.governor[cpu] = text

    def preference(self) -> str:
        number = self._physics.state.epp[self._cpu]
        return _NAMES.get(number, str(number))

    def set_preference(self, text: str) -> None:
        """Take over the preference, by name or number. Raises OSError as the kernel does; ValueError for neither."""
        state, cpu = self._physics.state, self._cpu
        number = DEFAULT_PREFERENCE if text == "default" else PREFERENCE_NAMES.get(text)
        # amd-pstate-epp matches the word against its list and knows no numbers.
        if number is None and self._names_only:
            raise OSError(errno.EINVAL, "names only")
        number = int(text) if number is None else number
        if not 0 <= number <= 255:
            raise OSError(errno.EINVAL, "preference out of range")
        # 0 is what the governor holds anyway, so writing that is let pass.
        if state.governor[cpu] == "performance" and number != 0:
            raise OSError(errno.EBUSY, "governor performance fixes the preference")
        state.epp[cpu] = number
