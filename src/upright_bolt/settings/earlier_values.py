"""What a trial is reverted to: what was chosen before it, less what firmware or a failure has taken over since."""

from collections.abc import Mapping
from dataclasses import replace

from upright_bolt.model.catalogue import FIRMWARE_LIMITS
from upright_bolt.model.control import Control, Value
from upright_bolt.model.note import CAPPED
from upright_bolt.model.trial import Trial
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.control_reader import ControlReader
from upright_bolt.settings.failure_log import FailureLog
from upright_bolt.settings.journal_replay import BootMemory, OwnTexts
from upright_bolt.settings.restore_validation import check_texts


class EarlierValues:
    """Earlier values of one machine's controls, and which of them may still be written.

    Args:
        backend: the machine.
        controls: its controls, with their ranges.
        memory: what is remembered of the present boot.
        failures: what has failed on this processor.
    """

    def __init__(self, backend: Backend, controls: ControlReader, memory: BootMemory, failures: FailureLog) -> None:
        self._backend = backend
        self._controls = controls
        self._memory = memory
        self._failures = failures

    def chosen(self, name: str, control: Control) -> Value | None:
        """Return what was chosen of a control before a trial; under a cap the machine shows another value."""
        # Under a cap the file shows the cap. To write that would leave the machine slower for good.
        if control.note is None or control.note.code not in CAPPED:
            return control.current
        return self._memory.kept.get(name, self._backend.chosen(name))

    def of_firmware(
        self, held: Mapping[str, Value], before: Mapping[str, str], source: str, ours: Mapping[str, Value]
    ) -> OwnTexts:
        """Return texts of limits about to be set that are the firmware's own.

        Args:
            held: values of what is about to be set.
            before: texts of all files that are about to be written.
            source: the power source.
            ours: what this program has applied.
        """
        own: dict[str, str] = {}
        for name in (name for name in held if name in FIRMWARE_LIMITS):
            driver = self._backend.drivers[name]
            if name not in ours or not driver.same(ours[name], held[name]):
                own |= {path: before[path] for path in driver.files if path in before}
        return OwnTexts(source, own)

    def without_firmware_changes(self, trial: Trial) -> Trial:
        """Return the trial without what the firmware has set since it began, since the power source is another."""
        source = self._backend.power_source()
        # Firmware sets its own limits when the charger comes or goes. To restore those of the other source would be to
        # undo its work, and on battery to exceed what it has just allowed.
        if not trial.power_source or not source or source == trial.power_source:
            return trial
        drivers = self._backend.drivers
        values = self._backend.values(name for name in trial.settings if name in FIRMWARE_LIMITS)
        anew = {n: v for n, v in values.items() if not drivers[n].same(trial.settings[n], v)}
        files = {path for name in anew for path in drivers[name].files}
        return replace(
            trial,
            before={path: text for path, text in trial.before.items() if path not in files},
            before_values={name: value for name, value in trial.before_values.items() if name not in anew},
            left_to_firmware=anew,
        )

    def without_failed(self, trial: Trial) -> tuple[list[str], Trial]:
        """Return which earlier values have failed since, and the trial with stock in their place."""
        earlier = {**self._memory.kept, **trial.before_values}
        names = [name for name in self._failures.among(earlier) if name in trial.before_values]
        files = {path for name in names if name in self._backend.drivers for path in self._backend.drivers[name].files}
        stock = {path: text for path, text in self._memory.stock_texts.items() if path in files}
        return (names, replace(trial, before={**trial.before, **stock})) if stock else ([], trial)

    def writable(self, texts: Mapping[str, str]) -> tuple[dict[str, str], tuple[str, ...]]:
        """Return what may be written of texts from a record, stock in place of what may not, and what is left then.

        Files that are not there now, since their processor is offline, no control of this moment declares: they are
        pending, and checked once they are back (``Trials.flush_pending``).
        """
        gone = {path: text for path, text in texts.items() if self._backend.is_gone(path)}
        checked = check_texts({p: text for p, text in texts.items() if p not in gone}, self._backend, self._controls)
        stock = {path: self._memory.stock_texts[path] for path in checked.refused if path in self._memory.stock_texts}
        instead = check_texts(stock, self._backend, self._controls)
        left = tuple(path for path in checked.refused if path not in instead.sound)
        return {**gone, **checked.sound, **instead.sound}, left
