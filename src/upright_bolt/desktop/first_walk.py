"""A newcomer's first ten minutes, played through the real window: understood, measured, changed, compared, put back."""

from upright_bolt.desktop.walkthrough import PACE, SETTLE_S, SLOWER, Walkthrough
from upright_bolt.presentation.first_steps import STEPS


class FirstWalk(Walkthrough):
    """Plays on a machine on which nothing has been run yet; the bar of first steps leads."""

    def _play(self) -> tuple[int, int]:
        window, steps = self.window, self.window.steps
        self._tell("The window opens; a bar says what comes first.")
        self._pass_time(SETTLE_S)
        self._until(steps.isVisible, "the bar of first steps")
        self.picture("first-1-start")
        self._tell(f"{STEPS[0][0]}.")
        self._click(steps.go)
        self._pause(1.0)
        self.picture("first-2-machine")
        self._tell(f"{STEPS[1][0]}.")
        self._click(steps.go)
        self._until(lambda: self.presenter.progress is not None, "the run")
        self.picture("first-3-waiting")
        baseline = self._finish()
        self._tell(f"{STEPS[2][0]}.")
        self._click(steps.go)
        for name in ("sustained", "burst"):
            self.type_value(name, "25 W")
        self.picture("first-4-draft")
        self._click(window.workbench.settings.try_button)
        self._until(lambda: self.presenter.status.trial is not None, "the trial to run")
        self._tell(f"{STEPS[3][0]}.")
        self.presenter.runs.last = None
        self._click(steps.go)
        changed = self._finish()
        self._until(lambda: not steps.isVisible(), "the bar to go")
        self.picture("first-5-compared")
        self._click(window.strip.revert)
        self._until(lambda: self.presenter.status.trial is None, "the trial to be put back")
        self._tell(self.presenter.outcome)
        self.picture("first-6-put-back")
        return baseline, changed

    def _finish(self) -> int:
        """Let the run come to its end, slowly enough that this computer sees it, and return its id."""
        self._set_pace(SLOWER)
        self._until(lambda: self.presenter.runs.last is not None and self.presenter.progress is None, "the run to end")
        self._set_pace(PACE)
        run = self.presenter.runs.last
        return 0 if run is None else run.id
