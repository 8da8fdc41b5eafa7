"""Flipped bits and lost ends, in any file of the data: what failed stays out, and damage is told or changes nothing."""

import json
import random
import re
import shutil
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path

import msgspec
import pytest
from test_failed_values import PLANES, Oracle, WatchedDesk

from profile_support import Desk
from upright_bolt.errors import BoltError
from upright_bolt.model.hold import LogKind
from upright_bolt.model.search import Asked, Outcome, Rung, RungEnd, SearchEnd, Why
from upright_bolt.model.work import Work
from upright_bolt.service.callers import Caller
from upright_bolt.session.starting import start_run
from upright_bolt.store.runs import RunStore
from upright_bolt.store.search_log import SearchLog
from upright_bolt.text.trials import recovered

NOT_RECORDS = ("holder", "reserve", "runs.sqlite-running")
"""Words for others, room on the disk, and locks: whatever stands there changes nothing."""
EDITABLE = (".toml", ".txt")
"""Made to be edited: a changed number there may be its owner's."""
CALLER = Caller(":1.7", uid=1000, pid=4711)
BOTH = {"core-offset": -70.0, "cache-offset": -70.0}


def in_use(desk: WatchedDesk) -> None:
    desk.profiles.set_boot(on=True)
    desk.profiles.set_hold(on=True)
    desk.wait(400.0)


def went_wrong(desk: WatchedDesk) -> None:
    in_use(desk)
    desk.oracle.fails()
    desk.shared.change_profiles(CALLER, "ReportFailure")
    desk.wait(1.0)


def froze_in_a_run(desk: WatchedDesk) -> None:
    in_use(desk)
    desk.shared.begin_run(CALLER, "steady", may_set=True)
    desk.oracle.fails()
    desk.outside.restart()


def froze_in_a_trial(desk: WatchedDesk) -> None:
    in_use(desk)
    desk.oracle.requests.append((desk.oracle.tick(), BOTH))
    desk.shared.apply(CALLER, BOTH, standing=False)
    desk.oracle.fails()
    desk.outside.restart()


def in_a_trial(desk: WatchedDesk) -> None:
    in_use(desk)
    desk.shared.apply(CALLER, {"sustained": 15.0, "epp": 200.0}, standing=True)


def kept_by_hand(desk: WatchedDesk) -> None:
    desk.profiles.set_boot(on=True)
    desk.oracle.requests.append((desk.oracle.tick(), BOTH))
    desk.shared.apply(CALLER, {**BOTH, "sustained": 15.0}, standing=True)
    desk.shared.keep(CALLER)


def under_suspicion(desk: WatchedDesk) -> None:
    desk.profiles.set_boot(on=True)
    desk.profiles.set_hold(on=True)
    desk.wait(10.0)
    desk.outside.restart()


def cleared(desk: WatchedDesk) -> None:
    went_wrong(desk)
    desk.profiles.clear_failures("an administrator")
    desk.oracle.failed.clear()
    desk.wait(1.0)


SCENES: tuple[Callable[[Desk], None], ...] = (
    in_use, went_wrong, froze_in_a_run, froze_in_a_trial, in_a_trial, kept_by_hand, under_suspicion, cleared,
)  # fmt: skip


def searched(folder: Path) -> None:
    """Keep a search with a test that failed, one that froze, and one that found something."""
    log = SearchLog(folder, "twin:tern")
    for outcome in (Outcome.WRONG, Outcome.FROZE, Outcome.PASSED):
        search = log.numbered(Asked(0, ("core-offset", "cache-offset"), "2026-04-09T08:00:00+00:00", "a chip"))
        log.begin(search)
        rung = Rung(1, 75.0, {"core-offset": -75.0, "cache-offset": -75.0}, 60.0, 1, boot_id="an earlier one")
        log.open_rung(search, rung)
        log.close_rung(replace(search, rungs=(rung,)), RungEnd(1, outcome, 20.0, 16.0))
        log.finish(search, SearchEnd(Why.STOPPED))


@dataclass
class Shown:
    """What a person is shown of a data folder, and what was told of damage."""

    shown: str
    told: list[str]
    oracle: Oracle


def seen(folder: Path, oracle: Oracle) -> Shown:
    """Open a data folder as the next program does, let the rules and time act, and return what that shows."""
    told: list[str] = []
    try:
        desk = WatchedDesk(folder / "twin-tern", oracle, made=False)
    except BoltError as fault:
        return Shown("", [str(fault)], oracle)
    try:
        desk.wait(6.0)
        engine, status = desk.engine, desk.status
        log = desk.profiles.log()
        if engine.recovered is not None and engine.recovered.damaged:
            told.append(recovered(engine.recovered))
        told += [entry.control or entry.why for entry in log if entry.kind in (LogKind.DAMAGED, LogKind.NOT_USED)]
        told += [*status.broken.values(), status.rules_broken, status.suspects if "damaged" in status.suspects else ""]
        shown = {
            "status": msgspec.to_builtins(status), "values": desk.values(), "trial": msgspec.to_builtins(engine.trial),
            "kept": engine.kept, "log": [(e.kind, e.cause, e.profile, e.control, e.who) for e in log],
        }  # fmt: skip
        shown |= _records(folder, told)
        text = json.dumps(shown, sort_keys=True, default=str)
    except BoltError as fault:
        told.append(str(fault))
        text = ""
    finally:
        with suppress(BoltError):
            desk.close()
    return Shown(_without_times(text), [each for each in told if each], oracle)


def _records(folder: Path, told: list[str]) -> dict[str, object]:
    store, log = RunStore(folder / "runs.sqlite"), SearchLog(folder / "twin-tern", "twin:tern")
    try:
        runs = store.all()
        told += store.damaged.values()
        telemetry = [[column.tolist() for column in store.telemetry(run.id)[1].values()] for run in runs]
        events = [store.events(run.id) for run in runs]
        searches = log.all()
    finally:
        store.close()
    told += ["searches"] if log.unreadable else []
    told += [one.end.why for one in searches if one.end is not None and one.end.why is Why.DAMAGED]
    return {"runs": repr((runs, events)), "telemetry": str(telemetry), "searches": repr(searches)}


def _without_times(text: str) -> str:
    return re.sub(r"20\d\d-\d\d-\d\dT[0-9:.+]+", "", text)


@pytest.fixture(scope="module")
def scenes(tmp_path_factory):
    """Return data folders, one a scene, left as a program that was killed leaves them, with their oracles."""
    from support import SimulatedSession

    made = {}
    for scene in SCENES:
        folder = tmp_path_factory.mktemp(scene.__name__)
        folder.chmod(0o700)
        session = SimulatedSession(folder / "runs")
        session.run(20)
        start_run(session.session, Work("steady", 20.0), "left open", session.store)
        session.close()
        for path in (folder / "runs").glob("runs.sqlite*"):
            shutil.move(path, folder / path.name)
        shutil.rmtree(folder / "runs")
        oracle = Oracle()
        desk = WatchedDesk(folder / "twin-tern", oracle)
        scene(desk)
        desk.kill()
        searched(folder / "twin-tern")
        made[scene.__name__] = (folder, oracle)
    return made


def damaged(path: Path, chance: random.Random, *, cut: bool) -> None:
    content = bytearray(path.read_bytes())
    if cut:
        path.write_bytes(content[: chance.randrange(len(content))])
        return
    bit = chance.randrange(8 * len(content))
    content[bit // 8] ^= 1 << bit % 8
    path.write_bytes(content)


@pytest.mark.parametrize("cut", [False, True], ids=["flipped", "cut short"])
@pytest.mark.parametrize("scene", [scene.__name__ for scene in SCENES])
def test_damage_is_told_or_changes_nothing_and_what_failed_stays_out(
    scenes, scene, cut, tmp_path, times, record_property
):
    folder, before = scenes[scene]
    whole = seen(_copied(folder, tmp_path / "whole"), _fresh(before))
    assert not whole.told, "nothing is damaged yet"
    cases = times(5, 63) if cut else times(18, 250)
    record_property("cases", cases)
    chance = random.Random(f"{scene} {cut}")
    for case in range(cases):
        copy = _copied(folder, tmp_path / "damaged")
        files = [p for p in sorted(copy.rglob("*")) if p.is_file() and p.name not in NOT_RECORDS and p.stat().st_size]
        path = chance.choice(files)
        damaged(path, chance, cut=cut)
        found = seen(copy, _fresh(before))
        where = f"{scene}, case {case}: {path.name}"
        assert not found.oracle.wrong, where
        if path.suffix not in EDITABLE:
            assert found.told or found.shown == whole.shown, where


def _copied(folder: Path, target: Path) -> Path:
    shutil.rmtree(target, ignore_errors=True)
    shutil.copytree(folder, target)
    return target


def _fresh(before: Oracle) -> Oracle:
    """Return an oracle that knows what happened until now."""
    after = Oracle()
    after.now, after.failed, after.requests = before.now, [*before.failed], [*before.requests]
    after.applied = dict(before.applied)
    return after


def test_scenes_are_what_their_names_say(scenes):
    assert len(scenes) == 8
    assert scenes["went_wrong"][1].failed
    assert scenes["froze_in_a_run"][1].failed
    assert not scenes["cleared"][1].failed
    assert PLANES.keys() == {"core-offset", "cache-offset"}
