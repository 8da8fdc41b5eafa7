"""The page of memory on which the emulated laptop keeps its state; read and written from outside and from within."""

import mmap
import os
import struct

ADDRESS = 0x10000000
WORDS = {
    "charger": 0x04, "battery_state": 0x08, "battery_mw": 0x0C, "battery_mwh": 0x10, "battery_mv": 0x14,
    "tenths_of_kelvin": 0x18, "clock_cap": 0x1C, "denied_ms": 0x80,
}  # fmt: skip
"""``clock_cap`` is the number of the highest clock that the firmware allows, 0 for the highest of all. ``denied_ms`` is
for how long the emulator wanted to run and was not let: limits of time within leave it out. It lies
beyond what the laptop's table keeps for itself."""
SIZE = 4096


class Page:
    """The page, from a file that shows memory: the emulator's own, or ``/dev/mem`` within."""

    def __init__(self, path: str) -> None:
        self._file = os.open(path, os.O_RDWR)
        self._memory = mmap.mmap(self._file, SIZE, offset=ADDRESS)

    def set(self, **words: int) -> None:
        """Write words by their names."""
        for name, value in words.items():
            place = WORDS[name]
            self._memory[place : place + 4] = struct.pack("<I", value)

    def get(self, name: str) -> int:
        """Read a word by its name."""
        place = WORDS[name]
        return int(struct.unpack("<I", self._memory[place : place + 4])[0])
