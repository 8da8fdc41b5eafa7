"""Commands that search for the edge: how far a voltage can fall, or a graphics chip's memory clock rise."""

import sys
from typing import TYPE_CHECKING, Annotated, Any

import typer

from upright_bolt.app import parse_machine
from upright_bolt.cli.context import AsJson, MachineChoice, access_at, print_json, print_table, session_at, store_at
from upright_bolt.cli.ground import search_log
from upright_bolt.cli.progress import carry_on
from upright_bolt.errors import InUse, MachineFroze, NotFound
from upright_bolt.model.search import AfterFreeze, Asked, Bold, Purpose, Rung, RungEnd, Search, SearchEnd, Why

if TYPE_CHECKING:
    from collections.abc import Callable

    from upright_bolt.analysis.stability.belief import Estimate
    from upright_bolt.analysis.stability.course import Course
    from upright_bolt.session.session import Session
    from upright_bolt.session.stability_search import ActiveSearch
    from upright_bolt.store.search_log import SearchLog

MOST_FREEZES = 8
NOT_FOUND = 1


def edge(
    context: typer.Context,
    axis: Annotated[
        str, typer.Option("--axis", help="core,cache (both together), core, cache, or CHIP.voltage-offset.")
    ] = "core,cache",
    plain: Annotated[str, typer.Option("--plain", help="Steps of one size instead, e.g. -10mV.")] = "",
    bold: Annotated[str, typer.Option("--bold", help="careful, quick or thorough.")] = Bold.CAREFUL.value,
    fails: Annotated[str, typer.Option("--fails", help="Share of eight-hour loads that may fail.")] = "1%",
    soak: Annotated[str, typer.Option("--soak", help="Soak at the end: 10min, 1h, while-i-work.")] = "",
    after_freeze: Annotated[str, typer.Option("--after-freeze", help="go-on or wait.")] = AfterFreeze.WAIT.value,
    below: Annotated[str, typer.Option("--below", help="A rung ends at this temperature, e.g. 95C.")] = "",
    reach: Annotated[str, typer.Option("--reach", help="Furthest step beyond what has passed, e.g. -20mV.")] = "",
    least_gain: Annotated[str, typer.Option("--least-gain", help="End where more brings less score, e.g. 0.5%.")] = "",
    at: Annotated[str, typer.Option("--at", help="Of a graphics chip: its highest clock meanwhile.")] = "",
    in_use: Annotated[str, typer.Option("--in-use", help="Use it yourself for so long at the end.")] = "",
    together: Annotated[bool, typer.Option("--together", help="Do not search core and cache apart.")] = False,
    resume: Annotated[bool, typer.Option("--resume", help="Go on with the search that was cut off.")] = False,
    as_json: AsJson = False,
) -> int:
    """Search for how far a voltage can fall, or a clock rise; nothing of it stays in force."""
    if context.invoked_subcommand is not None:
        return 0
    from upright_bolt.session.search_request import RawArguments, asked_from

    typed = RawArguments(axis, plain, bold, fails, soak, after_freeze, below, reach, least_gain, together, at, in_use)
    asked = None if resume else asked_from(typed)
    return _told(context.obj, carried_on(context.obj, asked, quiet=as_json), as_json=as_json)


def carried_on(choice: MachineChoice, asked: Asked | None, *, quiet: bool) -> Search | None:
    """Begin a search or go on with one, over freezes of a simulated machine as well if that was asked.

    Returns:
        The search; None if it waits after a freeze.

    Raises:
        BoltError: it cannot be begun, or fails.
    """
    for _ in range(MOST_FREEZES):
        try:
            return _carry_on(choice, asked, quiet=quiet)
        except MachineFroze as froze:
            print(froze, file=sys.stderr)
            asked = None  # its record tells the rest, as it does after a real restart
            if not _goes_on(choice):
                break
    return None


def _goes_on(choice: MachineChoice) -> bool:
    search = search_log(choice).open_search()
    return search is not None and search.asked.after_freeze is AfterFreeze.GO_ON


def _carry_on(choice: MachineChoice, asked: Asked | None, *, quiet: bool) -> Search:
    """Begin a search, or go on with the one that was cut off, until it ends or is stopped. Raises BoltError."""
    from upright_bolt.presentation.searches import begin_search

    log = search_log(choice)
    with session_at(choice, exclusive=True) as session, store_at(choice) as store:
        store.mark_unfinished(session.machine.spec, session.boot_id)
        left = log.open_search() if asked is None else None
        active = begin_search(session, log, store, asked)
        if left is not None and left.open_rung is not None:
            from upright_bolt.text.search import story

            print(story(active.search, cut_off=True), file=sys.stderr)
        _follow(session, log, active, quiet=quiet)
        return log.get(active.search.asked.id)


def _follow(session: "Session", log: "SearchLog", active: "ActiveSearch", *, quiet: bool) -> None:
    """Tick until the search has ended; an interrupt pauses it, and its record is what it goes on from."""
    teller = _Teller(active.search, quiet=quiet)

    def tell() -> None:
        teller.tell(active.search)
        if active.question is not None:
            _ask(active)

    carry_on(session, active, on_tick=tell, told_to_stop=log.stop_asked)
    if active.fault is not None:
        raise active.fault


def _ask(active: "ActiveSearch") -> None:
    """Ask how it went while a person used the machine; where nobody can answer, leave the question on record."""
    from upright_bolt.session.search_request import ANSWERS

    if not sys.stdin.isatty():
        print(f"How did it go? Say “edge answer {'|'.join(ANSWERS)}”, then “edge --resume”.", file=sys.stderr)
        active.stop()
        return
    said = ""
    while said not in ANSWERS:
        said = str(typer.prompt(f"How did it go? ({', '.join(ANSWERS)})", err=True)).strip()
    active.answer(ANSWERS[said])


class _Teller:
    """Prints why each rung is made, and how it ended; what was told before this process began is not told again."""

    def __init__(self, search: Search, *, quiet: bool) -> None:
        from upright_bolt.text.search import begins

        self._quiet = quiet
        self._told = {rung.number for rung in search.rungs}
        self._ended = set(search.ends)
        if not quiet:
            print(begins(search.asked), flush=True)

    def tell(self, search: Search) -> None:
        from upright_bolt.text.search import rung_line, why_next

        for rung in search.rungs[max(0, len(self._told) - 1) :] if not self._quiet else ():
            if rung.number not in self._told:
                self._told.add(rung.number)
                print(why_next(search.asked, rung), flush=True)
            end = search.ends.get(rung.number)
            if end is not None and rung.number not in self._ended:
                self._ended.add(rung.number)
                print(f"  {rung_line(search.asked, rung, end)}", flush=True)


def _told(choice: MachineChoice, search: Search | None, *, as_json: bool) -> int:
    """Print where a search stands, and return the exit code: 0 once it has found something."""
    search = search or _latest(choice)
    if as_json:
        print_json(search_data(choice, search))
    else:
        for line in _lines(choice, search):
            print(line)
    found = search.end is not None and search.end.why is Why.FOUND and bool(search.end.settings)
    return 0 if found else NOT_FOUND


def _latest(choice: MachineChoice) -> Search:
    searches = search_log(choice).all()
    if not searches:
        raise NotFound("No search was made on this machine; “edge” begins one.")
    search = searches[-1]
    if search.open_rung is None:
        return search
    from upright_bolt.store.search_log import as_cut_off

    with session_at(choice, exclusive=False) as session:
        frozen = search.open_rung.boot_id != session.boot_id
    return as_cut_off(search, session.boot_id) if frozen else search


def course_of(choice: MachineChoice, search: Search) -> "Course":
    """Return what is known of a search by now."""
    from upright_bolt.analysis.stability.course import Course
    from upright_bolt.analysis.stability.history import known

    with store_at(choice) as store:
        spec = parse_machine(choice.machine).text
        before = known(store.all(), search_log(choice).all(), spec, search.asked)
    return Course(search, before)


def _lines(choice: MachineChoice, search: Search) -> list[str]:
    from upright_bolt.text.search import kept_words, result
    from upright_bolt.workload.plan import kinds_s

    course = course_of(choice, search)
    lines = [result(course, course.proven(kinds_s))]
    spent = f"{search.minutes:.0f} min, {search.freezes} freeze{'' if search.freezes == 1 else 's'}"
    if search.end is None:
        lines.append(f"Search {search.asked.id} has not ended ({spent} so far). “edge --resume” goes on with it.")
        lines += _to_come(course)
    else:
        lines.append(f"Search {search.asked.id}: {search.end.why.value}, after {spent}. All is put back.")
    if course.recommended and search.end is not None and search.end.why is Why.FOUND:
        lines.append(f"To use it: set {kept_words(course.recommended)}")
    return lines


def _to_come(course: "Course") -> list[str]:
    """Return what comes next in a search that has not ended, and what is still expected of it."""
    from upright_bolt.analysis.stability.forecast import ahead
    from upright_bolt.text.search import ahead_words, why_next

    search = course.search
    if search.open_rung is not None and search.open_rung.purpose is Purpose.IN_USE:
        from upright_bolt.session.search_request import ANSWERS

        return [f"It waits to hear how your use went: “edge answer {'|'.join(ANSWERS)}”."]
    step = course.next_step("", warm=True) if search.open_rung is None else search.open_rung
    said = [f"Next: {why_next(search.asked, step)}"] if isinstance(step, Rung) else []
    return [*said, f"Still expected: {ahead_words(ahead(course))}."]


def search_data(choice: MachineChoice, search: Search) -> dict[str, Any]:
    """Return a search as JSON shows it."""
    from upright_bolt.workload.plan import kinds_s

    course = course_of(choice, search)
    kept = course.recommended
    state = "goes on" if search.end is None else search.end.why.value
    axis, together = course.axis, course.outlook()
    unit = axis.quantity.unit.lower()
    return {
        "id": search.asked.id,
        "state": state,
        "axis": list(search.asked.controls),
        "chip": search.asked.chip,
        "began_at": search.asked.began_at,
        "rungs": [_rung_data(rung, search.ends.get(rung.number)) for rung in search.rungs],
        f"edge_{unit}": _estimate(together.edge, axis.value),
        f"slope_{unit}": _estimate(together.slope),
        "axes": [
            {
                "axis": list(controls),
                f"edge_{unit}": _estimate(course.outlook(controls).edge, axis.value),
                f"slope_{unit}": _estimate(course.outlook(controls).slope),
            }
            for controls in course.axes
        ],
        "final": {**dict.fromkeys(search.asked.controls, axis.stock), **kept},
        "proven": {
            "seconds": course.proven(kinds_s),
            f"furthest_{unit}": axis.value(together.proven),
            "from_cool": course.from_cool,
        },
        "predicted_failure_8h": _estimate(course.predicted),
        "minutes": round(search.minutes, 2),
        "freezes": search.freezes,
    }


def _rung_data(rung: Rung, end: RungEnd | None) -> dict[str, Any]:
    errors = [{"time_s": e.time_s, "cpu": e.cpu, "mix": e.block} for e in end.errors] if end is not None else []
    return {
        "settings": rung.settings,
        "outcome": end.outcome.value if end is not None else None,
        "errors": errors,
        "duration_s": end.load_s if end is not None else None,
        "load": rung.load if rung.purpose is Purpose.TEST else rung.purpose.value,
        "scene": rung.scene or None,
        "score": end.score if end is not None else None,
        "clock_mhz": end.clock_mhz if end is not None else None,
        "power_w": end.power_w if end is not None else None,
        "temp_c": end.temp_c if end is not None else None,
        "idle_w": end.idle_w if end is not None else None,
        "run": end.run_id if end is not None else None,
    }


def _estimate(of: "Estimate", value: "Callable[[float], float]" = float) -> dict[str, float]:
    low, high = sorted((value(of.low), value(of.high)))
    return {"value": value(of.value), "low": low, "high": high}


def status(context: typer.Context, as_json: AsJson = False) -> None:
    """Show where the latest search stands."""
    search = _latest(context.obj)
    if as_json:
        print_json(search_data(context.obj, search))
        return
    for line in _lines(context.obj, search):
        print(line)


def history(
    context: typer.Context,
    number: Annotated[int | None, typer.Argument(metavar="[ID]", help="A search's number; all if not given.")] = None,
    as_json: AsJson = False,
) -> None:
    """List the searches of this machine, or the rungs of one."""
    from upright_bolt.text.search import axis_title, rung_line, settings_words
    from upright_bolt.text.times import date_and_time

    log = search_log(context.obj)
    searches = log.all() if number is None else [log.get(number)]
    if log.unreadable:
        print(
            f"{log.unreadable} lines of the record are damaged; the search they belong to has ended.", file=sys.stderr
        )
    if as_json:
        print_json([search_data(context.obj, search) for search in searches])
        return
    if number is not None:
        found = searches[0]
        for rung in found.rungs:
            end = found.ends.get(rung.number)
            print(rung_line(found.asked, rung, end) if end is not None else f"rung {rung.number} goes on")
        return
    rows = [["search", "began", "axis", "rungs", "min", "freezes", "result"]]
    for search in searches:
        kept = settings_words(search.end.settings) if search.end is not None else "goes on"
        rows.append(
            [str(search.asked.id), date_and_time(search.asked.began_at), axis_title(search.asked.controls),
             str(len(search.rungs)), f"{search.minutes:.0f}", str(search.freezes), kept]
        )  # fmt: skip
    print_table(rows)


def answer(
    context: typer.Context,
    went: Annotated[str, typer.Argument(metavar="HOW", help="fine, picture-errors, reset, or cut-short.")],
) -> None:
    """Say how it went while you used the machine at the value that a search has found."""
    from upright_bolt.session.search_request import answer_from
    from upright_bolt.store.search_log import answer_open

    log = search_log(context.obj)
    with access_at(context.obj, exclusive=True):
        search = answer_open(log, answer_from(went))
    print(f"Noted for search {search.asked.id}; “edge --resume” goes on with it.")


def stop(context: typer.Context) -> None:
    """End the search that goes on; what it has shown is kept."""
    from upright_bolt.store.search_log import recover

    log = search_log(context.obj)
    search = log.open_search()
    if search is None:
        raise NotFound("No search goes on here.")
    try:
        with session_at(context.obj, exclusive=True) as session:
            log.finish(recover(log, session.boot_id) or search, SearchEnd(Why.STOPPED))
            print(f"Search {search.asked.id} has ended; what it has shown is kept.")
    except InUse:
        log.ask_to_stop()
        print(
            f"Search {search.asked.id} was asked to stop; it puts everything back and can go on with “edge --resume”."
        )


def add_to(app: typer.Typer) -> None:
    """Add the commands."""
    group = typer.Typer(invoke_without_command=True)
    app.add_typer(group, name="edge")
    group.callback(invoke_without_command=True)(edge)
    group.command("status")(status)
    group.command("history")(history)
    group.command("answer")(answer)
    group.command("stop")(stop)
