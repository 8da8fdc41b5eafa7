"""Clocks, governor, preference and turbo: ``/sys/devices/system/cpu/cpufreq`` and ``intel_pstate``.

A setting is written to every policy. Traps minded here: a preference other than zero is refused (EBUSY) under
governor ``performance``; lowest may never exceed highest, so each plan keeps to the other bound; some kernels
print a preference back as a number, some as a name, some take names only.
"""

import errno
from dataclasses import dataclass

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths
from upright_bolt.kernel.channels import Gauge
from upright_bolt.kernel.driver import Facts, Found, Write, explain, why_read_only
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.control import PREFERENCE_NAMES, ControlState, Value, declaration_of
from upright_bolt.model.quantity import CLOCK
from upright_bolt.model.sensor import Sensor

GAP = "clocks, governor, preference and turbo"
BIAS_STEP = 17.0
"""255 / 15: the bias counts from 0 to 15."""
LONGEST_PREFERENCE = 3
CLOCK_SLACK_MHZ = 1.0
"""Clocks are kept in kHz; anything nearer than this is the same."""

Kinds = tuple[tuple[str, tuple[int, ...]], ...]
"""Kinds of cores with their processors, as in ``Topology.kinds``."""


@dataclass(frozen=True, slots=True)
class ClockFacts:
    """Fixed clocks of the machine in MHz, None where it does not say, and its scaling driver."""

    driver: str
    base_mhz: float | None
    highest_mhz: float | None


class PolicyFiles:
    """One file name across all policies."""

    def __init__(self, probe: Probe, policies: list[int], name: str) -> None:
        self.probe = probe
        self.files = tuple(path for n in policies if probe.files.exists(path := paths.policy(n, name)))

    def text(self) -> str | None:
        """Return the first policy's text; None if there is none."""
        return self.probe.text(self.files[0]) if self.files else None

    def texts(self) -> list[str | None]:
        """Return every policy's text."""
        return [self.probe.text(path) for path in self.files]

    def differing(self) -> bool:
        """Tell whether policies hold different texts."""
        return len(set(self.texts())) > 1

    def state(self, title: str) -> tuple[ControlState, str]:
        """Return whether the files can be set, and why not."""
        if not self.files:
            return ControlState.ABSENT, f"{title}: the scaling driver of this machine has no such file."
        why = why_read_only(self.probe.files, self.files)
        if why:
            return ControlState.READ_ONLY, why
        return ControlState.SETTABLE, "Processors hold different values." if self.differing() else ""


class _PolicyControl:
    name = ""
    coupled: tuple[str, ...] = ()

    def __init__(self, probe: Probe, policies: list[int], file: str) -> None:
        self._probe = probe
        self._on = PolicyFiles(probe, policies, file)
        self.files = self._on.files

    @property
    def title(self) -> str:
        return declaration_of(self.name).title

    def refusal(self, fault: FileFault) -> str:
        return explain(fault, self.title)


class GovernorControl(_PolicyControl):
    """The kernel's rule for choosing clocks."""

    name = "governor"
    coupled: tuple[str, ...] = ("epp",)

    def __init__(self, probe: Probe, policies: list[int]) -> None:
        super().__init__(probe, policies, "scaling_governor")
        self._choices = PolicyFiles(probe, policies, "scaling_available_governors")

    def facts(self) -> Facts:
        state, reason = self._on.state(self.title)
        return Facts(state, reason, choices=tuple((self._choices.text() or "").split()))

    def read(self) -> Value | None:
        return self._on.text()

    def plan(self, value: Value) -> list[Write]:
        return [Write(path, str(value)) for path in self.files]

    def same(self, asked: Value, got: Value) -> bool:  # noqa: ARG002 - every policy is looked at
        return all(text == asked for text in self._on.texts())


class PreferenceControl(_PolicyControl):
    """The energy-performance preference, 0 to 255."""

    name = "epp"

    def __init__(self, probe: Probe, policies: list[int]) -> None:
        super().__init__(probe, policies, "energy_performance_preference")

    def facts(self) -> Facts:
        state, reason = self._on.state(self.title)
        return Facts(state, reason, minimum=0.0, maximum=255.0)

    def read(self) -> Value | None:
        return self._number(self._on.text())

    def _number(self, text: str | None) -> float | None:
        if text is None or (text.isascii() and text.isdecimal() and len(text) <= LONGEST_PREFERENCE):
            return None if text is None else float(text)
        return float(PREFERENCE_NAMES[text]) if text in PREFERENCE_NAMES else None

    def plan(self, value: Value) -> list[Write]:
        number = int(float(value))
        names = {n: word for word, n in PREFERENCE_NAMES.items()}
        text = names.get(number, str(number))  # every kernel takes the names; only newer ones take numbers
        return [Write(path, text) for path in self.files]

    def same(self, asked: Value, got: Value) -> bool:  # noqa: ARG002 - every policy is looked at
        return all(self._number(text) == asked for text in self._on.texts())

    def refusal(self, fault: FileFault) -> str:
        if fault.errno == errno.EBUSY:
            return (
                f"{self.title}: the kernel keeps it at 0 while the governor is performance. "
                "Set governor=powersave first, or in the same command."
            )
        if fault.errno == errno.EINVAL:
            names = ", ".join(f"{word} ({n})" for word, n in PREFERENCE_NAMES.items())
            return f"{self.title}: this kernel takes only the named values {names}."
        return explain(fault, self.title)


class BiasControl(_PolicyControl):
    """The older energy bias, 0 to 15, as a preference: for processors without a preference of their own."""

    name = "epp"

    def __init__(self, probe: Probe, cpus: list[int]) -> None:
        super().__init__(probe, [], "")
        self.files = tuple(path for cpu in cpus if probe.files.exists(path := paths.bias(cpu)))

    def facts(self) -> Facts:
        why = why_read_only(self._probe.files, self.files)
        if why:
            return Facts(ControlState.READ_ONLY, why)
        words = "This processor has the older bias of sixteen steps; the nearest one is taken."
        return Facts(ControlState.SETTABLE, words, minimum=0.0, maximum=255.0)

    def read(self) -> Value | None:
        number = self._probe.number(self.files[0])
        return None if number is None else number * BIAS_STEP

    def plan(self, value: Value) -> list[Write]:
        return [Write(path, str(round(float(value) / BIAS_STEP))) for path in self.files]

    def same(self, asked: Value, got: Value) -> bool:  # noqa: ARG002 - every processor is looked at
        held = [self._probe.number(path) for path in self.files]
        return all(n is not None and abs(float(asked) - n * BIAS_STEP) <= BIAS_STEP / 2 for n in held)


class ClockBound(_PolicyControl):
    """Lowest or highest clock, in MHz.

    Kinds of cores have ranges of their own: each policy gets the nearest clock that it allows, and the range of the
    control spans them all.
    """

    def __init__(self, probe: Probe, policies: list[int], kinds: Kinds, *, highest: bool) -> None:
        self.name = "clock-max" if highest else "clock-min"
        self._kinds = kinds
        self._pick = max if highest else min
        self._file = "scaling_max_freq" if highest else "scaling_min_freq"
        super().__init__(probe, policies, self._file)

    def facts(self) -> Facts:
        state, reason = self._on.state(self.title)
        ranges = [r for path in self.files if (r := self._range(path)) is not None]
        if state is not ControlState.SETTABLE or not ranges:
            closed = ControlState.READ_ONLY if state is ControlState.SETTABLE else state
            return Facts(closed, reason or "The driver does not say which clocks it allows.")
        if len(set(ranges)) > 1:
            reason = self._by_kind() or "Kinds of cores differ in range; each takes the nearest clock that it allows."
        return Facts(state, reason, minimum=min(low for low, _ in ranges), maximum=max(high for _, high in ranges))

    def _by_kind(self) -> str:
        """Return what each kind of core allows and holds, where the kernel names the kinds."""
        words = []
        for kind, cpus in self._kinds:
            path = next((p for cpu in cpus if (p := paths.policy(cpu, self._file)) in self.files), "")
            found = self._range(path) if path else None
            if found is not None:
                low, high = (CLOCK.show(mhz) for mhz in found)
                words.append(f"{kind} {low} to {high}, now {CLOCK.show(self._mhz(path))}")
        return "; ".join(words) + ". Each takes the nearest clock that it allows." if words else ""

    def _range(self, path: str) -> tuple[float, float] | None:
        folder = path.rsplit("/", 1)[0]
        low, high = (self._mhz(f"{folder}/cpuinfo_{end}_freq") for end in ("min", "max"))
        return None if low is None or high is None else (low, high)

    def _mhz(self, path: str) -> float | None:
        number = self._probe.number(path)
        return None if number is None else number / 1000.0

    def _nearest(self, path: str, mhz: float) -> float:
        low, high = self._range(path) or (mhz, mhz)
        return min(high, max(low, mhz))

    def read(self) -> Value | None:
        known = [mhz for path in self.files if (mhz := self._mhz(path)) is not None]
        return self._pick(known) if known else None

    def plan(self, value: Value) -> list[Write]:
        return [Write(path, str(round(self._nearest(path, float(value)) * 1000))) for path in self.files]

    def same(self, asked: Value, got: Value) -> bool:  # noqa: ARG002 - every policy is looked at, not the pick alone
        held = [(self._mhz(path), self._nearest(path, float(asked))) for path in self.files]
        return all(mhz is not None and abs(mhz - wanted) <= CLOCK_SLACK_MHZ for mhz, wanted in held)


class TurboControl:
    """Clocks above the base clock: ``intel_pstate/no_turbo`` (1 is off), or ``boost`` for all or one (1 is on)."""

    name = "turbo"
    coupled: tuple[str, ...] = ()

    def __init__(self, probe: Probe, policies: list[int]) -> None:
        self._probe = probe
        self._inverted = probe.files.exists(paths.NO_TURBO)
        places = [paths.NO_TURBO] if self._inverted else [paths.BOOST]
        if not probe.files.exists(places[0]):
            places = [path for n in policies if probe.files.exists(path := paths.policy(n, "boost"))]
        self.files: tuple[str, ...] = tuple(places)

    def facts(self) -> Facts:
        choices = ("on", "off")
        if not self.files:
            return Facts(ControlState.ABSENT, "The scaling driver of this machine has no turbo switch.")
        why = why_read_only(self._probe.files, self.files)
        if why:
            return Facts(ControlState.READ_ONLY, why, choices=choices)
        return Facts(ControlState.SETTABLE, choices=choices)

    def read(self) -> Value | None:
        switches = self._switches()
        if not switches or None in switches:
            return None
        return "on" if any(switches) else "off"

    def _switches(self) -> list[bool | None]:
        numbers = [self._probe.number(path) for path in self.files]
        return [None if number is None else (number == 0) == self._inverted for number in numbers]

    def plan(self, value: Value) -> list[Write]:
        return [Write(path, "1" if (value == "off") == self._inverted else "0") for path in self.files]

    def same(self, asked: Value, got: Value) -> bool:  # noqa: ARG002 - every policy is looked at
        return all(switch == (asked == "on") for switch in self._switches())

    def refusal(self, fault: FileFault) -> str:
        if fault.errno == errno.EPERM:
            return "Turbo: the firmware has it switched off; look in the firmware setup."
        return explain(fault, "Turbo")


def _preference(probe: Probe, policies: list[int]) -> PreferenceControl | BiasControl:
    control = PreferenceControl(probe, policies)
    older = BiasControl(probe, policies)
    return older if older.files and not control.files else control


def find(probe: Probe, kinds: Kinds, *, virtual: bool) -> tuple[Found, ClockFacts]:
    """Return the clock controls and sensors, and the fixed clocks."""
    names = probe.files.names(paths.CPUFREQ)
    policies = sorted(int(n[6:]) for n in names if n.startswith("policy") and n[6:].isdecimal())
    found = Found()
    if not policies:
        why = (
            "this is a virtual machine: its hypervisor keeps the clocks to itself; run on the real machine"
            if virtual
            else f"the kernel has no scaling driver for this processor ({paths.CPUFREQ} holds no policy)"
        )
        probe.note(GAP, why)
        return found, ClockFacts("", None, None)
    found.controls = [
        GovernorControl(probe, policies),
        TurboControl(probe, policies),
        ClockBound(probe, policies, kinds, highest=False),
        ClockBound(probe, policies, kinds, highest=True),
        _preference(probe, policies),
    ]
    for n in policies:
        path = paths.policy(n, "scaling_cur_freq")
        if probe.number(path) is not None:
            sensor = Sensor(f"clock.cpu{n}", CLOCK, f"Clock of processor {n}")
            found.channels.append(Gauge(sensor, path, 1e-3))
    first = policies[0]
    base = probe.number(paths.policy(first, "base_frequency"))
    highest = [probe.number(paths.policy(n, "cpuinfo_max_freq")) for n in policies]
    known = [khz for khz in highest if khz is not None]
    driver = probe.text(paths.policy(first, "scaling_driver")) or ""
    return found, ClockFacts(driver, base / 1000 if base else None, max(known) / 1000 if known else None)
