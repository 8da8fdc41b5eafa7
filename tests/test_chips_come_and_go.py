"""Graphics chips that are plugged in and unplugged while a machine is in use: sensors, session, service, window."""

from contextlib import closing
from pathlib import Path

import pytest

from support import write_tree
from test_graphics_controls import amd, put_files
from upright_bolt.app import open_session
from upright_bolt.kernel.clock import RealClock
from upright_bolt.kernel.machine_ports import MachinePorts
from upright_bolt.kernel.ports import NoRegisters, RealFiles
from upright_bolt.model.constraint import Constraint
from upright_bolt.model.event import ChipsChanged
from upright_bolt.model.sample import Sample, value_of
from upright_bolt.service.client import ServiceAccess
from upright_bolt.session.numbers import number_rows
from upright_bolt.settings.backend import Backend
from upright_bolt.simulator.machine import open_simulated
from upright_bolt.text.events import sentence
from window_support import until

READINGS = {"hwmon/hwmon4/power1_average": "12000000", "hwmon/hwmon4/temp1_input": "41000"}
DOCKED = amd(2, "0000:3d:00.0", removable="removable", **READINGS)


@pytest.fixture
def tree(tmp_path):
    """Return a copy of tern, with its own chip."""
    return write_tree(open_simulated("tern", None), tmp_path / "copy")


def unplug(tree: Path) -> None:
    (tree / "sys/class/drm/card2").rename(tree / "away")


def plug_again(tree: Path) -> None:
    (tree / "away").rename(tree / "sys/class/drm/card2")


def open_files() -> int:
    return len(list(Path("/proc/self/fd").iterdir()))


def test_sensors_of_a_chip_that_comes_later_stand_at_the_end_and_all_keep_their_places(tree):
    backend = Backend(MachinePorts("tree", RealFiles(tree), NoRegisters(), RealClock(), settle_s=0.0))
    before, first = backend.about, backend.sample()
    for _ in range(3):
        backend.look_at_processors()
    assert backend.about is before
    put_files(tree, DOCKED)
    backend.look_at_processors()
    about = backend.about
    assert about.survey == before.survey + 1
    assert about.sensors[: len(before.sensors)] == before.sensors
    assert {sensor.name.partition(".")[0] for sensor in about.sensors[len(before.sensors) :]} == {"gpu3d"}
    assert {chip.part for chip in about.chips} == {"gpu00-02", "gpu03", "gpu3d"}
    sample = backend.sample()
    assert len(sample.values) == len(about.sensors)
    for name in ("temperature.package", "limit.sustained", "gpu03.temperature"):
        assert value_of(sample, about.index, name) == value_of(first, before.index, name)
    assert value_of(sample, about.index, "gpu3d.power") == 12.0
    assert value_of(sample, about.index, "gpu3d.temperature") == 41.0
    unplug(tree)
    backend.look_at_processors()
    assert backend.about.sensors == about.sensors
    assert [chip.part for chip in backend.about.chips] == ["gpu00-02", "gpu03"]
    gone = backend.sample()
    assert value_of(gone, about.index, "gpu3d.power") is None
    assert value_of(gone, about.index, "limit.sustained") == value_of(first, before.index, "limit.sustained")
    backend.close()


def test_a_chip_that_comes_and_goes_many_times_leaves_no_file_open(tree):
    put_files(tree, DOCKED)
    backend = Backend(MachinePorts("tree", RealFiles(tree), NoRegisters(), RealClock(), settle_s=0.0))
    backend.sample()
    opened = open_files()
    for _ in range(5):
        unplug(tree)
        backend.look_at_processors()
        backend.sample()
        plug_again(tree)
        backend.look_at_processors()
        assert value_of(backend.sample(), backend.about.index, "gpu3d.power") == 12.0
    assert open_files() == opened
    backend.close()


def test_a_processor_that_goes_offline_has_nothing_opened_anew(tree):
    backend = Backend(MachinePorts("tree", RealFiles(tree), NoRegisters(), RealClock(), settle_s=0.0))
    about = backend.about
    online = tree / "sys/devices/system/cpu/online"
    whole = online.read_text()
    for text in ("0-1\n", whole):
        online.write_text(text)
        backend.look_at_processors()
        backend.sample()
    assert backend.about is about
    backend.close()


def test_a_run_keeps_the_columns_that_it_began_with():
    later = Sample(1.0, [1.0, None, 3.0], Constraint.POWER, ())
    assert number_rows(later, 2)[:1] == [1.0]
    assert len(number_rows(later, 2)) == len(number_rows(Sample(0.0, [1.0, 2.0], Constraint.POWER, ()), 2)) == 3


def test_a_session_tells_which_chip_came_and_went_and_samples_it(tree, data):
    session = open_session(f"tree:{tree}", data, "a test", exclusive=True)
    told = []

    def look():
        session.status()
        tick = session.tick()
        told.extend(event for event in tick.events if isinstance(event, ChipsChanged))
        return tick.sample

    look()
    put_files(tree, DOCKED)
    look()
    assert value_of(look(), session.index, "gpu3d.power") == 12.0
    assert "gpu3d.power-limit" in session.controls()
    unplug(tree)
    look()
    assert value_of(look(), session.index, "gpu3d.power") is None
    assert [(event.came, event.went) for event in told] == [(("gpu3d",), ()), ((), ("gpu3d",))]
    assert [sentence(event) for event in told] == [
        "Graphics chip gpu3d was plugged in",
        "Graphics chip gpu3d was unplugged",
    ]
    session.close()


def test_through_the_service_a_chip_is_taken_in_and_let_go_too(bus, tree):
    bus.start_polkit()
    bus.start_service(on=f"tree:{tree}")
    with closing(ServiceAccess()) as access:
        before = access.about
        access.status()
        assert access.about is before
        put_files(tree, DOCKED)
        access.status()
        assert {chip.part for chip in access.about.chips} == {"gpu00-02", "gpu03", "gpu3d"}
        assert value_of(access.sample(), access.about.index, "gpu3d.temperature") == 41.0
        unplug(tree)
        access.status()
        assert [chip.part for chip in access.about.chips] == ["gpu00-02", "gpu03"]


def test_the_window_shows_a_chip_that_is_plugged_in_and_keeps_what_was_typed(tree, open_app):
    app = open_app(f"tree:{tree}")
    app.presenter.draft_values({"turbo": "off"})
    first = app.window
    first.show_view("machine")
    put_files(tree, DOCKED)
    until(lambda: app.window is not first)
    assert "gpu3d" in {chip.part for chip in app.presenter.outline.about.chips}
    assert app.window.view == "machine"
    assert app.presenter.outcome == "Graphics chip gpu3d was plugged in."
    assert app.presenter.draft == {"turbo": "off"}
    until(lambda: "gpu3d.power-limit" in app.presenter.controls)
    rows = len(app.presenter.history)
    until(lambda: len(app.presenter.history) > rows)
    second = app.window
    unplug(tree)
    until(lambda: app.window is not second)
    assert app.presenter.outcome == "Graphics chip gpu3d was unplugged."
    assert "gpu3d.power-limit" not in app.presenter.controls
