"""Which graphics chips there are, and the way to their files that never wakes one.

A chip is found by its place on the bus, since the numbers of cards change from start to start. What the kernel answers
from memory is read of a sleeping chip as well (``KNOWN_ASLEEP``: the bus' own attributes and the status itself, see
``drivers/pci/pci-sysfs.c``, where only ``config`` resumes the device); every other file is kept shut while the status
is ``suspended``, by ``SleepGuard`` at one place for everything that reads or writes.

The kernel's own pages: ABI/testing/sysfs-bus-pci, ABI/testing/sysfs-devices-power, ABI/testing/sysfs-devices-removable.
"""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths
from upright_bolt.kernel.gpu.memory import GpuMemory
from upright_bolt.kernel.ports import SLEEPS, ForwardingFiles, KernelFiles
from upright_bolt.model.graphics import ChipKind, Gpu

ASLEEP = "suspended"
KNOWN_ASLEEP = ("uevent", "vendor", "device", "boot_vga", "removable", "power/runtime_status")
NORTH_VOLTAGE = "vddnb"
"""Label of a voltage that amdgpu shows for chips within a processor alone."""
_CARD = re.compile(r"card(\d{1,4})")
_PLACE = re.compile(r"([0-9a-f]{4,8}):([0-9a-f]{2}):([0-9a-f]{2})\.([0-7])")


@dataclass(frozen=True, slots=True)
class Card:
    """A graphics chip with the folders of its files.

    Attributes:
        chip: what it is.
        number: of the card, in this boot.
        folder: of the card.
        device: of the device behind it.
        sensors: of its driver's sensors; empty if there are none.
        memory: what is kept of it from survey to survey.
    """

    chip: Gpu
    number: int
    folder: str
    device: str
    sensors: str
    memory: GpuMemory = field(default_factory=GpuMemory)

    @property
    def status(self) -> str:
        """The file that says whether it sleeps."""
        return f"{self.device}/power/runtime_status"

    def asleep(self, files: KernelFiles) -> bool:
        """Tell whether it sleeps now; what has gone does not answer either."""
        return _status(files, self.device) == ASLEEP


def part_name(place: str, number: int) -> str:
    """Return the short name of the chip at ``place``; by the card's number where the bus has no address for it.

    What is usual is left out: domain 0000, device 00, function 0.
    """
    match = _PLACE.fullmatch(place)
    if match is None:
        return f"gpu-card{number}"
    domain, bus, device, function = match.groups()
    head = "" if domain == "0000" else f"{domain}-"
    tail = f"-{device}" if device != "00" or function != "0" else ""
    return f"gpu{head}{bus}{tail}{'' if function == '0' else f'-{function}'}"


def find_cards(files: KernelFiles, memories: dict[str, GpuMemory] | None = None) -> tuple[Card, ...]:
    """Return all graphics chips by their place on the bus.

    Args:
        files: the machine's.
        memories: of GPUs found earlier, by part; it is added to. A chip keeps its own, so that who samples it and who
            reads its controls go on to leave it alone together.
    """
    found = [card for name in files.names(paths.DRM) if (card := _card(files, name)) is not None]
    if memories is not None:
        found = [replace(card, memory=memories.setdefault(card.chip.part, card.memory)) for card in found]
    return tuple(sorted(found, key=lambda card: (card.chip.place, card.number)))


def _card(files: KernelFiles, name: str) -> Card | None:
    match = _CARD.fullmatch(name)
    if match is None:
        return None
    folder, number = f"{paths.DRM}/{name}", int(match[1])
    device = f"{folder}/device"
    told = _told_of(files, device)
    place = told.get("PCI_SLOT_NAME", "").lower()
    # The card's number changes from boot to boot, its place on the bus does not.
    if place and files.exists(f"{paths.PCI_DEVICES}/{place}"):
        device = f"{paths.PCI_DEVICES}/{place}"
    hwmon = files.names(f"{device}/hwmon")
    sensors = f"{device}/hwmon/{hwmon[0]}" if hwmon else ""
    ids = told.get("PCI_ID", "").lower() or ":".join(
        text.removeprefix("0x") for file in ("vendor", "device") if (text := _text(files, f"{device}/{file}"))
    )
    driver = told.get("DRIVER", "")
    chip = Gpu(
        part_name(place, number),
        place,
        ids,
        driver,
        _kind(files, device, place, sensors),
        drives_screen=_drives_screen(files, name),
        slept=_status(files, device) == ASLEEP,
    )
    return Card(chip, number, folder, device, sensors)


def _kind(files: KernelFiles, device: str, place: str, sensors: str) -> ChipKind:
    if _text(files, f"{device}/removable") == "removable":
        return ChipKind.EXTERNAL
    match = _PLACE.fullmatch(place)
    if match is None:
        return ChipKind.UNKNOWN
    # Bus 0 is the processor's own on every PC.
    if match[2] == "00":
        return ChipKind.BUILT_IN
    awake = _status(files, device) != ASLEEP
    north = awake and sensors and _text(files, f"{sensors}/in1_label") == NORTH_VOLTAGE
    return ChipKind.BUILT_IN if north else ChipKind.SEPARATE


def _drives_screen(files: KernelFiles, card: str) -> bool:
    """Tell whether a connector of the card is in use; the kernel answers from memory and asks no screen."""
    connectors = [name for name in files.names(paths.DRM) if name.startswith(f"{card}-")]
    return any(_text(files, f"{paths.DRM}/{name}/enabled") == "enabled" for name in connectors)


def _told_of(files: KernelFiles, device: str) -> dict[str, str]:
    """Return the device's variables as its ``uevent`` file lists them."""
    lines = _text(files, f"{device}/uevent").splitlines()
    return dict(line.split("=", 1) for line in lines if "=" in line)


def _text(files: KernelFiles, path: str) -> str:
    try:
        return files.read(path).decode("ascii", "replace").strip()
    except FileFault:
        return ""


def _status(files: KernelFiles, device: str) -> str:
    return _text(files, f"{device}/power/runtime_status")


class SleepGuard(ForwardingFiles):
    """Port ``KernelFiles`` that neither reads nor writes a file of a chip that sleeps.

    Listing folders and opening a file for later do not reach a driver, so they pass; who reads an open file again and
    again looks at the status itself (``channels.SleepGuardedGauges``).

    Args:
        files: the files behind it.
        cards: all chips.
    """

    def __init__(self, files: KernelFiles, cards: Sequence[Card]) -> None:
        super().__init__(files)
        self._guards: Mapping[str, Card] = {
            f"{folder}/": card for card in cards for folder in (card.folder, card.device)
        }

    def _chip_behind(self, path: str) -> Card | None:
        """Return the chip that reading a file would reach. Raises FileFault if that sleeps."""
        for folder, card in self._guards.items():
            if path.startswith(folder) and path.removeprefix(folder).removeprefix("device/") not in KNOWN_ASLEEP:
                if card.asleep(self._files):
                    raise FileFault(path, SLEEPS)
                return card
        return None

    def read(self, path: str) -> bytes:
        """Return the content, of a chip that is left alone what was read last.

        Raises:
            FileFault: it cannot be read; with ``SLEEPS`` while its chip sleeps.
        """
        card = self._chip_behind(path)
        if card is None:
            return self._files.read(path)
        texts = card.memory.autosuspend.texts
        if not card.memory.autosuspend.paused or path not in texts:
            texts[path] = self._files.read(path)
        return texts[path]

    def write(self, path: str, data: bytes) -> None:
        """Write the content: that is use, so the chip is not left alone any more.

        Raises:
            FileFault: it cannot be written; with ``SLEEPS`` while its chip sleeps.
        """
        card = self._chip_behind(path)
        if card is not None:
            card.memory.autosuspend.paused = False
        self._files.write(path, data)
