"""The three twins: what each offers, how it behaves, and that no failing write leaves any of them half changed."""

import errno

import pytest

from support import EVERY_ERRNO, FaultyFiles, SimulatedSession, awake_files, backend_of, fresh_machine, gap_words
from upright_bolt.errors import FileFault
from upright_bolt.kernel import paths
from upright_bolt.kernel.gpu.gpus import find_cards
from upright_bolt.kernel.survey import machine_files, survey
from upright_bolt.model.catalogue import declaration_of
from upright_bolt.model.control import ControlState
from upright_bolt.model.declaration import Kind
from upright_bolt.settings import apply
from upright_bolt.simulator.chip import TWINS
from upright_bolt.text.notes import sentence
from upright_bolt.text.trials import refusal

NAMES = sorted(TWINS)
BOARD = "/sys/class/firmware-attributes/quayboard/attributes"


def states(name):
    twin = fresh_machine(name)
    found = survey(twin.files, twin.registers, name)
    return {word: driver.facts().state for word, driver in found.controls.items()}, found


def test_skerry_sets_limits_through_its_firmware_and_has_neither_window_nor_offsets():
    by_name, found = states("skerry")
    in_no_table = {"gpuc1.memory-clock", "gpuc1.voltage-offset", "gpuc1.highest-voltage"}
    assert {name for name, state in by_name.items() if state is not ControlState.SETTABLE} == in_no_table
    assert {by_name[name] for name in in_no_table} == {ControlState.ABSENT}
    offsets = {"core-offset", "cache-offset", "gpu-offset", "agent-offset"}
    in_registers = {"current", "clamp", "turbo-table", "hot-signal"}
    assert offsets | in_registers | {"window", "heat-ceiling", "peak", "board", "limiter"} == set(found.absent)
    assert found.controls["sustained"].files == (f"{BOARD}/ppt_pl1_spl/current_value",)
    facts = found.controls["burst"].facts()
    assert (facts.minimum, facts.maximum) == (15.0, 88.0)
    assert found.identity.driver == "amd-pstate-epp"
    assert found.controls["turbo"].files == (paths.BOOST,)


def test_plover_keeps_limits_and_voltages_to_itself():
    by_name, found = states("plover")
    locked = {word for word, state in by_name.items() if state is ControlState.LOCKED}
    assert locked == {"sustained", "burst", "window", "limiter", "clamp", "current"}
    assert by_name["turbo-table"] is ControlState.READ_ONLY
    assert "undervolt protection" in sentence(found.absent["core-offset"])
    assert "fan speed" in gap_words(found.gaps)
    assert {"turbo", "epp", "clock-max", "clock-min", "governor"} <= set(by_name) - locked


def test_preferences_by_name_only_are_refused_by_number_with_the_names(data):
    on_tern = SimulatedSession(data, "twin:skerry")
    report = on_tern.session.try_settings({"sustained": 40.0, "epp": 96.0}, standing=False)
    assert "takes only the named values" in refusal(report)
    assert on_tern.current_values("sustained") == 54.0
    assert on_tern.session.try_settings({"sustained": 40.0, "epp": 192.0}, standing=False).ok
    assert on_tern.current_values("epp") == 192.0
    on_tern.close()


@pytest.mark.parametrize("name", NAMES)
def test_every_twin_runs_bursts_and_settles(data, name):
    on_tern = SimulatedSession(data, f"twin:{name}")
    record = on_tern.run(300, cool_s=60)
    numbers = record.end.numbers
    stock = TWINS[name]().stock
    assert numbers.power_sustained_w == pytest.approx(stock.sustained_w, abs=0.4)
    assert numbers.clock_burst_mhz > numbers.clock_sustained_mhz
    assert numbers.temp_max_c < TWINS[name]().chip.ceiling_c
    assert max(numbers.constraint_share, key=numbers.constraint_share.get) == "sustained limit"
    assert record.errors == ()
    on_tern.close()


def test_a_fanless_machine_has_no_fan_number(data):
    on_tern = SimulatedSession(data, "twin:plover")
    assert on_tern.run(60).end.numbers.fan_sustained_rpm is None
    on_tern.close()


def test_attributes_refuse_what_lies_outside_their_range():
    twin = fresh_machine("skerry")
    for text in (b"200", b"3", b"many"):
        with pytest.raises(FileFault) as fault:
            twin.files.write(f"{BOARD}/ppt_pl1_spl/current_value", text)
        assert fault.value.errno == errno.EINVAL


LOWERED_BY = {"current": 20.0, "peak": 30.0, "board": 30.0}


def other_value(driver):
    """Return a value that the control may take and does not have."""
    facts, now = driver.facts(), driver.read()
    kind = declaration_of(driver.name).kind
    if kind is Kind.TABLE:
        return ",".join(f"{float(part) - 300:g}" for part in now.split(","))
    if driver.name in LOWERED_BY:
        return now - LOWERED_BY[driver.name]
    if kind is not Kind.SCALE:
        return next(choice for choice in facts.choices if choice != now)
    if driver.name == "epp":
        return 192.0 if now != 192.0 else 128.0
    if driver.name == "clock-min":
        return facts.minimum + 300.0
    highest = facts.maximum if facts.maximum is not None else now
    return round(facts.minimum + 0.4 * (highest - facts.minimum))


def contents(twin):
    register_files = machine_files(twin.files, twin.registers, find_cards(twin.files))
    known = [*awake_files(twin), *((*paths.OFFSETS, *paths.REGISTER_BITS) if twin.spec.name == "tern" else ())]
    return {path: register_files.read(path) for path in known}


@pytest.mark.parametrize("number", EVERY_ERRNO)
@pytest.mark.parametrize("name", NAMES)
def test_a_failure_at_any_write_of_any_control_changes_nothing(name, number):
    by_name, _ = states(name)
    tested = 0
    for word, state in by_name.items():
        if state is not ControlState.SETTABLE:
            continue
        n = 0
        while True:
            n += 1
            twin = fresh_machine(name)
            files = FaultyFiles(machine_files(twin.files, twin.registers, find_cards(twin.files)))
            backend = backend_of(twin, files)
            drivers = backend.drivers
            asked = {word: other_value(drivers[word])}
            before_all = contents(twin)
            before = backend.snapshot([word])
            files.on_write = lambda i, _p, n=n: number if i == n else None
            report = apply.apply_settings(asked, backend, before)
            if report.ok:
                assert files.writes < n
                assert drivers[word].same(asked[word], drivers[word].read())
                break
            assert contents(twin) == before_all, f"{word}: write {n} left something behind"
            assert report.left_changed == ()
            tested += 1
    assert tested > 20
