"""Less voltage for the same clock: pairs seen under load, what is worked out from them, and where people meet it."""

import json

import numpy as np
import pytest

from command_process import run_command
from support import SimulatedSession
from upright_bolt.analysis.clock_voltage import (
    Curve,
    Pair,
    clocks_to_measure,
    curve_of,
    flat_and_quiet,
    same_clock,
    same_speed,
)
from upright_bolt.errors import BadInput, Refused
from upright_bolt.model.work import Options
from upright_bolt.presentation.gpu_curve import read_curve
from upright_bolt.text.clock_voltage import no_ladder
from waiting import within
from window_support import QTest, until

CHIP = "gpu03"
CLOCKS = (1200.0, 1600.0, 1900.0, 2100.0, 2300.0)


def worked(twin, settings, weight="heavy", seconds=20.0):
    session = twin.session
    if settings:
        from upright_bolt.session.chip_wake import wake_for

        wake_for(session, settings)
        assert session.try_settings(settings, standing=False).ok
    record = twin.run(seconds, "a curve", workload="graphics", options=Options(chip=CHIP, weight=weight))
    if settings:
        session.revert("a test")
    return record


def told(data, *words):
    return run_command(["--machine", "twin:tern", "--data", str(data), "curve", *words], within(120.0))


@pytest.fixture(scope="module")
def measured(tmp_path_factory):
    """Return a data folder with a ladder of clocks at stock voltages, and the curve that it shows."""
    data = tmp_path_factory.mktemp("curve")
    twin = SimulatedSession(data)
    for mhz in CLOCKS:
        worked(twin, {f"{CHIP}.highest-clock": mhz})
    curve = read_curve(twin.store, "twin:tern", CHIP)
    from upright_bolt.session.chip_wake import wake

    wake(twin.session.machine.files, twin.session.machine.clock, CHIP)
    controls = twin.session.controls()
    spec = twin.twin.physics.graphics.chips[1].spec
    twin.close()
    return data, curve, controls, spec


def test_the_pairs_seen_are_the_chips_own(measured):
    _, curve, _, spec = measured
    assert len(curve.stock) >= len(CLOCKS)
    for pair in curve.stock:
        assert pair.volts == pytest.approx(spec.volts(pair.clock_mhz), abs=0.012)
    assert [pair.watts for pair in curve.stock] == sorted(pair.watts for pair in curve.stock)


def test_a_clock_at_the_voltage_of_a_lower_one_is_an_offset_and_a_cap(measured):
    _, curve, controls, spec = measured
    asked = same_clock(curve, controls, CHIP, 2100.0, 1900.0)
    wanted = 1000.0 * (spec.volts(1900.0) - spec.volts(2100.0))
    assert asked.settings[f"{CHIP}.voltage-offset"] == pytest.approx(wanted, abs=15.0)
    assert asked.settings[f"{CHIP}.highest-clock"] == 2100.0
    assert 0.5 < asked.watts_part < 0.8


def test_what_is_promised_comes_out(measured, tmp_path):
    _, curve, controls, _ = measured
    asked = same_clock(curve, controls, CHIP, 2100.0, 1900.0)
    twin = SimulatedSession(tmp_path)
    stock = worked(twin, {}, seconds=40.0).end
    got = worked(twin, asked.settings, seconds=40.0).end
    twin.close()
    part = got.numbers.extra["graphics_w"] / stock.numbers.extra["graphics_w"]
    assert part == pytest.approx(asked.watts_part, abs=0.06)
    assert got.score / stock.score == pytest.approx(asked.frames_part, abs=0.02)
    assert got.numbers.extra["graphics_mhz"] == pytest.approx(2100.0, abs=20.0)


def test_flat_and_quiet_takes_two_thirds_of_the_watts_for_a_tenth_fewer_frames(measured):
    _, curve, controls, _ = measured
    draft = flat_and_quiet(curve, controls, CHIP)
    assert set(draft.settings) == {f"{CHIP}.highest-clock"}
    assert 0.6 < draft.watts_part <= 2.0 / 3.0
    assert 0.84 < draft.frames_part < 0.94


def test_same_speed_asks_for_two_steps_less_voltage_at_the_clock_reached(measured):
    _, curve, controls, _ = measured
    draft = same_speed(curve, controls, CHIP)
    assert draft.settings[f"{CHIP}.voltage-offset"] == pytest.approx(-50.0, abs=3.0)
    assert draft.settings[f"{CHIP}.highest-clock"] >= curve.top.clock_mhz - 1.0
    assert draft.frames_part == pytest.approx(1.0, abs=0.01)


def test_nothing_is_guessed_beyond_what_was_seen(measured):
    _, curve, controls, _ = measured
    with pytest.raises(BadInput, match="700 MHz was not seen under load"):
        same_clock(curve, controls, CHIP, 2100.0, 700.0)
    with pytest.raises(BadInput, match="is not below"):
        same_clock(curve, controls, CHIP, 1900.0, 2100.0)
    with pytest.raises(Refused, match="its curve cannot be moved"):
        same_clock(curve, controls, "gpu00-02", 2100.0, 1900.0)
    assert same_speed(Curve((), {}), controls, CHIP) is None
    assert flat_and_quiet(Curve((), {}), controls, CHIP) is None


def test_a_chip_that_tells_no_voltage_is_moved_by_clocks(measured):
    _, _, controls, _ = measured
    pairs = tuple(Pair(mhz, None, mhz / 50.0, mhz, 20.0) for mhz in CLOCKS)
    offset = f"{CHIP}.clock-offset"
    renamed = {name: control for name, control in controls.items() if not name.endswith("voltage-offset")}
    renamed[offset] = controls[f"{CHIP}.highest-clock"]
    asked = same_clock(Curve(pairs, {}), renamed, CHIP, 1900.0, 1600.0)
    assert asked.settings == {offset: 300.0, f"{CHIP}.highest-clock": 1900.0}
    assert asked.volts is None


def test_what_was_seen_with_the_curve_moved_stands_apart(tmp_path):
    twin = SimulatedSession(tmp_path)
    worked(twin, {f"{CHIP}.voltage-offset": -60.0})
    worked(twin, {})
    curve = read_curve(twin.store, "twin:tern", CHIP)
    twin.close()
    assert list(curve.moved) == [-60.0]
    assert curve.moved[-60.0][0].volts < curve.stock[0].volts - 0.04


def test_samples_of_a_chip_that_has_no_work_are_left_out(tmp_path):
    twin = SimulatedSession(tmp_path)
    record = worked(twin, {})
    time_s, columns = twin.store.telemetry(record.id)
    twin.close()
    idle = dict(columns) | {f"{CHIP}.busy": np.zeros_like(time_s)}
    assert curve_of(CHIP, [(record, time_s, idle)]).stock == ()


def test_the_command_shows_pairs_drafts_and_what_to_type(measured):
    data, _, _, _ = measured
    shown = told(data, CHIP)
    assert "1.20 GHz" in shown.stdout
    assert "set gpu03.voltage-offset=-" in shown.stdout
    assert "Flat and quiet: " in shown.stdout
    asked = told(data, CHIP, "--clock", "2.1GHz", "--as", "1.9GHz", "--json")
    assert json.loads(asked.stdout)["drafts"]["asked"]["settings"]["gpu03.highest-clock"] == 2100.0
    half = told(data, CHIP, "--clock", "2GHz")
    assert half.returncode == 2
    assert "--clock and --as belong together" in half.stderr
    other = told(data, "gpu00-02")
    assert "its curve cannot be moved" in other.stdout


def test_the_window_shows_the_curve_and_takes_a_draft_from_it(open_app, data):
    window = open_app().window
    presenter = window.presenter if hasattr(window, "presenter") else window.workbench._presenter
    from upright_bolt.desktop.workbench.curve_dialog import CurveDialog

    window.workbench.show_curve(CHIP)
    dialog = window.findChild(CurveDialog)
    until(lambda: presenter.chip_curve.curve is not None)
    assert dialog.chart.accessibleDescription() == "No clock of this chip was seen under load yet."
    dialog.chart.show_curve(Curve((Pair(2000.0, None, 40.0, 2000.0, 20.0),), {}), None)
    assert "tells no voltage" in dialog.chart.accessibleDescription()
    dialog.speed.click()
    assert "Too few clocks" in dialog._fault.text()
    assert "It sleeps, so its clocks are not known yet" in dialog._fault.text()
    assert not dialog.measure.isEnabled()
    assert not dialog.draft.isEnabled()
    points = ((1200.0, 0.75), (1800.0, 0.9), (2200.0, 1.08))
    presenter.chip_curve.curve = Curve(tuple(Pair(m, v, m / 50.0, m, 20.0) for m, v in points), {})
    dialog.clock.setText("2.2 GHz")
    dialog.as_clock.setText("1800")
    QTest.qWait(10)
    dialog.work_out.click()
    assert "−180 mV" in dialog._words.text()
    assert not dialog.grab().isNull()
    dialog.clock.setText("fast")
    dialog.work_out.click()
    assert "clock" in dialog._fault.text()
    dialog.clock.setText("2.2 GHz")
    dialog.work_out.click()
    dialog.draft.click()
    assert presenter.draft[f"{CHIP}.voltage-offset"] == -180.0


def test_the_window_measures_the_clocks_that_are_missing(open_app):
    window = open_app().window
    presenter = window.workbench._presenter
    from upright_bolt.desktop.workbench.curve_dialog import CurveDialog

    window.workbench.show_curve(CHIP)
    dialog = window.findChild(CurveDialog)
    until(lambda: presenter.chip_curve.curve is not None)
    presenter.chip_curve.curve = Curve((Pair(2201.0, 1.08, 40.0, 2000.0, 20.0),), {})
    dialog.quiet.click()
    assert "at 5 clocks, from 2.20 GHz down to 1.10 GHz" in dialog.measure.toolTip()
    dialog.measure.click()
    until(lambda: presenter.records.series is not None)
    assert presenter.records.series.count == 6  # five clocks, after one that is not counted
    assert not dialog.isVisible()
    presenter.records.stop_series()
    until(lambda: presenter.records.series is None)


def test_a_chip_without_a_highest_clock_has_no_ladder(measured):
    _, curve, controls, _ = measured
    without = {name: control for name, control in controls.items() if not name.endswith("highest-clock")}
    assert clocks_to_measure(controls, CHIP, curve).count == 5
    assert clocks_to_measure(without, CHIP, curve) is None
    assert "has no highest clock" in no_ladder(CHIP, without)


def test_the_ladder_that_is_named_gives_the_curve(tmp_path):
    def bolt(*words):
        return run_command(["--machine", "twin:skerry", "--data", str(tmp_path), *words], within(120.0))

    named = bolt("curve").stdout.rpartition("Measure some, at its own voltages: ")[2].split()
    assert bolt(*named, "--duration", "20s").returncode == 0
    assert "Flat and quiet: 2.00 GHz" in bolt("curve", "gpuc1").stdout


def test_the_chip_is_asked_for_where_there_are_several(data):
    assert "name one: gpu00-02, gpu03" in told(data).stderr
