"""Runs whose load changes by design: their numbers are of full load, light load and rest, never of a mixture."""

import numpy as np
import pytest

from support import SimulatedSession
from upright_bolt.analysis import phases
from upright_bolt.analysis.numbers import numbers_of, values_of
from upright_bolt.model.work import Options
from upright_bolt.model.workloads import LIGHT, PROOF, WORKLOADS
from upright_bolt.reports.details import details_of
from upright_bolt.session.stages import SETTLES_S, stages_of
from upright_bolt.workload.plan import stage_at

TIMES = np.arange(-20.0, 600.0, 0.5)


def test_a_sample_of_a_stage_is_of_it_alone():
    stages = stages_of("proof", Options(), TIMES)
    for kind, share in ((stages.full, 1.0), (stages.light, LIGHT), (stages.rest, 0.0)):
        assert kind.any()
        for now in TIMES[kind]:
            assert {stage_at(PROOF, now - back)[0].share for back in (1e-3, 0.5, SETTLES_S - 1e-3)} == {share}
    assert not (stages.full & stages.light).any()
    assert not stages.full[TIMES <= 0].any()


def test_every_workload_in_stages_has_them_and_no_other():
    assert {name for name in WORKLOADS if stages_of(name, Options(below_c=80.0), TIMES) is not None} == {
        name for name, work in WORKLOADS.items() if work.in_stages
    }


def test_numbers_of_proof_are_of_one_load_each(on_tern: SimulatedSession):
    record = on_tern.run(240.0, workload="proof")
    values = values_of(record)
    for of_a_mixture in ("clock_burst_mhz", "clock_sustained_mhz", "power_sustained_w", "temp_sustained_c",
                         "score_settled", "settled_per_watt", "fan_sustained_rpm"):  # fmt: skip
        assert values[of_a_mixture] is None
    assert values["between_w"] < values["light_w"] < 5.0
    assert 18.0 < values["full_w"] < 45.5
    assert values["between_w"] < values["power_mean_w"] < values["full_w"]
    assert {"full_mhz", "power_mean_w"} <= {number.key for number in numbers_of([record])}
    assert "clock_sustained_mhz" not in {number.key for number in numbers_of([record])}  # not even as “–”
    held = record.end.numbers.constraint_share
    assert set(held) == {"sustained limit", "burst limit"}  # no “no work”, no “unknown” of what was asked for
    assert sum(held.values()) == pytest.approx(1.0)


def test_what_held_a_proof_is_told_of_its_full_load(on_tern: SimulatedSession):
    record = on_tern.run(240.0, workload="proof")
    (phase,) = details_of(on_tern.store, record).phases
    assert phase.name == phases.FULL
    assert phase.constraint_share == record.end.numbers.constraint_share
    assert phase.power_w == pytest.approx(values_of(record)["full_w"])
