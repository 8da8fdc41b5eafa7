"""A search cut off at every step of a rung, by the end of its program and by the end of the machine's power."""

import json
import os
import shutil
import signal
import subprocess
import sys

import pytest

from search_support import BOTH, SearchScene
from upright_bolt import checksummed_log as seals
from upright_bolt.model.search import Outcome, Purpose, Why
from upright_bolt.session.stability_search import ActiveSearch
from upright_bolt.settings.backend import Backend
from upright_bolt.store import search_log
from waiting import until

RUNG = 4
"""The rung that is cut off: the second with a setting of its own."""
TICKS = 3
MOST_STEPS = 60
TWO_RAILS = "twin:tern-two-rails#500"
"""An individual whose core goes further down than its cache."""


class Cut(BaseException):
    """The end of the program, or of the power."""


class Steps:
    """Counts what happens within one rung, and ends it all at one of the steps."""

    def __init__(self, monkeypatch, at: int, rung: int) -> None:
        self._at = at
        self._rung = rung
        self._count = 0
        self._ticks = 0
        self.counting = False
        self.name = ""
        self.opened = self.closed = False
        monkeypatch.setattr(seals, "append", self._appending(seals.append))
        monkeypatch.setattr(Backend, "write", self._around("write", Backend.write))
        monkeypatch.setattr(ActiveSearch, "_look_at", self._ticking(ActiveSearch._look_at))
        monkeypatch.setattr(ActiveSearch, "_put_back", self._around("put back", ActiveSearch._put_back))

    def step(self, name: str) -> None:
        if not self.counting:
            return
        self._count += 1
        if self._count == self._at:
            self.name = name
            self.counting = False
            raise Cut(name)

    def _around(self, name, call):
        def wrapped(*given, **named):
            self.step(f"before {name}")
            result = call(*given, **named)
            self.step(f"after {name}")
            return result

        return wrapped

    def _ticking(self, look_at):
        def wrapped(search, run, sample):
            if self.counting:
                self._ticks += 1
                if self._ticks <= TICKS:
                    self.step("in the load")
            look_at(search, run, sample)

        return wrapped

    def _appending(self, append):
        def wrapped(path, lines):
            kind = "record" if path.name == search_log.FILE else "journal"
            of_rung = kind == "record" and b'"number":%d' % self._rung in lines
            opens = of_rung and b'"rung_end":null' in lines and b'"rung":{' in lines
            closes = kind == "record" and b'"rung_end":{' in lines and b'"number":%d' % self._rung in lines
            self.counting = self.counting or (opens and not self.opened)
            self.step(f"before the {kind}")
            if self.counting and self._count + 1 == self._at:
                with path.open("ab") as file:
                    file.write(lines[: len(lines) // 2])
            self.step(f"in the middle of the {kind}")
            size = append(path, lines)
            self.opened, self.closed = self.opened or opens, self.closed or closes
            self.step(f"after the {kind}")
            return size

        return wrapped


def cut_off(monkeypatch, scene, search, at: int, rung: int) -> Steps | None:
    """Go on with a search to its rung ``rung``, and cut that off at its step ``at``; None if it has no such step."""
    with monkeypatch.context() as patched:
        steps = Steps(patched, at, rung)
        try:
            scene.carry_on(search, stop_at=rung)
        except Cut:
            return steps
    scene.twin.close()
    return None


@pytest.mark.parametrize("end", ["kill", "cut_power"])
def test_a_rung_cut_off_at_any_step_leaves_stock_and_its_outcome(tmp_path, monkeypatch, end):
    names: list[str] = []
    for at in range(1, MOST_STEPS):
        scene = SearchScene(tmp_path / str(at))
        search = scene.ask(plain_step=20.0, soak_s=0.0)
        steps = cut_off(monkeypatch, scene, search, at, RUNG)
        if steps is None:
            break
        names.append(steps.name)
        before = scene.log.get(search.asked.id)
        getattr(scene, end)()
        assert scene.offsets() == {0.0}, steps.name
        assert scene.session.status().trial is None
        found = search_log.recover(scene.log, scene.session.boot_id)
        assert found is not None
        assert scene.log.unreadable == 0, "a torn line is none that was acknowledged"
        assert [found.ends[number].outcome for number in (1, 2, 3)] == [Outcome.PASSED] * 3
        assert len(found.rungs) == (RUNG if steps.opened else RUNG - 1), steps.name
        if steps.closed:
            assert found.ends[RUNG].outcome is Outcome.PASSED
        elif steps.opened:
            assert found.ends[RUNG].outcome is (Outcome.FROZE if end == "cut_power" else Outcome.STOPPED), steps.name
            assert before.open_rung is not None
        if at % 6 == 1:
            resumed = scene.carry_on(stop_at=len(found.ends) + 1)
            assert len(resumed.rungs) > len(found.rungs)
            assert resumed.end is None
        assert scene.offsets() == {0.0}
        scene.twin.close()
    assert {"before the record", "in the middle of the record", "after the record", "before the journal"} <= set(names)
    assert {"before write", "after write", "in the load", "before put back", "after put back"} <= set(names)


@pytest.fixture(scope="module")
def near_apart(tmp_path_factory):
    """Return a data folder with a search that goes on with a rung of one control alone, the other held."""
    folder = tmp_path_factory.mktemp("apart")
    scene = SearchScene(folder, TWO_RAILS)

    def one_is_made(search):
        return any(
            rung.controls and rung.purpose is Purpose.TEST for rung in search.rungs if rung.number in search.ends
        )

    found = scene.carry_on(scene.ask(plain_step=20.0, soak_s=0.0), stop_when=one_is_made)
    assert found.end is None
    scene.twin.die()
    scene.twin.store.close()
    return folder


@pytest.mark.parametrize("end", ["kill", "cut_power"])
def test_a_rung_of_one_control_alone_cut_off_at_any_step_leaves_stock_too(tmp_path, monkeypatch, near_apart, end):
    names: list[str] = []
    for at in range(1, MOST_STEPS):
        folder = tmp_path / str(at)
        shutil.copytree(near_apart, folder)
        scene = SearchScene(folder, TWO_RAILS)
        search = search_log.recover(scene.log, scene.session.boot_id)
        rung = len(search.rungs) + 2  # after the warm-up of a new start
        steps = cut_off(monkeypatch, scene, search, at, rung)
        if steps is None:
            break
        names.append(steps.name)
        getattr(scene, end)()
        assert scene.offsets() == {0.0}, steps.name
        assert scene.session.status().trial is None
        found = search_log.recover(scene.log, scene.session.boot_id)
        assert len(found.rungs) == (rung if steps.opened else rung - 1), steps.name
        if steps.opened:
            cut = found.rungs[-1]
            (held,) = set(BOTH) - set(cut.controls)
            assert float(cut.settings[held]) < 0.0
            outcome = found.ends[rung].outcome
            if steps.closed:
                assert outcome in (Outcome.PASSED, Outcome.WRONG), steps.name
            else:
                assert outcome is (Outcome.FROZE if end == "cut_power" else Outcome.STOPPED), steps.name
        scene.twin.close()
        shutil.rmtree(folder)
    assert {"before the record", "before the journal", "before write", "after write", "in the load"} <= set(names)
    assert {"before put back", "after put back"} <= set(names)
    assert names.count("before write") >= 4, "each of the planes that it sets, and each that it puts back"


@pytest.mark.parametrize("damage", ["flipped", "missing", "cut short", "torn"])
def test_a_damaged_record_means_stock_and_is_told(tmp_path, damage):
    scene = SearchScene(tmp_path)
    search = scene.carry_on(scene.ask(plain_step=20.0, soak_s=0.0), stop_at=4)
    path = scene.folder / search_log.FILE
    lines = path.read_bytes().splitlines(keepends=True)
    if damage == "flipped":
        lines[4] = lines[4].replace(b"passed", b"passes")
    elif damage == "missing":
        del lines[4]
    elif damage == "cut short":
        lines[-1] = lines[-1][: len(lines[-1]) // 2]
    else:
        lines.append(lines[-1][: len(lines[-1]) // 2])  # of the next entry, which was never acknowledged
    path.write_bytes(b"".join(lines))
    found = scene.log.get(search.asked.id)
    if damage == "torn":
        assert found == search
    else:
        assert found.end is not None
        assert found.end.why is Why.DAMAGED
        assert found.kept_at == 0.0
        assert scene.log.open_search() is None
    assert bool(scene.log.unreadable) == (damage != "torn")
    scene.twin.close()


def test_a_last_line_whose_end_alone_is_damaged_counts_and_the_next_one_follows_it(tmp_path):
    scene = SearchScene(tmp_path)
    search = scene.carry_on(scene.ask(plain_step=20.0, soak_s=0.0), stop_at=4)
    path = scene.folder / search_log.FILE
    path.write_bytes(path.read_bytes()[:-1] + b"x")
    assert scene.log.get(search.asked.id) == search
    resumed = scene.carry_on(stop_at=5)
    assert [resumed.ends[number] for number in (1, 2, 3, 4)] == [search.ends[number] for number in (1, 2, 3, 4)]
    assert scene.log.unreadable == 0
    scene.twin.close()


@pytest.mark.parametrize("meanwhile", ["grows", "is written anew"])
def test_a_record_that_changes_while_it_is_read_is_not_called_damaged(tmp_path, monkeypatch, meanwhile):
    scene = SearchScene(tmp_path)
    search = scene.carry_on(scene.ask(plain_step=20.0, soak_s=0.0), stop_at=4)
    read, log = seals.read_bounded, scene.log.log
    first = log.read().entries[0]

    def read_while_another_process_writes(path, most):
        if meanwhile == "grows":
            content = read(path, most)
            log.append(first)
        else:
            log.rewrite([first])
            content = read(path, most)
        return content

    monkeypatch.setattr(seals, "read_bounded", read_while_another_process_writes)
    lines = log.read()
    assert lines.unreadable == 0
    assert lines.entries[0].asked == search.asked
    scene.twin.close()


@pytest.mark.parametrize("lines", [3, 8, 13])
def test_the_whole_process_group_killed_leaves_stock_and_a_search_to_go_on_with(bolt, data, lines):
    record = data / "machines" / "twin-tern" / search_log.FILE
    command = [sys.executable, "-m", "upright_bolt", "--machine", "twin:tern", "--data", str(data)]
    process = subprocess.Popen(
        [*command, "edge", "--soak", "6h"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True
    )
    try:
        until(lambda: process.poll() is not None or (record.exists() and record.read_bytes().count(b"\n") >= lines))
    finally:
        os.killpg(process.pid, signal.SIGKILL)
        process.wait()
    assert process.returncode == -signal.SIGKILL
    whole = record.read_bytes().count(b"\n")
    assert "No trial is running" in bolt("status").stdout
    controls = {c["name"]: c["current"] for c in json.loads(bolt("machine", "--json").stdout)["controls"]}
    assert {controls[name] for name in BOTH} == {0.0}
    found = json.loads(bolt("edge", "status", "--json").stdout)
    assert found["state"] == "goes on"
    assert record.read_bytes().count(b"\n") == whole, "telling writes nothing"
    assert bolt("edge", "stop").returncode == 0
    assert json.loads(bolt("edge", "status", "--json").stdout)["state"] == "stopped"
