"""What nobody asked for and everybody has to know: that something no longer holds, that putting back failed."""

import pytest

from upright_bolt.cli import run
from upright_bolt.model.trial import Drift, Status
from upright_bolt.presentation.presenter import DriftWatch
from upright_bolt.settings.engine import SettingsEngine

LIMIT, CLOCK = Drift("sustained", 15.0, 28.0), Drift("clock-max", 1600.0, 2400.0)


def test_what_no_longer_holds_is_said_once_and_again_when_it_happens_again():
    said, told = [], []
    watch = DriftWatch(said.append)
    watch.told.connect(told.append)
    for drift in ((), (LIMIT,), (LIMIT,), (), (LIMIT, CLOCK), (LIMIT, CLOCK)):
        watch.take(Status(None, drift))
    assert [sentence.count("sustained: 15 W was set, but 28 W is in force") for sentence in said] == [1, 1]
    assert said[1].endswith("And 1 more.")
    assert len(told) == 2


def test_a_second_one_is_said_beside_the_first():
    said = []
    watch = DriftWatch(said.append)
    watch.take(Status(None, (LIMIT,)))
    watch.take(Status(None, (LIMIT, CLOCK)))
    assert "clock-max" in said[1]
    assert "sustained" not in said[1]


def test_sleep_is_named_there_too():
    said = []
    DriftWatch(said.append).take(Status(None, (LIMIT,), slept=True))
    assert "the machine has slept since" in said[0]


@pytest.mark.parametrize(("trouble", "code"), [("", 0), ("Not everything could be put back: x.", 1)])
def test_a_command_whose_putting_back_failed_has_failed(tmp_path, monkeypatch, capsys, trouble, code):
    monkeypatch.setattr(SettingsEngine, "close", lambda _self: trouble)
    assert run(["--machine", "twin:tern", "--data", str(tmp_path), "status"]) == code
    said = capsys.readouterr()
    assert "No trial is running." in said.out
    assert (trouble in said.err) if trouble else not said.err
