"""Holding a machine near a temperature by moving its limits, to find out what its cooling carries."""

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from upright_bolt.errors import BadInput, BoltError
from upright_bolt.model.control import Control
from upright_bolt.model.event import Event
from upright_bolt.model.sample import Sample, value_of
from upright_bolt.model.sensor import FAN, core_temperatures
from upright_bolt.model.settings import Settings
from upright_bolt.model.work import HOLD_REST_S
from upright_bolt.session.active_run import ActiveRun
from upright_bolt.session.activity import Activity
from upright_bolt.session.run_progress import RunStage
from upright_bolt.session.session import Session
from upright_bolt.text.notes import about as about_control
from upright_bolt.workload.hold_load import HoldLoad

if TYPE_CHECKING:
    from upright_bolt.analysis.cooling.limit_planner import Readings
    from upright_bolt.analysis.cooling.model import Prior

LEAST_ABOVE_REST_C = 15.0
"""A temperature nearer to that at rest tells nothing."""
BELOW_CEILING_C = 2.0
RESULT_BEFORE_S = 1.5
"""So long before its end the run's result is worked out."""
NOT_LIMITED = 0.96
"""Part of the limit below which the watts are not held by it: the processor draws no more."""
Try = Callable[[Settings], None]


def limits_of(session: Session, below_c: float) -> dict[str, Control]:
    """Return the controls whose limits are moved: sustained, and burst where there is one.

    Raises:
        BadInput: a trial is running, the sustained limit cannot be set, watts or temperature are not measured, or the
            temperature asked for lies at the ceiling or beyond.
    """
    if session.status().trial is not None:
        raise BadInput("A trial is running already; “keep” or “put-back” it before limits are moved.")
    missing = [name for name in ("temperature.package", "power.package") if name not in session.index]
    if missing:
        raise BadInput("cooling: this machine measures no package temperature or no watts, so nothing can be held.")
    controls = session.controls()
    sustained = controls.get("sustained")
    if sustained is None or not sustained.settable:
        said = ["cooling: the sustained limit cannot be set here, so no temperature can be held."]
        if sustained is not None and sustained.note is not None:
            said.append(about_control("sustained", sustained.note))
        raise BadInput(" ".join([*said, "A long ordinary run gives a cruder answer: run steady --below 85C."]))
    ceiling_c = session.about.ceiling_c
    if ceiling_c is not None and below_c > ceiling_c - BELOW_CEILING_C:
        raise BadInput(
            f"below: at {ceiling_c:.0f} °C this processor slows down by itself; ask for at most "
            f"{ceiling_c - BELOW_CEILING_C:.0f} °C."
        )
    return {name: c for name in ("sustained", "burst") if (c := controls.get(name)) is not None and c.settable}


class TemperatureController(Activity):
    """Moves the limits of the run above it on the stack, and puts them back when that has ended.

    Args:
        session: whose machine it is.
        run: the run.
        load: its load.
        limits: the controls it moves.
        try_: puts settings in force as a trial. Raises BoltError.
        prior: what earlier runs of the machine tell of its cooling; None for nothing.
    """

    def __init__(
        self,
        session: Session,
        run: ActiveRun,
        load: HoldLoad,
        limits: dict[str, Control],
        try_: Try,
        prior: "Prior | None",
    ) -> None:
        from upright_bolt.analysis.cooling.limit_planner import HoldPlan  # noqa: PLC0415 - brings numpy along

        options = run.head.options
        sustained = limits["sustained"]
        stock = sustained.stock if isinstance(sustained.stock, float) else None
        self._session = session
        self._step = sustained.step or 1.0
        self._run = run
        self._load = load
        self._names = tuple(limits)
        self._try = try_
        self._index = session.index
        self._cores = core_temperatures(session.about.sensors)
        self._rows: list[list[float | None]] = []
        self._plan: HoldPlan = HoldPlan(
            options.below_c, sustained.minimum or 1.0, sustained.maximum or 500.0, stock_w=stock, sure=options.sure,
            prior=prior,
        )  # fmt: skip
        self._start_s: float | None = None
        self._resting = False

    @property
    def needs(self) -> str:
        """See ``Activity``."""
        return self._run.needs

    def on_run_end(self, _run: ActiveRun) -> None:
        """Put the limits back."""
        self.ended = True
        if self._session.status().trial is not None:
            self._session.revert("the run ended")

    def on_sample(self, sample: Sample, _events: Sequence[Event]) -> None:
        """Move the limits if it is time to."""
        run = self._run
        if run.ended:
            return
        read = [value_of(sample, self._index, name) for name in ("power.package", "temperature.package", FAN)]
        # From before the load on: the plan needs to know how the machine stood at rest.
        self._rows.append([sample.time_s, *read, *(sample.values[i] for i in self._cores)])
        try:
            if run.stage is RunStage.WORKING:
                self._go_on(sample)
        except BoltError as fault:
            run.fail(str(fault))

    def _go_on(self, sample: Sample) -> None:
        temp_c = value_of(sample, self._index, "temperature.package")
        if self._start_s is None:
            self._start_s = self._run.started_s
            self._first()
        elapsed = sample.time_s - (self._start_s or sample.time_s)
        if elapsed >= self._plan.hold_s and not self._resting:
            self._resting = True
            # Cooling down tells the time constants, which the hold alone does not.
            self._load.rest()
        elif temp_c is not None and not self._resting:
            limit = self._plan.next(elapsed, temp_c, self._readings())
            if limit is not None:
                self._set(limit)
        if elapsed >= self._plan.hold_s + HOLD_REST_S - RESULT_BEFORE_S and not self._load.found:
            self._load.found = self._result()

    def _first(self) -> None:
        readings = self._readings()
        rest = readings.time_s < 0.0
        if not rest.any():
            raise BoltError("The machine was not seen at rest before the load.")
        rest_c = float(readings.temp_c[rest][-1])
        if self._plan.below_c < rest_c + LEAST_ABOVE_REST_C:
            raise BoltError(
                f"below: the machine rests at {rest_c:.0f} °C; ask for at least {rest_c + LEAST_ABOVE_REST_C:.0f} °C."
            )
        blows = readings.rpm is not None
        self._set(self._plan.first(float(readings.power_w[rest].mean()), rest_c, fan=blows))

    def _set(self, watts: float) -> None:
        # Both limits alike, so that no burst moves the temperature.
        rounded = round(watts / self._step) * self._step
        self._try(dict.fromkeys(self._names, rounded))

    def _readings(self) -> "Readings":
        import numpy as np  # noqa: PLC0415 - loaded by the plan already

        from upright_bolt.analysis.cooling.limit_planner import Readings  # noqa: PLC0415 - same

        table = np.array([[np.nan if v is None else v for v in row] for row in self._rows], dtype=float).T
        rpm = None if FAN not in self._index else table[3]
        cores = table[4:] if len(self._cores) else None
        return Readings(table[0] - (self._start_s or table[0][-1]), table[1], table[2], rpm, cores)

    def _result(self) -> dict[str, float]:
        """Return what the cooling carries with its interval, or the watts that the processor draws at most."""
        from upright_bolt.analysis.cooling import fit  # noqa: PLC0415 - brings numpy along

        found = self._readings()
        # The first half of the hold still heats the case.
        late = (found.time_s > self._plan.hold_s / 2.0) & (found.time_s <= self._plan.hold_s)
        drawn, limit = float(found.power_w[late].mean()), self._plan.limit_w or 0.0
        hottest = float(found.temp_c[late].max())
        if drawn < NOT_LIMITED * limit and hottest < self._plan.below_c - LEAST_ABOVE_REST_C / 5.0:
            return {"draws_w": drawn}
        cooling = fit.fit(
            found.time_s, found.power_w, found.temp_c, found.rpm, cores_c=found.cores_c, prior=self._plan.prior,
            size_w=self._plan.stock_w,
        )  # fmt: skip
        carried = cooling.carries(self._plan.below_c) if cooling is not None else None
        if carried is None:
            return {}
        return {"carries_w": carried.value, "carries_low_w": carried.low, "carries_high_w": carried.high}
