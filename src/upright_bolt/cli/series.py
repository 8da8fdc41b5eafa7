"""Several runs under the same conditions: repeats of one setting, two in turn, a ladder of settings."""

import sys
import uuid
from dataclasses import dataclass
from typing import TYPE_CHECKING

from upright_bolt.cli.context import Place, print_json, print_table, session_at, store_at
from upright_bolt.cli.runs import Work, carry_on, finished, try_or_raise
from upright_bolt.cli.shown import print_comparison
from upright_bolt.errors import BadInput, BoltError
from upright_bolt.model.control import Kind, Value, declaration_of, parse_value, show_value
from upright_bolt.model.quantity import CLOCK, POWER, TEMPERATURE
from upright_bolt.model.run import RunRecord
from upright_bolt.model.settings import Settings
from upright_bolt.model.work import score_quantity

if TYPE_CHECKING:
    from upright_bolt.session.session import Session
    from upright_bolt.store.runs import RunStore

MOST_RUNS = 200
COOLING_STEP_S = 2.0
LONGEST_COOLING_S = 3600.0


@dataclass(frozen=True, slots=True)
class Step:
    """One run to be made: the settings tried for it (none: what is in force), and its label."""

    settings: Settings
    label: str


def repeats(settings: Settings, count: int, label: str, *, alternate: bool) -> list[Step]:
    """Return ``count`` runs of ``settings``; with ``alternate`` as many without, in the order A B B A A B ….

    Raises:
        BadInput: too few or too many, or nothing to alternate with.
    """
    if not 1 <= count <= MOST_RUNS:
        raise BadInput(f"repeat: from 1 to {MOST_RUNS} runs; {count} is outside that.")
    tried = Step(settings, label)
    if not alternate:
        return [tried] * count
    if not settings:
        raise BadInput("alternate: name the settings to compare with those in force: --with sustained=25W.")
    plain = Step({}, f"{label}, without" if label else "without")
    return [step for i in range(count) for step in ((plain, tried) if i % 2 == 0 else (tried, plain))]


def ladder(text: str, beside: Settings, count: int) -> list[Step]:
    """Return the runs of a ladder typed as ``NAME=FROM..TO/STEP``, each rung ``count`` times.

    Raises:
        BadInput: it is none, its control is no scale, or it has too many rungs.
    """
    name, sign, span = text.partition("=")
    first, dots, rest = span.partition("..")
    last, slash, step = rest.partition("/")
    if not (sign and dots and slash):
        raise BadInput(f"“{text}” is no ladder; it is written NAME=FROM..TO/STEP, e.g. sustained=12W..40W/4W.")
    name = name.strip()
    declared = declaration_of(name)
    if declared.kind is not Kind.SCALE:
        raise BadInput(f"{declared.title}: only a control with a scale has a ladder.")
    if name in beside:
        raise BadInput(f"{name} is the ladder's own; leave it out of --with.")
    low, high = (_number(parse_value(name, part)) for part in (first, last))
    stride = abs(declared.quantity.parse(step, "step"))
    if stride <= 0:
        raise BadInput("step: it must be more than nothing.")
    rungs = int(abs(high - low) / stride + 1e-9) + 1
    if not count >= 1 or rungs * count > MOST_RUNS:
        raise BadInput(f"That makes {rungs * max(count, 0)} runs; from 1 to {MOST_RUNS} can be made in one go.")
    way = stride if high >= low else -stride
    values = [low + way * i for i in range(rungs)]
    return [
        Step({**beside, name: value}, f"{name} {show_value(name, value)}") for value in values for _ in range(count)
    ]


def _number(value: Value) -> float:
    return float(value)


def carry_out(place: Place, steps: list[Step], work: Work, cool_c: float | None, *, as_json: bool) -> None:
    """Make the runs one after another, print them, and put everything back; safe to interrupt at any moment.

    Raises:
        BadInput: a trial is running, or a setting cannot be.
        BoltError: a run did not end well, or the machine did not cool down.
    """
    series = uuid.uuid4().hex[:12]
    done: list[RunRecord] = []
    with session_at(place, exclusive=True) as session, store_at(place) as store:
        if session.status().trial is not None:
            raise BadInput(
                "A trial is running already; “keep” or “put-back” it before runs with settings of their own."
            )
        for number, step in enumerate(steps, start=1):
            done.append(_one(session, store, step, work, series, cool_c))
            if not as_json:
                print(f"{number} of {len(steps)}: {_line(done[-1])}", flush=True)
        known = store.all()
    if as_json:
        from upright_bolt.store.export import run_data

        print_json({"series": series, "runs": [run_data(record) for record in done]})
        return
    _summary(done, known)


def _one(session: "Session", store: "RunStore", step: Step, work: Work, series: str, cool_c: float | None) -> RunRecord:
    if cool_c is not None:
        _cool(session, cool_c)
    if step.settings:
        try_or_raise(session, step.settings)
    try:
        work.start(session, step.label, store, series)
        record = store.get(carry_on(session).id)
    finally:
        if step.settings and session.status().trial is not None:
            session.put_back("the run ended")
    return finished(record)


def _cool(session: "Session", cool_c: float) -> None:
    """Wait until the package is at most ``cool_c`` warm."""
    place = session.place.get("temperature.package")
    if place is None:
        raise BadInput("cool-to: this machine's temperature is not measured, so nobody can wait for it.")
    clock = session.machine.clock
    begun = clock.now_s()
    while True:
        now = session.tick().sample.values[place]
        if now is not None and now <= cool_c:
            return
        if clock.now_s() - begun > LONGEST_COOLING_S:
            shown = TEMPERATURE.show(now)
            raise BoltError(
                f"The machine did not cool down to {TEMPERATURE.show(cool_c)} within an hour; it is at {shown}."
            )
        clock.wait_until(clock.now_s() + COOLING_STEP_S)


def _line(record: RunRecord) -> str:
    numbers = record.end.numbers
    score = (
        "no score"
        if record.end.score is None
        else score_quantity(record.head.workload, record.head.options).show(record.end.score)
    )
    parts = (CLOCK.show(numbers.clock_sustained_mhz), POWER.show(numbers.power_sustained_w),
             TEMPERATURE.show(numbers.temp_max_c))  # fmt: skip
    return f"run {record.id} “{record.head.label}”, {score}, settled {parts[0]} at {parts[1]}, highest {parts[2]}"


def _summary(done: list[RunRecord], known: list[RunRecord]) -> None:
    """Print what the runs show: one row per setting, and two settings compared."""
    from upright_bolt.analysis.compare import compare, mean_and_spread

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
