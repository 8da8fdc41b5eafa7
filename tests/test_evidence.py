"""What past runs proved and broke, and conditions side by side."""

from dataclasses import replace

import pytest

from upright_bolt.analysis.chip import board_of_run, chip_of_run
from upright_bolt.analysis.comparison.conditions import conditions
from upright_bolt.analysis.stability.history import known
from upright_bolt.analysis.validation.evidence import Evidence, evidence
from upright_bolt.model.run import Conditions, RunEnd, RunHead, RunNumbers, RunRecord, RunState, WorkError
from upright_bolt.model.search import Asked
from upright_bolt.text.comparison import condition_title


def made_up(
    run_id=1, *, machine="twin:tern", sustained=18.0, seconds=600.0, errors=0, state=RunState.FINISHED, **around
):
    head = RunHead(
        machine=machine,
        identity={},
        workload="steady",
        label="",
        asked_s=600.0,
        settings={"sustained": sustained, "turbo": "on"},
        tried={},
        conditions=Conditions(**around),
        started_at="2026-04-06T06:02:00+00:00",
        columns=(),
    )
    wrong = tuple(WorkError(float(i), 0, "vector", "wrong result") for i in range(errors))
    return RunRecord(run_id, head, RunEnd(state, "", seconds, 1000.0, RunNumbers()), (), wrong)


def test_time_passed_adds_up_and_errors_are_counted_apart():
    runs = [made_up(1), made_up(2, seconds=300.0), made_up(3, sustained=25.0, errors=2), made_up(4, sustained=25.0)]
    assert evidence(runs, "twin:tern") == {"sustained": (Evidence(18.0, 900.0, 0), Evidence(25.0, 600.0, 1))}


def test_other_machines_words_and_runs_in_progress_prove_nothing():
    runs = [made_up(1, machine="host"), made_up(2, state=RunState.RUNNING)]
    assert evidence(runs, "twin:tern") == {}
    assert "turbo" not in evidence([made_up()], "twin:tern")


@pytest.mark.parametrize("state", [RunState.FAILED, RunState.UNFINISHED])
def test_a_run_that_was_cut_off_shows_nothing(state):
    assert evidence([made_up(state=state)], "twin:tern") == {}
    assert evidence([made_up(state=state, errors=1)], "twin:tern")["sustained"] == (Evidence(18.0, 0.0, 1),)


def test_a_run_that_ended_with_its_machine_broke_there():
    assert evidence([made_up(state=RunState.RESTARTED)], "twin:tern")["sustained"] == (Evidence(18.0, 0.0, 1),)


def test_what_broke_with_an_offset_is_put_down_to_the_offset():
    run = made_up(errors=3)
    settings = {"sustained": 25.0, "current": 84.0, "core-offset": -90.0, "cache-offset": 0.0, "unknown": 1.0}
    run = replace(run, head=replace(run.head, settings=settings))
    assert evidence([run], "twin:tern") == {"core-offset": (Evidence(-90.0, 0.0, 1),)}


def test_what_passed_at_full_load_only_is_told_apart():
    offset = made_up(seconds=300.0)
    offset = replace(offset, head=replace(offset.head, settings={"core-offset": -60.0}))
    proof = replace(offset, head=replace(offset.head, workload="proof"))
    assert evidence([offset, proof], "twin:tern")["core-offset"] == (Evidence(-60.0, 600.0, 0, whole_s=300.0),)


def test_what_another_microcode_held_is_asked_again():
    def run(microcode):
        made = made_up()
        identity = {"processor": "Dunlin 6", "microcode": microcode}
        return replace(made, head=replace(made.head, identity=identity, settings={"core-offset": -60.0, "epp": 96.0}))

    found = evidence([run("0x10"), run("0x11")], "twin:tern", chip_of_run(run("0x11")))
    assert found["core-offset"] == (Evidence(-60.0, 600.0, 0),)
    assert found["epp"] == (Evidence(96.0, 1200.0, 0),)


def test_what_passed_under_another_firmware_is_history_and_what_failed_still_counts():
    def run(firmware, errors=0):
        made = made_up(errors=errors)
        identity = {"processor": "Dunlin 6", "microcode": "0x10", "board": "QD-2", "firmware": firmware}
        head = replace(made.head, identity=identity, settings={"core-offset": -60.0, "epp": 96.0})
        return replace(made, head=head)

    now, before = run("1.08"), run("1.07")
    seen = [now, before, run("1.07", errors=1)]
    found = evidence(seen, "twin:tern", chip_of_run(now), board_of_run(now))
    assert found["core-offset"] == (Evidence(-60.0, 600.0, 1),)
    assert found["epp"] == (Evidence(96.0, 1200.0, 0),)
    asked = Asked(1, ("core-offset",), "", chip_of_run(now), board=board_of_run(now))
    proofs = [replace(one, head=replace(one.head, workload="proof")) for one in seen]
    assert [one.passed for one in known(proofs, [], "twin:tern", asked)] == [True, False]


def test_a_stopped_run_proves_the_time_it_ran():
    stopped = made_up(state=RunState.STOPPED, seconds=42.0)
    assert evidence([stopped], "twin:tern")["sustained"] == (Evidence(18.0, 42.0, 0),)


@pytest.mark.parametrize(
    ("base", "other", "what", "alike"),
    [
        ({"temp_start_c": 40.0}, {"temp_start_c": 43.9}, "Start", True),
        ({"temp_start_c": 40.0}, {"temp_start_c": 44.5}, "Start", False),
        ({"power_source": "charger"}, {"power_source": "battery"}, "Power source", False),
        ({"platform_mode": "quiet"}, {"platform_mode": "quiet"}, "Platform mode", True),
        ({"lid": "open"}, {"lid": "closed"}, "Lid", False),
        ({"lid": "closed"}, {"lid": "closed"}, "Lid", True),
        ({"background_load": 0.01}, {"background_load": 0.03}, "Others' work", True),
        ({"background_load": 0.01}, {"background_load": 0.09}, "Others' work", False),
    ],
)
def test_conditions_side_by_side(base, other, what, alike):
    found = conditions(made_up(2, **other), made_up(1, **base))
    assert [(condition_title(entry.kind), entry.alike) for entry in found] == [(what, alike)]


def test_what_was_measured_in_one_run_only_is_no_condition():
    assert conditions(made_up(2, temp_start_c=40.0, background_load=0.2), made_up(1)) == ()
    unknown = conditions(made_up(2, power_source="charger"), made_up(1))
    assert (unknown[0].base, unknown[0].alike) == ("", False)


def test_records_are_values():
    run = made_up()
    assert replace(run, id=run.id) == run
