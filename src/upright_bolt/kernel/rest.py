"""Leaving a device alone so that it can fall asleep."""

from dataclasses import dataclass, field


@dataclass(slots=True)
class Rest:
    """Whether a chip that is awake is left alone for a while, so that it can fall asleep.

    Reading a file of a chip that does nothing counts as use: its driver waits some seconds after each before it lets
    the chip sleep. So who samples it pauses, and meanwhile what has been read last is told again.

    Attributes:
        paused: whether it is left alone now.
        texts: what was read last, by path.
        said: what was written last to what cannot be asked, by path.
        recalled: what an earlier process wrote there in this boot, as far as it is known: numbers by their place.
        worked: whether a run works on it, so that it is not left alone.
    """

    paused: bool = False
    worked: bool = False
    said: dict[str, str] = field(default_factory=dict)
    restored_writes: dict[str, dict[int, int]] = field(default_factory=dict)
    texts: dict[str, bytes] = field(default_factory=dict)
