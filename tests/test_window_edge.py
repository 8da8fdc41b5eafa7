"""The Edge view: a search from the conversation to its result, a freeze in the middle, and what has failed once."""

import pytest
from PyQt6.QtCore import QPoint, Qt

from search_support import BOTH, NEAR_FREEZING, SearchScene
from upright_bolt.desktop.widgets import theme
from upright_bolt.model.search import FAILED, Purpose, Why
from window_support import QTest, click, type_value, until, words_of

FASTEST = 1000.0


@pytest.fixture
def edge_of(open_app):
    def make(machine="twin:tern", looks=theme.LIGHT):
        app = open_app(machine, looks)
        app.window.show_view("edge")
        until(lambda: app.presenter.searches.shown or app.presenter.searches.expected)
        return app

    return make


def begin(app, how="careful", soak="0", after="wait"):
    form = app.window.edge.form
    for combo, value in ((form.how, how), (form.soak, soak), (form.after, after)):
        combo.setCurrentIndex(combo.findData(value))
    app.presenter.set_pace(FASTEST)
    click(form.begin)


def ended(app) -> bool:
    searches = app.presenter.searches
    return searches.progress is None and bool(searches.found) and searches.found[-1].end is not None


def found_by(app):
    until(lambda: ended(app) and app.presenter.searches.shown.search.end is not None)
    return app.presenter.searches.found[-1]


def test_a_search_from_the_conversation_to_its_draft(edge_of):
    app = edge_of()
    window = app.window
    assert window.edge.form.isVisible()
    assert "may freeze" in words_of(window.edge.form)
    begin(app)
    until(lambda: app.presenter.searches.progress is not None)
    assert window.edge.standing.pause.isVisible()
    search = found_by(app)
    assert search.end.why is Why.FOUND
    kept = f"−{search.kept_at:.0f} mV"
    assert f"Core and cache {kept}" in words_of(window.edge.standing)
    marks = window.edge.chart.accessibleDescription()
    assert all(f"rung {rung.number}," in marks for rung in search.rungs if rung.purpose is Purpose.TEST)
    assert "wrong result" in marks
    assert window.edge.standing.rungs.count() == len(search.rungs)
    assert not app.presenter.outcome.startswith("✕")
    until(lambda: {app.presenter.controls[name].current for name in BOTH} == {0.0})
    click(window.edge.standing.draft)
    assert window.view == "workbench"
    assert app.presenter.draft == search.end.settings
    strip = window.workbench.settings.rows["core-offset"].strip
    worst = min(rung.position for rung in search.rungs if search.ends[rung.number].outcome in FAILED)
    until(lambda: "known failures from −" in strip.described())
    assert app.presenter.failures.failed_at["core-offset"] == pytest.approx(-worst, abs=0.6)


def test_a_rung_is_picked_in_the_picture_or_in_the_list_and_its_runs_go_to_compare(edge_of, data):
    searched(data, "twin:tern")
    app = edge_of()
    edge = app.window.edge
    until(lambda: edge.chart.isVisible() and edge.standing.rungs.count() > 4)
    QTest.qWait(50)
    head, mark = edge.chart._heads[-1]
    QTest.mouseClick(edge.chart, Qt.MouseButton.LeftButton, pos=QPoint(round(head.x()), round(head.y())))
    assert edge.standing.rungs.currentItem().text().startswith(f"{mark.number}  ")
    edge.standing.rungs.setCurrentRow(0)
    assert edge.chart._chosen == int(edge.standing.rungs.item(0).text().split()[0])
    click(edge.standing.compare)
    assert app.window.view == "compare"
    until(lambda: app.window.compare.sweep.chart.lines)
    assert app.window.compare.sweep.control.currentData() == "core-offset"
    assert app.window.compare.sweep.result.currentData() == "full_mhz"


def test_while_a_search_goes_on_nobody_elses_settings_are_touched_and_a_pause_puts_everything_back(edge_of):
    app = edge_of()
    presenter, window = app.presenter, app.window
    begin(app)
    until(lambda: presenter.status.trial is not None)
    assert not window.strip.keep.isVisible()
    for ask in (
        presenter.keep,
        presenter.revert,
        presenter.reset_to_stock,
        lambda: presenter.try_guarded("turbo", "off"),
    ):
        ask()
        assert presenter.outcome.startswith("✕ A search is in progress")
    app.open_machine("twin:skerry")
    assert "stop it before you open another machine" in presenter.outcome
    click(window.edge.standing.pause)
    until(lambda: presenter.searches.progress is None and presenter.searches.shown is not None)
    until(lambda: window.edge.standing.go_on.isVisible())
    until(lambda: {presenter.controls[name].current for name in BOTH} == {0.0})
    until(lambda: "Next, if it goes on" in words_of(window.edge.standing))
    click(window.edge.standing.end)
    assert found_by(app).end.why is Why.STOPPED
    click(window.edge.standing.new)
    assert window.edge.form.isVisible()


def freezing(edge_of, after):
    """Return a window whose machine has frozen in a search, and has started again."""
    for machine in NEAR_FREEZING:
        app = edge_of(machine)
        begin(app, how="steps", after=after)
        until(lambda app=app: app.presenter.searches.story or ended(app))
        if app.presenter.searches.story:
            return app
        app.window.close()
    raise AssertionError("none of them froze")


def test_after_a_freeze_the_window_tells_the_story_and_the_search_can_go_on(edge_of):
    app = freezing(edge_of, "wait")
    window, searches = app.window, app.presenter.searches
    until(lambda: window.view == "edge" and searches.shown is not None)
    assert "froze and restarted in rung" in words_of(window.edge)
    assert "Nothing of it is in force" in words_of(window.edge)
    until(lambda: {app.presenter.controls[name].current for name in BOTH} == {0.0})
    assert searches.progress is None
    assert "the machine froze" in window.edge.chart.accessibleDescription()
    app.presenter.set_pace(FASTEST)
    click(window.edge.standing.go_on)
    search = found_by(app)
    assert search.freezes >= 1
    assert search.end.why is Why.FOUND


def test_after_a_freeze_a_search_goes_on_by_itself_if_asked(edge_of):
    app = freezing(edge_of, "go-on")
    assert "It goes on by itself" in app.presenter.searches.story
    app.presenter.set_pace(FASTEST)
    search = found_by(app)
    assert search.end.why is Why.FOUND
    assert search.freezes >= 1


def searched(data, machine):
    """Make a search on a machine before its window opens."""
    scene = SearchScene(data, machine)
    found = scene.carry_on(scene.ask(soak_s=60.0))
    scene.twin.close()
    return found


def test_what_has_failed_is_asked_about_before_it_is_tried_and_never_kept(edge_of, data):
    search = searched(data, "twin:tern")
    worst = min(rung.position for rung in search.rungs if search.ends[rung.number].outcome in FAILED)
    app = edge_of()
    presenter, window = app.presenter, app.window
    until(lambda: presenter.searches.failures)
    window.show_view("workbench")
    panel = window.workbench.settings
    type_value(window, "core-offset", f"-{worst:.0f} mV")
    click(panel.try_button)
    assert "gave wrong results here" in presenter.outcome
    assert "Nothing was changed" in presenter.outcome
    assert presenter.status.trial is None
    assert panel.over_button.isVisible()
    type_value(window, "core-offset", "-20 mV")
    assert not panel.over_button.isVisible()
    type_value(window, "core-offset", f"-{worst:.0f} mV")
    click(panel.try_button)
    click(panel.over_button)
    until(lambda: presenter.status.trial is not None)
    presenter.keep()
    assert "It is tried, but not kept" in presenter.outcome
    presenter.revert()
    until(lambda: presenter.status.trial is None)
    window.show_view("compare")
    form = window.compare.sweep.form
    form.first.setText("0")
    form.last.setText("-120")
    form.control.setCurrentIndex(max(0, form.control.findData("core-offset,cache-offset")))
    click(form.start)
    assert "No run was made" in presenter.outcome


@pytest.mark.parametrize(
    ("typed", "said"),
    [({"fails": "50 %"}, "0.01% to 20%"), ({"reach": "-300"}, "1 mV to 100 mV"), ({"gain": "much"}, "least-gain")],
)
def test_what_is_typed_wrongly_is_said(edge_of, typed, said):
    app = edge_of()
    form = app.window.edge.form
    for name, text in typed.items():
        field = getattr(form, name)
        (field.setEditText if name == "fails" else field.setText)(text)
    click(form.begin)
    assert said in app.presenter.outcome
    assert app.presenter.searches.progress is None
    assert words_of(app.window).count(app.presenter.outcome) == 1


@pytest.mark.parametrize("machine", ["host", "twin:plover"])
def test_where_offsets_cannot_be_set_the_view_says_why(edge_of, machine):
    app = edge_of(machine)
    form = app.window.edge.form
    until(lambda: "So its edge cannot be searched for" in words_of(form))
    assert not form.begin.isVisible()
    assert form.rehearse.isEnabled()


def test_a_rehearsal_opens_a_simulated_machine_on_the_same_view(edge_of):
    app = edge_of("twin:plover")
    click(app.window.edge.form.rehearse)
    until(lambda: app.presenter.outline.spec.startswith("twin:plover#"))
    assert app.window.view == "edge"
