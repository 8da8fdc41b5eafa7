"""A scale of a control that is kept in steps alone."""

import pytest
from PyQt6.QtCore import Qt

from upright_bolt.desktop.widgets.theme import LIGHT
from upright_bolt.desktop.workbench.range_slider import ScaleStrip
from upright_bolt.model.catalogue import declaration_of
from upright_bolt.model.control import Control, ControlState

STEPS = (800.0, 1200.0, 1600.0, 2000.0, 2401.0)


@pytest.fixture
def strip(qtbot):
    control = Control("clock-max", declaration_of("clock-max"), 800.0, 2401.0, 100.0, (), 2401.0, 1600.0,
                      ControlState.SETTABLE, None, STEPS)  # fmt: skip
    made = ScaleStrip(control, LIGHT)
    qtbot.addWidget(made)
    made.resize(200, 38)
    return made


@pytest.mark.parametrize(
    ("key", "expected"),
    [
        (Qt.Key.Key_Right, 2000.0), (Qt.Key.Key_Left, 1200.0), (Qt.Key.Key_PageUp, 2401.0),
        (Qt.Key.Key_PageDown, 800.0), (Qt.Key.Key_End, 2401.0),
    ],
)  # fmt: skip
def test_keys_go_from_step_to_step(strip, qtbot, key, expected):
    chosen = []
    strip.drafted.connect(chosen.append)
    qtbot.keyClick(strip, key)
    assert chosen == [expected]


def test_the_pointer_finds_a_step_wherever_it_is_and_the_ticks_stand_there(strip):
    assert {strip.value_at(float(x)) for x in range(200)} == set(STEPS)
    assert [text for _, text in strip._ticks] == ["0.8", "1.2", "1.6", "2", "2.4"]
    assert [value for value, _ in strip._ticks] == list(STEPS)
