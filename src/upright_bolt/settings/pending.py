"""What is still to be written to processors that are offline.

The kernel keeps the settings of such a processor and lets nobody read or write them; they count again once it is back.
"""

from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import replace

from upright_bolt.errors import BoltError, FileFault
from upright_bolt.kernel.paths import processor_of
from upright_bolt.model.control import Value
from upright_bolt.model.trial import Trial
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.control_reader import ControlReader
from upright_bolt.settings.journal import Entry, EntryKind, Journal
from upright_bolt.settings.journal_replay import BootMemory, OwnTexts, Past
from upright_bolt.settings.restore_validation import check_texts


class Pending:
    """Texts that could not be reverted, and processors that were offline when something was set.

    Args:
        backend: the machine; its ``pending_restores`` are the texts.
        controls: its controls, with their ranges.
        journal: where both are on record.
        memory: what is remembered of the present boot.
        past: what the journal tells.
        stamp: returns the date and time for the record.
    """

    def __init__(
        self,
        backend: Backend,
        controls: ControlReader,
        journal: Journal,
        memory: BootMemory,
        past: Past,
        stamp: Callable[[], str],
    ) -> None:
        self._backend = backend
        self._controls = controls
        self._journal = journal
        self._memory = memory
        self._stamp = stamp
        backend.pending_restores = dict(past.owed)
        self._missed = past.missed
        self._on_record = (dict(past.owed), past.missed)

    def concerns(self, expected: Mapping[str, Value]) -> bool:
        """Tell whether something is to be written once a processor is back."""
        drivers = self._backend.drivers
        return bool(self._backend.pending_restores) or (
            bool(self._missed) and any(_of_processors(drivers[n].files) for n in expected if n in drivers)
        )

    def about_to_set(self, names: Mapping[str, Value]) -> None:
        """Note which processors will miss settings since they are offline. Raises BoltError."""
        if any(_of_processors(self._backend.drivers[name].files) for name in names):
            self._missed |= self._backend.offline()
            self._record()

    def note(self) -> None:
        """Write down what has changed; a full disk keeps this process from nothing."""
        with suppress(BoltError):
            self._record()

    def _record(self) -> None:
        now = (dict(self._backend.pending_restores), self._missed)
        if now != self._on_record:
            entry = Entry(
                EntryKind.OWED, "", self._stamp(), boot_id=self._memory.boot_id, owed=now[0],
                missed=tuple(sorted(now[1])),
            )  # fmt: skip
            self._journal.append(entry, closing=True)
            self._on_record = now

    def write(self, expected: Mapping[str, Value], trial: Trial | None) -> Trial | None:
        """Write what is pending for processors that are back.

        Args:
            expected: what should be applied.
            trial: the running one.

        Returns:
            The trial, which also knows what those processors held before.
        """
        backend = self._backend
        owed = {path: text for path, text in backend.pending_restores.items() if not backend.is_gone(path)}
        back = self._missed - backend.offline() if self._missed else frozenset()
        if not owed and not back:
            return trial
        if back or not owed.keys() <= backend.declared:
            backend.survey_anew()  # a processor came after the last one, and its files are not known yet
        # They were written down by an earlier process, perhaps; whatever comes from a record is checked before it is
        # written.
        sound = check_texts(owed, backend, self._controls).sound
        backend.pending_restores = {path: text for path, text in backend.pending_restores.items() if path not in owed}
        left = backend.restore(sound)
        backend.pending_restores |= {path: sound[path] for path in left}
        with suppress(BoltError):  # it is tried again when processors change next
            trial = self._apply_missed(back, expected, trial)
            self._missed -= back
        self.note()
        return trial

    def _apply_missed(self, back: frozenset[int], expected: Mapping[str, Value], trial: Trial | None) -> Trial | None:
        """Apply what processors have missed, once what they hold now is on record. Raises BoltError."""
        drivers, backend = self._backend.drivers, self._backend
        plans = {name: drivers[name].plan(value) for name, value in expected.items() if name in drivers}
        wanted = {
            write.path: write.text for writes in plans.values() for write in writes
            if processor_of(write.path) in back and not backend.holds(write.path, write.text)
        }  # fmt: skip
        sound = check_texts(wanted, backend, self._controls).sound
        held = {path: text for path in sound if (text := self._text(path)) is not None}
        if not held:
            return trial
        # What this processor holds now is its stock, and nobody has seen it before: it goes on record first, as always.
        self._memory.remember_stock({}, held, OwnTexts("", {}), self._stamp())
        tried = {write.path for name, writes in plans.items() if trial and name in trial.settings for write in writes}
        before = {path: text for path, text in held.items() if path in tried}
        if trial is not None and before:
            trial = replace(trial, before={**before, **trial.before})
            at = self._stamp()
            self._journal.append(
                Entry(EntryKind.BEGIN, trial.id, at, data=trial), Entry(EntryKind.APPLIED, trial.id, at)
            )
        backend.restore({path: sound[path] for path in held})
        return trial

    def _text(self, path: str) -> str | None:
        with suppress(FileFault):
            return self._backend.text(path)
        return None


def _of_processors(files: tuple[str, ...]) -> bool:
    return any(processor_of(path) is not None for path in files)
