"""What controls of graphics chips have in common: they are named by their chip, and closed while it sleeps."""

from upright_bolt.errors import FileFault
from upright_bolt.kernel.driver import Facts, Write, facts_of, write_fault
from upright_bolt.kernel.gpu.gpus import Card
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.catalogue import PART_MARK
from upright_bolt.model.control import ControlState, Value
from upright_bolt.model.note import Diagnostic, DiagnosticCode, note


class ChipControl:
    """A control of one graphics chip.

    Args:
        probe: reads the machine's files.
        card: the chip.
        own: the control's name without its part.
        files: every file that it may write.
    """

    def __init__(self, probe: Probe, card: Card, own: str, files: tuple[str, ...]) -> None:
        self.name = f"{card.chip.part}{PART_MARK}{own}"
        self.files = files
        self._probe = probe
        self._card = card

    def asleep(self) -> bool:
        """Tell whether its chip sleeps."""
        return self._card.asleep(self._probe.files)

    def facts(self) -> Facts:
        """Return that it sleeps, or what it allows."""
        if self.asleep():
            return Facts(ControlState.ASLEEP, note(DiagnosticCode.WAKE_TO_SET))
        return self._awake()

    def _awake(self) -> Facts:
        raise NotImplementedError

    def refusal(self, fault: FileFault) -> Diagnostic:
        """Return why a write failed."""
        return write_fault(fault, self.name)


class AbsentControl(ChipControl):
    """A control that this chip could have; ``why`` says what would bring it."""

    def __init__(self, probe: Probe, card: Card, own: str, why: Diagnostic) -> None:
        super().__init__(probe, card, own, ())
        self._why = why

    def asleep(self) -> bool:
        """It is absent whether its chip sleeps or not."""
        return False

    def _awake(self) -> Facts:
        return Facts(ControlState.ABSENT, self._why)

    def read(self) -> Value | None:
        """There is nothing to read."""
        return None

    def plan(self, value: Value) -> list[Write]:  # noqa: ARG002 - the form of every driver
        """There is nothing to write."""
        return []

    def same(self, asked: Value, got: Value) -> bool:
        """Tell whether both are the same."""
        return asked == got


class NumberControl(ChipControl):
    """A whole number in one or several files that are to hold the same.

    Args:
        probe, card, own: as for every control of a chip.
        files: those that hold it; the first counts.
        bounds: files with the lowest and the highest value; an empty one stands for 0.
        per_unit: what the number is for one of the control's unit: 1e6 for µW.
        grain: the kernel keeps it in steps of so much, in the control's unit.
    """

    def __init__(
        self,
        probe: Probe,
        card: Card,
        own: str,
        files: tuple[str, ...],
        bounds: tuple[str, str],
        *,
        per_unit: float = 1.0,
        grain: float = 1.0,
    ) -> None:
        super().__init__(probe, card, own, files)
        self._bounds = bounds
        self._per_unit = per_unit
        self._grain = grain

    def _value(self, path: str) -> float | None:
        number = self._probe.number(path) if path else 0
        return None if number is None else number / self._per_unit

    def _awake(self) -> Facts:
        low, high = (self._value(path) for path in self._bounds)
        if low is None or high is None or high <= low:
            return Facts(ControlState.READ_ONLY, note(DiagnosticCode.NO_RANGE))
        return facts_of(self._probe.files, self.files, Facts(ControlState.SETTABLE, minimum=low, maximum=high))

    def read(self) -> Value | None:
        """Return what the first file holds."""
        return self._value(self.files[0])

    def plan(self, value: Value) -> list[Write]:
        """Return one write a file."""
        return [Write(path, str(round(float(value) * self._per_unit))) for path in self.files]

    def same(self, asked: Value, got: Value) -> bool:  # noqa: ARG002 - every file is looked at
        """Tell whether every file holds it within the kernel's steps."""
        held = [self._value(path) for path in self.files]
        return all(value is not None and abs(float(asked) - value) <= self._grain for value in held)


class WordControl(ChipControl):
    """One of some words in a file."""

    def __init__(self, probe: Probe, card: Card, own: str, path: str, choices: tuple[str, ...]) -> None:
        super().__init__(probe, card, own, (path,))
        self._choices = choices

    def _awake(self) -> Facts:
        return facts_of(self._probe.files, self.files, Facts(ControlState.SETTABLE, choices=self._choices))

    def read(self) -> Value | None:
        """Return the word."""
        return self._probe.text(self.files[0])

    def plan(self, value: Value) -> list[Write]:
        """Return the one write."""
        return [Write(self.files[0], str(value))]

    def same(self, asked: Value, got: Value) -> bool:
        """Tell whether both are the same word."""
        return asked == got
