"""Whether a machine is ready for a run: its temperature at rest, the power budget of its burst whole.

``IdleDetector`` sees every sample of a session and remembers the last minutes. ``StartCondition`` keeps one run
waiting.
"""

from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass
from math import isnan, nan
from statistics import fmean

from upright_bolt.analysis.limits.judge import USUAL_WINDOW_S, averaged
from upright_bolt.model.sample import Sample
from upright_bolt.model.sensor import Sensor, core_temperatures, index_of
from upright_bolt.model.start import Budget, Waiting

MINUTE_S = 60.0
RECENT_S = 10.0
SWING_C = 0.4
"""Means over two minutes that differ by less: what is left of the way to rest is a few degrees at most."""
WHOLE_PART = 0.06
"""A budget counts as whole once the average is within this part of the sustained limit above the watts at rest."""
LONGEST_WAIT_S = 600.0
"""A machine that has not come to rest in so long will not: something is at work on it, and the run says so."""
PAUSE_WINDOWS = 3.0
"""Windows of a pause between the runs of a series; after so many 5 % of a load are left in the average."""
NEAR_C = 1.5
"""How much warmer than the first one the later runs of a series may begin."""
IDLE_PERCENT = 25.0
"""A machine whose processors are busier than this is at work, however even its temperature is."""


class IdleDetector:
    """Follows temperature and watts of one machine.

    Args:
        sensors: what the numbers of a sample mean.
    """

    def __init__(self, sensors: Sequence[Sensor]) -> None:
        index = index_of(sensors)
        cores = core_temperatures(sensors)
        package = index.get("temperature.package")
        self._temps = cores or ([package] if package is not None else [])
        self._power, self._limit, self._burst, self._window = (
            index.get(name) for name in ("power.package", "limit.sustained", "limit.burst", "limit.window")
        )
        self._package = package if package is not None else (cores[0] if cores else None)
        self._busy = index.get("busy.mean")
        self._seen: deque[tuple[float, float, float, float]] = deque()
        self._recent: deque[tuple[float, float]] = deque()
        self._last_s: float | None = None
        self._low_w = self._high_w = 0.0
        self.limit_w: float | None = None
        self.window_s = USUAL_WINDOW_S

    def take(self, sample: Sample, *, working: bool) -> None:
        """Take the next sample; what was seen before work of ours tells nothing of rest."""
        now, values = sample.time_s, sample.values
        # What was seen before or during work of ours tells nothing of rest.
        if working:
            self._seen.clear()
        temps = [value for i in self._temps if (value := values[i]) is not None]
        watts = values[self._power] if self._power is not None else None
        busy = values[self._busy] if self._busy is not None else None
        mean = fmean(temps) if temps else nan
        self._seen.append((now, mean, nan if watts is None else watts, nan if busy is None else busy))
        package = values[self._package] if self._package is not None else None
        if package is not None:
            self._recent.append((now, package))
        while self._recent and self._recent[0][0] < now - RECENT_S:
            self._recent.popleft()
        while self._seen[0][0] < now - 2 * MINUTE_S - 1e-6:
            self._seen.popleft()
        limit = values[self._limit] if self._limit is not None else None
        window = values[self._window] if self._window is not None else None
        self.window_s = window or USUAL_WINDOW_S
        if limit is None or watts is None:
            return
        if self.limit_w is None or self._last_s is None:
            burst = values[self._burst] if self._burst is not None else None
            # A program that has just started knows nothing of the average's past: it lies between nothing and the most
            # that the limits let it be, and both bounds close in as time passes.
            self._low_w, self._high_w = 0.0, max(limit, watts, burst or 0.0)
        else:
            self._low_w, self._high_w = (
                averaged(before, watts, now - self._last_s, self.window_s) for before in (self._low_w, self._high_w)
            )
        self.limit_w, self._last_s = limit, now

    @property
    def budget(self) -> Budget | None:
        """Between what the limiter's average lies; None where watts or limits are not measured."""
        return None if self.limit_w is None else Budget(self._low_w, self._high_w)

    def resting_w(self) -> float:
        """Return the mean watts of the last half minute; 0 if not measured."""
        return self._lately(2) or 0.0

    def busy_percent(self) -> float:
        """Return the mean busy share of the last half minute in %; 0 if not measured."""
        return self._lately(3) or 0.0

    def _lately(self, column: int) -> float | None:
        since = self._seen[-1][0] - MINUTE_S / 2 if self._seen else 0.0
        known = [row[column] for row in self._seen if row[0] > since and not isnan(row[column])]
        return fmean(known) if known else None

    def temp_c(self) -> float | None:
        """Return the package's mean temperature over the last ten seconds; None if not measured."""
        return fmean(temp for _, temp in self._recent) if self._recent else None

    def change_c(self) -> float:
        """Return the last minute's mean temperature less that of the minute before; NaN if not known yet.

        That of all cores, where they have sensors: their mean tells parts of a degree.
        """
        if not self._seen or self._seen[-1][0] - self._seen[0][0] < 2 * MINUTE_S - 1.0:
            return nan
        middle = self._seen[-1][0] - MINUTE_S
        known = [(at > middle, temp) for at, temp, _, _ in self._seen if not isnan(temp)]
        before, last = ([temp for late, temp in known if late is wanted] for wanted in (False, True))
        return fmean(last) - fmean(before) if before and last else nan


@dataclass(frozen=True, slots=True)
class Goal:
    """What has to be so before a run begins.

    Attributes:
        settles: the temperature has come to rest.
        whole: the power budget is whole.
        below_c: it is at most so warm.
        pause_s: so many seconds have passed.
        at_most_s: after so many it begins all the same.
    """

    settles: bool = False
    whole: bool = False
    below_c: float | None = None
    pause_s: float = 0.0
    at_most_s: float = LONGEST_WAIT_S


class StartCondition:
    """Keeps a run waiting until its goal is reached, its time is over, or a person has had enough.

    Attributes:
        waiting: what it still waits for; None once it is open.
        gave_up: it opened since its time was over.
        skipped: it opened since a person did not want to wait.
    """

    def __init__(self, goal: Goal, watch: IdleDetector) -> None:
        self.goal = goal
        self._watch = watch
        self._since_s: float | None = None
        self.waiting: Waiting | None = None
        self.gave_up = self.skipped = False
        self._open = False

    def skip(self) -> None:
        """Open at the next look."""
        self.skipped = self.waiting is not None

    def look(self, now_s: float) -> bool:
        """Tell whether the run may begin."""
        if self._open:
            return True
        self._since_s = now_s if self._since_s is None else self._since_s
        waited_s = now_s - self._since_s
        self.waiting = self._waiting(waited_s)
        if self.waiting is not None and waited_s >= max(self.goal.at_most_s, self.goal.pause_s) - 1e-6:
            self.gave_up, self.waiting = True, None
        self._open = self.waiting is None or self.skipped
        if self._open:
            self.waiting = None
        return self._open

    def _waiting(self, waited_s: float) -> Waiting | None:
        goal, watch = self.goal, self._watch
        pause = goal.pause_s - waited_s if goal.pause_s - waited_s > 1e-6 else None
        temp = watch.temp_c()
        change = watch.change_c() if goal.settles and temp is not None else None
        if change is not None and abs(change) < SWING_C:
            change = None
        below = goal.below_c if goal.below_c is not None and temp is not None and temp > goal.below_c else None
        average = goal_w = None
        if goal.whole and watch.budget is not None and watch.limit_w is not None:
            resting, high = watch.resting_w(), watch.budget.high_w
            # The average decays towards the watts at rest and never reaches them: a small part of the way counts as
            # whole.
            wanted = resting + WHOLE_PART * max(0.0, watch.limit_w - resting)
            if high > wanted:
                average, goal_w = high, wanted
        measured = temp is not None or watch.budget is not None  # without either, nothing tells of rest
        busy = watch.busy_percent() if measured and (goal.settles or goal.whole) else 0.0
        if pause is change is below is average is None and busy <= IDLE_PERCENT:
            return None
        left = max(goal.at_most_s, goal.pause_s) - waited_s
        return Waiting(left, temp, change, below, average, goal_w, pause, busy if busy > IDLE_PERCENT else None)
