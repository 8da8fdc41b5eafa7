"""Evidence: what past runs proved, and what broke, at the values that settings had."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from upright_bolt.analysis.chip import board_of_run, boards_differ, chip_of_run
from upright_bolt.model.catalogue import find_declaration, part_of, unsafe_direction_of
from upright_bolt.model.control import Value
from upright_bolt.model.quantity import OFFSET
from upright_bolt.model.run import RunHead, RunRecord, RunState
from upright_bolt.model.workloads import Mode, workload

PROVING = (RunState.FINISHED, RunState.STOPPED)
"""Runs that ended by themselves, or because a person ended them: up to there all went well."""


@dataclass(frozen=True, slots=True)
class Evidence:
    """What happened at one value of one control.

    Attributes:
        value: in the control's unit.
        passed_s: seconds under load of runs that ended well there.
        broke: runs there with wrong results or dead workers, or that ended with the machine.
        whole_s: how much of ``passed_s`` had every kind of load: full, steps, light and none.
    """

    value: float
    passed_s: float
    broke: int
    whole_s: float = 0.0


def evidence(
    runs: Iterable[RunRecord], machine: str, chip: str = "", board: str = ""
) -> dict[str, tuple[Evidence, ...]]:
    """Return by control name what runs on ``machine`` showed, values rising.

    Of voltage offsets only runs of the same chip and microcode count, if ``chip`` names one (``chip_of``), and of those
    that passed only such under the same firmware, if ``board`` names it (``board_of``).
    A run that failed for another reason, or was cut off when its program ended, shows nothing and is left out. What
    broke with voltages changed, or with something else tried that can make a chip err, is put down to that alone: it
    shows nothing of the other settings.
    """
    gathered: dict[str, dict[float, Evidence]] = {}
    for run in runs:
        broke = bool(run.errors) or run.end.state is RunState.RESTARTED
        if run.head.machine != machine or not (broke or run.end.state in PROVING):
            continue
        passed = 0.0 if broke else run.end.duration_s
        settings = {name: value for name, value in run.head.settings.items() if not isinstance(value, str)}
        blamed = {
            n: v
            for n, v in settings.items()
            if (v and is_offset(n)) or (n in run.head.tried and unsafe_direction_of(n))
        }
        other_chip = bool(chip) and chip_of_run(run) != chip
        is_history = other_chip or (not broke and boards_differ(board_of_run(run), board))
        for name, value in (blamed if broke and blamed else settings).items():
            if is_history and is_offset(name):
                continue
            at_values = gathered.setdefault(name, {})
            before = at_values.get(value, Evidence(value, 0.0, 0))
            whole = passed if has_every_kind(run.head, name) else 0.0
            at_values[value] = Evidence(value, before.passed_s + passed, before.broke + broke, before.whole_s + whole)
    return {name: tuple(found[value] for value in sorted(found)) for name, found in gathered.items()}


def has_every_kind(head: RunHead, name: str) -> bool:
    """Tell whether a run had every kind of load for the chip that a control is of.

    Of a graphics chip's scenes only the steps between them have: full, light and none in turn.
    """
    part = part_of(name)
    mode = workload(head.workload).mode
    if not part:
        return mode is Mode.STAGES
    return mode is Mode.GPU and head.options.weight == "steps" and head.options.chip == part


def offsets_of(settings: Mapping[str, Value]) -> dict[str, float]:
    """Return those of the settings that lower a voltage, in mV."""
    return {
        name: value
        for name, value in settings.items()
        if not isinstance(value, str) and value < 0.0 and is_offset(name)
    }


def is_offset(name: str) -> bool:
    """Tell whether a control sets a voltage offset; a run from elsewhere may name controls that are unknown here."""
    declared = find_declaration(name)
    return declared is not None and declared.quantity is OFFSET
