"""What is known of a run when it starts."""

import uuid
from collections.abc import Mapping
from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from upright_bolt.model.catalogue import PART_MARK, part_of
from upright_bolt.model.control import Value
from upright_bolt.model.run import GRAPHICS, Conditions, RunHead
from upright_bolt.model.work import Work
from upright_bolt.sanitize import one_line
from upright_bolt.session.numbers import held_columns
from upright_bolt.settings.timestamp import now_stamp

if TYPE_CHECKING:
    from upright_bolt.session.session import Session

LONGEST_FACT = 200


def head_of(session: "Session", work: Work, label: str, threads: int | None) -> RunHead:
    """Return the head of a run that is about to begin.

    Args:
        session: where it is made.
        work: what it executes.
        label: a name for it.
        threads: how many processors it keeps busy; None for work that has no score.
    """
    trial = session.status().trial
    tried = dict(trial.settings) if trial else {}
    settings = _that_count(session.current_values(), work.options.chip, tried)
    about = session.about
    kinds = [name for name, _ in about.topology.kinds]
    ids = next((chip.ids for chip in about.chips if chip.part == work.options.chip), "")
    graphics = {GRAPHICS: ids} if ids else {}
    return RunHead(
        machine=session.machine.spec,
        identity={key: _shown(value) for key, value in asdict(about.identity).items()} | graphics,
        workload=work.workload,
        label=label,
        asked_s=work.duration_s,
        settings=settings,
        tried=tried,
        conditions=Conditions(
            power_source=session.power_source(),
            platform_mode=str(settings.get("platform-mode", "")),
            kernel=about.identity.kernel,
            threads=threads,
            core_kind=work.kind,
            start=work.begins.value,
        ),
        started_at=now_stamp(),
        columns=(*(sensor.name for sensor in about.sensors), *held_columns(kinds)),
        options=work.options,
        key=uuid.uuid4().hex,
        boot_id=session.boot_id,
    )


def _that_count(current: Mapping[str, Value], chip: str, tried: Mapping[str, Value]) -> dict[str, Value]:
    """Return settings without those of graphics chips that have no part in the run, asleep or not.

    A chip's level follows its other settings, so it counts only where it was asked for.
    """
    level = f"{chip}{PART_MARK}level"
    return {
        name: value
        for name, value in current.items()
        if name in tried or not part_of(name) or (part_of(name) == chip and name != level)
    }


def _shown(value: Any) -> Any:  # noqa: ANN401 - what an identity holds
    """Return a fact as it can be shown: a machine's own words may hold anything, and be of any length."""
    return one_line(value)[:LONGEST_FACT] if isinstance(value, str) else value
