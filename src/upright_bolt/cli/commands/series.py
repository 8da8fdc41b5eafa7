"""Commands that make several runs: repeats, two settings in turn, ladders."""

import sys
from typing import TYPE_CHECKING

from upright_bolt.cli.context import MachineChoice, print_json, print_table, session_at, store_at
from upright_bolt.cli.ground import NOT_RUN, check_ground
from upright_bolt.cli.output import print_comparison
from upright_bolt.cli.progress import carry_on
from upright_bolt.errors import BoltError, MachineFroze
from upright_bolt.model.quantity import CLOCK, POWER, TEMPERATURE
from upright_bolt.model.run import RunRecord, RunRole
from upright_bolt.model.work import score_quantity
from upright_bolt.text.faults import fault_words

if TYPE_CHECKING:
    from upright_bolt.session.active_run import ActiveRun
    from upright_bolt.session.series import ActiveSeries, SeriesRequest
    from upright_bolt.session.session import Session
    from upright_bolt.store.runs import RunStore


def carry_out(choice: MachineChoice, asked: "SeriesRequest", *, as_json: bool, allow_known_bad: bool = False) -> int:
    """Make the runs one after another, print them, and put everything back; safe to interrupt at any moment.

    What was made before it ended early is printed all the same.

    Returns:
        The exit code: 1 if a run gave wrong results.

    Raises:
        BadInput: a trial is running, or a setting cannot be.
        BoltError: a run did not end well, or the machine did not cool down.
    """
    from upright_bolt.session.series import start_series

    done: list[RunRecord] = []
    with session_at(choice, exclusive=True) as session, store_at(choice) as store:
        if not allow_known_bad:
            check_ground(choice, session.access, [step.settings for step in asked.steps], what_to_do=NOT_RUN)
        series = start_series(session, asked, store)
        try:
            _follow(session, store, series, done, quiet=as_json)
            if series.fault is not None:
                raise series.fault
        finally:
            _show(series.name, done, store.all(), as_json=as_json)
    return int(any(record.errors for record in done))


def _show(name: str, done: list[RunRecord], known: list[RunRecord], *, as_json: bool) -> None:
    if as_json:
        from upright_bolt.reports.export import run_data

        print_json({"series": name, "runs": [run_data(record) for record in done]})
    elif counted := [record for record in done if record.head.role is not RunRole.WARM_UP]:
        _summary(counted, known)


def _follow(
    session: "Session", store: "RunStore", series: "ActiveSeries", done: list[RunRecord], *, quiet: bool
) -> None:
    """Let the series go on to its end, a line per run; an interrupt stops it and keeps what is there."""

    def take(ended: "ActiveRun") -> None:
        if ended.unsaved:
            return
        done.append(store.get(ended.id))
        if not quiet:
            print(f"{len(done)} of {series.progress().count}: {_line(done[-1])}", flush=True)

    try:
        stopped = carry_on(session, series, take)
    except MachineFroze:
        if session.run is not None:
            done.append(store.get(session.run.id))
        raise
    if stopped:
        raise BoltError(f"Stopped after {len(done)} of {series.progress().count} runs; all is put back.")


def _line(record: RunRecord) -> str:
    """Return a run in a line, first of all what went wrong in it."""
    numbers = record.end.numbers
    quantity = score_quantity(record.head.workload, record.head.options)
    score = "no score" if record.end.score is None else quantity.show(record.end.score)
    wrong = fault_words(record)
    first = f"✕ {wrong}: " if wrong else ""
    score = f"score {score} does not count" if wrong else score
    uncounted = ", not counted" if record.head.role is RunRole.WARM_UP else ""
    said = [f"{first}run {record.id} “{record.head.label}”{uncounted}", score]
    extra = numbers.extra
    if "graphics_mhz" in extra:
        chip = record.head.options.chip
        said.append(f"{chip} settled {CLOCK.show(extra['graphics_mhz'])} at {POWER.show(extra.get('graphics_w'))}")
    elif numbers.clock_sustained_mhz is not None:
        said.append(f"settled {CLOCK.show(numbers.clock_sustained_mhz)} at {POWER.show(numbers.power_sustained_w)}")
    elif "full_mhz" in extra:
        said.append(f"at full load {CLOCK.show(extra['full_mhz'])}")
    return ", ".join([*said, f"highest {TEMPERATURE.show(numbers.temp_max_c)}"])


COLUMNS = {
    "score": "score",
    "score_settled": "settled score",
    "clock_sustained_mhz": "settled clock",
    "power_sustained_w": "settled watts",
    "full_mhz": "full-load clock",
    "full_w": "full-load watts",
    "temp_max_c": "highest temp.",
    "processor_score": "processor score",
    "graphics_mhz": "graphics clock",
    "graphics_w": "graphics watts",
    "graphics_c": "graphics temp.",
}
"""Results of a rung by their keys; those that no run of a series has are left out."""


def _summary(done: list[RunRecord], known: list[RunRecord]) -> None:
    """Print what the runs show: one row per setting, and two settings compared."""
    from upright_bolt.analysis.comparison.compare import compare
    from upright_bolt.analysis.comparison.shared_heat import best_exchange
    from upright_bolt.analysis.comparison.sweep import shares_power
    from upright_bolt.analysis.numbers import value_of
    from upright_bolt.text.comparison import mean_and_spread, shared_heat
    from upright_bolt.text.constraints import shares

    groups: dict[str, list[RunRecord]] = {}
    for record in done:
        groups.setdefault(record.head.label, []).append(record)
    keys = [key for key in COLUMNS if key == "score" or any(value_of(run, key) is not None for run in done)]
    rows = [["setting", "runs", "errors", *(COLUMNS[key] for key in keys), "held by"]]
    for label, runs in groups.items():
        faults = "; ".join(dict.fromkeys(words for run in runs if (words := fault_words(run))))
        means = [mean_and_spread(runs, key) for key in keys]
        if faults:
            counted = {"score": "does not count", "score_settled": "–"}
            means = [counted.get(key, mean) for key, mean in zip(keys, means, strict=True)]
        held = " / ".join(dict.fromkeys(words for run in runs for words in shares(run.end.numbers)[:1]))
        rows.append([label or "–", str(len(runs)), faults or "0", *means, held or "–"])
    print()
    print_table(rows, right=range(1, 3 + len(keys)))
    if done and shares_power(done[0]) and (exchange := best_exchange(done)) is not None:
        print(f"\n{shared_heat(exchange)}")
    if len(groups) == 2:
        base, other = (runs[0] for runs in groups.values())
        print()
        print_comparison(compare([base, other], base, known), base)
    sys.stdout.flush()
