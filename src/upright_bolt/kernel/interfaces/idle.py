"""Idle states: ``cpuN/cpuidle/stateK``, found by ``name``; each can be switched off through its ``disable``.

Residency comes from the counter ``time`` in µs, of the first processor of each kind of core.

The kernel's own page: Documentation/admin-guide/pm/cpuidle.
"""

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths
from upright_bolt.kernel.driver import Facts, Found, Surroundings, Write, facts_of, write_fault
from upright_bolt.kernel.probe import Probe
from upright_bolt.kernel.sensors.channels import Counter
from upright_bolt.model.control import NONE, ControlState, Value, parts_of
from upright_bolt.model.note import Diagnostic, DiagnosticCode, Subject, note
from upright_bolt.model.quantity import SHARE
from upright_bolt.model.sensor import Sensor, SensorKind

RANK = 70
COUNTER_SPAN = 1 << 64
PERCENT_PER_US = 1e-4
"""A µs of rest in each s is this many per cent of the time."""


class IdleStates:
    """The states that are switched off on every processor, separated by commas."""

    name = "idle-off"

    def __init__(self, probe: Probe, states: dict[str, list[str]]) -> None:
        self._probe = probe
        self._states = states
        self.files: tuple[str, ...] = tuple(path for paths_of_one in states.values() for path in paths_of_one)

    def facts(self) -> Facts:
        choices = tuple(self._states)
        mixed = tuple(name for name in self._states if len(set(self._held(name))) > 1)
        differ = note(DiagnosticCode.IDLE_STATES_DIFFER, states=mixed) if mixed else None
        return facts_of(self._probe.files, self.files, Facts(ControlState.SETTABLE, differ, choices=choices))

    def _held(self, state: str) -> list[int | None]:
        return [self._probe.number(path) for path in self._states[state]]

    def read(self) -> Value | None:
        held = {state: self._held(state) for state in self._states}
        if any(None in numbers for numbers in held.values()):
            return None
        # Off means off on every processor; where they differ, a note says so.
        return ",".join(state for state, numbers in held.items() if all(numbers)) or NONE

    def plan(self, value: Value) -> list[Write]:
        off = parts_of(str(value))
        return [Write(path, "1" if state in off else "0") for state, files in self._states.items() for path in files]

    def same(self, asked: Value, got: Value) -> bool:  # noqa: ARG002 - every processor is looked at
        off = parts_of(str(asked))
        return all(number == int(state in off) for state in self._states for number in self._held(state))

    def refusal(self, fault: FileFault) -> Diagnostic:
        return write_fault(fault, self.name)

    def asleep(self) -> bool:
        return False


def find(probe: Probe, machine: Surroundings) -> Found:
    """Return the states as one control, and their shares of time as sensors."""
    found, topology = Found(), machine.topology
    states: dict[str, list[str]] = {}
    for cpu in topology.cpus:
        for folder in probe.files.names(paths.idle(cpu)):
            base = f"{paths.idle(cpu)}/{folder}"
            name = probe.text(f"{base}/name") if folder.startswith("state") else None
            # The control's value lists names with commas between them, so a name with a comma could not be told apart.
            if name and "," not in name and probe.files.exists(f"{base}/disable"):
                states.setdefault(name, []).append(f"{base}/disable")
    if not states:
        probe.note(Subject.IDLE_STATES, DiagnosticCode.NO_IDLE_STATES)
        return found
    found.controls = [IdleStates(probe, states)]
    # One processor of each kind stands for the others: a sensor for each would be hundreds on a large machine.
    firsts = {name: cpus[0] for name, cpus in topology.kinds} or {"": topology.cpus[0]}
    for kind, cpu in firsts.items():
        _add_shares(probe, found, cpu, kind)
    return found


def _add_shares(probe: Probe, found: Found, cpu: int, kind: str) -> None:
    for folder in probe.files.names(paths.idle(cpu)):
        base = f"{paths.idle(cpu)}/{folder}"
        name = probe.text(f"{base}/name") if folder.startswith("state") else None
        if name and probe.number(f"{base}/time") is not None:
            of = f" ({kind})" if kind else ""
            sensor = Sensor(
                f"idle.cpu{cpu}.{name}", SHARE, f"Processor {cpu}{of} at rest in {name}", SensorKind.IDLE, cpu
            )
            found.channels.append(Counter(sensor, f"{base}/time", COUNTER_SPAN, PERCENT_PER_US))
