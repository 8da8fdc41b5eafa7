"""What a result about voltages is bound to: one chip with one microcode."""

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from upright_bolt.model.machine import Identity
    from upright_bolt.model.run import RunRecord


OF_BOARD = ("stepping", "board", "firmware")


def chip_of(identity: "Identity") -> str:
    """Return the chip of a machine: the processor and its microcode, as the machine names them."""
    return _named(identity.processor, identity.microcode)


def chip_of_run(run: "RunRecord") -> str:
    """Return the chip of a run, as ``chip_of`` names it; empty if the run does not say."""
    return _named(*(str(run.head.identity.get(key) or "") for key in ("processor", "microcode")))


def chip_on_board(identity: "Identity") -> str:
    """Return what proven voltages of a profile are bound to: the chip, its stepping and microcode, board and firmware.

    An update of microcode or firmware makes it another one.
    """
    keys = ("stepping", "microcode", "board", "firmware")
    return ", ".join(part for part in (identity.processor, _listed({k: getattr(identity, k) for k in keys})) if part)


def board_of(identity: "Identity") -> str:
    """Return the rest of what proven voltages are bound to beside the chip: its stepping, board and firmware."""
    return _listed({key: getattr(identity, key) for key in OF_BOARD})


def board_of_run(run: "RunRecord") -> str:
    """Return the board of a run, as ``board_of`` names it; empty if the run does not say."""
    return _listed({key: str(run.head.identity.get(key) or "") for key in OF_BOARD})


def boards_differ(one: str, other: str) -> bool:
    """Tell whether two boards, named as by ``board_of``, are known to differ."""
    return bool(one and other) and one != other


def same_board(run: "RunRecord", identity: "Identity") -> bool:
    """Tell whether a run was made with the present stepping, board and firmware, as far as the run says."""
    there = run.head.identity
    return all(not there.get(key) or there.get(key) == getattr(identity, key) for key in OF_BOARD)


def _listed(parts: dict[str, str]) -> str:
    return ", ".join(f"{word} {value}" for word, value in parts.items() if value)


def _named(processor: str, microcode: str) -> str:
    return f"{processor}, microcode {microcode}" if microcode else processor
