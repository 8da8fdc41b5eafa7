"""Clocks, governor, preference and turbo: ``/sys/devices/system/cpu/cpufreq`` and ``intel_pstate``.

A setting is written to every policy. Traps handled here: a preference other than zero is refused (EBUSY) under
governor ``performance``; lowest may never exceed highest, so each plan keeps to the other bound; some kernels
print a preference back as a number, some as a name, some take names only.

The kernel's own pages: Documentation/admin-guide/pm/cpufreq and admin-guide/pm/intel_pstate.
"""

import errno

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths
from upright_bolt.kernel.clock_bounds import Cap, CappedFile, PolicyClocks, coolers
from upright_bolt.kernel.driver import Facts, Found, Surroundings, Write, why_read_only, write_fault
from upright_bolt.kernel.file_control import FileControl, Number, Switch, Word, any_on, refused_as, within
from upright_bolt.kernel.probe import Probe
from upright_bolt.kernel.sensors.channels import Gauge
from upright_bolt.model.control import PREFERENCE_NAMES, ControlState, Value
from upright_bolt.model.note import Diagnostic, DiagnosticCode, Subject, note
from upright_bolt.model.quantity import CLOCK
from upright_bolt.model.sensor import Sensor, SensorKind

RANK = 10
BIAS_STEP = 17.0
"""255 / 15: the bias counts from 0 to 15."""
LONGEST_PREFERENCE = 3

Kinds = tuple[tuple[str, tuple[int, ...]], ...]
"""Kinds of cores with their processors, as in ``Topology.kinds``."""


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

    def state(self, name: str) -> tuple[ControlState, Diagnostic | None]:
        """Return whether control ``name`` has files, and which processors hold what, if they differ."""
        if not self.files:
            return ControlState.ABSENT, note(DiagnosticCode.NO_SUCH_FILE, name)
        return ControlState.SETTABLE, self._difference(name)

    def _difference(self, name: str) -> Diagnostic | None:
        if not self.differing():
            return None
        held = [
            (path.split("/policy")[1].split("/")[0], text or "")
            for path, text in zip(self.files, self.texts(), strict=True)
        ]
        return note(DiagnosticCode.PROCESSORS_DIFFER, name, held=tuple(word for pair in held for word in pair))


def _governor(probe: Probe, policies: list[int]) -> FileControl:
    """Return the kernel's rule for choosing clocks."""
    on = PolicyFiles(probe, policies, "scaling_governor")
    known = PolicyFiles(probe, policies, "scaling_available_governors")

    def allowed() -> Facts:
        state, why = on.state("governor")
        return Facts(state, why, choices=tuple((known.text() or "").split()))

    return FileControl(probe, "governor", on.files, Word(), allowed)


class _Preference:
    """A preference, which some kernels print as a number and some as a name."""

    def read(self, probe: Probe, path: str) -> float | None:
        text = probe.text(path)
        if text is None or (text.isascii() and text.isdecimal() and len(text) <= LONGEST_PREFERENCE):
            return None if text is None else float(text)
        return float(PREFERENCE_NAMES[text]) if text in PREFERENCE_NAMES else None

    def text(self, value: Value) -> str:
        number = int(float(value))
        names = {n: word for word, n in PREFERENCE_NAMES.items()}
        return names.get(number, str(number))  # every kernel takes the names; only newer ones take numbers

    def same(self, asked: Value, held: Value) -> bool:
        return asked == held


def _preference(probe: Probe, policies: list[int]) -> FileControl:
    """Return the energy-performance preference, 0 to 255, or the older bias where there is that alone."""
    on = PolicyFiles(probe, policies, "energy_performance_preference")
    bias = tuple(path for cpu in policies if probe.files.exists(path := paths.bias(cpu)))
    if bias and not on.files:
        # Four bits in IA32_ENERGY_PERF_BIAS (register 0x1B0), so 256 preferences fall on 16 steps.
        steps = Number(within(BIAS_STEP / 2), per_unit=1.0 / BIAS_STEP)
        older = Facts(ControlState.SETTABLE, note(DiagnosticCode.OLDER_BIAS), 0.0, 255.0)
        return FileControl(probe, "epp", bias, steps, lambda: older)

    def allowed() -> Facts:
        state, why = on.state("epp")
        return Facts(state, why, minimum=0.0, maximum=255.0)

    return FileControl(probe, "epp", on.files, _Preference(), allowed, refused=_preference_refused)


def _preference_refused(fault: FileFault, name: str) -> Diagnostic:
    # intel_pstate refuses every preference but “performance” with EBUSY while the governor is “performance”.
    if fault.errno == errno.EBUSY:
        return note(DiagnosticCode.PREFERENCE_BUSY, name)
    if fault.errno == errno.EINVAL:
        names = tuple(f"{word} ({n})" for word, n in PREFERENCE_NAMES.items())
        return note(DiagnosticCode.PREFERENCE_NAMES_ONLY, name, names=names)
    return write_fault(fault, name)


class ClockBound:
    """Lowest or highest clock, in MHz.

    Kinds of cores have ranges of their own: each policy gets the nearest clock that it allows, and the range of the
    control spans them all. Steps and caps are those of ``clock_bounds``.
    """

    def __init__(self, probe: Probe, policies: list[int], kinds: Kinds, *, highest: bool) -> None:
        self.name = "clock-max" if highest else "clock-min"
        self._kinds = kinds
        self._pick = max if highest else min
        self._file = "scaling_max_freq" if highest else "scaling_min_freq"
        self._probe = probe
        self._on = PolicyFiles(probe, policies, self._file)
        self.files = self._on.files
        self._highest = highest
        found = coolers(probe)
        clocks = {paths.policy(n, self._file): PolicyClocks(probe, n, found) for n in policies}
        self._clocks = {path: clocks[path] for path in self.files}
        self._capped = {path: CappedFile(clocks[path], highest) for path in self.files}

    def capped_files(self) -> dict[str, CappedFile]:
        """Return its files, each of which may show a cap in place of what was chosen."""
        return self._capped

    def chosen(self) -> Value | None:
        texts = {path: text for path in self.files if (text := self._probe.text(path)) is not None}
        known = [int(self._capped[path].chosen(text)) / 1000.0 for path, text in texts.items() if text.isdecimal()]
        return self._pick(known) if known else None

    def facts(self) -> Facts:
        state, why = self._on.state(self.name)
        closed = why_read_only(self._probe.files, self.files)
        ranges = [r for clocks in self._clocks.values() if (r := clocks.range_mhz()) is not None]
        if state is not ControlState.SETTABLE:
            return Facts(state, why)
        if closed is not None or not ranges:
            return Facts(ControlState.READ_ONLY, closed or note(DiagnosticCode.NO_CLOCK_RANGE))
        if len(set(ranges)) > 1:
            why = note(DiagnosticCode.KINDS_DIFFER, kinds=self._by_kind())
        cap = self._cap()
        if cap is not None:
            why = note(cap.code, self.name, mhz=cap.mhz)
        steps = {clocks.steps_mhz for clocks in self._clocks.values()}
        low, high = min(low for low, _ in ranges), max(high for _, high in ranges)
        return Facts(state, why, minimum=low, maximum=high, steps=steps.pop() if len(steps) == 1 else ())

    def _cap(self) -> Cap | None:
        """Return the lowest cap that holds a bound down now; None if what is in force was chosen."""
        caps = [
            cap
            for path, clocks in self._clocks.items()
            if (cap := clocks.cap()) is not None and clocks.at_cap(self._mhz(path) or 0.0)
        ]
        return min(caps, key=lambda cap: cap.mhz, default=None)

    def _by_kind(self) -> tuple[str, ...]:
        """Return kind, lowest, highest and present clock in MHz of each kind of core that the kernel names."""
        told: list[str] = []
        for kind, cpus in self._kinds:
            path = next((p for cpu in cpus if (p := paths.policy(cpu, self._file)) in self.files), "")
            found = self._clocks[path].range_mhz() if path else None
            if found is not None:
                told += (kind, *(f"{mhz:g}" for mhz in (*found, self._mhz(path) or 0.0)))
        return tuple(told)

    def _mhz(self, path: str) -> float | None:
        number = self._probe.number(path)
        return None if number is None else number / 1000.0

    def read(self) -> Value | None:
        known = [mhz for path in self.files if (mhz := self._mhz(path)) is not None]
        return self._pick(known) if known else None

    def plan(self, value: Value) -> list[Write]:
        return [Write(path, str(round(clocks.nearest(float(value)) * 1000))) for path, clocks in self._clocks.items()]

    def same(self, asked: Value, got: Value) -> bool:  # noqa: ARG002 - every policy is looked at, not the pick alone
        held = [(self._mhz(path), clocks) for path, clocks in self._clocks.items()]
        return all(m is not None and clocks.keeps(float(asked), m, highest=self._highest) for m, clocks in held)

    def refusal(self, fault: FileFault) -> Diagnostic:
        return write_fault(fault, self.name)

    def asleep(self) -> bool:
        return False


def _turbo(probe: Probe, policies: list[int]) -> FileControl:
    """Return turbo: ``intel_pstate/no_turbo`` (1 is off), or ``boost`` for all or one (1 is on)."""
    inverted = probe.files.exists(paths.NO_TURBO)
    candidates = [paths.NO_TURBO] if inverted else [paths.BOOST]
    if not probe.files.exists(candidates[0]):
        # Newer kernels have a switch in each policy, with or without the one for all. Where the one for all is there,
        # writing it sets every policy's, so the policies' own are left alone.
        candidates = [path for n in policies if probe.files.exists(path := paths.policy(n, "boost"))]

    def allowed() -> Facts:
        if not candidates:
            return Facts(ControlState.ABSENT, note(DiagnosticCode.NO_TURBO_SWITCH))
        return Facts(ControlState.SETTABLE, choices=("on", "off"))

    # intel_pstate refuses with EPERM where the firmware has set the disable bit of IA32_MISC_ENABLE.
    refused = refused_as({errno.EPERM: DiagnosticCode.TURBO_OFF_IN_FIRMWARE})
    return FileControl(probe, "turbo", tuple(candidates), Switch(inverted), allowed, pick=any_on, refused=refused)


def _offline(probe: Probe, policy: int) -> bool:
    """Tell whether all processors of a policy are offline: its files are there then, and cannot be read."""
    try:
        probe.files.read(paths.policy(policy, "affected_cpus"))
    except FileFault as fault:
        # cpufreq keeps the directory of a policy whose processors are offline, and answers EBUSY in it.
        return fault.errno == errno.EBUSY
    return False


def find(probe: Probe, machine: Surroundings) -> Found:
    """Return the clock controls and sensors, and the fixed clocks."""
    names = probe.files.names(paths.CPUFREQ)
    policies = sorted(int(n[6:]) for n in names if n.startswith("policy") and n[6:].isdecimal())
    policies = [n for n in policies if not _offline(probe, n)]
    if not policies:
        code = DiagnosticCode.VIRTUAL_CLOCKS if machine.identity.virtual else DiagnosticCode.NO_SCALING_DRIVER
        probe.note(Subject.CLOCKS, code, folder=paths.CPUFREQ)
        return Found()
    kinds = machine.topology.kinds
    found = Found(
        controls=[
            _governor(probe, policies),
            _turbo(probe, policies),
            ClockBound(probe, policies, kinds, highest=False),
            ClockBound(probe, policies, kinds, highest=True),
            _preference(probe, policies),
        ],
        driver=probe.text(paths.policy(policies[0], "scaling_driver")) or "",
        base_mhz=_mhz(probe, policies[0], "base_frequency"),
        highest_mhz=max(filter(None, (_mhz(probe, n, "cpuinfo_max_freq") for n in policies)), default=None),
        lowest_mhz=min(filter(None, (_mhz(probe, n, "cpuinfo_min_freq") for n in policies)), default=None),
        kind_highest_mhz=tuple(_mhz(probe, min(cpus), "cpuinfo_max_freq") for _, cpus in kinds),
    )
    for n in policies:
        path = paths.policy(n, "scaling_cur_freq")
        if probe.number(path) is not None:
            sensor = Sensor(f"clock.cpu{n}", CLOCK, f"Clock of processor {n}", SensorKind.CLOCK, n)
            found.channels.append(Gauge(sensor, path, 1e-3))
    return found


def _mhz(probe: Probe, policy: int, file: str) -> float | None:
    khz = probe.number(paths.policy(policy, file))
    return khz / 1000 if khz else None
