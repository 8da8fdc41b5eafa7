"""The voltage mailbox, register 0x150: described widely but in no manual, so every answer is read back and checked.

Command word: bit 63 run, plane in 42:40, 0x11 in 39:32 to write or 0x10 to read, offset as a signed 11-bit number of
1/1024 V in 31:21. The processor clears bit 63 when it has answered; a code other than zero in 39:32 of the answer is a
refusal. Reading is also a command and so needs the right to write the register.
"""

import errno

from upright_bolt.errors import FileFault
from upright_bolt.kernel.ports import Registers

MAILBOX = 0x150
RUN = 1 << 63
WRITE, READ = 0x11, 0x10
STEP_MV = 1000.0 / 1024.0
TRIES = 50


def read_offset(registers: Registers, plane: int) -> int:
    """Return a plane's offset in steps of 1/1024 V. Raises FileFault."""
    answer = _command(registers, RUN | plane << 40 | READ << 32)
    raw = answer >> 21 & 0x7FF
    # Bit 10 is the sign of the 11-bit two's complement.
    return raw - 0x800 if raw & 0x400 else raw


def write_offset(registers: Registers, plane: int, steps: int) -> None:
    """Ask for a plane's offset in steps of 1/1024 V. Raises FileFault; whether it took must be read back."""
    _command(registers, RUN | plane << 40 | WRITE << 32 | (steps & 0x7FF) << 21)


def _command(registers: Registers, word: int) -> int:
    name = f"voltage mailbox (register {MAILBOX:#x})"
    # Reading is a command too: without a processor that answers, the word written would look like the answer.
    if registers.copied:
        raise FileFault(name, errno.EOPNOTSUPP, "no processor answers in a copy")
    registers.write(0, MAILBOX, word)
    # A mailbox that never answers must not become an endless loop.
    for _ in range(TRIES):
        answer = registers.read(0, MAILBOX)
        if not answer & RUN:
            code = answer >> 32 & 0xFF
            if code:
                raise FileFault(name, 0, f"the processor refused with code {code}")
            return answer
    raise FileFault(name, errno.ETIMEDOUT)
