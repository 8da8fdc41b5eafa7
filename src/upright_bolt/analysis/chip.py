"""What a result about voltages is bound to: one chip with one microcode."""

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from upright_bolt.model.machine import Identity
    from upright_bolt.model.run import RunRecord


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
    parts = {
        "": identity.processor, "stepping ": identity.stepping, "microcode ": identity.microcode,
        "board ": identity.board, "firmware ": identity.firmware,
    }  # fmt: skip
    return ", ".join(f"{word}{value}" for word, value in parts.items() if value)


def same_board(run: "RunRecord", identity: "Identity") -> bool:
    """Tell whether a run was made with the present stepping, board and firmware, as far as the run says."""
    there = run.head.identity
    return all(
        not there.get(key) or there.get(key) == getattr(identity, key) for key in ("stepping", "board", "firmware")
    )


def _named(processor: str, microcode: str) -> str:
    return f"{processor}, microcode {microcode}" if microcode else processor
