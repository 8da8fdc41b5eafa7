"""One emulated machine: started, spoken with over a serial line, poked from outside, and cut off."""

import json
import os
import socket
import subprocess
import time
from contextlib import suppress
from pathlib import Path
from threading import Event, Thread
from typing import Any

from rig.build import Rig
from rig.page import ADDRESS, Page

MEMORY_MB = 1024
CONNECT_WITHIN_S = 120.0
SILENT_S = 300.0
"""A guest that tells nothing for so long hangs; time in which the emulator was not let run does not count."""
LOOK_EVERY_S = 0.2
ACCELERATED = ("-accel", "tcg,thread=multi")
HURRYING = ("-accel", "tcg,thread=single", "-icount", "shift=3,sleep=off", "-rtc", "clock=vm")
"""Eight nanoseconds an instruction: about as fast as the emulator is while something runs. One processor alone can."""


class Machine:
    """An emulated machine.

    Args:
        rig: what it boots from.
        begin: what the agent in it shall do: a word for the kernel's command line.
        tables: which of the firmware's tables it has.
        processor: the emulator's name of it.
        words: more words for the kernel's command line.
        keeps: a disk that stays from boot to boot; without one everything is thrown away.
        systemd: it is the first process, in place of the checks themselves.
        processors: how many it has; the rig's tables need to know of them.
        hurries: its time goes on at once while nothing runs in it, so that hours of little work take minutes.
    """

    def __init__(self, rig: Rig, begin: str, tables: tuple[str, ...], processor: str, words: str = "",
                 keeps: Path | None = None, systemd: bool = False, processors: int = 2,
                 hurries: bool = False) -> None:  # fmt: skip
        self._folder = rig.folder
        self._name = f"{begin}-{os.getpid()}"
        self._memory = Path(f"/dev/shm/upright-bolt-rig-{self._name}.ram")
        self._memory.unlink(missing_ok=True)
        self._talk = self._place("talk")
        self._monitor = self._place("monitor")
        self.console = rig.folder / f"{begin}-console.txt"
        self._emulator = rig.folder / f"{begin}-emulator.txt"
        first = "rig.first=/lib/systemd/systemd" if systemd else ""
        line = (
            "console=ttyS0 no_timer_check panic=-1 quiet loglevel=4 no_console_suspend "
            f"memmap=64K${ADDRESS:#x} rig.begin={begin} {first} {words}"
        )
        disks = [(rig.root, "snapshot=on,cache=unsafe"), (rig.program, "readonly=on")]
        disks += [(keeps, "cache=writeback")] if keeps is not None else []
        command = [
            "setpriv", "--pdeathsig", "KILL",  # whatever ends this program, no machine is left behind
            "qemu-system-x86_64", "-nodefaults", "-no-user-config", "-display", "none", "-no-reboot",
            "-machine", "q35,memory-backend=ram", *(HURRYING if hurries else ACCELERATED), "-cpu", processor,
            "-smp", str(processors),
            "-m", str(MEMORY_MB),
            "-object", f"memory-backend-file,id=ram,size={MEMORY_MB}M,mem-path={self._memory},share=on",
            "-kernel", str(rig.kernel), "-initrd", str(rig.first_disk), "-append", line,
            "-serial", f"file:{self.console}",
            "-chardev", f"socket,id=talk,path={self._talk},server=on,wait=off", "-serial", "chardev:talk",
            "-monitor", f"unix:{self._monitor},server=on,wait=off",
        ]  # fmt: skip
        for number, (disk, options) in enumerate(disks):
            command += ["-drive", f"if=none,id=d{number},file={disk},format=raw,{options}",
                        "-device", f"virtio-blk-pci,drive=d{number}"]  # fmt: skip
        for name in (*tables, *(["processors"] if processors > 2 else [])):
            command += ["-acpitable", f"file={rig.tables[name]}"]
        self._process = subprocess.Popen(
            command, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=self._emulator.open("w")
        )
        self._line = self._connect(self._talk)
        self._rest = b""
        self._denied_s, self._ended, self._hurries = 0.0, Event(), hurries
        Thread(target=self._tell_denied, daemon=True).start()

    def _tell_denied(self) -> None:
        """Write into the machine's memory for how long other programs have kept its processors from running."""
        while not self._memory.exists() or self._memory.stat().st_size < MEMORY_MB << 20:
            if self._ended.wait(LOOK_EVERY_S):
                return
        page = Page(str(self._memory))
        before = self._waited_ns()
        while not self._ended.wait(LOOK_EVERY_S):
            now = self._waited_ns()
            # It goes on at the pace of the processor that waits longest
            self._denied_s += max((now[task] - before.get(task, 0) for task in now), default=0) / 1e9
            before = now
            # A machine that hurries counts its time by instructions, so while it cannot run its time stands still, too.
            if not self._hurries:
                page.set(denied_ms=round(self._denied_s * 1000.0))

    def _waited_ns(self) -> dict[str, int]:
        """Return for how long each task of the emulator has waited for a processor since it began."""
        found = {}
        for task in Path(f"/proc/{self._process.pid}/task").glob("*/schedstat"):
            with suppress(OSError):
                found[task.parent.name] = int(task.read_text().split()[1])
        return found

    def _place(self, name: str) -> Path:
        path = self._folder / f"{self._name}-{name}.socket"
        path.unlink(missing_ok=True)
        return path

    def _connect(self, path: Path) -> socket.socket:
        until = time.monotonic() + CONNECT_WITHIN_S
        while True:
            line = socket.socket(socket.AF_UNIX)
            try:
                line.connect(str(path))
            except OSError:
                line.close()
                if self._process.poll() is not None or time.monotonic() > until:
                    raise RuntimeError(self._emulator.read_text()[-2000:]) from None
                time.sleep(0.05)
            else:
                return line

    def next_told(self, within_s: float = SILENT_S) -> dict[str, Any] | None:
        """Return the next thing the agent tells; None if it tells nothing within ``within_s``, or is gone."""
        until = self._now_s() + within_s
        while b"\n" not in self._rest:
            self._line.settimeout(max(0.01, until - self._now_s()))
            try:
                data = self._line.recv(65536)
            except TimeoutError:
                if self._now_s() < until:
                    continue
                return None
            if not data:
                return None
            self._rest += data
        line, self._rest = self._rest.split(b"\n", 1)
        return dict(json.loads(line)) if line.strip() else self.next_told(within_s)

    def _now_s(self) -> float:
        """Return the time in s without that in which the emulator was not let run."""
        return time.monotonic() - self._denied_s

    def order(self, command: str) -> None:
        """Give the emulator's own monitor a command."""
        with self._connect(self._monitor) as line:
            line.sendall(command.encode() + b"\n")
            time.sleep(0.1)

    def cut(self) -> None:
        """Take the power away: nothing that has not reached the disk stays."""
        self._ended.set()
        self._process.kill()
        self._process.wait()
        self._line.close()
        for path in (self._memory, self._talk, self._monitor):
            path.unlink(missing_ok=True)
