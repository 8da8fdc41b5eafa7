"""The command that shows a graphics chip's clocks and voltages, and works out changes from them."""

from typing import TYPE_CHECKING, Annotated

import typer

from upright_bolt.app import parse_machine
from upright_bolt.cli.context import AsJson, access_at, print_json, print_table, store_at
from upright_bolt.errors import BadInput, Refused
from upright_bolt.sanitize import capital

if TYPE_CHECKING:
    from upright_bolt.analysis.clock_voltage import Asked, Curve


SPEED = "same speed, fewer watts"


def curve(
    context: typer.Context,
    chip: Annotated[
        str, typer.Argument(metavar="CHIP", help="A graphics chip, e.g. gpu03; not needed for the only one.")
    ] = "",
    clock: Annotated[str, typer.Option("--clock", help="A clock that is wanted at less voltage, e.g. 2GHz.")] = "",
    at: Annotated[str, typer.Option("--as", help="The lower clock whose voltage it is to have.")] = "",
    as_json: AsJson = False,
) -> None:
    """Show which clocks and voltages a graphics chip has shown under load, and what can be asked of it."""
    from upright_bolt.analysis.clock_voltage import clocks_to_measure, flat_and_quiet, mover_of, same_clock, same_speed
    from upright_bolt.model.quantity import CLOCK
    from upright_bolt.presentation.gpu_curve import read_curve
    from upright_bolt.text.clock_voltage import no_ladder

    if bool(clock) != bool(at):
        raise BadInput("--clock and --as belong together: curve gpu03 --clock 2GHz --as 1.8GHz.")
    with access_at(context.obj, exclusive=False) as access, store_at(context.obj) as store:
        chip = _chosen([known.part for known in access.about.chips], chip)
        controls = access.controls()
        seen = read_curve(store, parse_machine(context.obj.machine).text, chip)
    if clock:
        asked = same_clock(seen, controls, chip, CLOCK.parse(clock, "clock"), CLOCK.parse(at, "as"))
        drafts: dict[str, Asked | None] = {"asked": asked}
    else:
        drafts = {
            SPEED: same_speed(seen, controls, chip),
            "flat and quiet": flat_and_quiet(seen, controls, chip),
        }
    if as_json:
        print_json(_data(seen, drafts))
        return
    try:
        mover_of(controls, chip)
        no_mover = ""
    except Refused as fault:
        no_mover = str(fault)
    _print(chip, seen, drafts, no_mover)
    if any(asked is None and not (name == SPEED and no_mover) for name, asked in drafts.items()):
        ladder = clocks_to_measure(controls, chip, seen)
        print(f"Measure some, at its own voltages: {ladder.command}" if ladder else no_ladder(chip, controls))


def _chosen(names: list[str], asked: str) -> str:
    """Return the chip that was asked for, or the only one. Raises BadInput."""
    from upright_bolt.model.work import no_such_chip

    if not asked and len(names) > 1:
        raise BadInput(f"This machine has {len(names)} graphics chips; name one: {', '.join(names)}.")
    if not asked and not names:
        raise BadInput("This machine has no graphics chip.")
    if asked and asked not in names:
        raise BadInput(f"There is{no_such_chip(names, asked)}")
    return asked or names[0]


def _print(chip: str, seen: "Curve", drafts: "dict[str, Asked | None]", no_mover: str) -> None:
    from upright_bolt.model.quantity import CLOCK, FRAMES, POWER, TIME, VOLTAGE
    from upright_bolt.text.clock_voltage import asked_words, no_pairs
    from upright_bolt.text.search import kept_words

    rows = [["clock", "voltage", "watts", "frames", "seen for"]]
    for pair in seen.stock:
        numbers = (CLOCK.show(pair.clock_mhz), VOLTAGE.show(pair.volts), POWER.show(pair.watts))
        rows.append([*numbers, FRAMES.show(pair.frames_a_minute), TIME.show(pair.seconds)])
    if seen.stock:
        print(f"{chip} under load, at its own voltages:")
        print_table(rows)
    for name, asked in drafts.items():
        why = no_mover if name == SPEED else ""
        title = "" if name == "asked" else f"{capital(name)}: "
        if asked is None:
            print(f"{title}{why or no_pairs(chip)}")
            continue
        print(f"{title}{asked_words(asked)}")
        print(f"  set {kept_words(asked.settings)}")


def _data(seen: "Curve", drafts: "dict[str, Asked | None]") -> dict[str, object]:
    from dataclasses import asdict

    return {
        "stock": [asdict(pair) for pair in seen.stock],
        "moved": {f"{moved:g}": [asdict(pair) for pair in pairs] for moved, pairs in seen.moved.items()},
        "drafts": {name: asdict(asked) if asked is not None else None for name, asked in drafts.items()},
    }


def add_to(app: typer.Typer) -> None:
    """Add the command."""
    app.command("curve")(curve)
