"""What a person is told of graphics chips, so that nobody takes one for the other."""

from collections.abc import Mapping

from upright_bolt.model.catalogue import part_of
from upright_bolt.model.control import Control, ControlState
from upright_bolt.model.graphics import ChipKind, Gpu

KINDS = {
    ChipKind.BUILT_IN: "built into the processor",
    ChipKind.SEPARATE: "separate",
    ChipKind.EXTERNAL: "external, can be unplugged",
    ChipKind.UNKNOWN: "not on a bus that says where it sits",
}


def described(chip: Gpu) -> str:
    """Return what a chip is: ``separate, drives no screen, driver amdgpu, 1d7e:0310 at 0000:03:00.0``."""
    driver = f"driver {chip.driver}" if chip.driver else "no driver"
    where = " at ".join(part for part in (chip.ids, chip.place) if part)
    return ", ".join(part for part in (told_apart(chip), driver, where) if part)


def told_apart(chip: Gpu) -> str:
    """Return what tells a chip from another for a person: ``separate, drives no screen``."""
    return f"{KINDS[chip.kind]}, {'drives the screen' if chip.drives_screen else 'drives no screen'}"


def asleep(chip: Gpu, controls: Mapping[str, Control]) -> bool:
    """Tell whether a chip sleeps: its controls say so as they stand now; one without any did when it was found."""
    states = {control.state for name, control in controls.items() if part_of(name) == chip.part}
    return ControlState.ASLEEP in states if states - {ControlState.ABSENT} else chip.slept


def line(chip: Gpu, controls: Mapping[str, Control]) -> str:
    """Return a chip as a line: its name, whether it sleeps, what it is."""
    return f"{chip.part}: {'asleep; ' if asleep(chip, controls) else ''}{described(chip)}"
