"""Putting settings in force: the machine ends as asked or exactly as before, whatever fails on the way."""

import errno

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from support import EVERY_ERRNO, FaultyFiles, SimulatedSession, awake_files, backend_of, fresh_machine, put, write_tree
from upright_bolt.app import open_session
from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths
from upright_bolt.kernel.gpu.gpus import find_cards
from upright_bolt.kernel.survey import machine_files, survey
from upright_bolt.model.control import ControlState, Value
from upright_bolt.settings import apply
from upright_bolt.text.notes import about
from upright_bolt.text.trials import refusal, row_sentence

ASKED: dict[str, Value] = {
    "governor": "performance", "turbo": "off", "clock-min": 1200.0, "clock-max": 2000.0, "window": 14.0,
    "sustained": 25.0, "burst": 30.0, "core-offset": -80.0, "cache-offset": -60.0,
}  # fmt: skip
MIXES: tuple[dict[str, Value], ...] = (
    ASKED,
    {"epp": 96.0, "sustained": 12.0},
    {"clock-min": 1500.0, "clock-max": 1800.0},
    {"burst": 20.0, "turbo": "off", "epp": 200.0},
)


def machine_texts(twin) -> dict[str, str]:
    files = register_files(twin)
    return {path: files.read(path).decode() for path in [*awake_files(twin), *paths.OFFSETS]}


def register_files(twin):
    return machine_files(twin.files, twin.registers, find_cards(twin.files))


def is_as_asked(drivers, asked) -> bool:
    return all(drivers[name].same(value, drivers[name].read()) for name, value in asked.items())


def put_on(twin, asked, files=None):
    backend = backend_of(twin, files)
    return backend.drivers, put(backend, asked)


@pytest.mark.parametrize("asked", MIXES)
def test_settings_are_read_back_and_reported(asked):
    twin = fresh_machine()
    drivers, report = put_on(twin, asked)
    assert report.ok
    assert is_as_asked(drivers, asked)
    assert [row.name for row in report.rows] == list(asked)
    for row in report.rows:
        assert row.got == drivers[row.name].read()


def test_rounding_is_told():
    twin = fresh_machine()
    _, report = put_on(twin, {"window": 14.0, "sustained": 25.06})
    rows = {row.name: row for row in report.rows}
    assert rows["sustained"].got == 25.0
    assert "Kept as 25 W" in row_sentence(rows["sustained"])
    assert rows["window"].got < 14.0
    assert "nearest step" in row_sentence(rows["window"])


@pytest.mark.parametrize("asked", MIXES)
@pytest.mark.parametrize("number", EVERY_ERRNO)
def test_a_failure_at_any_write_leaves_the_machine_as_it_was(asked, number):
    count = _writes_of(asked)
    for n in range(1, count + 1):
        twin = fresh_machine()
        files = FaultyFiles(register_files(twin))
        backend = backend_of(twin, files)
        drivers = backend.drivers
        before_all = machine_texts(twin)
        before = backend.snapshot(asked)
        files.on_write = lambda i, _p, n=n: number if i == n else None
        report = apply.apply_settings(asked, backend, before)
        assert not report.ok
        assert report.left_changed == ()
        assert refusal(report), f"write {n} failed without a sentence"
        assert machine_texts(twin) == before_all, f"write {n} left something behind"
        assert {row.got for row in report.rows} == {drivers[name].read() for name in asked}


def _writes_of(asked) -> int:
    twin = fresh_machine()
    files = FaultyFiles(register_files(twin))
    put_on(twin, asked, files)
    assert files.writes > 1
    return files.writes


@pytest.mark.parametrize("asked", MIXES)
def test_a_write_that_does_not_stick_is_noticed_and_everything_put_back(asked):
    for path in _paths_of(asked):
        twin = fresh_machine()
        files = FaultyFiles(register_files(twin))
        before_all = machine_texts(twin)
        files.on_write = lambda _n, p, path=path: "ignore" if p == path else None
        drivers, report = put_on(twin, asked, files)
        if report.ok:  # one of several processors or copies kept its value, and it was not the one that counts
            assert is_as_asked(drivers, asked)
        else:
            assert machine_texts(twin) == before_all
            assert "the machine holds" in refusal(report)


def test_a_setting_that_a_later_write_moves_is_noticed_and_everything_put_back():
    twin = fresh_machine()
    files = FaultyFiles(register_files(twin))
    before_all = machine_texts(twin)
    asked: dict[str, Value] = {"epp": 96.0, "turbo": "off"}
    drivers = backend_of(twin).drivers
    first, last = (drivers[name].files[0] for name in apply.write_order(asked, drivers))
    old = files.read(first)
    files.on_write = lambda _n, path: register_files(twin).write(first, old) if path == last else None
    _, report = put_on(twin, asked, files)
    assert not report.ok
    assert "the machine holds" in refusal(report)
    assert machine_texts(twin) == before_all


def _paths_of(asked) -> list[str]:
    twin = fresh_machine()
    files = FaultyFiles(register_files(twin))
    put_on(twin, asked, files)
    return sorted({path for path, _ in files.wrote})


def test_a_failure_that_also_forbids_putting_back_names_the_files():
    twin = fresh_machine()
    files = FaultyFiles(register_files(twin))
    files.on_write = lambda n, _p: errno.EIO if n >= 2 else None
    _, report = put_on(twin, {"sustained": 25.0}, files)
    assert not report.ok
    assert report.left_changed == ("/sys/class/powercap/intel-rapl-mmio:0/constraint_0_power_limit_uw",)
    assert f"could not be put back and hold something else: {report.left_changed[0]}." in refusal(report)


def test_a_file_that_cannot_be_read_back_counts_as_failed():
    twin = fresh_machine()
    files = FaultyFiles(register_files(twin))
    backend = backend_of(twin, files)
    before = backend.snapshot(["turbo"])
    wrote = []
    files.on_write = lambda _n, path: wrote.append(path)
    files.on_read = lambda _n, path: errno.EIO if path in wrote and len(wrote) == 1 else None
    report = apply.apply_settings({"turbo": "off"}, backend, before)
    assert not report.ok
    assert "cannot be read back" in refusal(report)


def test_what_is_already_so_is_not_written():
    twin = fresh_machine()
    files = FaultyFiles(register_files(twin))
    _, report = put_on(twin, {"sustained": 18.0, "turbo": "on", "governor": "powersave"}, files)
    assert report.ok
    assert files.writes == 0


@settings(max_examples=60, deadline=None)
@given(st.tuples(st.integers(8, 42), st.integers(8, 42)), st.tuples(st.integers(8, 42), st.integers(8, 42)))
def test_both_clock_bounds_reach_any_pair_from_any_pair(first, second):
    twin = fresh_machine()
    for pair in (first, second):
        low, high = sorted(pair)
        asked = {"clock-min": low * 100.0, "clock-max": high * 100.0}
        drivers, report = put_on(twin, asked)
        assert report.ok, refusal(report)
        assert is_as_asked(drivers, asked)


@settings(max_examples=40, deadline=None)
@given(st.lists(st.sampled_from(range(len(MIXES))), min_size=1, max_size=4), st.booleans())
def test_restoring_undoes_any_chain_of_changes(chain, performance):
    twin = fresh_machine()
    if performance:
        put_on(twin, {"governor": "performance"})
    backend = backend_of(twin)
    drivers = backend.drivers
    before_all = machine_texts(twin)
    before = backend.snapshot(name for name in drivers if drivers[name].facts().state is ControlState.SETTABLE)
    for index in chain:
        asked = {
            k: v for k, v in MIXES[index].items() if not (k == "epp" and drivers["governor"].read() == "performance")
        }
        put(backend, asked)
    assert backend.restore(before) == ()
    assert machine_texts(twin) == before_all


@pytest.mark.parametrize(
    ("asked", "words"),
    [
        ({"governor": "performance", "epp": 96.0}, "keeps it at 0"),
        ({"clock-min": 3000.0, "clock-max": 2000.0}, "lie above the highest"),
        ({"clock-max": 700.0}, "800 MHz to 4.20 GHz"),
        ({"turbo": "off", "clock-max": 3200.0}, "base clock is 2.40 GHz"),
        ({"sustained": 61.0}, "6 W to 60 W"),
        ({"governor": "ondemand"}, "not among performance, powersave"),
    ],
)
def test_what_can_never_be_is_refused_before_anything_is_written(on_tern: SimulatedSession, asked, words):
    report = on_tern.session.try_settings({"window": 10.0, **asked}, standing=False)
    assert not report.ok
    assert report.bad_input
    assert words in refusal(report)
    assert "Not written" not in refusal(report)
    assert on_tern.current_values("window") == pytest.approx(27.98, abs=0.01)
    assert on_tern.engine.trial is None


def test_a_preference_under_performance_says_what_to_do(on_tern: SimulatedSession):
    assert on_tern.session.try_settings({"governor": "performance"}, standing=True).ok
    report = on_tern.session.try_settings({"epp": 96.0}, standing=True)
    assert "governor=powersave" in refusal(report)
    assert on_tern.session.try_settings({"governor": "powersave", "epp": 96.0}, standing=True).ok
    on_tern.session.revert()
    assert (on_tern.current_values("governor"), on_tern.current_values("epp")) == ("powersave", 128.0)


@pytest.mark.parametrize(
    ("number", "words"),
    [
        (errno.EBUSY, "governor is performance"),
        (errno.EINVAL, "takes only the named values"),
        (errno.EACCES, "root rights"),
        (errno.EPERM, "does not permit"),
        (errno.ENOSPC, "No space left"),
    ],
)
def test_every_refusal_of_the_kernel_becomes_a_sentence(number, words):
    twin = fresh_machine()
    driver = survey(twin.files, twin.registers, "x").controls["epp"]
    assert words in about("epp", driver.refusal(FileFault("/sys/x", number)))


def test_turbo_held_off_by_firmware_says_so():
    twin = fresh_machine()
    files = FaultyFiles(register_files(twin))
    files.on_write = lambda _n, path: errno.EPERM if path.endswith("no_turbo") else None
    _, report = put_on(twin, {"turbo": "off"}, files)
    assert refusal(report) == "Turbo: the firmware has it switched off; look in the firmware setup."


def test_settings_reach_the_files_of_a_folder(tmp_path):
    root = write_tree(fresh_machine(), tmp_path / "tree")
    session = open_session(f"tree:{root}", tmp_path / "data", "a test", exclusive=True)
    assert session.try_settings({"sustained": 25.0, "epp": 128.0}, standing=False).ok
    assert (root / "sys/class/powercap/intel-rapl:0/constraint_0_power_limit_uw").read_text() == "25000000"
    session.close()
    assert (root / "sys/class/powercap/intel-rapl:0/constraint_0_power_limit_uw").read_text() == "18000000"
