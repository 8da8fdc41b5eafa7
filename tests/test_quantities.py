"""What people type, and what they read back."""

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from upright_bolt.errors import BadInput, NotFound
from upright_bolt.model import quantity as q
from upright_bolt.model.catalogue import CATALOGUE, declaration_of
from upright_bolt.model.control import PREFERENCE_NAMES, Control, ControlState, parse_value, show_value
from upright_bolt.model.declaration import Kind
from upright_bolt.model.quantity import TIME, with_unit
from upright_bolt.model.settings import parse_assignments, show_settings

CASES = [
    ("sustained", "25W", 25.0),
    ("sustained", " 25.5 W ", 25.5),
    ("sustained", "18500mW", 18.5),
    ("window", "28s", 28.0),
    ("window", "0.5min", 30.0),
    ("clock-max", "3.2GHz", 3200.0),
    ("clock-min", "800MHz", 800.0),
    ("epp", "96", 96.0),
    ("epp", "balance_power", 192.0),
    ("turbo", "OFF", "off"),
    ("governor", "powersave", "powersave"),
]


@pytest.mark.parametrize(("name", "text", "value"), CASES)
def test_typed_values_are_kept_in_the_control_s_own_unit(name, text, value):
    assert parse_value(name, text) == value


@pytest.mark.parametrize(
    ("typed", "shown", "meant"),
    [
        ("30", "18 W", "30 W"),
        (" −50", "0 mV", "−50 mV"),
        ("3.2", "4.20 GHz", "3.2 GHz"),
        ("900", "800 MHz", "900 MHz"),
        ("85", "°C", "85 °C"),
        ("30 mW", "18 W", "30 mW"),
        ("128", "64", "128"),
        ("30", "–", "30"),
        ("thirty", "18 W", "thirty"),
    ],
)
def test_a_number_without_a_unit_has_that_of_its_field(typed, shown, meant):
    assert with_unit(typed, shown) == meant


@pytest.mark.parametrize(
    ("text", "seconds"),
    [("10min30s", 630.0), ("1 h 5 min", 3900.0), ("3m", 180.0), ("90s", 90.0), ("1.5min500ms", 90.5)],
)
def test_times_may_be_made_of_several_numbers(text, seconds):
    assert TIME.parse(text, "duration") == pytest.approx(seconds)


@pytest.mark.parametrize("text", ["10min30", "min30s", "10min,30s", "1h bread", "10 30s"])
def test_what_is_no_time_is_said(text):
    with pytest.raises(BadInput, match="duration: "):
        TIME.parse(text, "duration")


@pytest.mark.parametrize(
    ("name", "text", "words"),
    [
        ("sustained", "25", "has no unit; write it with W or mW"),
        ("sustained", "25s", "unit s, which does not fit"),
        ("sustained", "25w", "Did you mean W?"),
        ("sustained", "nan", "is not a number"),
        ("sustained", "1e3W", "is not a number"),
        ("clock-max", "3,2GHz", "Write the decimal sign as a point"),
        ("epp", "256", "whole number from 0 to 255"),
        ("epp", "-1", "whole number from 0 to 255"),
        ("epp", "²", "whole number from 0 to 255"),
        ("epp", "12.5", "whole number from 0 to 255"),
        ("turbo", "yes", "neither on nor off"),
        ("window", "", "nothing was given"),
    ],
)
def test_a_bad_value_says_what_is_wrong_and_what_is_accepted(name, text, words):
    with pytest.raises(BadInput, match=words.replace("?", r"\?")) as fault:
        parse_value(name, text)
    assert declaration_of(name).title in str(fault.value)


def test_an_unknown_control_names_the_nearest_and_all():
    with pytest.raises(NotFound, match="Did you mean sustained") as fault:
        declaration_of("sustaned")
    assert all(name in str(fault.value) for name in CATALOGUE)


def test_all_bad_words_are_reported_at_once():
    with pytest.raises(BadInput) as fault:
        parse_assignments(["sustained=25", "turbo=maybe", "burst", "epp=96", "epp=97"])
    for words in ("has no unit", "neither on nor off", "“burst” is not of the form", "epp is given twice"):
        assert words in str(fault.value)


def test_a_clock_that_rounds_to_a_thousand_is_told_in_ghz():
    assert [q.CLOCK.show(mhz) for mhz in (999.4, 999.6, 1000.0, 3204.0)] == [
        "999 MHz",
        "1.00 GHz",
        "1.00 GHz",
        "3.20 GHz",
    ]


@given(st.floats(min_value=0.001, max_value=9999, allow_nan=False))
def test_what_is_shown_can_be_typed_again(watts):
    shown = q.POWER.show(watts).replace(",", "")
    assert q.POWER.parse(shown, "x") == pytest.approx(watts, abs=0.0051)


@given(st.text(max_size=20))
def test_no_text_gets_past_the_parsers_unchecked(text):
    for name, declared in CATALOGUE.items():
        try:
            value = parse_value(name, text)
        except BadInput as fault:
            assert str(fault).endswith((".", "?"))
        else:
            assert isinstance(value, str) == (declared.kind is not Kind.SCALE)


@given(st.integers(0, 255))
def test_every_preference_number_is_kept_as_it_is(number):
    assert parse_value("epp", str(number)) == float(number)


def test_preference_names_are_the_kernel_s():
    assert PREFERENCE_NAMES == {"performance": 0, "balance_performance": 128, "balance_power": 192, "power": 255}


@pytest.mark.parametrize(
    ("quantity", "value", "shown"),
    [
        (q.POWER, 25.0, "25 W"),
        (q.POWER, 17.875, "17.88 W"),
        (q.CLOCK, 3050.0, "3.05 GHz"),
        (q.CLOCK, 800.0, "800 MHz"),
        (q.TEMPERATURE, 68.0, "68.0 °C"),
        (q.SCORE, 1214.04, "1,214.0 units/min"),
        (q.SHARE, 99.0, "99 %"),
        (q.SWITCH, 1.0, "yes"),
        (q.POWER, -3.5, "−3.5 W"),
        (q.POWER, None, "not measured"),
    ],
)
def test_numbers_are_shown_with_their_unit_and_never_as_a_false_zero(quantity, value, shown):
    assert quantity.show(value) == shown


def scale(**changes) -> Control:
    given: dict[str, Any] = {
        "name": "sustained", "declaration": declaration_of("sustained"), "minimum": 6.0, "maximum": 60.0, "step": 1.0,
        "choices": (),
        "stock": 18.0, "current": 18.0, "state": ControlState.SETTABLE,
    } | changes  # fmt: skip
    return Control(**given)


def test_a_value_outside_the_machine_s_range_is_refused_with_the_range():
    assert scale().parse("6W") == 6.0
    assert scale().parse("60W") == 60.0
    for text in ("5.9W", "1000W", "-25W"):
        with pytest.raises(BadInput, match="6 W to 60 W"):
            scale().parse(text)


def test_a_word_that_is_no_choice_names_the_choices():
    control = scale(
        name="governor",
        declaration=declaration_of("governor"),
        minimum=None,
        maximum=None,
        choices=("performance", "powersave"),
    )
    assert control.parse("powersave") == "powersave"
    with pytest.raises(BadInput, match="performance, powersave"):
        control.parse("ondemand")


def test_settings_read_as_a_phrase():
    assert show_settings({"sustained": 25.0, "turbo": "off", "clock-max": 3200.0}) == (
        "sustained 25 W, turbo off, clock-max 3.20 GHz"
    )
    assert show_settings({}) == "nothing"
    assert show_value("epp", 96.0) == "96"
