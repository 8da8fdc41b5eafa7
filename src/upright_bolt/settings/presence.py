"""Which processors, policies, power zones and GPUs are there, and whether that has changed."""

import errno
from contextlib import suppress

from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths
from upright_bolt.kernel.ports import KernelFiles
from upright_bolt.kernel.probe import cpu_list

COME_AND_GO = (paths.DRM, paths.CPUFREQ, paths.POWERCAP)
"""Folders whose entries come and go: cards with docks and boxes, policies and power zones with their drivers."""


class Presence:
    """Notices what comes and goes.

    Args:
        files: the kernel's.
    """

    def __init__(self, files: KernelFiles) -> None:
        self._files = files
        self._coming: list[str] = []
        self._there: tuple[str, ...] = ()

    def has_changed(self) -> bool:
        """Tell whether something has come or gone since ``note``."""
        return self._there_now() != self._there

    def _text(self, path: str) -> str:
        return self._files.read(path).decode("ascii", "replace").strip()

    def _there_now(self) -> tuple[str, ...]:
        """Return which processors are online, which of those that were not yet whole are by now, and which devices."""
        # A processor is online before its cpufreq policy answers; taken over in between, it would lack half its
        # controls.
        came = [path for path in self._coming if self._answers(path)]
        devices = [name for folder in COME_AND_GO for name in self._files.names(folder)]
        try:
            return self._text(paths.CPU_ONLINE), *came, *devices
        except FileFault:
            return "", *came, *devices

    def note(self) -> None:
        """Note what a survey begun now may find. Whatever comes from here on is a change."""
        self._coming = []
        self._there = self._there_now()
        self._coming = self._not_yet_whole()

    def _not_yet_whole(self) -> list[str]:
        """Return a file each of processors that are online already, and whose clocks cannot be read yet."""
        with suppress(FileFault):
            online = cpu_list(self._text(paths.CPU_ONLINE))
            known = set(self._files.names(paths.CPUFREQ))
            files = [paths.policy(cpu, "affected_cpus") for cpu in online if f"policy{cpu}" in known]
            return [path for path in files if not self._answers(path)]
        return []

    def _answers(self, path: str) -> bool:
        """Tell whether the kernel answers at a file; one that a copy lacks tells of nothing to wait for."""
        try:
            self._text(path)
        except FileFault as fault:
            return fault.errno == errno.ENOENT
        return True

    def offline(self) -> frozenset[int]:
        """Return the processors that are there and offline, and those whose clocks cannot be read yet."""
        online: frozenset[int] = frozenset()
        with suppress(FileFault):
            online = frozenset(cpu_list(self._text(paths.CPU_ONLINE)))
        names = self._files.names(paths.CPU) if online else []
        there = {int(name[3:]) for name in names if name.startswith("cpu") and name[3:].isdecimal()}
        policies = [int(n[6:]) for n in self._files.names(paths.CPUFREQ) if n[:6] == "policy" and n[6:].isdecimal()]
        busy = {number for number in policies if not self._answers(paths.policy(number, "affected_cpus"))}
        return frozenset((there - online) | busy)
