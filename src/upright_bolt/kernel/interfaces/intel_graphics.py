"""Graphics chips under i915 and xe: lowest, highest and boost clock, and a power limit where their driver offers one.

i915 keeps its clocks below the card (``gt_max_freq_mhz``), xe below the device, a folder for each tile and engine
group. A chip of several tiles gets the same bounds on all groups that have the first one's range; the media engines,
which have another, are left alone. The lowest clock may never exceed the highest, so the order of writing counts.

The kernel's own pages: ABI/testing/sysfs-driver-intel-i915-hwmon, ABI/testing/sysfs-driver-intel-xe-hwmon, and
drivers/gpu/drm/xe/xe_gt_freq.c.
"""

import re

from upright_bolt.kernel.driver import Found, Surroundings
from upright_bolt.kernel.file_control import FileControl, Number, within
from upright_bolt.kernel.gpu.controls import number_on_gpu
from upright_bolt.kernel.gpu.gpus import Card
from upright_bolt.kernel.probe import Probe

RANK = 87
CLOCKS = Number(within(25.0))
"""MHz, kept in steps of 50 by most chips, so what is read back may be half a step away."""
WATTS = Number(within(1.0), per_unit=1e6)
_GROUP = re.compile(r"gt\d+")
_TILE = re.compile(r"tile\d+")


def groups(probe: Probe, card: Card) -> list[str]:
    """Return the clock folders of all of a chip's engine groups under xe, the first tile's first."""
    return [
        f"{card.device}/{tile}/{group}/freq0"
        for tile in probe.files.names(card.device)
        if _TILE.fullmatch(tile)
        for group in probe.files.names(f"{card.device}/{tile}")
        if _GROUP.fullmatch(group)
    ]


def _alike(probe: Probe, folders: list[str]) -> list[str]:
    """Return the folders whose range is that of the first; the first alone while the chip sleeps."""
    ranges = [(probe.number(f"{folder}/rpn_freq"), probe.number(f"{folder}/rp0_freq")) for folder in folders]
    return [folder for folder, span in zip(folders, ranges, strict=True) if span == ranges[0]]


def _clocks(probe: Probe, card: Card) -> list[FileControl]:
    exists = probe.files.exists
    card_files = [("lowest-clock", "min"), ("highest-clock", "max"), ("boost-clock", "boost")]
    bounds = (f"{card.folder}/gt_RPn_freq_mhz", f"{card.folder}/gt_RP0_freq_mhz")
    found = [
        number_on_gpu(probe, card, own, (path,), bounds, CLOCKS)
        for own, word in card_files
        if exists(path := f"{card.folder}/gt_{word}_freq_mhz")
    ]
    folders = groups(probe, card)
    if found or not folders:
        return found
    same = _alike(probe, folders)
    bounds = (f"{folders[0]}/rpn_freq", f"{folders[0]}/rp0_freq")
    return [
        number_on_gpu(probe, card, own, tuple(f"{folder}/{file}" for folder in same), bounds, CLOCKS)
        for own, file in (("lowest-clock", "min_freq"), ("highest-clock", "max_freq"))
        if exists(f"{folders[0]}/{file}")
    ]


def find(probe: Probe, machine: Surroundings) -> Found:
    """Return the controls of every chip that has such files."""
    found = Found()
    for card in machine.cards:
        found.controls += _clocks(probe, card)
        limit, rated = f"{card.sensors}/power1_max", f"{card.sensors}/power1_rated_max"
        if card.sensors and probe.files.exists(limit) and probe.files.exists(rated):
            found.controls.append(number_on_gpu(probe, card, "power-limit", (limit,), ("", rated), WATTS))
    return found
