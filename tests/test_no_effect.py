"""Settings that cannot have an effect are said when they are drafted and when they are set."""

import pytest

from test_commands import data_of
from upright_bolt.analysis.comparison.no_effect import Why, without_effect
from upright_bolt.text.notes import no_effect
from window_support import until

STOCK = {"sustained": 18.0, "burst": 45.0, "window": 28.0, "peak": 96.0, "limiter": "on", "turbo": "on",
         "turbo-table": "4200,4100", "clock-max": 4200.0, "core-offset": 0.0, "cache-offset": 0.0}  # fmt: skip


@pytest.mark.parametrize(
    ("asked", "why", "said"),
    [
        ({"sustained": 50.0}, Why.ABOVE_BURST, "50 W lies above the burst limit, 45 W"),
        ({"burst": 15.0}, Why.ABOVE_BURST, "18 W lies above the burst limit, 15 W"),
        ({"burst": 100.0}, Why.BEYOND_PEAK, "100 W lies beyond the peak limit, 96 W"),
        ({"peak": 30.0}, Why.BEYOND_PEAK, "45 W lies beyond the peak limit, 30 W"),
        ({"burst": 18.0, "window": 10.0}, Why.NO_BURST, "a burst limit of 18 W leaves no burst to last"),
        ({"limiter": "off", "sustained": 20.0}, Why.NOT_ENFORCED, "limits are not enforced"),
        ({"clock-max": 2000.0, "turbo-table": "4000,3900"}, Why.ABOVE_CLOCK, "the highest clock is 2.00 GHz"),
        ({"turbo": "off", "turbo-table": "4000,3900"}, Why.TURBO_OFF, "no effect while turbo is off"),
        ({"core-offset": -50.0}, Why.ALONE_ON_RAIL, "the weaker of the two counts"),
        ({"cache-offset": -50.0}, Why.ALONE_ON_RAIL, "deeper than the core voltage offset (0 mV)"),
    ],
)
def test_what_cannot_have_an_effect_is_named_with_what_holds_first(asked, why, said):
    (found,) = without_effect(asked, STOCK | asked)
    assert found.why is why
    assert said in no_effect(found)


@pytest.mark.parametrize(
    "asked", [{}, {"sustained": 30.0}, {"sustained": 45.0}, {"burst": 20.0, "window": 10.0}, {"epp": 10.0},
              {"core-offset": -50.0, "cache-offset": -50.0}],
)  # fmt: skip
def test_what_has_an_effect_is_not_named(asked):
    assert without_effect(asked, STOCK | asked) == ()


def test_the_command_says_it_and_sets_it_all_the_same(bolt):
    said = bolt("set", "sustained=30W", "burst=25W")
    assert said.returncode == 0
    assert "30 W lies above the burst limit, 25 W, which holds at every moment: it has no effect." in said.stdout
    machine = data_of(bolt("machine", "--json"))
    assert machine["controls"][0]["current"] == 30.0


def test_both_offsets_are_set_with_one_word(bolt):
    rows = data_of(bolt("set", "core-offset,cache-offset=-40mV", "--json"))
    assert [row["name"] for row in rows] == ["core-offset", "cache-offset"]


def test_the_draft_says_it_and_offsets_are_drafted_together(window):
    presenter, panel = window.presenter, window.workbench.settings
    until(lambda: presenter.sample is not None)
    panel.rows["sustained"].drafted.emit("sustained", 50.0)
    until(lambda: "it has no effect" in panel._words.text())
    presenter.drop_draft()
    panel.rows["core-offset"].drafted.emit("core-offset", -30.0)
    assert presenter.draft == {"core-offset": -30.0, "cache-offset": -30.0}
    panel.together.setChecked(False)
    presenter.drop_draft()
    panel.rows["core-offset"].drafted.emit("core-offset", -30.0)
    assert presenter.draft == {"core-offset": -30.0}
    assert "the weaker of the two counts" in panel._words.text()
    presenter.drop_draft()


def test_stock_is_a_button_once_something_was_changed(window):
    presenter, panel = window.presenter, window.workbench.settings
    until(lambda: presenter.sample is not None)
    assert not panel.stock_button.isVisibleTo(panel)
    presenter.draft_values({"epp": 64.0})
    presenter.try_draft()
    until(lambda: presenter.status.trial is not None)
    presenter.keep()
    until(lambda: bool(presenter.status.kept) and panel.stock_button.isVisibleTo(panel))
    panel.stock_button.click()
    until(lambda: presenter.controls["epp"].current == 128.0 and not presenter.status.kept)
    assert "The machine's own values are in force" in presenter.outcome
