"""Commands that look: ``machine``, ``sample`` and ``capture``."""

import csv
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from upright_bolt.analysis.limits.effective_limits import effective_limits
from upright_bolt.app import give_up_root, parse_machine
from upright_bolt.cli.context import AsJson, MachineChoice, access_at, print_json, print_table, session_at
from upright_bolt.disk import csv_cell, writing
from upright_bolt.errors import BadInput
from upright_bolt.model.control import Control
from upright_bolt.text.graphics import asleep
from upright_bolt.text.notes import clause, sentence
from upright_bolt.text.report import conflicts, machine_report

if TYPE_CHECKING:
    from upright_bolt.model.sample import Sample
    from upright_bolt.session.session import Session
    from upright_bolt.settings.access import MachineAccess

LONGEST_WAIT_S = 3600.0


def control_data(control: Control) -> dict[str, Any]:
    """Return a control as plain data."""
    return {
        "name": control.name,
        "title": control.title,
        "quantity": control.declaration.quantity.name,
        "unit": control.declaration.quantity.unit,
        "min": control.minimum,
        "max": control.maximum,
        "step": control.step,
        "steps": list(control.steps),
        "choices": list(control.choices),
        "stock": control.stock,
        "current": control.current,
        "state": control.state.value,
        "reason": sentence(control.note),
        "reason_code": None if control.note is None else control.note.code.value,
    }


def machine_data(access: "MachineAccess") -> dict[str, Any]:
    """Return what a machine is as plain data."""
    identity, controls = access.about.identity, access.controls()
    return {
        "machine": asdict(identity) | {"driver": identity.driver or None},
        "graphics_chips": [asdict(chip) | {"asleep": asleep(chip, controls)} for chip in access.about.chips],
        "kinds": {name: list(cpus) for name, cpus in access.about.topology.kinds},
        "controls": [control_data(control) for control in controls.values()],
        "effective_limits": asdict(effective_limits(controls)),
        "conflicts": conflicts(access.about, controls, access.status()),
        "sensors": [
            {"name": s.name, "quantity": s.quantity.name, "unit": s.quantity.unit} for s in access.about.sensors
        ],
        "missing": [{"what": gap.about, "why": clause(gap), "code": gap.code.value} for gap in access.about.gaps],
    }


def machine(context: typer.Context, as_json: AsJson = False) -> None:
    """Say what the machine is, what can be set there, and what cannot and why."""
    with access_at(context.obj, exclusive=False) as access:
        if as_json:
            print_json(machine_data(access))
        else:
            spec = parse_machine(context.obj.machine).text
            print(machine_report(access.about, access.controls(), access.status(), spec), end="")


def sample(
    context: typer.Context,
    count: Annotated[int, typer.Option("--count", help="How many samples.")] = 1,
    interval: Annotated[str, typer.Option("--interval", help="Time between samples, e.g. 1s.")] = "1s",
    to_csv: Annotated[Path | None, typer.Option("--csv", help="Write the samples to this file.")] = None,
    as_json: AsJson = False,
) -> None:
    """Read every sensor; with --json one document per sample and line."""
    from upright_bolt.model.quantity import TIME

    step_s = TIME.parse(interval if interval[-1:].isalpha() else f"{interval}s", "interval")
    if not 0.05 <= step_s <= LONGEST_WAIT_S:
        raise BadInput("interval: it lasts from 50ms to 1h.")
    if count < 1:
        raise BadInput("count: at least one sample is taken.")
    _sample(context.obj, count, step_s, to_csv, as_json=as_json)


def capture(
    context: typer.Context,
    target: Annotated[Path, typer.Argument(metavar="FILE.tar.gz", help="The archive to write.")],
    as_json: AsJson = False,
) -> None:
    """Collect the kernel files and registers that this program looks at, for a bug report; nothing personal."""
    from upright_bolt.captures import archive as captures

    if not target.name.endswith(".tar.gz"):
        raise BadInput(f"{target}: a capture is a .tar.gz file.")
    with session_at(context.obj, exclusive=False, as_root=True) as session:  # registers are root's to read
        machine = session.machine
        collected = captures.collect(machine.files, machine.registers, machine.clock)
    give_up_root()
    done = captures.write(collected, target)
    if as_json:
        print_json({"file": str(target), **asdict(done)})
    else:
        print(f"{done.files} files and {done.registers} registers written to {target}. {captures.LEFT_OUT}")
        print(f"Open it with: upright-bolt --machine tree:{target} machine")


def add_to(app: typer.Typer) -> None:
    """Add the commands."""
    app.command("capture")(capture)
    app.command("machine")(machine)
    app.command("sample")(sample)


def _sample(choice: MachineChoice, count: int, step_s: float, to_csv: Path | None, *, as_json: bool) -> None:
    with session_at(choice, exclusive=False) as session:
        if step_s < session.access.fastest_s and count > 1:
            fastest = f"{session.access.fastest_s * 1000:.0f}ms"
            raise BadInput(
                f"interval: here a sample is taken every {fastest} at most: the service hands the same sample to all."
            )
        clock = session.machine.clock
        session.tick()  # rates need a sample before the first one shown
        due = clock.now_s() + min(step_s, 0.5)
        with _table(session, to_csv) as write_row:
            for _ in range(count):
                clock.wait_until(due)
                due += step_s
                sample = session.tick().sample
                write_row(sample)
                if as_json:
                    values = {s.name: v for s, v in zip(session.about.sensors, sample.values, strict=False)}
                    print_json({"time_s": sample.time_s, "constraint": sample.constraint.value, "values": values})
                elif to_csv is None:
                    _print_sample(session, sample)


def _print_sample(session: "Session", sample: "Sample") -> None:
    rows = [("sensor", "value")]
    for sensor, value in zip(session.about.sensors, sample.values, strict=False):  # a chip may have come just now
        rows.append((sensor.name, sensor.quantity.show(value)))
    print_table(rows, right=(1,))
    print(f"held back by: {sample.constraint.value}\n")


@contextmanager
def _table(session: "Session", path: Path | None) -> "Iterator[Callable[[Sample], None]]":
    """Open a table and return what writes a row into it, at once: one that is stopped keeps what was read."""
    if path is None:
        yield lambda _sample: None
        return
    with writing(path) as file:
        writer, names = csv.writer(file), [csv_cell(sensor.name) for sensor in session.about.sensors]
        writer.writerow(["time_s", *names, "held_by"])

        def write_row(sample: "Sample") -> None:
            cells = ["" if v is None else f"{v:.6g}" for v in sample.values[: len(names)]]
            writer.writerow([f"{sample.time_s:.3f}", *cells, sample.constraint.value])
            file.flush()

        yield write_row
