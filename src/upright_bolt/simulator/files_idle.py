"""A twin's idle states: their names, times of rest, and the switch of each."""

from functools import partial

from upright_bolt.kernel import paths
from upright_bolt.simulator.files_board import Readers, Writers
from upright_bolt.simulator.physics import Physics
from upright_bolt.simulator.state import IDLE_STATES


def files_of(physics: Physics) -> tuple[Readers, Writers]:
    """Return readers and writers of cpuidle. As on real machines, one file switches a state on one processor."""
    readers: Readers = {}
    writers: Writers = {}
    for cpu in range(physics.spec.chip.cores * 2):
        for k, (name, _) in enumerate(IDLE_STATES):
            base = f"{paths.idle(cpu)}/state{k}"
            readers[f"{base}/name"] = partial(str, name)
            readers[f"{base}/time"] = partial(_time_us, physics, cpu, name)
            readers[f"{base}/disable"] = partial(_disabled, physics, name, cpu)
            writers[f"{base}/disable"] = partial(_disable, physics, name, cpu)
    return readers, writers


def _key(name: str, cpu: int) -> str:
    return f"{name}:{cpu}"


def _shares(physics: Physics, cpu: int) -> dict[str, float]:
    """Return each state's share of rest: what a state that is off would have had goes to the next lighter one."""
    shares = {}
    left = 0.0
    for name, share in reversed(IDLE_STATES):
        if _key(name, cpu) in physics.state.idle_off:
            shares[name], left = 0.0, left + share
        else:
            shares[name], left = share + left, 0.0
    return shares


def _counted_s(physics: Physics, cpu: int, name: str) -> float:
    state = physics.state
    since = state.idle_s[cpu] - state.idle_marks_s[cpu]
    return state.idle_counted[name][cpu] + since * _shares(physics, cpu)[name]


def _time_us(physics: Physics, cpu: int, name: str) -> str:
    return str(int(_counted_s(physics, cpu, name) * 1e6))


def _disabled(physics: Physics, name: str, cpu: int) -> str:
    return str(int(_key(name, cpu) in physics.state.idle_off))


def _disable(physics: Physics, name: str, cpu: int, text: str) -> None:
    state = physics.state
    for other, _ in IDLE_STATES:
        state.idle_counted[other][cpu] = _counted_s(physics, cpu, other)
    state.idle_marks_s[cpu] = state.idle_s[cpu]
    key = _key(name, cpu)
    kept = [held for held in state.idle_off if held != key]
    state.idle_off = [*kept, key] if int(text) else kept
