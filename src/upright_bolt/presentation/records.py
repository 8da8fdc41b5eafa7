"""What a person can ask of runs that are kept, and of series of runs. Knows no widget and no Qt."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from upright_bolt.analysis.comparison.compare import compare
from upright_bolt.analysis.responsiveness import frame_numbers
from upright_bolt.errors import BadInput
from upright_bolt.model.catalogue import find_declaration
from upright_bolt.model.quantity import TEMPERATURE, TIME, with_unit
from upright_bolt.model.run import RunRecord, parse_measures
from upright_bolt.model.settings import Settings
from upright_bolt.model.work import Options, Work
from upright_bolt.presentation.ports import BackgroundWork, SessionWork
from upright_bolt.reports.details import details_of
from upright_bolt.reports.export import comparison_table, export_csv, runs_table, write_table
from upright_bolt.reports.report import export_html
from upright_bolt.session.series import ActiveSeries, SeriesProgress, SeriesRequest, start_series
from upright_bolt.session.session import Session
from upright_bolt.session.steps import ladder, repeats, until_decided
from upright_bolt.store.exchange import Imported, export_json, import_json
from upright_bolt.store.frame_file import read_frame_times
from upright_bolt.store.runs import RunStore
from upright_bolt.text import runs as run_words
from upright_bolt.text.events import during_run

Say = Callable[[str], None]


def length_s(text: str) -> float:
    """Return a length as typed in the window, where a bare number means minutes. Raises BadInput."""
    return TIME.parse(with_unit(text, "min"), "Length")


@dataclass(frozen=True, slots=True)
class SweepRequest:
    """A ladder as a person typed it."""

    control: str
    first: str
    last: str
    step: str
    workload: str
    length: str
    repeats: int
    cool_to: str
    chip: str = ""

    def text(self) -> str:
        """Return the rungs as they are written on the command line; a number without a unit means the control's own."""
        declared = find_declaration(self.control.partition(",")[0])
        unit = declared.quantity.show(0.0) if declared is not None else ""
        first, last, step = (with_unit(text.strip(), unit) for text in (self.first, self.last, self.step))
        return f"{self.control}={first}..{last}/{step}"


class Records:
    """Runs on their way in and out, their notes, and series of runs.

    Args:
        thread: has the session.
        background: does the reading and writing.
        store: where runs are kept.
        say: tells the person an outcome.
        changed: called when the list of runs has to be read anew.
        known_failure: tells what has failed on this chip at, before or close to settings; empty if nothing has.

    Attributes:
        series: where a series in progress stands; None if there is none.
    """

    def __init__(
        self,
        thread: SessionWork,
        background: BackgroundWork,
        store: RunStore,
        say: Say,
        changed: Callable[[], None],
        known_failure: Callable[[Settings], str],
    ) -> None:
        self._known_failure = known_failure
        self._thread = thread
        self._background = background
        self._store = store
        self._say = say
        self._changed = changed
        self.series: SeriesProgress | None = None

    def _fail(self, sentence: str) -> None:
        self._say(f"✕ {sentence}")

    # series

    def start_ladder(self, asked: SweepRequest) -> None:
        """Run a ladder of settings, each rung as a trial; what was typed wrongly is said."""
        try:
            steps = ladder(asked.text(), {}, asked.repeats)
            count = len(steps)
            work = Work(asked.workload, length_s(asked.length), options=Options(chip=asked.chip))
            cool_to = with_unit(asked.cool_to.strip(), "°C")
            cool_c = TEMPERATURE.parse(cool_to, "Cool down to") if cool_to else None
        except BadInput as fault:
            self._fail(str(fault))
            return
        series = SeriesRequest(steps, work, cool_c, stops_at_errors=True)
        self._start(series, f"A ladder of {count} runs has started, after one that is not counted.")

    def start_repeats(self, work: Work, label: str, times: int) -> None:
        """Run the same several times with what is in force, so that the spread is known."""
        series = SeriesRequest(repeats({}, times, label, alternate=False), work)
        self._start(series, f"{times} runs have started, after one that is not counted.")

    def start_until_decided(self, work: Work, label: str, draft: Settings) -> None:
        """Run with the draft and without it in turn until the difference is decided.

        Raises:
            BadInput: there is no draft.
        """
        if not draft:
            raise BadInput("There is no draft to compare with what is in force; draft the settings first.")
        steps, more = until_decided(draft, label)
        self._start(SeriesRequest(steps, work, more=more), "Runs with the draft and without it have started, in turn.")

    def _start(self, series: SeriesRequest, started: str) -> None:
        broken = next((said for step in series.steps if (said := self._known_failure(step.settings))), "")
        if broken:
            self._fail(f"{broken} No run was made; the command line makes it with --allow-known-bad.")
            return

        def begin(session: Session) -> ActiveSeries:
            return start_series(session, series, self._store)

        self._thread.ask(begin, lambda _: self._say(started), self._fail)

    def stop_series(self) -> None:
        """Make no more runs; the one in progress is stopped and kept, and its settings are put back."""
        self._thread.ask(Session.stop, lambda _: None, self._fail)

    def take_series(self, progress: SeriesProgress | None, ended: str | None) -> None:
        """Take over where a series stands; ``ended`` tells how one ended: empty if well, None if none has."""
        self.series = progress
        if ended is not None:
            self._say(f"✕ {ended}" if ended else "The series is done; everything is put back.")

    # out and in

    def export(self, kind: str, runs: list[RunRecord], known: list[RunRecord], path: Path) -> None:
        """Write runs to a file.

        Args:
            kind: ``table`` (the comparison), ``list`` (all numbers), ``telemetry``, ``json`` or ``report``.
            runs: the runs, the baseline first.
            known: all runs, for repeats.
            path: the file.
        """

        def work() -> str:
            ids = [run.id for run in runs]
            match kind:
                case "table":
                    write_table(comparison_table(compare(runs, runs[0], known)), path)
                case "list":
                    write_table(runs_table(known), path)
                case "telemetry":
                    export_csv(self._store, ids[0], path)
                case "json":
                    export_json(self._store, ids, path)
                case _:
                    export_html(self._store, compare(runs, runs[0], known), path)
            return f"Written to {path}."

        self._background.run(work, self._say, self._fail)

    def bring_in(self, path: Path) -> None:
        """Take in the runs of a file."""

        def imported(brought: Imported) -> None:
            new, known = (", ".join(map(str, ids)) for ids in (brought.new, brought.known))
            said = [f"Taken in as run {new}."] if new else []
            self._say(" ".join([*said, *([f"Here already: run {known}."] if known else [])]) or "It holds no runs.")
            self._changed()

        self._background.run(lambda: import_json(self._store, path), imported, self._fail)

    # one run

    def describe(self, run: RunRecord, below: str, on_result: Callable[[list[str]], None]) -> None:
        """Return what a run's telemetry shows, and what its cooling carries below a temperature, if one is typed."""
        try:
            below_c = TEMPERATURE.parse(with_unit(below, "°C"), "Below") if below.strip() else None
        except BadInput as fault:
            on_result([f"✕ {fault}"])
            return

        def work() -> list[str]:
            said = run_words.details(details_of(self._store, run, below_c))
            said += during_run(self._store.events(run.id))
            return said or ["Nothing more can be read from its telemetry."]

        self._background.run(work, on_result, lambda sentence: on_result([f"✕ {sentence}"]))

    def annotate(
        self, run: RunRecord, note: str, measures: str, score: str, on_done: Callable[[], None], on_fail: Say
    ) -> None:
        """Keep a note, measures (``noise=38.5dB, case=41C``) and, where it has none, a result."""

        def work() -> RunRecord:
            words = [word for part in measures.split(",") if (word := part.strip())]
            return self._store.annotate(run.id, note, parse_measures(words), _number(score))

        def done(_record: RunRecord) -> None:
            self._changed()
            on_done()

        self._background.run(work, done, on_fail)

    def take_frames(self, run: RunRecord, path: Path, column: str, unit: str, on_done: Say, on_fail: Say) -> None:
        """Add the frame times that another program has written to a run that watched it."""

        def work() -> str:
            times = read_frame_times(path, column, unit)
            self._store.annotate(run.id, figures=frame_numbers(times))
            return f"{len(times):,} frame times are added."

        def done(words: str) -> None:
            self._changed()
            on_done(words)

        self._background.run(work, done, on_fail)


def _number(text: str) -> float | None:
    if not text.strip():
        return None
    try:
        return float(text.replace("−", "-"))
    except ValueError:
        raise BadInput(f"Result: “{text}” is not a number.") from None
