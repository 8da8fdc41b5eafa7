"""The machine's own values, at any time, and what the firmware did meanwhile."""

import pytest

from support import SimulatedSession, recorded, recorded_kinds
from test_commands import data_of, one_sentence
from upright_bolt.errors import BadInput
from upright_bolt.kernel import paths
from upright_bolt.settings.journal import EntryKind


def limits(on_tern: SimulatedSession) -> tuple[float, float]:
    return on_tern.current_values("sustained"), on_tern.current_values("burst")


def test_stock_comes_back_after_keep_and_nothing_is_kept_any_more(on_tern: SimulatedSession):
    session = on_tern.session
    session.try_settings(
        {"sustained": 30.0, "turbo": "off", "core-offset": -40.0, "cache-offset": -40.0}, standing=False
    )
    session.keep()
    done = session.reset_to_stock()
    assert done.before_values["sustained"] == 18.0
    assert (on_tern.current_values("turbo"), on_tern.current_values("core-offset")) == ("on", 0.0)
    assert session.status().kept == {}
    again = on_tern.reopen()
    assert again.status().kept == {}
    assert again.status().drift == ()
    kinds = recorded_kinds(next(on_tern.data.rglob("journal")).parent)
    assert kinds[-3:] == ["putting back", "put back", "to stock"]


def test_stock_ends_a_trial_and_goes_for_single_controls(on_tern: SimulatedSession):
    session = on_tern.session
    session.try_settings({"sustained": 30.0, "epp": 64.0}, standing=False)
    session.keep()
    session.try_settings({"turbo": "off"}, standing=False)
    session.reset_to_stock(["epp"])
    assert session.status().trial is None
    assert on_tern.current_values("turbo") == "on"  # the trial has ended
    assert (on_tern.current_values("epp"), on_tern.current_values("sustained")) == (128.0, 30.0)
    assert session.status().kept == {"sustained": 30.0}
    with pytest.raises(BadInput, match="window: not changed in this boot"):
        session.reset_to_stock(["window"])


def test_a_crash_in_the_middle_is_gone_through_with_by_the_next_start(on_tern: SimulatedSession, monkeypatch):
    session = on_tern.session
    session.try_settings({"sustained": 30.0, "burst": 50.0}, standing=False)
    session.keep()
    trials = on_tern.engine._trials
    monkeypatch.setattr(trials, "revert", lambda why: (_ for _ in ()).throw(KeyboardInterrupt))
    with pytest.raises(KeyboardInterrupt):
        session.reset_to_stock()
    assert limits(on_tern) == (30.0, 50.0)
    on_tern.die()
    on_tern.reopen()
    assert limits(on_tern) == (18.0, 45.0)


def test_putting_back_leaves_what_the_firmware_has_set_for_the_other_source(on_tern: SimulatedSession):
    session = on_tern.session
    session.try_settings({"sustained": 25.0, "burst": 25.0, "epp": 64.0}, standing=False)
    session.plug(charger=False)
    on_tern.pass_time(2.0)
    session.tick()
    assert limits(on_tern) == (12.0, 20.0)
    trial = session.revert()
    assert trial.left_to_firmware == {"sustained": 12.0, "burst": 20.0}
    assert trial.before_values == {"epp": 128.0}
    assert limits(on_tern) == (12.0, 20.0)
    assert on_tern.current_values("epp") == 128.0
    session.plug(charger=True)
    on_tern.pass_time(2.0)
    assert limits(on_tern) == (18.0, 45.0)


def test_putting_back_after_a_crash_leaves_it_too(on_tern: SimulatedSession):
    session = on_tern.session
    session.try_settings({"sustained": 25.0, "epp": 64.0}, standing=False)
    session.plug(charger=False)
    on_tern.pass_time(2.0)
    session.machine.save()
    on_tern.die()
    again = on_tern.reopen()
    assert again.status().trial is None
    assert limits(on_tern) == (12.0, 20.0)
    assert on_tern.current_values("epp") == 128.0
    assert "Left as the firmware has set it since for another power source: sustained 12 W." in again.recovered


def test_without_a_change_of_source_all_is_put_back_whatever_changed_it(on_tern: SimulatedSession):
    session = on_tern.session
    session.try_settings({"sustained": 25.0}, standing=False)
    for zone in ("intel-rapl:0", "intel-rapl-mmio:0"):
        session.machine.files.write(f"{paths.POWERCAP}/{zone}/constraint_0_power_limit_uw", b"33000000")
    trial = session.revert()
    assert trial.left_to_firmware == {}
    assert on_tern.current_values("sustained") == 18.0


def test_each_power_source_has_stock_values_of_its_own(on_tern: SimulatedSession):
    session = on_tern.session
    session.try_settings({"sustained": 30.0, "burst": 50.0}, standing=False)
    session.keep()
    session.plug(charger=False)
    on_tern.pass_time(2.0)
    session.try_settings({"sustained": 15.0}, standing=False)
    session.keep()
    done = session.reset_to_stock()
    assert limits(on_tern) == (12.0, 20.0)  # 18 and 45 W are the charger's
    assert done.before_values["sustained"] == 12.0
    session.plug(charger=True)
    on_tern.pass_time(2.0)
    session.try_settings({"sustained": 22.0}, standing=False)
    session.reset_to_stock()
    assert limits(on_tern) == (18.0, 45.0)


def test_the_commands_say_what_was_done_and_what_the_firmware_did(bolt):
    assert "nothing has been changed in this boot" in one_sentence(bolt("stock"), 2).lower()
    bolt("set", "sustained=25W", "epp=64")
    assert "The firmware has changed sustained 25 W → 12 W, burst 45 W → 20 W." in bolt("plug", "out").stdout
    said = bolt("status").stdout
    assert "the firmware has set 12 W since the charger was unplugged" in said
    assert "Left as the firmware has set it since for another power source: sustained 12 W" in bolt("put-back").stdout
    plugged = data_of(bolt("plug", "in", "--json"))
    assert plugged == {"charger": "in", "changed": {"sustained": [12.0, 18.0], "burst": [20.0, 45.0]}}
    bolt("set", "turbo=off", "--keep")
    assert data_of(bolt("stock", "--json"))["stock"]["turbo"] == "on"
    assert "not changed in this boot" in one_sentence(bolt("stock", "window"), 2)
    assert "There is no control" in one_sentence(bolt("stock", "volume"), 2)


def test_the_record_tells_of_stock_after_it_was_compacted(on_tern: SimulatedSession):
    session = on_tern.session
    session.try_settings({"sustained": 30.0}, standing=False)
    session.keep()
    session.reset_to_stock()
    journal = on_tern.engine._trials._journal
    journal._compact_at = 0
    journal.compact()
    past = recorded(journal.path.parent)
    assert past.kept == {}
    assert any(entry.kind is EntryKind.STOCK for entry in journal.read().entries)
