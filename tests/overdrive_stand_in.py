"""Stands in for amdgpu's way with its overdrive table: commands change it, and what is written is not what is read."""

import errno
import re

from support import FaultyFiles
from upright_bolt.errors import FileFault

TABLE, LEVEL = "pp_od_clk_voltage", "power_dpm_force_performance_level"
OFFSET = """OD_SCLK:
0: 500Mhz
1: 2450Mhz
OD_MCLK:
0: 97Mhz
1: 1000MHz
OD_VDDGFX_OFFSET:
0mV
OD_RANGE:
SCLK:     500Mhz       3000Mhz
MCLK:     674Mhz       1075Mhz"""
CURVE = """OD_SCLK:
0: 808Mhz
1: 2125Mhz
OD_MCLK:
1: 875MHz
OD_VDDC_CURVE:
0: 808MHz 721mV
1: 1466MHz 806mV
2: 2125MHz 1172mV
OD_RANGE:
SCLK:     808Mhz       2200Mhz
MCLK:     625Mhz        950Mhz
VDDC_CURVE_SCLK[0]:     808Mhz       2200Mhz
VDDC_CURVE_VOLT[0]:     750mV        1200mV
VDDC_CURVE_SCLK[1]:     808Mhz       2200Mhz
VDDC_CURVE_VOLT[1]:     750mV        1200mV
VDDC_CURVE_SCLK[2]:     808Mhz       2200Mhz
VDDC_CURVE_VOLT[2]:     750mV        1200mV"""
POINTS = """OD_SCLK:
0:        852Mhz        800mV
1:        991Mhz        900mV
2:       1138Mhz        950mV
3:       1630Mhz       1200mV
OD_MCLK:
0:        167Mhz        800mV
1:        945Mhz       1100mV
OD_RANGE:
SCLK:     852MHz       2400MHz
MCLK:     167MHz       1500MHz
VDDC:     800mV        1200mV"""
CLOCKS = """OD_SCLK:
0:        200Mhz
1:       1600Mhz
OD_CCLK:
CCLK_RANGE in Core0:
0:       1400Mhz
1:       3500Mhz
OD_RANGE:
SCLK:     200Mhz       2000Mhz
CCLK:    1400Mhz       3500Mhz"""
SHAPES = {"offset": OFFSET, "curve": CURVE, "points": POINTS, "clocks": CLOCKS}
_HEADS = {"s": "OD_SCLK:", "m": "OD_MCLK:", "vc": "OD_VDDC_CURVE:"}


class OverdriveDriver(FaultyFiles):
    """Port ``KernelFiles`` in which tables take commands.

    Attributes:
        commands: every command that was taken.
    """

    def __init__(self, files) -> None:
        super().__init__(files)
        self.commands: list[str] = []
        self._stock: dict[str, str] = {}
        self._asked: list[str] = []

    def write(self, path: str, data: bytes) -> None:
        if not path.endswith(TABLE):
            super().write(path, data)
            return
        self.writes += 1
        order = self.on_write(self.writes, path)
        if isinstance(order, int):
            raise FileFault(path, order)
        if not data.endswith(b"\n"):
            raise FileFault(path, errno.EINVAL)
        if self._files.read(path.replace(TABLE, LEVEL)).strip() != b"manual":
            raise FileFault(path, errno.EINVAL)
        text = self._files.read(path).decode().strip()
        self._stock.setdefault(path, text)
        self._take(path, text, data.decode().strip())

    def _take(self, path: str, text: str, command: str) -> None:
        self.commands.append(command)
        if command == "r":
            self._asked = []
            self._files.write(path, self._stock[path].encode())
        elif command == "c":
            asked, self._asked = self._asked, []
            for each in asked:
                text = _changed(text, each)
            self._files.write(path, text.encode())
        else:
            try:
                _check(text, command)
            except ValueError as fault:
                raise FileFault(path, errno.EINVAL) from fault
            self._asked.append(command)


def _span(text: str, word: str) -> tuple[int, int]:
    match = re.search(rf"^{re.escape(word)}:\s+(-?\d+)\w+\s+(-?\d+)", text, re.MULTILINE)
    return (int(match[1]), int(match[2])) if match else (-10_000, 10_000)


def _check(text: str, command: str) -> None:
    """Raise ValueError for what the driver would refuse."""
    word, *numbers = command.split()
    values = [int(number) for number in numbers]
    if word == "vo":
        if "OD_VDDGFX_OFFSET" not in text:
            raise ValueError
        return
    line = _line(text, word, values[0])
    if len(values) - 1 != len(re.findall(r"\d+\s*m", line, re.IGNORECASE)):
        raise ValueError
    low, high = _span(text, "MCLK" if word == "m" else "SCLK")
    mv_low, mv_high = _span(text, f"VDDC_CURVE_VOLT[{values[0]}]") if word == "vc" else _span(text, "VDDC")
    if not low <= values[1] <= high or (len(values) > 2 and not mv_low <= values[2] <= mv_high):
        raise ValueError


def _line(text: str, word: str, number: int) -> str:
    section = text[text.index(_HEADS[word]) :].splitlines()[1:]
    for line in section:
        if line.startswith(f"{number}:"):
            return line
        if line.endswith(":"):
            break
    raise ValueError(word)


def _changed(text: str, command: str) -> str:
    word, *values = command.split()
    if word == "vo":
        head, _, rest = text.partition("OD_VDDGFX_OFFSET:\n")
        return f"{head}OD_VDDGFX_OFFSET:\n{values[0]}mV\n{rest.partition(chr(10))[2]}"
    line = _line(text, word, int(values[0]))
    new = f"{values[0]}: {values[1]}Mhz" + (f" {values[2]}mV" if len(values) > 2 else "")
    at = text.index(line, text.index(_HEADS[word]))
    return text[:at] + new + text[at + len(line) :]
