"""Whether file texts from a record may be written to this machine.

Only to files that a control of it declares, and only what stands for a value within that control's range, or for the
stock value of one that cannot crash the machine. A record is root's own file, and checksummed; this is what still
holds if neither helps.
"""

from collections.abc import Mapping
from dataclasses import dataclass

from upright_bolt.errors import BadInput
from upright_bolt.model.control import ControlState, Value
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.control_reader import ControlReader

LONGEST_TEXT = 1024


@dataclass(frozen=True, slots=True)
class CheckedTexts:
    """Texts that may be written, and the files whose texts may not."""

    sound: dict[str, str]
    refused: tuple[str, ...]


def check_texts(texts: Mapping[str, str], backend: Backend, controls: ControlReader) -> CheckedTexts:
    """Tell which of ``texts``, by kernel file, may be written."""
    declared = backend.declared
    known = {path: text for path, text in texts.items() if path in declared and len(text) <= LONGEST_TEXT}
    refused = {path for path in texts if path not in known}
    # Texts are judged by what the drivers make of them together, as some mean something only beside others.
    would_be = backend.drivers_over(known)
    for name, driver in backend.drivers.items():
        of_driver = [path for path in driver.files if path in known and not backend.shows(path, known[path])]
        if not of_driver or driver.facts().state is ControlState.ABSENT:
            continue
        if not _allowed(name, would_be[name].read() if name in would_be else None, controls):
            refused.update(of_driver)
    return CheckedTexts({path: text for path, text in known.items() if path not in refused}, tuple(sorted(refused)))


def _allowed(name: str, value: Value | None, controls: ControlReader) -> bool:
    if value is None:
        return False
    control = controls.read(name)
    # Stock may lie outside what is offered: firmware allows itself more. Voltages are held to the range all the same.
    if value == control.stock and not control.declaration.risky:
        return True
    try:
        control.check(value)
    except BadInput:
        return False
    return True
