"""What a machine is, and what it lacks."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Identity:
    """Who a machine is. Texts are empty where the machine does not say."""

    name: str
    vendor: str
    processor: str
    cores: int | None
    threads: int | None
    kernel: str
    driver: str
    virtual: bool = False
    microcode: str = ""
    chip_vendor: str = ""


@dataclass(frozen=True, slots=True)
class Missing:
    """Something this machine does not offer, or a file that could not be understood, and why."""

    what: str
    why: str
