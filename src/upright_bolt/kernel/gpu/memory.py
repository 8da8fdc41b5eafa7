"""What is kept of a GPU from one survey of the machine to the next."""

from dataclasses import dataclass, field


@dataclass(slots=True)
class Autosuspend:
    """Whether a GPU that is awake is left alone for a while, so that it can fall asleep.

    Reading a file of a GPU that does nothing counts as use: its driver waits some seconds after each read before it
    lets the GPU sleep (Documentation/power/runtime_pm.rst, autosuspend). So sampling pauses, and meanwhile what was
    read last is shown.

    Attributes:
        paused: whether it is left alone now.
        worked: whether a run works on it, so that it is not left alone.
        texts: what was read last, by path.
    """

    paused: bool = False
    worked: bool = False
    texts: dict[str, bytes] = field(default_factory=dict)


@dataclass(slots=True)
class WriteOnlyValues:
    """What was written to settings that cannot be read back.

    Attributes:
        last_written: the text that this process wrote last, by path.
        restored_writes: what an earlier process wrote in this boot, as far as the journal tells: numbers by
            their place.
    """

    last_written: dict[str, str] = field(default_factory=dict)
    restored_writes: dict[str, dict[int, int]] = field(default_factory=dict)


@dataclass(slots=True)
class GpuMemory:
    """Both of one GPU."""

    autosuspend: Autosuspend = field(default_factory=Autosuspend)
    writes: WriteOnlyValues = field(default_factory=WriteOnlyValues)
