"""Controls that are declared, not programmed: a number, a word or a switch in one or several kernel files.

A declaration says which files hold the value, how their text stands for it, what may be set and what closes it. What
takes more than that (bounds that depend on each other, tables, bits of several kinds in one register) is a driver of
its own.
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Protocol

from upright_bolt.errors import FileFault
from upright_bolt.kernel.driver import Facts, Write, why_read_only, write_fault
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.control import ControlState, Value
from upright_bolt.model.note import Diagnostic, DiagnosticCode, note

Near = Callable[[float, float], bool]
"""Tells whether a value that was asked for is held by one that was read, both in the control's unit."""


class Form(Protocol):
    """How the text of a file stands for a value."""

    def read(self, probe: Probe, path: str) -> Value | None:
        """Return the value that a file holds; None if it cannot be read."""
        ...

    def text(self, value: Value) -> str:
        """Return what is written for a value."""
        ...

    def same(self, asked: Value, held: Value) -> bool:
        """Tell whether a file that holds ``held`` holds what was asked for, within the kernel's rounding."""
        ...


def within(slack: float) -> Near:
    """Return a comparison that forgives a difference of at most ``slack``."""
    return lambda asked, held: abs(asked - held) <= slack


@dataclass(frozen=True, slots=True)
class Number:
    """A whole number.

    Attributes:
        near: forgives what the kernel rounds.
        per_unit: what the number is for one of the control's unit: 1e6 for µW. Below 0, it counts downwards.
        base: the value for which the file says 0.
        digits: decimals to which the value is told.
    """

    near: Near
    per_unit: float = 1.0
    base: float = 0.0
    digits: int = 6

    def read(self, probe: Probe, path: str) -> float | None:
        """Return the value in the control's unit."""
        number = probe.number(path)
        # + 0.0 turns −0.0 into 0.0, which people would wonder about.
        return None if number is None else round(self.base + number / self.per_unit, self.digits) + 0.0

    def text(self, value: Value) -> str:
        """Return the number to write."""
        return str(round((float(value) - self.base) * self.per_unit))

    def same(self, asked: Value, held: Value) -> bool:
        """Compare as ``near`` does."""
        return self.near(float(asked), float(held))


class Word:
    """One word of some."""

    def read(self, probe: Probe, path: str) -> str | None:
        """Return the word."""
        return probe.text(path)

    def text(self, value: Value) -> str:
        """Return the word to write."""
        return str(value)

    def same(self, asked: Value, held: Value) -> bool:
        """Tell whether they are the same word."""
        return asked == held


@dataclass(frozen=True, slots=True)
class Switch:
    """``on`` or ``off`` as 1 and 0, or the other way round where the file names what is prevented."""

    inverted: bool = False

    def read(self, probe: Probe, path: str) -> str | None:
        """Return ``on`` or ``off``."""
        number = probe.number(path)
        return None if number is None else ("on" if (number == 0) == self.inverted else "off")

    def text(self, value: Value) -> str:
        """Return the digit to write."""
        return "1" if (value == "off") == self.inverted else "0"

    def same(self, asked: Value, held: Value) -> bool:
        """Tell whether they are the same."""
        return asked == held


Pick = Callable[[Sequence[Value | None]], Value | None]
"""Says which value counts where several files hold one."""


def lowest(values: Sequence[Value | None]) -> Value | None:
    """Return the lowest number that can be read."""
    return min([value for value in values if isinstance(value, float)], default=None)


def any_on(values: Sequence[Value | None]) -> Value | None:
    """Return ``on`` if any switch is; None if one cannot be read."""
    return None if not values or None in values else ("on" if "on" in values else "off")


Refused = Callable[[FileFault, str], Diagnostic]
"""Returns why a write of the named control failed."""


def refused_as(codes: Mapping[int, DiagnosticCode]) -> Refused:
    """Return an explanation of failed writes by their errno; for any other the general one."""

    def why(fault: FileFault, name: str) -> Diagnostic:
        code = codes.get(fault.errno)
        return write_fault(fault, name) if code is None else note(code, name)

    return why


def never() -> bool:
    """Tell that a device never sleeps."""
    return False


class FileControl:
    """A control whose value stands in one or several files that are all written alike.

    Args:
        probe: reads the files.
        name: the control's full name.
        files: those that hold it.
        form: how their text stands for the value.
        allowed: returns range, choices and notes as they are while the files can be written.
        pick: says which file's value counts; the first one's without it, since all are to hold the same.
        copies: the files are copies of which the picked one counts, so it alone is compared with what was asked for.
        closed: returns why the files cannot be written now; looks at their rights if none is given.
        refused: says why a write failed.
        asleep: tells whether the device sleeps, without waking it.
    """

    def __init__(
        self,
        probe: Probe,
        name: str,
        files: tuple[str, ...],
        form: Form,
        allowed: Callable[[], Facts],
        *,
        pick: Pick | None = None,
        copies: bool = False,
        closed: Callable[[], Diagnostic | None] | None = None,
        refused: Refused = write_fault,
        asleep: Callable[[], bool] = never,
    ) -> None:
        self.name = name
        self.files = files
        self.asleep = asleep
        self._probe = probe
        self._form = form
        self._held = partial(form.read, probe)
        self._allowed = allowed
        self._pick = pick
        self._copies = copies
        self._closed = closed
        self._refused = refused

    def facts(self) -> Facts:
        """Return what may be set as things are now, or what closes it."""
        if self.asleep():
            return Facts(ControlState.ASLEEP, note(DiagnosticCode.WAKE_TO_SET))
        facts = self._allowed()
        if facts.state is not ControlState.SETTABLE:
            return facts
        why = why_read_only(self._probe.files, self.files) if self._closed is None else self._closed()
        if why is None:
            return facts
        return Facts(ControlState.READ_ONLY, why, facts.minimum, facts.maximum, facts.choices, facts.spans)

    def read(self) -> Value | None:
        """Return the value that counts."""
        if self._pick is None:
            return self._held(self.files[0]) if self.files else None
        return self._pick([*map(self._held, self.files)])

    def plan(self, value: Value) -> list[Write]:
        """Return one write a file."""
        text = self._form.text(value)
        return [Write(path, text) for path in self.files]

    def same(self, asked: Value, got: Value) -> bool:
        """Tell whether every file holds it, or of copies the one that counts."""
        if self._copies or len(self.files) == 1:
            return self._form.same(asked, got)
        held = [*map(self._held, self.files)]
        return all(value is not None and self._form.same(asked, value) for value in held)

    def refusal(self, fault: FileFault) -> Diagnostic:
        """Return why a write failed."""
        return self._refused(fault, self.name)
