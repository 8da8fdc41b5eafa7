"""Machines that differ as real ones do, built by hand: kinds of cores, older drivers, pinned settings."""

import pytest

from support import SimulatedSession, fresh_machine, gap_words, put
from upright_bolt.kernel import paths
from upright_bolt.kernel.clock import RealClock
from upright_bolt.kernel.machine_ports import MachinePorts
from upright_bolt.kernel.ports import DeviceRegisters, RealFiles
from upright_bolt.kernel.survey import survey
from upright_bolt.model.control import ControlState
from upright_bolt.settings.backend import Backend
from upright_bolt.text.notes import sentence
from upright_bolt.text.trials import row_sentence

CPU = "sys/devices/system/cpu"


def build(root, files):
    for path, text in files.items():
        target = root / path
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(f"{text}\n")
    return survey(RealFiles(root), DeviceRegisters(root), "tree")


def policy(number, low, high, **more):
    values = {
        "scaling_driver": "acpi-cpufreq", "scaling_governor": "ondemand",
        "cpuinfo_min_freq": low, "cpuinfo_max_freq": high,
        "scaling_available_governors": "ondemand performance", "scaling_min_freq": low, "scaling_max_freq": high,
        "scaling_cur_freq": low,
    } | more  # fmt: skip
    return {f"{CPU}/cpufreq/policy{number}/{name}": text for name, text in values.items()}


def put_on(root, asked):
    ports = MachinePorts("tree", RealFiles(root), DeviceRegisters(root), RealClock(), settle_s=0.0)
    return put(Backend(ports), asked)


def test_kinds_of_cores_take_the_nearest_clock_each_allows(tmp_path):
    found = build(tmp_path, policy(0, 800000, 4600000) | policy(1, 600000, 3400000))
    facts = found.controls["clock-max"].facts()
    assert (facts.minimum, facts.maximum) == (600.0, 4600.0)
    assert "Kinds of cores differ" in sentence(facts.note)
    assert put_on(tmp_path, {"clock-max": 4000.0}).ok
    assert (tmp_path / f"{CPU}/cpufreq/policy0/scaling_max_freq").read_text() == "4000000"
    assert (tmp_path / f"{CPU}/cpufreq/policy1/scaling_max_freq").read_text() == "3400000\n"
    assert put_on(tmp_path, {"clock-max": 3000.0}).ok
    assert (tmp_path / f"{CPU}/cpufreq/policy1/scaling_max_freq").read_text() == "3000000"
    assert put_on(tmp_path, {"clock-min": 700.0}).ok
    assert (tmp_path / f"{CPU}/cpufreq/policy0/scaling_min_freq").read_text() == "800000\n"
    (tmp_path / f"{CPU}/cpufreq/policy1/scaling_max_freq").write_text("2000000\n")
    assert not found.controls["clock-max"].same(3000.0, 3000.0)  # one kind of core no longer holds it


def test_an_old_desktop_has_a_bias_for_a_preference(tmp_path):
    files = policy(0, 1600000, 3600000) | policy(1, 1600000, 3600000)
    files |= {f"{CPU}/cpu{n}/power/energy_perf_bias": "6" for n in (0, 1)} | {f"{CPU}/cpufreq/boost": "1"}
    found = build(tmp_path, files)
    epp = found.controls["epp"]
    assert (epp.read(), epp.facts().state) == (102.0, ControlState.SETTABLE)
    assert "sixteen steps" in sentence(epp.facts().note)
    report = put_on(tmp_path, {"epp": 192.0, "turbo": "off"})
    assert report.ok
    assert (tmp_path / f"{CPU}/cpu1/power/energy_perf_bias").read_text() == "11"
    assert (tmp_path / f"{CPU}/cpufreq/boost").read_text() == "0"
    assert "Kept as 187" in row_sentence(report.rows[0])


def test_turbo_per_policy_counts_as_on_while_any_has_it(tmp_path):
    found = build(tmp_path, policy(0, 400000, 4000000, boost=1) | policy(1, 400000, 4000000, boost=0))
    turbo = found.controls["turbo"]
    assert turbo.read() == "on"
    assert put_on(tmp_path, {"turbo": "off"}).ok
    assert turbo.read() == "off"
    assert put_on(tmp_path, {"turbo": "on"}).ok
    assert (tmp_path / f"{CPU}/cpufreq/policy1/boost").read_text() == "1"


def test_two_copies_of_a_limit_that_fight_are_named():
    twin = fresh_machine()
    control = survey(twin.files, twin.registers, "x").controls["sustained"]
    assert control.facts().note is None
    twin.state.limits[1][0] = 15.0
    assert (
        sentence(control.facts().note)
        == "Its copies differ (15 W, 18 W); the lowest counts, that of intel-rapl-mmio:0."
    )


@pytest.mark.parametrize(
    ("argument", "said"),
    [
        ("intel_pstate=disable", "intel_pstate driver away"),
        ("processor.max_cstate=1", "limits what processors may do"),
        ("msr.allow_writes=off", "offsets cannot be set"),
    ],
)
def test_kernel_arguments_that_pin_things_are_named(tmp_path, argument, said):
    found = build(tmp_path, {"proc/cmdline": f"root=/dev/x quiet {argument} ro"})
    why = gap_words(found.gaps)
    assert said in why[f"kernel argument {argument}"]
    assert "kernel argument quiet" not in why


def test_limits_as_single_files_of_a_platform_device(tmp_path):
    base = "sys/devices/platform/board-wmi"
    found = build(tmp_path, {f"{base}/ppt_pl1_spl": "25", f"{base}/ppt_pl2_sppt": "35"})
    assert (found.controls["sustained"].read(), found.controls["burst"].read()) == (25.0, 35.0)
    assert found.controls["sustained"].facts().maximum is None  # nothing is declared: stock is the highest


def test_the_ceiling_can_be_lowered_and_holds(on_tern: SimulatedSession):
    control = on_tern.session.controls()["heat-ceiling"]
    assert (control.current, control.minimum, control.maximum) == (100.0, 60.0, 100.0)
    refused = on_tern.session.try_settings({"heat-ceiling": 105.0}, standing=False)
    assert refused.bad_input
    everything = {"heat-ceiling": 75.0, "sustained": 60.0, "burst": 60.0}
    assert on_tern.session.try_settings(everything, standing=False).ok
    record = on_tern.run(200)
    assert record.end.numbers.temp_max_c <= 77
    assert record.end.numbers.constraint_share["heat"] > 0.5
    on_tern.session.revert()
    assert on_tern.current_values("heat-ceiling") == 100.0


def test_on_a_virtual_machine_every_limit_says_whose_it_is(tmp_path):
    found = build(tmp_path, {"proc/cpuinfo": "processor\t: 0\nflags\t\t: fpu hypervisor"})
    for name in ("sustained", "burst", "peak", "board"):
        assert "power limits belong to the machine it runs on" in sentence(found.absent[name])
    assert "hypervisor keeps the clocks" in sentence(found.absent["clock-max"])


def test_without_the_die_temperature_there_is_no_ceiling_to_set(tmp_path):
    found = build(tmp_path, {"sys/bus/pci/devices/0000:00:04.0/tcc_offset_degree_celsius": "3"})
    assert "module msr" in sentence(found.absent["heat-ceiling"])


def test_every_absent_control_has_a_reason_of_its_own(tmp_path):
    found = build(tmp_path, {"proc/version": "Linux version 6.1.0"})
    assert found.controls == {}
    assert all(len(sentence(why)) > 20 for why in found.absent.values())
    assert len(set(found.absent.values())) >= 5
    assert paths.POWERCAP in sentence(found.absent["sustained"])
