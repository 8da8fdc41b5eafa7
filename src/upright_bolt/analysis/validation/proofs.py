"""What past runs prove of the settings of a profile."""

from collections.abc import Iterable, Mapping

from upright_bolt.analysis.chip import chip_of, chip_of_run, same_board
from upright_bolt.analysis.validation.evidence import PROVING, has_every_kind, is_offset
from upright_bolt.model.catalogue import declaration_of, part_of, unsafe_direction_of
from upright_bolt.model.control import Value
from upright_bolt.model.machine import Identity
from upright_bolt.model.profile import Proof, counts_from_0
from upright_bolt.model.run import GRAPHICS, RunRecord

ROUNDING_MV = 0.6
"""Voltage offsets are kept in steps of 1/1024 V, so what is read back lies half of that beside what was asked for."""


_ROUNDING = {"mV": ROUNDING_MV, "MHz": 1.0, "V": 0.003}
"""How far what is read back may lie beside what was asked for, by unit."""


def proofs_of(
    settings: Mapping[str, Value],
    runs: Iterable[RunRecord],
    machine: str,
    identity: Identity,
    chip: str,
    graphics: Mapping[str, str] | None = None,
) -> dict[str, Proof]:
    """Return what speaks for settings, by control; what nothing speaks for is left out.

    A run that ended well speaks for the values it had. For what can fail it does so if it had that value or one
    further, on the same chip, microcode, board and firmware, and the companion's as well: where two controls share
    a rail, the weaker of both counts, so that one alone proves nothing.

    Args:
        settings: of a profile.
        runs: all runs that are kept.
        machine: the machine's spec.
        identity: of the present machine.
        chip: how proofs name it (``chip_on_board``).
        graphics: the graphics chips that are there, as the bus names them, by part; None to take all runs for theirs.
    """
    good = [r for r in runs if r.head.machine == machine and r.end.state in PROVING and not r.errors]
    here = [r for r in good if chip_of_run(r) == chip_of(identity) and same_board(r, identity)]
    found = {}
    for name, value in settings.items():
        if not isinstance(value, float):
            continue
        speaking = [
            run for run in (here if unsafe_direction_of(name) else good) if _of_this(run, part_of(name), graphics)
        ]
        if proof := _proof(name, value, settings, speaking, chip):
            found[name] = proof
    return found


def _of_this(run: RunRecord, part: str, graphics: Mapping[str, str] | None) -> bool:
    """Tell whether a run was made on the graphics chip that is at its place now, as far as it says."""
    there = run.head.identity.get(GRAPHICS)
    return not part or graphics is None or not there or there == graphics.get(part)


def _proof(
    name: str, value: float, settings: Mapping[str, Value], runs: Iterable[RunRecord], chip: str
) -> Proof | None:
    speaking = [run for run in runs if _speaks(run.head.settings, name, value, settings)]
    if not speaking:
        return None
    return Proof(
        value,
        chip,
        sum(run.end.duration_s for run in speaking),
        sum(run.end.duration_s for run in speaking if has_every_kind(run.head, name)),
        tuple(run.id for run in speaking),
        max(run.head.started_at for run in speaking)[:10],
    )


def _speaks(had: Mapping[str, Value], name: str, value: float, settings: Mapping[str, Value]) -> bool:
    if not unsafe_direction_of(name):
        return alike(name, had.get(name), value)
    companion = declaration_of(name).companion
    beside = settings.get(companion) if companion else None
    return _as_deep(had, name, value) and (not isinstance(beside, float) or _as_deep(had, companion, beside))


def _as_deep(had: Mapping[str, Value], name: str, value: float) -> bool:
    there = had.get(name, 0.0 if counts_from_0(name) else None)
    if not isinstance(there, float | int):
        return False
    return unsafe_direction_of(name) * (there - value) >= -_ROUNDING[declaration_of(name).quantity.unit]


def alike(name: str, had: Value | None, value: Value) -> bool:
    """Tell whether a value that was read back is what was asked for, give or take the interface's rounding."""
    if isinstance(value, str) or had is None or isinstance(had, str):
        return had == value
    half = 0.5 * declaration_of(name).step
    return abs(had - value) <= (min(half, ROUNDING_MV) if is_offset(name) else half)


def made_under(settings: Mapping[str, Value], run: RunRecord) -> bool:
    """Tell whether a run was made with settings in force, and with no trial of any other."""
    had = run.head.settings
    told = {name: value for name, value in settings.items() if not no_part(name, had)}
    return bool(told) and run.head.tried.keys() <= settings.keys() and all(
        alike(name, had.get(name), value) for name, value in told.items()
    )  # fmt: skip


def no_part(name: str, had: Mapping[str, Value]) -> bool:
    """Tell whether a control belongs to a graphics chip that had no part in a run with settings ``had``."""
    return bool(part_of(name)) and name not in had
