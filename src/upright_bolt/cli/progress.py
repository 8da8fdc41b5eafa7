"""A progress bar on a terminal while runs go on; nothing elsewhere."""

import select
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from types import FrameType
from typing import TYPE_CHECKING

from upright_bolt.cli.interrupts import interrupt
from upright_bolt.errors import MachineFroze
from upright_bolt.signal_handling import ending_signals, handled
from upright_bolt.text.times import waiting

if TYPE_CHECKING:
    from rich.progress import Progress, TaskID

    from upright_bolt.session.active_run import ActiveRun
    from upright_bolt.session.activity import Activity
    from upright_bolt.session.session import Session


class Stop:
    """Whether a person has asked to stop what goes on.

    Attributes:
        asked: they have.
    """

    def __init__(self) -> None:
        self.asked = False


@contextmanager
def stopping() -> Iterator[Stop]:
    """Let an interrupt be asked about between two steps, so that it lands in the middle of none."""
    stop = Stop()

    def ask(number: int, frame: FrameType | None) -> None:
        """Note the first interrupt. Raises KeyboardInterrupt for a second."""
        # The second one does not wait: whoever presses again means now.
        if stop.asked:
            interrupt(number, frame)
        stop.asked = True

    with handled(ask, ending_signals()):
        yield stop


def _enter_pressed() -> bool:
    if not sys.stdin.isatty() or not select.select([sys.stdin], [], [], 0)[0]:
        return False
    sys.stdin.readline()
    return True


class Bar:
    """Shows the run in progress of a session, and what a series waits for."""

    def __init__(self) -> None:
        self._bar: Progress | None = None
        self._task: TaskID | None = None

    def __enter__(self) -> "Bar":
        if sys.stderr.isatty():
            from rich.console import Console
            from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

            columns = (
                TextColumn("{task.description}"),
                BarColumn(),
                TextColumn("{task.fields[score]}"),
                TimeRemainingColumn(),
            )
            self._bar = Progress(*columns, console=Console(file=getattr(sys.stderr, "raw", sys.stderr)), transient=True)
            self._bar.start()
            self._task = self._bar.add_task("starting", total=None, score="")
        return self

    def __exit__(self, *_: object) -> None:
        if self._bar is not None:
            self._bar.stop()

    def show(self, session: "Session") -> None:
        """Show where the session's run or series stands; while it waits, Enter on a terminal begins it."""
        if self._bar is None or self._task is None:
            return
        from upright_bolt.session.series import ActiveSeries

        going = session.activity
        series = going.progress() if isinstance(going, ActiveSeries) else None
        before = f"{series.number} of {series.count}: " if series is not None else ""
        progress = session.run.progress() if session.run is not None else None
        found = progress.waiting if progress is not None else (series.waiting if series is not None else None)
        if found is not None:
            self._bar.update(self._task, description=f"{before}{waiting(found)}; Enter begins now", total=None)
            if _enter_pressed():
                session.skip_waiting()
            return
        if progress is None:
            return
        self._bar.update(
            self._task,
            description=before + progress.stage.value,
            total=progress.asked_s,
            completed=progress.elapsed_s,
            score="" if progress.score is None else f"{progress.score:,.1f}",
        )


def carry_on(
    session: "Session",
    activity: "Activity",
    on_run_end: "Callable[[ActiveRun], None]" = lambda _: None,
    on_tick: Callable[[], None] = lambda: None,
    told_to_stop: Callable[[], bool] = lambda: False,
) -> bool:
    """Tick until a run, a series or a search has ended; an interrupt stops it and keeps what is there.

    Args:
        session: where it goes on.
        activity: what goes on.
        on_run_end: gets every run that has ended.
        on_tick: called after every sample.
        told_to_stop: tells whether somebody elsewhere wants it stopped.

    Returns:
        Whether it was stopped.

    Raises:
        MachineFroze: a twin froze.
        BoltError: whatever ``on_run_end`` or ``on_tick`` raises.
    """
    from upright_bolt.session.session import SAMPLE_S

    clock = session.machine.clock
    stopped = False
    with Bar() as bar, stopping() as stop:
        try:
            while True:
                session.tick()
                bar.show(session)
                if stop.asked or told_to_stop():
                    stopped = True
                    session.stop()
                # After the stop, so that a run that was stopped is handed over in the same turn.
                if (run := session.end_run()) is not None:
                    on_run_end(run)
                on_tick()
                if activity.ended and session.run is None:
                    return stopped
                clock.wait_until(clock.now_s() + SAMPLE_S)
        except MachineFroze as froze:
            session.fail_run(froze)
            raise
