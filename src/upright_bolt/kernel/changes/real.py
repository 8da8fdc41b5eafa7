"""Port ``MachineChanges`` on this computer, or a copy of its files: one descriptor, silent while nothing happens.

inotify tells of a write by any program, to a register too, and not of a change by the firmware. The platform mode's
file raises POLLPRI when it changes in any way. Uevents, about chargers, processors and drivers, are taken from the
kernel itself, since what udev sends on does not reach a process with a network of its own.

A driver that is loaded anew makes new files under the old names. Loading a module and binding a device raise uevents;
a scaling driver that is switched by its ``status`` file does not, so that file is watched too, and ``replaced``
compares the numbers of the files.

The kernel's own pages: Documentation/filesystems/sysfs (sysfs_notify), ABI/testing/sysfs-platform_profile.
"""

import os
import select
from collections.abc import Callable, Collection
from contextlib import suppress
from pathlib import Path

import inotify_simple
import pyudev

from upright_bolt.kernel import paths
from upright_bolt.kernel.changes.writers import FileIdentity, Writers
from upright_bolt.kernel.ports import contained
from upright_bolt.model.change import ChangeKind, MachineChange

KINDS = {
    "power_supply": ChangeKind.SUPPLY, "cpu": ChangeKind.PROCESSORS, "module": ChangeKind.DRIVERS,
    "platform": ChangeKind.DRIVERS, "powercap": ChangeKind.DRIVERS, "pci": ChangeKind.DRIVERS,
}  # fmt: skip
MOST_UEVENTS = 200


class RealChanges:
    """Changes of this computer, or of a copy of kernel files.

    Args:
        root: folder below which kernel files lie; of a copy, only writes are told.
        writers: tells who writes; None if that is not to be known.
        own_writes: returns how often this process has written a register: the kernel does not tell who writes those.
    """

    def __init__(
        self, root: Path = Path("/"), writers: Writers | None = None, own_writes: Callable[[], int] | None = None
    ) -> None:
        self._own_writes = own_writes
        self._own_seen = 0
        self._root = root
        self._of_this_computer = root == Path("/")
        self._writers = writers
        self._epoll: select.epoll | None = None
        self._inotify: inotify_simple.INotify | None = None
        self._monitor: pyudev.Monitor | None = None
        self._mode: int | None = None
        self._wanted: dict[str, FileIdentity | None] = {}
        """Files to be watched, each with what it was when last looked at; None where it was not there."""
        self._replaced = False
        self._registers: list[str] = []
        """What a write to a register device may have changed."""
        self._watched: dict[str, int] = {}
        self._places: dict[str, str] = {}
        self._real: dict[str, str] = {}

    def watch(self, files: Collection[str]) -> None:
        """From now on tell of writes to these files; the first call opens what is needed."""
        of_registers = [path for path in files if path.startswith(paths.ZONES_OF_REGISTERS)]
        self._registers = [*(path for path in files if paths.is_register(path)), *of_registers]
        wanted = {path for path in files if not paths.is_register(path)}
        if self._registers and self._own_writes is not None:
            wanted.update(self._register_devices())
        if any(path.startswith(paths.CPU) for path in wanted):
            wanted.update(switch for switch in paths.DRIVER_SWITCHES if self._identity(switch) is not None)
        if wanted and self._epoll is None:
            self._open()
        self._follow(wanted)

    def _register_devices(self) -> list[str]:
        """Return the files through which programs write registers: which one they write, nobody tells."""
        with suppress(OSError):
            names = [each.name for each in Path(self._place(paths.MSR_DEVICES)).iterdir()]
            return [paths.msr_device(int(name)) for name in names if name.isdecimal()]
        return []

    def replaced(self) -> bool:
        """Tell whether watched files have vanished, returned or become others since the last call."""
        self._follow(self._wanted.keys())
        self._follow_mode()
        was, self._replaced = self._replaced, False
        return was

    def _follow(self, wanted: Collection[str]) -> None:
        """Watch these files, as they are now."""
        if self._inotify is None:
            return
        before, now = self._wanted, {path: self._identity(path) for path in wanted}
        self._wanted = now
        self._replaced |= any(path in before and before[path] != identity for path, identity in now.items())
        others = [path for path in before.keys() | now if before.get(path) != now.get(path)]
        for path in others:
            with suppress(OSError, KeyError):  # the kernel has let go of a file that has vanished
                self._inotify.rm_watch(self._watched.pop(path))
            with suppress(OSError):
                if now.get(path) is not None:
                    self._watched[path] = self._inotify.add_watch(self._place(path), inotify_simple.flags.MODIFY)
        self._real = {os.path.realpath(self._place(path)): path for path in self._watched} if others else self._real
        if self._writers is not None and others:
            self._writers.mark({Path(self._place(path)): i for path in self._watched if (i := now[path]) is not None})

    def _identity(self, path: str) -> FileIdentity | None:
        try:
            return _identity_of(os.stat(self._place(path)))  # noqa: PTH116 - of a hundred files at every look
        except OSError:
            return None

    def _place(self, path: str) -> str:
        """Return where a file lies; in a copy of kernel files, links lead to nothing outside it."""
        if self._of_this_computer:
            return path
        # Followed again only where nothing was found, since a file may come back in another place.
        place = self._places.get(path)
        if place is None or not os.access(place, os.F_OK):
            place = self._places[path] = contained(str(self._root), path)
        return place

    def _open(self) -> None:
        self._epoll = epoll = select.epoll()
        self._inotify = inotify_simple.INotify(nonblocking=True)
        epoll.register(self._inotify.fileno(), select.EPOLLIN)
        if self._writers is not None and self._names_writers:
            epoll.register(self._writers.handle, select.EPOLLIN)
        if self._of_this_computer:
            with suppress(OSError, ImportError):
                self._listen(epoll)

    def _listen(self, epoll: select.epoll) -> None:
        """Listen to uevents, and to the platform mode. Raises OSError, or ImportError where libudev is missing."""
        self._open_mode(epoll)
        self._monitor = pyudev.Monitor.from_netlink(pyudev.Context(), source="kernel")
        for subsystem in KINDS:
            self._monitor.filter_by(subsystem)
        self._monitor.start()
        epoll.register(self._monitor.fileno(), select.EPOLLIN)

    def _open_mode(self, epoll: select.epoll) -> None:
        with suppress(OSError):
            self._mode = os.open(paths.PLATFORM_PROFILE, os.O_RDONLY | os.O_CLOEXEC)
            os.read(self._mode, 64)
            epoll.register(self._mode, select.EPOLLPRI | select.EPOLLERR)

    def _close_mode(self) -> None:
        if self._mode is not None:
            os.close(self._mode)
            self._mode = None

    def _follow_mode(self) -> None:
        """Open the platform mode's file anew if its driver was loaded anew."""
        if self._epoll is None or not self._of_this_computer:
            return
        there = self._identity(paths.PLATFORM_PROFILE)
        if self._mode is not None and there != _identity_of(os.fstat(self._mode)):
            self._close_mode()
        if self._mode is None and there is not None:
            self._open_mode(self._epoll)

    def handles(self) -> tuple[int, ...]:
        """Return the one descriptor."""
        return (self._epoll.fileno(),) if self._epoll is not None else ()

    def take(self) -> list[MachineChange]:
        """Return what has happened since the last call."""
        if self._epoll is None or not self._epoll.poll(0):
            return []
        return [*self._writes(), *self._uevents(), *self._modes()]

    def _writes(self) -> list[MachineChange]:
        by_file = self._writers.take() if self._writers is not None else {}
        who = {self._real[real]: words for real, words in by_file.items() if real in self._real}
        numbers = {number: path for path, number in self._watched.items()}
        events = self._inotify.read(timeout=0) if self._inotify is not None else []
        written = dict.fromkeys(numbers[event.wd] for event in events if event.wd in numbers)
        own = self._has_written_registers()
        for path in tuple(written):  # what nobody else wrote was written by this process
            of_register = path.startswith(paths.MSR_DEVICES)
            if own if of_register else self._names_writers and path not in who:
                del written[path]
        return [each for path in {**written, **who} for each in self._told_of(path, who.get(path, ""))]

    @property
    def _names_writers(self) -> bool:
        return self._writers is not None and self._writers.known

    def _has_written_registers(self) -> bool:
        """Tell whether this process has written registers since the last call: reading an offset does, too."""
        before, self._own_seen = self._own_seen, self._own_writes() if self._own_writes is not None else 0
        return before != self._own_seen

    def _told_of(self, path: str, who: str) -> list[MachineChange]:
        if path in paths.DRIVER_SWITCHES:
            return [MachineChange(ChangeKind.DRIVERS)]
        if path.startswith(paths.MSR_DEVICES):
            return [MachineChange(ChangeKind.WRITTEN, register, who) for register in self._registers]
        return [MachineChange(ChangeKind.WRITTEN, path, who)]

    def _uevents(self) -> list[MachineChange]:
        kinds: dict[ChangeKind, None] = {}
        for _ in range(MOST_UEVENTS if self._monitor is not None else 0):
            device = self._monitor.poll(timeout=0) if self._monitor is not None else None
            if device is None:
                break
            if device.subsystem in KINDS:
                kinds[KINDS[device.subsystem]] = None
        return [MachineChange(kind) for kind in kinds]

    def _modes(self) -> list[MachineChange]:
        if self._mode is None:
            return []
        poll = select.poll()
        poll.register(self._mode, select.POLLPRI)
        if not poll.poll(0):
            return []
        try:
            os.lseek(self._mode, 0, os.SEEK_SET)
            os.read(self._mode, 64)  # what was read is not told of again
        except OSError:  # its driver has gone: a file like that would be told of for ever
            self._close_mode()
        return [MachineChange(ChangeKind.MODE)]

    def close(self) -> None:
        """Close everything but the way to know who writes."""
        if self._writers is not None:
            self._writers.close()
        self._wanted, self._watched, self._real, self._monitor = {}, {}, {}, None
        if self._inotify is not None:
            self._inotify.close()
            self._inotify = None
        self._close_mode()
        if self._epoll is not None:
            self._epoll.close()
            self._epoll = None


def _identity_of(found: os.stat_result) -> FileIdentity:
    return found.st_dev, found.st_ino
