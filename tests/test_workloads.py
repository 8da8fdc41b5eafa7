"""Each workload by itself: on tern, whose physics can be calculated, and on this computer's own cores."""

import os
import subprocess
import sys
import time
from itertools import pairwise
from math import isnan

import pytest

from support import SimulatedSession
from test_commands import data_of, one_sentence
from upright_bolt.analysis.comparison.compare import compare
from upright_bolt.analysis.responsiveness import frame_numbers, latencies
from upright_bolt.errors import BadInput
from upright_bolt.kernel.changes.processes import Process, ProcessTable, busiest_others, wake_ups
from upright_bolt.model.constraint import Constraint
from upright_bolt.model.event import SelfTestPassed
from upright_bolt.model.quantity import TEMPERATURE
from upright_bolt.model.run import RunState
from upright_bolt.model.sample import Sample
from upright_bolt.model.sensor import Sensor, SensorKind
from upright_bolt.model.start import Start
from upright_bolt.model.work import Options, Work, number_in
from upright_bolt.model.workloads import LIGHT, MIXES, PROOF, WORKLOADS, Mode, Stage, Workload
from upright_bolt.session.start import SWING_C, IdleDetector
from upright_bolt.session.starting import start_run
from upright_bolt.text.comparison import verdict_text
from upright_bolt.workload.blocks import Mix
from upright_bolt.workload.load import Task
from upright_bolt.workload.plan import stage_at
from upright_bolt.workload.pool import HostLoad
from upright_bolt.workload.worker import dues_of
from waiting import until, within

TIDE = (Stage(3.0, "vector"), Stage(2.0, "", 0.0))
CPUS = tuple(sorted(os.sched_getaffinity(0)))[:2]


# numbers


def test_frame_numbers_are_rates_over_time_and_lows_over_the_slowest():
    times = [0.010] * 990 + [0.050] * 10
    found = frame_numbers(times, 60.0)
    assert found["rate_fps"] == pytest.approx(1000 / 10.4)
    assert found["low_1_fps"] == pytest.approx(20.0)
    assert found["low_01_fps"] == pytest.approx(20.0)
    assert found["late_share"] == pytest.approx(1.0)
    assert "late_share" not in frame_numbers(times)
    assert frame_numbers([]) == {}


def test_one_stutter_shows_in_the_lows_and_not_in_the_average():
    even, stutter = frame_numbers([0.0166] * 2000), frame_numbers([0.0166] * 1999 + [0.2])
    assert stutter["rate_fps"] > 0.99 * even["rate_fps"]
    assert stutter["low_01_fps"] < 0.2 * even["low_01_fps"]


def test_latencies_are_percentiles_in_ms():
    found = latencies([i / 1000.0 for i in range(1, 101)])
    assert found["latency_median_ms"] == pytest.approx(50.5)
    assert found["latency_p95_ms"] == pytest.approx(95.05)
    assert latencies([]) == {}


def test_the_stages_of_proof_hold_every_mix_full_and_light_and_jumps_of_load():
    full = {stage.mix for stage in PROOF if stage.share == 1.0}
    light = {stage.mix for stage in PROOF if stage.share == LIGHT}
    assert set(MIXES) <= full
    assert set(MIXES) <= light
    length = sum(stage.seconds for stage in PROOF)
    jumps = [a.mix != "" and b.mix == "" for a, b in pairwise(PROOF)]
    assert sum(jumps) >= 10
    assert stage_at(PROOF, length)[0] == stage_at(PROOF, 0.0)[0]
    seen, at = 0.0, 0.0
    while at < length - 1e-6:
        _, left = stage_at(PROOF, at)
        seen, at = seen + left, at + left
    assert seen == pytest.approx(length)


def test_others_are_told_by_name_without_this_program_and_its_children():
    before = ProcessTable({7: Process("sync", 1, 100), 9: Process("bolt", 1, 50)}, 1000)
    after = ProcessTable(
        {7: Process("sync", 1, 400), 8: Process("sync", 7, 100), 9: Process("bolt", 1, 900),
         10: Process("worker", 9, 5000), 11: Process("quiet", 1, 2)}, 4000,
    )  # fmt: skip
    assert busiest_others(before, after, 10.0, mine=9) == {"sync": 40.0}
    assert wake_ups(before, after, 10.0) == 300.0
    assert wake_ups(before, ProcessTable({}, None), 10.0) is None


def test_rest_is_told_from_the_reading_itself():
    def change(times: list[float], temps: list[float]) -> float:
        watch = IdleDetector([Sensor("temperature.package", TEMPERATURE, "", SensorKind.TEMPERATURE)])
        for time_s, temp in zip(times, temps, strict=False):
            watch.take(Sample(time_s, [temp], Constraint.NO_WORK), working=False)
        return watch.change_c()

    times = [i * 0.5 for i in range(400)]
    assert abs(change(times, [40.0 + 0.2 * (i % 2) for i in range(400)])) < SWING_C
    assert change(times, [60.0 - 0.01 * i for i in range(400)]) == pytest.approx(-1.2, abs=0.02)
    assert isnan(change(times[:200], [40.0] * 200))  # not watched for two minutes


@pytest.mark.parametrize(
    ("text", "pattern", "number"),
    [("took 3.5 s", r"took ([\d.]+)", 3.5), ("1\n2\n", r"\d", 2.0), ("−4", r"[−\d]+", -4.0), ("none", r"\d+", None),
     ("score nan", r"score (\w+)", None)],
)  # fmt: skip
def test_a_number_is_found_in_what_a_command_says(text, pattern, number):
    assert number_in(text, pattern) == number


# on tern


def test_the_preference_changes_the_lag(on_tern: SimulatedSession):
    lags = {}
    for epp in (0.0, 255.0):
        on_tern.session.try_settings({"epp": epp}, standing=False)
        record = on_tern.run(120.0, workload="bursts", start=Start.RESTED)
        on_tern.session.revert()
        lags[epp] = record.end.numbers
        assert record.end.score == pytest.approx(60.0 * len_of(record) / 120.0)
    assert lags[255.0].extra["latency_median_ms"] > 1.4 * lags[0.0].extra["latency_median_ms"]
    assert lags[0.0].power_sustained_w > lags[255.0].power_sustained_w
    eager, thrifty = on_tern.store.get(1), on_tern.store.get(2)
    words = verdict_text(compare([thrifty], eager)[0], eager)
    assert "more lag in the middle" in words
    assert "more lag at its worst" in words
    assert (
        lags[0.0].extra["latency_p99_ms"] >= lags[0.0].extra["latency_p95_ms"] >= lags[0.0].extra["latency_median_ms"]
    )


def len_of(record):
    return sum(part.units for part in record.slices)


def test_frames_stutter_when_the_limit_starves_them(on_tern: SimulatedSession):
    free = on_tern.run(60.0, workload="frames").end
    on_tern.session.try_settings({"clock-max": 1200.0}, standing=False)
    starved = on_tern.run(60.0, workload="frames", cool_s=60.0).end
    assert free.score == pytest.approx(59.9, abs=0.3)
    assert free.numbers.extra["late_share"] < 2.0
    assert starved.numbers.extra["rate_fps"] < 50.0
    assert starved.numbers.extra["late_share"] > 90.0
    assert starved.numbers.energy_per_unit_j is not None


def test_proof_catches_its_planted_error_and_rests_in_between(on_tern: SimulatedSession):
    record = on_tern.run(100.0, workload="proof")
    assert record.end.numbers.extra["planted_caught"] == 1.0
    assert record.errors == ()
    assert record.end.numbers.extra["between_w"] < 4.0
    assert any(isinstance(event, SelfTestPassed) for event in on_tern.store.events(record.id))


def test_too_deep_an_offset_fails_the_proof_with_what_the_core_was_at(on_tern: SimulatedSession):
    deep = {"sustained": 25.0, "burst": 25.0, "core-offset": -90.0, "cache-offset": -90.0}
    on_tern.session.try_settings(deep, standing=False)
    record = on_tern.run(300.0, workload="proof", cool_s=60.0)
    assert record.errors
    for error in record.errors:
        assert error.block in MIXES
        assert error.temp_c is not None
        assert error.clock_mhz is not None
        assert error.clock_mhz > 500
        assert error.voltage_v is not None
        assert 0.4 < error.voltage_v < 1.4


def test_battery_refuses_on_the_charger_and_measures_without(on_tern: SimulatedSession):
    with pytest.raises(BadInput, match="pull its plug"):
        on_tern.run(60.0, workload="battery")
    on_tern.session.plug(charger=False)
    on_tern.pass_time(5.0)
    numbers = on_tern.run(120.0, workload="battery").end.numbers
    battery_w = numbers.extra["drain_w"]
    assert battery_w == pytest.approx(numbers.power_sustained_w + 4.2, abs=0.3)
    full_wh = on_tern.session.machine.files.read("/sys/class/power_supply/BAT0/energy_full")
    assert numbers.extra["hours_full"] == pytest.approx(int(full_wh) / 1e6 / battery_w, rel=0.02)


def test_a_charger_plugged_in_ends_the_battery_run(on_tern: SimulatedSession):
    on_tern.session.plug(charger=False)
    on_tern.pass_time(5.0)
    start_run(on_tern.session, Work("battery", 120.0, start=Start.AT_ONCE), "", on_tern.store)
    for _ in range(60):
        on_tern.session.tick()
        on_tern.pass_time(0.5)
    on_tern.session.plug(charger=True)
    record = on_tern.carry_on()
    assert record.end.state is RunState.FAILED
    assert "charger is plugged in" in record.end.why
    assert 20 < record.end.duration_s < 40


def test_no_battery_is_told(bolt):
    assert "no battery" in one_sentence(bolt("run", "battery", "--duration", "20s", on="twin:skerry"), 2)


def test_idle_waits_until_the_machine_has_come_to_rest(on_tern: SimulatedSession):
    on_tern.run(120.0)
    begun = on_tern.session.machine.clock.now_s()
    record = on_tern.run(60.0, workload="idle", start=Start.RESTED)
    waited = on_tern.session.machine.clock.now_s() - begun - 60.0
    assert waited > 45.0
    numbers = record.end.numbers
    assert numbers.temp_max_c - numbers.temp_sustained_c <= 4.0
    assert numbers.extra["wakeups_per_s"] > 100
    assert set(numbers.others) == {"wheelhouse-desk", "tide-table", "chart-sync"}
    assert numbers.others["wheelhouse-desk"] == pytest.approx(4.5, abs=0.3)


def test_a_twin_stands_in_for_a_command(on_tern: SimulatedSession):
    options = Options(("render", "all"), times=2)
    record = on_tern.run(600.0, workload="command", options=options)
    assert record.end.state is RunState.FINISHED
    assert record.end.numbers.extra["times_run"] == 2.0
    assert record.end.duration_s == pytest.approx(2 * record.end.score, rel=0.05)
    with pytest.raises(BadInput, match="no programs whose output"):
        on_tern.run(60.0, workload="command", options=Options(("render",), pattern="x"))


def test_one_core_is_not_held_back_by_watts(on_tern: SimulatedSession):
    numbers = on_tern.run(60.0, workload="single").end.numbers
    assert numbers.clock_sustained_mhz > 4100
    assert next(iter(numbers.constraint_share)) == "turbo table"
    assert numbers.first_held_s is None


def test_when_a_limit_first_held_is_told(on_tern: SimulatedSession):
    numbers = on_tern.run(60.0).end.numbers
    assert numbers.first_held_s <= 1.5
    assert numbers.first_held_by == "burst limit"
    assert numbers.pace_spread < 2.0
    assert numbers.energy_per_unit_j == pytest.approx(numbers.energy_j / (on_tern.store.get(1).end.score))


@pytest.mark.parametrize(
    "added",
    [
        Workload("rowing", "Two cores, mixed work.", threads=2),
        Workload("tide", "One mix that comes and goes.", Mode.STAGES, TIDE, even=False),
    ],
)
def test_a_workload_is_one_entry(on_tern: SimulatedSession, monkeypatch, added):
    monkeypatch.setitem(WORKLOADS, added.name, added)
    record = on_tern.run(30.0, workload=added.name)
    assert record.end.state is RunState.FINISHED
    assert record.end.score > 0.0
    assert (record.end.numbers.extra.get("full_mhz") is not None) == bool(added.stages)


def test_every_way_of_working_is_known_to_workers_and_simulated_machines():
    for mode in {known.mode for known in WORKLOADS.values()}:
        if mode in (Mode.MIXED, Mode.STAGES, Mode.TASKS, Mode.FRAMES):
            name = next(name for name, known in WORKLOADS.items() if known.mode is mode)
            assert next(dues_of(Mix(), WORKLOADS[name], time.monotonic(), 0, 60.0))


# on this computer


def load_of(workload, seconds, cpus=CPUS, blocks=0, **options):
    """Work for so long, and for as much longer as ``blocks`` checked blocks take here."""
    load = HostLoad(Task(workload, cpus, Options(**options)))
    load.prepare()
    try:
        until(load.ready)
        start = load.start()
        until(lambda: load.complete_until() >= start + seconds, 60)
        while load.figures(seconds).get("blocks_checked", blocks) < blocks:
            seconds += 1.0
            until(lambda end=start + seconds: load.complete_until() >= end, 60)
        return load, start, load.figures(seconds), load.errors()
    finally:
        load.stop()


def test_tasks_here_have_a_latency_and_no_errors():
    load, start, found, errors = load_of("bursts", 6.0, CPUS[:1])
    assert errors == []
    assert 1.0 < found["latency_median_ms"] <= found["latency_p95_ms"] <= found["latency_p99_ms"]
    assert load.units_until(start + 6.0) >= 5


def test_frames_here_keep_their_pace_or_say_how_late_they_are():
    _, _, found, errors = load_of("frames", 4.0, rate_fps=20.0)
    assert errors == []
    assert 0.0 < found["rate_fps"] <= 21.0
    assert found["rate_fps"] > 18.0 or found["late_share"] > 0.0
    assert found["low_01_fps"] <= found["low_1_fps"] <= found["rate_fps"]
    assert 0.0 <= found["late_share"] <= 100.0


def test_proof_here_checks_its_work_and_itself():
    load, _, found, errors = load_of("proof", 7.0, CPUS[:1], blocks=21)
    assert errors == []
    assert found["planted_caught"] == 1.0
    assert found["blocks_checked"] > 20
    assert load.failure() == ""
    assert load.self_test_passed() == 1
    assert load.self_test_passed() is None


def test_a_checker_that_misses_its_planted_error_proves_nothing():
    load = HostLoad(Task("proof", CPUS[:1]))
    load._proved.append(False)
    assert "proves nothing" in load.failure()
    load._proved.clear()
    assert load.failure() == ""


def test_a_proof_whose_checker_was_never_tested_has_failed(on_tern: SimulatedSession, monkeypatch):
    from upright_bolt.workload.simulated_load import SimulatedLoad

    monkeypatch.setattr(SimulatedLoad, "errors", lambda self: [])
    record = on_tern.run(20.0, workload="proof")
    assert record.end.state is RunState.FAILED
    assert record.end.why == "The checker did not come to its test: this run proves nothing."


def test_a_checker_says_nothing_before_its_test():
    load = HostLoad(Task("proof", CPUS[:1]))
    assert load.self_test_passed() is None


def test_a_command_is_timed_and_its_output_searched(bolt):
    told = data_of(bolt("run", "command", "--exec", "sh -c 'sleep 0.4; echo 41 knots'", "--times", "2", "--duration",
                        "30s", "--json", on="host"))  # fmt: skip
    assert told["state"] == "finished"
    assert 0.4 <= told["score"] < 2.0
    assert (told["score_unit"], told["times_run"]) == ("s", 2.0)
    told = data_of(bolt("run", "command", "--exec", "echo 41 knots", "--pattern", r"(\d+) knots", "--unit", "kn",
                        "--duration", "30s", "--json", on="host"))  # fmt: skip
    assert (told["score"], told["score_unit"]) == (41.0, "kn")
    assert "41 kn" in bolt("runs").stdout


@pytest.mark.parametrize(
    ("words", "code", "said"),
    [
        (("--exec", "false"), 1, "ended with code 1"),
        (("--exec", "echo calm", "--pattern", r"\d+"), 1, "finds no number"),
        (("--exec", "sleep 60", "--duration", "5s"), 1, "not done within 5 s"),
        (("--exec", "no-such-program-here"), 2, "no program"),
        (("--exec", "echo 'open"), 2, "cannot be split"),
        (("--exec", "echo 1", "--pattern", "("), 2, "not a regular expression"),
        (("--exec", "echo 1", "--pattern", "(1)(2)"), 2, "2 groups"),
        (("--exec", "echo 1", "--times", "0"), 2, "0 is outside"),
        ((), 2, "Name the command"),
    ],
)
def test_a_command_that_cannot_be_measured_is_one_sentence(bolt, words, code, said):
    assert said in one_sentence(bolt("run", "command", *words, on="host"), code)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("steady", "--exec", "echo"), "takes no command"),
        (("steady", "--rate", "30fps"), "takes no frame rate"),
        (("steady", "--unit", "s"), "takes no unit of a score; “command” does"),
        (("frames", "--rate", "1000fps"), "from 10 to 240"),
        (("frames", "--rate", "0fps"), "from 10 to 240"),
        (("frames", "--rate", "30"), "has no unit"),
    ],
)
def test_options_of_another_workload_are_refused(bolt, words, said):
    assert said in one_sentence(bolt("run", *words), 2)


def test_a_stopped_run_ends_the_command_and_what_it_started(tmp_path):
    from test_workload import alive
    from upright_bolt.workload.command import CommandLoad

    mark = tmp_path / "pid"
    load = CommandLoad(Options(("sh", "-c", f"sleep 300 & echo $! > {mark}; wait")))
    load.prepare()
    until(load.ready)
    load.start()
    until(lambda: mark.exists() and mark.read_text().strip())
    load.stop()
    pid = int(mark.read_text())
    until(lambda: not alive(pid), 10)


ENDED_WHILE_STARTING = """
import os, signal, subprocess, sys, time
from upright_bolt.workload import runner
from upright_bolt.session.starting import start_run
real = subprocess.Popen
def popen(*given, **named):
    process = real(*given, **named)
    while not os.path.exists({mark!r}):
        time.sleep(0.01)
    os.kill(os.getpid(), signal.SIGTERM)
    time.sleep(0.1)
    return process
subprocess.Popen = popen
runner.main(1, ["sh", "-c", "echo $$ > {mark}; sleep 300"])
"""


def test_a_command_that_is_being_started_when_the_run_is_stopped_is_ended(tmp_path):
    from test_workload import alive

    mark = tmp_path / "pid"
    code = ENDED_WHILE_STARTING.format(mark=str(mark))
    with subprocess.Popen([sys.executable, "-c", code], stdin=subprocess.PIPE, stdout=subprocess.PIPE) as process:
        process.stdin.write(b"go\n")
        process.stdin.flush()
        assert process.wait(within(60)) == 0
        assert b"\nr " not in process.stdout.read()
    until(lambda: mark.read_text().strip() and not alive(int(mark.read_text())), 10)
