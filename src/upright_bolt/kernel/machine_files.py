"""All files of a machine behind one port: what stands behind registers and tables as well; sleeping chips kept shut."""

from collections.abc import Sequence

from upright_bolt.kernel.gpu.gpus import Card, SleepGuard
from upright_bolt.kernel.gpu.management_library import LibraryFiles
from upright_bolt.kernel.gpu.overdrive import OverdriveFiles
from upright_bolt.kernel.ports import KernelFiles, Registers
from upright_bolt.kernel.register_files import RegisterFiles


def machine_files(files: KernelFiles, registers: Registers, cards: Sequence[Card]) -> KernelFiles:
    """Return ``files`` with everything that controls write; as they are if they have it already.

    Args:
        files: the kernel's.
        registers: the machine's.
        cards: its graphics chips.
    """
    if getattr(files, "register_backed", False):
        return files
    return RegisterFiles(files, registers, OverdriveFiles(SleepGuard(LibraryFiles(files, cards), cards)))
