"""What a machine's runs have shown of a graphics chip's clocks and voltages, and changes worked out from it."""

from collections.abc import Mapping

from upright_bolt.analysis.clock_voltage import (
    Asked,
    Curve,
    curve_of,
    flat_and_quiet,
    mover_of,
    same_clock,
    same_speed,
    tells,
)
from upright_bolt.errors import BoltError
from upright_bolt.model.control import Control
from upright_bolt.model.run import GRAPHICS
from upright_bolt.presentation.observable import Observable
from upright_bolt.presentation.ports import BackgroundWork
from upright_bolt.store.runs import RunStore
from upright_bolt.text.clock_voltage import asked_words, no_pairs

LATEST = 60
"""So many runs are looked at, the newest ones."""


def read_curve(store: RunStore, machine: str, part: str) -> Curve:
    """Return what the latest runs of a machine have shown of a chip; of another one that stood in its place, nothing.

    Raises BoltError if they cannot be read.

    Args:
        store: has the runs.
        machine: its word.
        part: the chip.
    """
    runs = [run for run in store.all() if tells(run, machine, part)]
    newest = max(runs, key=lambda run: run.head.started_at).head.identity.get(GRAPHICS) if runs else None
    runs = [run for run in runs if run.head.identity.get(GRAPHICS) == newest][-LATEST:]
    return curve_of(part, [(run, *store.telemetry(run.id)) for run in runs])


class ChipCurve:
    """The curve of one chip, for the window.

    Args:
        background: does the reading.
        store: has the runs.
        machine: its word.

    Attributes:
        part: the chip that is shown; empty until one is.
        curve: what it has shown; None until that is read.
        asked: the change worked out last; None if there is none.
        fault: why nothing could be worked out; empty if it could.

    Topics:
        changed: any of these has changed.
    """

    def __init__(self, background: BackgroundWork, store: RunStore, machine: str) -> None:
        self._background, self._store, self._machine = background, store, machine
        self.part = ""
        self.curve: Curve | None = None
        self.asked: Asked | None = None
        self.fault = ""
        self.changed: Observable[None] = Observable()

    def show(self, part: str) -> None:
        """Read what a chip has shown."""
        if part != self.part:
            self.part, self.curve, self.asked, self.fault = part, None, None, ""

        def take(curve: Curve) -> None:
            if self.part == part:
                self.curve = curve
                self.fault = "" if curve.stock else no_pairs(part)
                self.changed(None)

        self._background.run(lambda: read_curve(self._store, self._machine, part), take, self.refuse)

    def refuse(self, sentence: str) -> None:
        """Say why nothing can be worked out."""
        self.asked, self.fault = None, sentence
        self.changed(None)

    def ask(self, controls: Mapping[str, Control], clock_mhz: float, as_mhz: float) -> None:
        """Work out a clock at the voltage of a lower one."""
        if self.curve is None:
            return
        try:
            self.asked, self.fault = same_clock(self.curve, controls, self.part, clock_mhz, as_mhz), ""
        except BoltError as fault:
            self.asked, self.fault = None, str(fault)
        self.changed(None)

    def draft_quiet(self, controls: Mapping[str, Control]) -> None:
        """Work out the flat and quiet draft."""
        self._take_draft(None if self.curve is None else flat_and_quiet(self.curve, controls, self.part))

    def draft_speed(self, controls: Mapping[str, Control]) -> None:
        """Work out the draft for the same speed at fewer watts."""
        try:
            mover_of(controls, self.part)
        except BoltError as fault:
            self.refuse(str(fault))
            return
        self._take_draft(None if self.curve is None else same_speed(self.curve, controls, self.part))

    def _take_draft(self, asked: Asked | None) -> None:
        self.asked, self.fault = asked, "" if asked is not None else no_pairs(self.part)
        self.changed(None)

    @property
    def words(self) -> str:
        """What the change that was worked out sets and is expected to bring, as a sentence; empty without one."""
        return asked_words(self.asked) if self.asked is not None else ""
