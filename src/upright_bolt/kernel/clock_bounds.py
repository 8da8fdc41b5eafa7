"""What the kernel makes of a clock bound: the range of its policy, the steps of its driver, and what holds it down.

Drivers with a table of clocks (``scaling_available_frequencies``) keep a highest clock at the next lower step and a
lowest at the next higher one. While the firmware allows less than the highest clock (``_PPC``, told by ``bios_limit``)
or the kernel's heat control takes clocks away (a cooling device of type ``Processor``, a fifth of the highest clock a
state), the files of both bounds show that cap, and not what was chosen. What was chosen comes back by itself once the
cap is lifted, unless somebody writes the cap itself meanwhile.

Sources: Documentation/admin-guide/pm/cpufreq; drivers/cpufreq/freq_table.c and drivers/acpi/processor_thermal.c of the
kernel.
"""

from dataclasses import dataclass
from functools import cached_property

from upright_bolt.kernel import paths
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.note import DiagnosticCode

CLOCK_SLACK_MHZ = 1.0
"""Clocks are kept in kHz; anything nearer than this is the same."""
COOLER = "Processor"
COOLER_STATES = 3
"""States in which clocks are taken away; in higher ones the kernel idles the processor as well."""
COOLER_SHARE = 0.2


@dataclass(frozen=True, slots=True)
class Cap:
    """What holds the clocks of a policy down.

    Attributes:
        mhz: the highest clock that is allowed.
        code: whose doing it is.
    """

    mhz: float
    code: DiagnosticCode


class PolicyClocks:
    """Range, steps and cap of one cpufreq policy, as they are now.

    Args:
        probe: reads the machine.
        policy: the policy's number.
        coolers: files of the kernel's heat control, as ``coolers`` finds them.
    """

    def __init__(self, probe: Probe, policy: int, coolers: tuple[str, ...]) -> None:
        self._probe = probe
        self._policy = policy
        self._coolers = coolers

    def _mhz(self, name: str) -> float | None:
        number = self._probe.number(paths.policy(self._policy, name))
        return None if number is None else number / 1000.0

    def range_mhz(self) -> tuple[float, float] | None:
        """Return lowest and highest clock; None if the kernel does not tell."""
        low, high = self._mhz("cpuinfo_min_freq"), self._mhz("cpuinfo_max_freq")
        return None if low is None or high is None else (low, high)

    @cached_property
    def steps_mhz(self) -> tuple[float, ...]:
        """The clocks of the driver's table, the lowest first; empty if it has none."""
        text = self._probe.text(paths.policy(self._policy, "scaling_available_frequencies")) or ""
        return tuple(sorted(int(word) / 1000.0 for word in text.split() if word.isdecimal()))

    def cap(self) -> Cap | None:
        """Return what holds this policy down now; None if nothing does."""
        found = self.range_mhz()
        if found is None:
            return None
        highest = found[1]
        caps = [Cap(mhz, DiagnosticCode.CAPPED_BY_FIRMWARE) for mhz in (self._mhz("bios_limit"),) if mhz]
        # ACPI's cooling device of a processor takes a fifth of the highest clock away with each of its states
        # (drivers/acpi/processor_thermal.c).
        state = min(COOLER_STATES, max((self._probe.number(path) or 0 for path in self._coolers), default=0))
        if state:
            caps.append(Cap(highest * (1.0 - COOLER_SHARE * state), DiagnosticCode.CAPPED_BY_HEAT))
        lowest = min(caps, key=lambda cap: cap.mhz, default=None)
        return lowest if lowest is not None and lowest.mhz < highest - CLOCK_SLACK_MHZ else None

    def nearest(self, mhz: float) -> float:
        """Return the clock nearest to ``mhz`` within the policy's range."""
        low, high = self.range_mhz() or (mhz, mhz)
        return min(high, max(low, mhz))

    def stepped(self, mhz: float, *, highest: bool) -> float:
        """Return the step at which the driver keeps a bound of ``mhz``."""
        return _stepped(self.steps_mhz, mhz, highest=highest)

    def keeps(self, asked: float, held: float, *, highest: bool) -> bool:
        """Tell whether ``held`` is what the kernel shows after ``asked`` was written, both in MHz."""
        wanted = self.nearest(asked)
        if _near(held, wanted, self.stepped(wanted, highest=highest)):
            return True
        cap = self.cap()  # looked at last: it takes many files
        if cap is None:
            return False
        capped = min(wanted, cap.mhz)
        return _near(held, capped, self.stepped(capped, highest=True), self.stepped(capped, highest=False))

    def at_cap(self, held: float) -> bool:
        """Tell whether ``held`` (MHz) is no more than what a cap lets through."""
        cap = self.cap()
        return cap is not None and held >= min(cap.mhz, self.stepped(cap.mhz, highest=True)) - CLOCK_SLACK_MHZ


@dataclass(frozen=True, slots=True)
class CappedFile:
    """A file of a clock bound that shows a cap in place of what was chosen, while there is one."""

    clocks: PolicyClocks
    highest: bool

    def chosen(self, text: str) -> str:
        """Return what to put back for ``text``, in kHz: the highest clock where a cap hides what was chosen."""
        found = self.clocks.range_mhz()
        if self.highest and found is not None and text.isdecimal() and self.clocks.at_cap(int(text) / 1000.0):
            return str(round(found[1] * 1000))
        return text

    def holds(self, wanted: str, held: str) -> bool:
        """Tell whether a file that shows ``held`` holds ``wanted``, as far as a cap lets it."""
        found = self.clocks.range_mhz()
        if found is None or not (wanted.isdecimal() and held.isdecimal()):
            return wanted == held
        asked, (low, high) = int(wanted) / 1000.0, found
        # A text from a damaged record.
        if not low - CLOCK_SLACK_MHZ <= asked <= high + CLOCK_SLACK_MHZ:  # never chosen, whatever is shown
            return False
        return self.clocks.keeps(asked, int(held) / 1000.0, highest=self.highest)


def _near(held: float, *expected: float) -> bool:
    return any(abs(held - each) <= CLOCK_SLACK_MHZ for each in expected)


def _stepped(steps: tuple[float, ...], mhz: float, *, highest: bool) -> float:
    if not steps:
        return mhz
    if highest:
        return max((step for step in steps if step <= mhz + CLOCK_SLACK_MHZ), default=steps[0])
    return min((step for step in steps if step >= mhz - CLOCK_SLACK_MHZ), default=steps[-1])


def coolers(probe: Probe) -> tuple[str, ...]:
    """Return the files that tell how far the kernel's heat control goes with each processor."""
    names = [name for name in probe.files.names(paths.THERMAL) if name.startswith("cooling_device")]
    folders = [f"{paths.THERMAL}/{name}" for name in names if probe.text(f"{paths.THERMAL}/{name}/type") == COOLER]
    return tuple(f"{folder}/cur_state" for folder in folders)
