"""What has failed on one machine: how it becomes known, and what follows from it at once."""

from collections.abc import Collection, Iterable, Mapping
from contextlib import suppress
from typing import Protocol

from upright_bolt.errors import BadInput, BoltError, Refused
from upright_bolt.model.catalogue import part_of, unsafe_direction_of
from upright_bolt.model.control import Value
from upright_bolt.model.failure import Failure, FailureKind, at_risk, reaches
from upright_bolt.model.profile import counts_from_0
from upright_bolt.model.trial import Trial
from upright_bolt.settings.backend import Backend
from upright_bolt.settings.failure_log import AtRisk, FailureLog
from upright_bolt.text.failures import known_failure


class _Applied(Protocol):
    """What the settings engine tells of what is applied."""

    @property
    def kept(self) -> dict[str, Value]: ...

    @property
    def expected(self) -> dict[str, Value]: ...

    def reset_to_stock(self, names: Collection[str] = (), by: str = "") -> Trial: ...


class Failures:
    """Takes note of failures, and resets what has failed.

    Args:
        log: where they are on record.
        backend: the machine.
        engine: knows what was set there, and resets it.

    Attributes:
        log: as given.
        found: failures that this process found as it began: the machine went down with them applied.
    """

    def __init__(self, log: FailureLog, backend: Backend, engine: _Applied) -> None:
        self.log = log
        self.found: tuple[Failure, ...] = ()
        self._backend = backend
        self._engine = engine
        self._on_gpu = False

    def at_risk_now(self) -> dict[str, float]:
        """Return what is applied now and can fail: offsets as they are read, other values as they were set.

        GPUs have no part in work of the processor: named beside its offsets, they would have to be applied as well
        before a failure is recognised again.
        """
        offsets = self._backend.values(n for n in self._backend.drivers if unsafe_direction_of(n) and counts_from_0(n))
        values = at_risk({**self._engine.expected, **offsets})
        own = {name: value for name, value in values.items() if not part_of(name)}
        return values if self._on_gpu or not own else own

    def recover(self) -> None:
        """Record what went down with an earlier boot as failures, before anything else forgets it.

        A full disk keeps nothing of this from counting in this process. A run left open in the present boot is closed:
        if its program is still there, it announces its run again.
        """
        log = self.log
        # Before anything is applied: what went down must not come back by itself.
        log.repair()
        found = log.went_down
        self._failed(found)
        self.found = tuple(Failure(one.values, FailureKind.FROZE, by=one.by) for one in found)
        self.end_run()
        with suppress(BoltError):
            if log.now.trial in found:
                log.begin_trial({}, "")
            log.note_start()

    def machine_went_down(self) -> None:
        """Record that a simulated machine has frozen under this process, with all that was at risk."""
        self._failed(self.log.at_risk)

    def _failed(self, found: Iterable[AtRisk]) -> None:
        for one in found:
            with suppress(BoltError):
                self.log.add(one.values, FailureKind.FROZE, one.by)

    def begin_run(self, by: str, *, on_gpu: bool) -> None:
        """Record that a run begins. Raises Refused if that cannot be written, so that it must not begin.

        Args:
            by: who runs it.
            on_gpu: GPUs have a part in its work.
        """
        self._on_gpu = on_gpu
        self.log.begin_run(self.at_risk_now(), by)

    def end_run(self) -> None:
        """Record that the run is over. On a full disk the next start does it."""
        self._on_gpu = False
        with suppress(BoltError):
            self.log.end_run()

    def report(self, by: str) -> tuple[dict[str, float], dict[str, float]]:
        """Record that what is applied now has failed; kept values at or beyond it go to stock at once.

        Args:
            by: who reports it, for a person to read.

        Returns:
            What failed, if that was not known yet, and what was reset.

        Raises:
            BadInput: nothing is applied that could have failed.
            Refused: some files did not take their stock value.
            BoltError: it cannot be written.
        """
        values = self.at_risk_now()
        if not values:
            raise BadInput("No voltage offset and no memory clock is applied, so there is no failure to record.")
        try:
            new = self.log.add(values, FailureKind.WRONG, by)
        # Whether or not it could be written down, what has failed does not stay applied.
        finally:
            reset = self.reset_failed()
        return values if new else {}, reset

    def refuse_failed(self, settings: Mapping[str, Value]) -> None:
        """Raise Refused if settings have failed, together with what is kept already."""
        values = {**self._engine.kept, **settings}
        failed = next((one for one in self.log.failures if reaches(values, one) and one.values.keys() & settings), None)
        if failed is not None:
            raise Refused(f"Nothing was kept: {known_failure(failed, values)} Revert the trial.")

    def reset_failed(self) -> dict[str, float]:
        """Reset kept values that are at or beyond a failure to stock; return them. Raises BoltError."""
        kept = self._engine.kept
        values = {name: float(kept[name]) for name in self.log.among(kept)}
        if values:
            self._engine.reset_to_stock(tuple(values), "this program, since they have failed")
        return values
