"""The pace of runs on the machine's clock: how much work each slice did, so that any machine has a chart."""

from collections.abc import Sequence

import numpy as np

from upright_bolt.model.quantity import Quantity
from upright_bolt.model.run import Slice
from upright_bolt.model.work import score_quantity
from upright_bolt.presentation.history import Floats
from upright_bolt.session.run_progress import RunProgress

GAP = float("nan")


class Pace:
    """What the runs of this window have done so far, slice by slice.

    Attributes:
        quantity: what the newest run's slices count; None before the first. Slices of anything else are let go.
    """

    def __init__(self) -> None:
        self.quantity: Quantity | None = None
        self._run_id: int | None = None
        self._start_s = 0.0
        self._taken = 0
        self._points: list[tuple[float, float]] = []

    def take(self, progress: RunProgress, now_s: float) -> None:
        """Take what is new of a run in progress; ``now_s`` is the newest sample's time."""
        if progress.run_id != self._run_id:
            self._begin(progress)
        self._start_s = now_s - progress.elapsed_s
        self._add(progress.slices)

    def end(self, run_id: int, slices: Sequence[Slice]) -> None:
        """Take the last slices of a run that has ended."""
        if run_id == self._run_id:
            self._add(slices)

    def points(self) -> tuple[Floats, Floats]:
        """Return times in s on the machine's clock and scores, NaN between two runs; each of shape ``(n,)``."""
        table = np.array(self._points, dtype=float).reshape(-1, 2)
        return table[:, 0], table[:, 1]

    def _begin(self, progress: RunProgress) -> None:
        quantity = score_quantity(progress.head.workload, progress.head.options)
        if self.quantity is None or quantity.unit != self.quantity.unit:
            self._points = []
        self.quantity = quantity
        self._run_id, self._taken = progress.run_id, 0

    def _add(self, slices: Sequence[Slice]) -> None:
        for part in slices[self._taken :]:
            if self._taken == 0 and self._points:
                self._points.append((self._start_s, GAP))
            self._taken += 1
            self._points.append((self._start_s + (part.from_s + part.to_s) / 2.0, part.score))
