"""A twin's graphics chip behind its vendor's library: set, refused, put back and worked with like any other."""

import pytest

from support import SimulatedSession
from upright_bolt.analysis.validation.evidence import evidence
from upright_bolt.errors import BadInput
from upright_bolt.model.constraint import ORDER, Constraint
from upright_bolt.model.control import ControlState
from upright_bolt.model.work import Options
from upright_bolt.session.chip_wake import wake
from upright_bolt.session.session import SAMPLE_S
from upright_bolt.text.trials import refusal

MACHINE = "twin:tern-two-rails"
MOVED = {
    "gpu03.power-limit": 30.0, "gpu03.clock-offset": 120.0, "gpu03.memory-offset": 400.0, "gpu03.heat-target": 75.0,
    "gpu03.highest-clock": 2000.0,
}  # fmt: skip


@pytest.fixture
def twin(data):
    made = SimulatedSession(data, MACHINE)
    yield made
    made.close()


def chip_of(twin):
    return twin.twin.physics.graphics.chips[1]


def woken(twin):
    wake(twin.session.machine.files, twin.session.machine.clock, "gpu03")
    return chip_of(twin)


def set_to(twin, settings):
    woken(twin)
    assert twin.session.try_settings(settings, standing=False).ok


def rendered(twin, seconds=120.0):
    return twin.run(seconds, workload="graphics", options=Options(chip="gpu03"))


def test_a_sleeping_one_is_woken_by_the_bus_alone_since_its_driver_has_no_files(twin):
    assert chip_of(twin).state.asleep
    assert {c.state for n, c in twin.session.controls().items() if n.startswith("gpu03.")} == {ControlState.ASLEEP}
    assert not woken(twin).state.asleep
    with pytest.raises(BadInput, match="no such graphics chip"):
        wake(twin.session.machine.files, twin.session.machine.clock, "gpu99")


def test_everything_is_set_read_back_and_put_back(twin):
    chip = woken(twin)
    own = {name: twin.session.current_values()[name] for name in MOVED}
    assert twin.session.try_settings(MOVED, standing=False).ok
    assert {name: twin.session.current_values()[name] for name in MOVED} == MOVED
    state = chip.state
    assert (state.limit_w, state.clock_offset_mhz, state.memory_mhz) == (30.0, 120.0, 6400.0)
    assert (state.heat_target_c, state.clocks_mhz[1], state.locked) == (75.0, 2000.0, True)
    twin.session.revert()
    assert {name: twin.session.current_values()[name] for name in MOVED} == own
    assert (state.clock_offset_mhz, state.locked) == (0.0, False)


def test_another_process_knows_which_clocks_this_program_has_locked_and_blames_nobody(bolt):
    on = MACHINE
    done = bolt("set", "--wake", "gpu03.highest-clock=2.2GHz", "gpu03.clock-offset=100MHz", on=on)
    assert done.returncode == 0, done.stderr
    assert "No longer in force" not in bolt("status", on=on).stdout
    assert bolt("set", "--wake", "gpu03.lowest-clock=700MHz", on=on).returncode == 0
    stands = bolt("status", on=on).stdout
    assert "gpu03.highest-clock 2.20 GHz" in stands
    assert "No longer in force" not in stands
    back = bolt("put-back", on=on).stdout
    assert "gpu03.lowest-clock 500 MHz, gpu03.highest-clock 2.50 GHz" in back


@pytest.mark.parametrize(
    ("name", "value"),
    [("power-limit", 90.0), ("clock-offset", 700.0), ("memory-offset", 2000.0), ("heat-target", 95.0)],
)
def test_what_lies_outside_its_ranges_is_said_and_changes_nothing(twin, name, value):
    woken(twin)
    before = twin.session.current_values()
    report = twin.session.try_settings({f"gpu03.{name}": value}, standing=False)
    assert not report.ok
    assert "outside" in refusal(report)
    assert twin.session.current_values() == before


def test_at_a_locked_clock_an_offset_lowers_the_voltage_and_without_one_raises_the_clock(twin):
    stock = rendered(twin)
    set_to(twin, {"gpu03.highest-clock": 2200.0})
    locked = rendered(twin)
    set_to(twin, {"gpu03.clock-offset": 150.0})
    lowered = rendered(twin)
    assert lowered.end.score == pytest.approx(locked.end.score, rel=0.01)
    assert lowered.end.numbers.extra["graphics_w"] < 0.87 * locked.end.numbers.extra["graphics_w"]
    twin.session.revert()
    set_to(twin, {"gpu03.clock-offset": 100.0, "gpu03.power-limit": 60.0})
    faster = rendered(twin)
    assert faster.end.score > 1.02 * stock.end.score
    assert not faster.errors


def test_a_heat_target_and_a_power_limit_hold_it_and_are_named(twin):
    set_to(twin, {"gpu03.power-limit": 25.0})
    assert held_by(twin) is Constraint.POWER
    twin.session.revert()
    set_to(twin, {"gpu03.heat-target": 65.0})
    assert held_by(twin) is Constraint.HEAT
    assert chip_of(twin).state.die_c < 68.0


def held_by(twin):
    record = rendered(twin, 240.0)
    _, columns = twin.store.telemetry(record.id)
    return ORDER[int(columns["held_by"][-1])]


def test_too_high_an_offset_shows_as_wrong_frames(twin):
    set_to(twin, {"gpu03.highest-clock": 2300.0, "gpu03.clock-offset": 310.0})
    wrong = rendered(twin, 240.0)
    assert wrong.errors
    blamed = {name for name, found in evidence([wrong], MACHINE).items() if found[0].broke}
    assert blamed == {"gpu03.clock-offset"}  # not what was as it always is


def test_a_reset_by_the_driver_forgets_what_was_set(twin):
    set_to(twin, MOVED)
    chip = chip_of(twin)
    chip.reset()
    twin.pass_time(SAMPLE_S)
    assert (chip.state.clock_offset_mhz, chip.state.heat_target_c, chip.state.locked) == (0.0, 0.0, False)
