"""Waking a graphics chip on purpose: for a run on it, or since a person has asked for it. Nothing else wakes one."""

from collections.abc import Collection
from contextlib import suppress
from dataclasses import replace
from typing import TYPE_CHECKING

from upright_bolt.errors import BadInput, FileFault
from upright_bolt.kernel.clock import Clock
from upright_bolt.kernel.gpu.gpus import Card, find_cards
from upright_bolt.kernel.ports import KernelFiles
from upright_bolt.model.catalogue import part_of
from upright_bolt.model.control import ControlState
from upright_bolt.model.graphics import Gpu
from upright_bolt.model.work import NO_CHIP, Work, choose_chip
from upright_bolt.model.workloads import workload

if TYPE_CHECKING:
    from upright_bolt.session.session import Session

WITHIN_S = 5.0
LOOK_EVERY_S = 0.05
ANSWERED_BY_DRIVER = (
    "gpu_busy_percent", "power_dpm_force_performance_level", "gt_act_freq_mhz", "tile0/gt0/freq0/act_freq"
)  # fmt: skip
"""Files that the driver answers from the chip: to read one wakes it."""
OF_BUS = "config"
"""The one attribute of the bus' own that wakes a device: for drivers without files, as NVIDIA's."""
OF_SENSORS = ("temp1_input", "power1_average", "energy1_input")


def wake(files: KernelFiles, clock: Clock, part: str) -> None:
    """Wake a chip by reading of it, and wait until it is awake; one that is awake stays so for some seconds more.

    Args:
        files: the machine's own, not kept shut while chips sleep.
        clock: the machine's.
        part: the chip's name.

    Raises:
        BadInput: there is no such chip, or it does not wake.
    """
    card = next((card for card in find_cards(files) if card.chip.part == part), None)
    if card is None:
        raise BadInput(f"{part}: there is no such graphics chip any more.")
    for path in _waking(card):
        if files.exists(path):
            with suppress(FileFault):
                files.read(path)
                break
    until = clock.now_s() + WITHIN_S
    while card.asleep(files):
        if clock.now_s() >= until:
            raise BadInput(f"{part} does not wake within {WITHIN_S:.0f} s, so nothing of it can be set.")
        clock.wait_until(clock.now_s() + LOOK_EVERY_S)


def wake_for(session: "Session", names: Collection[str]) -> None:
    """Wake the chips that controls are of, as far as they sleep. Raises BadInput if one does not wake."""
    controls = session.controls() if any(part_of(name) for name in names) else {}
    asleep = [name for name in names if name in controls and controls[name].state is ControlState.ASLEEP]
    for part in dict.fromkeys(part_of(name) for name in asleep):
        wake(session.machine.files, session.machine.clock, part)


def wake_chip(session: "Session", part: str) -> str:
    """Wake a chip and return that it is awake, in words. Raises BadInput if it does not wake."""
    wake(session.machine.files, session.machine.clock, part)
    return f"{part} is awake; it falls asleep again once nothing uses it."


def on_chip(session: "Session", work: Work) -> tuple[Work, Gpu | None]:
    """Return work with the graphics chip on which it is done, woken; None for other work, and without a chip.

    The run would wake it in any case; so what is set there is known as it begins.

    Raises:
        BadInput: it has to be named, there is no such chip, or it does not wake.
    """
    if not workload(work.workload).on_gpu:
        return work, None
    chip = choose_chip(session.about.chips, work.options.chip)
    if chip is not None:
        wake(session.machine.files, session.machine.clock, chip.part)
    return replace(work, options=replace(work.options, chip=chip.part if chip else NO_CHIP)), chip


def _waking(card: Card) -> list[str]:
    files = [f"{folder}/{name}" for folder in (card.device, card.folder) for name in ANSWERED_BY_DRIVER]
    return [*files, *(f"{card.sensors}/{name}" for name in OF_SENSORS if card.sensors), f"{card.device}/{OF_BUS}"]
