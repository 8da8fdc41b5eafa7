"""Commands that make several runs: repeats, two settings in turn, ladders."""

import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING

from upright_bolt.cli.context import MachineChoice, print_json, print_table, session_at, store_at
from upright_bolt.cli.output import print_comparison
from upright_bolt.cli.progress import Bar, stopping
from upright_bolt.errors import BoltError, MachineFroze
from upright_bolt.model.quantity import CLOCK, POWER, TEMPERATURE
from upright_bolt.model.run import RunRecord
from upright_bolt.model.work import score_quantity

if TYPE_CHECKING:
    from upright_bolt.model.work import Work
    from upright_bolt.session.series import ActiveSeries, Step
    from upright_bolt.session.session import Session
    from upright_bolt.store.runs import RunStore


def carry_out(
    choice: MachineChoice, steps: "Sequence[Step]", work: "Work", cool_c: float | None, *, as_json: bool
) -> None:
    """Make the runs one after another, print them, and put everything back; safe to interrupt at any moment.

    Raises:
        BadInput: a trial is running, or a setting cannot be.
        BoltError: a run did not end well, or the machine did not cool down.
    """
    with session_at(choice, exclusive=True) as session, store_at(choice) as store:
        series = session.start_series(steps, work, store, cool_c)
        done = _follow(session, store, series, len(steps), quiet=as_json)
        if series.fault is not None:
            raise series.fault
        known = store.all()
    if as_json:
        from upright_bolt.reports.export import run_data

        print_json({"series": series.name, "runs": [run_data(record) for record in done]})
        return
    _summary(done, known)


def _follow(
    session: "Session", store: "RunStore", series: "ActiveSeries", count: int, *, quiet: bool
) -> list[RunRecord]:
    """Tick until the series has ended, a line per run; an interrupt stops it and keeps what is there."""
    from upright_bolt.session.session import SAMPLE_S

    done: list[RunRecord] = []
    clock = session.machine.clock
    with Bar() as bar, stopping() as stop:
        try:
            while session.end_series() is None:
                if stop.asked:
                    series.stop()
                    if session.run is not None:
                        session.run.stop("stopped by the user")
                    session.end_run()
                    raise BoltError(f"Stopped after {len(done)} of {count} runs; everything is put back.")
                session.tick()
                bar.show(session)
                ended = session.end_run()
                if ended is not None and not ended.unsaved:
                    done.append(store.get(ended.id))
                    if not quiet:
                        print(f"{len(done)} of {count}: {_line(done[-1])}", flush=True)
                clock.wait_until(clock.now_s() + SAMPLE_S)
        except MachineFroze as froze:
            if session.run is not None:
                session.run.end_with_machine(str(froze))
            raise
    return done


def _line(record: RunRecord) -> str:
    numbers = record.end.numbers
    quantity = score_quantity(record.head.workload, record.head.options)
    score = "no score" if record.end.score is None else quantity.show(record.end.score)
    parts = (CLOCK.show(numbers.clock_sustained_mhz), POWER.show(numbers.power_sustained_w),
             TEMPERATURE.show(numbers.temp_max_c))  # fmt: skip
    return f"run {record.id} “{record.head.label}”, {score}, settled {parts[0]} at {parts[1]}, highest {parts[2]}"


def _summary(done: list[RunRecord], known: list[RunRecord]) -> None:
    """Print what the runs show: one row per setting, and two settings compared."""
    from upright_bolt.analysis.compare import compare
    from upright_bolt.wording.comparison import mean_and_spread

    groups: dict[str, list[RunRecord]] = {}
    for record in done:
        groups.setdefault(record.head.label, []).append(record)
    keys = ("score", "clock_sustained_mhz", "power_sustained_w", "temp_max_c")
    rows = [["setting", "runs", "score", "settled clock", "settled watts", "highest temp."]]
    for label, runs in groups.items():
        rows.append([label or "–", str(len(runs)), *(mean_and_spread(runs, key) for key in keys)])
    print()
    print_table(rows, right=range(1, 6))
    if len(groups) == 2:
        base, other = (runs[0] for runs in groups.values())
        print()
        print_comparison(compare([base, other], base, known), base)
    sys.stdout.flush()
