"""The window on this computer, through the root service: sets, keeps sampling while a password is asked, survives."""

import time

import pytest

from bus_support import wait_for
from waiting import within
from window_support import type_value, until

WATCH, SET = ["org.upright-bolt.watch"], ["org.upright-bolt.set"]


@pytest.fixture
def service(bus):
    bus.start_polkit()
    return bus.start_service()


@pytest.fixture
def app(service, open_app):
    return open_app("host")


def test_the_window_sets_and_puts_back_through_the_service(app, service):
    window, presenter = app.window, app.presenter
    until(lambda: presenter.controls["sustained"].settable)
    assert presenter.outline.identity.name == "tern"
    type_value(window, "sustained", "25 W")
    presenter.try_draft()
    until(lambda: presenter.status.trial is not None)
    assert presenter.controls["sustained"].current == 25.0
    until(lambda: presenter.outcome.startswith("In force as a trial"))  # the answer and the next look come in any order
    presenter.revert()
    until(lambda: presenter.status.trial is None)
    until(lambda: presenter.outcome == "Put back: sustained 18 W.")


def test_closing_the_window_puts_its_trial_back(app, service):
    app.presenter.draft_values({"sustained": 25.0})
    app.presenter.try_draft()
    until(lambda: app.presenter.status.trial is not None)
    app.window.close()
    assert "put back sustained 18 W" in service.log


def test_sampling_goes_on_while_a_password_is_asked_and_no_is_said(bus, app, service):
    presenter = app.presenter
    bus.allow(WATCH, SET)
    presenter.draft_values({"sustained": 25.0})
    presenter.try_draft()
    until(lambda: presenter.sample is not None)
    seen = set()
    until(lambda: seen.add(presenter.sample.time_s) or len(seen) >= 4)
    assert presenter.status.trial is None
    bus.answer_questions()
    until(lambda: presenter.status.trial is not None)


def test_a_window_closed_while_a_password_is_asked_closes_at_once(bus, app, service):
    bus.allow(WATCH, SET)
    app.presenter.draft_values({"sustained": 25.0})
    app.presenter.try_draft()
    wait_for(bus.questions)
    begun = time.monotonic()
    app.window.close()
    assert time.monotonic() - begun < within(3.0)
    bus.answer_questions()
    time.sleep(0.5)
    assert "was refused Apply: The program that asked has gone." in service.log


def test_a_service_that_dies_is_said_and_its_successor_taken(bus, app, service):
    presenter = app.presenter
    service.kill()
    until(lambda: any(event.kind == "service" for event in presenter.history.events))
    assert "service" in presenter.history.events[-1].trouble
    bus.start_service()
    until(lambda: presenter.history.events[-1].trouble == "")
    until(lambda: presenter.sample.values[presenter.outline.index["temperature.package"]] is not None)


def test_a_refusal_of_rights_is_said_in_the_window_and_nothing_is_lost(bus, app):
    presenter = app.presenter
    bus.allow(["org.upright-bolt.watch"])
    presenter.draft_values({"sustained": 25.0})
    presenter.try_draft()
    until(lambda: "You may not change settings of this machine" in presenter.outcome)
    assert presenter.draft == {"sustained": 25.0}
    assert presenter.status.trial is None
