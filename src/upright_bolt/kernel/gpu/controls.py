"""What controls of GPUs have in common: they are named by their GPU, and closed while it sleeps."""

from collections.abc import Callable

from upright_bolt.kernel.driver import Facts, write_fault
from upright_bolt.kernel.file_control import FileControl, Form, Number, Refused, Word
from upright_bolt.kernel.gpu.gpus import Card
from upright_bolt.kernel.probe import Probe
from upright_bolt.model.catalogue import PART_MARK
from upright_bolt.model.control import ControlState
from upright_bolt.model.note import Diagnostic, DiagnosticCode, note


def name_on(card: Card, own: str) -> str:
    """Return the full name of a GPU's control."""
    return f"{card.chip.part}{PART_MARK}{own}"


def on_gpu(
    probe: Probe,
    card: Card,
    own: str,
    files: tuple[str, ...],
    form: Form,
    allowed: Callable[[], Facts],
    refused: Refused = write_fault,
) -> FileControl:
    """Return a control of a GPU that stands in files, closed while the GPU sleeps.

    Args:
        probe: reads the files.
        card: the GPU.
        own: the control's name without its part.
        files: those that hold it.
        form: how their text stands for the value.
        allowed: returns range, choices and notes while the GPU is awake.
        refused: says why a write failed.
    """
    return FileControl(
        probe,
        name_on(card, own),
        files,
        form,
        allowed,
        refused=refused,
        asleep=lambda: card.asleep(probe.files),
    )


def number_on_gpu(
    probe: Probe, card: Card, own: str, files: tuple[str, ...], bounds: tuple[str, str], form: Number
) -> FileControl:
    """Return a whole number of a GPU whose driver declares its range.

    Args:
        probe: reads the files.
        card: the GPU.
        own: the control's name without its part.
        files: those that hold it; all are to hold the same.
        bounds: files with the lowest and the highest value; an empty one stands for 0.
        form: how they hold it.
    """

    def allowed() -> Facts:
        low, high = (form.read(probe, path) if path else 0.0 for path in bounds)
        if low is None or high is None or high <= low:
            return Facts(ControlState.READ_ONLY, note(DiagnosticCode.NO_RANGE))
        return Facts(ControlState.SETTABLE, minimum=low, maximum=high)

    return on_gpu(probe, card, own, files, form, allowed)


def absent_on_gpu(probe: Probe, card: Card, own: str, why: Diagnostic) -> FileControl:
    """Return a control that this GPU could have, asleep or not; ``why`` says what would bring it."""
    facts = Facts(ControlState.ABSENT, why)
    return FileControl(probe, name_on(card, own), (), Word(), lambda: facts)
