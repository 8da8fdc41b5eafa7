"""The Edge view: how far the voltage can fall, as a picture, with the search that finds it."""

from secrets import randbelow

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QComboBox, QFrame, QHBoxLayout, QScrollArea, QStackedWidget, QWidget

from upright_bolt.analysis.stability.course import Course
from upright_bolt.desktop.machine_button import INDIVIDUALS
from upright_bolt.desktop.stability.chart import EdgeChart, EdgeLegend
from upright_bolt.desktop.stability.form import EdgeForm
from upright_bolt.desktop.stability.result import EdgeStanding
from upright_bolt.desktop.widgets.basic import Elided, column, heading, label, offer, rule, scrolled
from upright_bolt.desktop.widgets.theme import Theme
from upright_bolt.model.search import Rung
from upright_bolt.presentation.presenter import Presenter
from upright_bolt.presentation.stability_picture import EdgePicture, picture_of
from upright_bolt.session.search_request import RawArguments
from upright_bolt.text.search import named

SIDE_W = 318
NO_SEARCH = (
    "No search was made on this machine yet. A search moves a setting rung by rung under a load whose every result "
    "is checked, notes how each rung ended, and works out from all of them how far it is safe to go."
)

EXPECTED = (
    "The band below is where edges of such chips usually lie, with what runs on this one have shown already; a search "
    "narrows it."
)


class EdgeView(QWidget):
    """The view.

    Signals:
        drafted: what was found has been drafted; the Workbench shows it.
        compared: the number of a search and the ids of its runs, to be opened in Compare.
        rehearsed: the spec of a simulated machine on which a search is to be practised.
    """

    drafted = pyqtSignal()
    compared = pyqtSignal(int, list)
    rehearsed = pyqtSignal(str)

    def __init__(self, presenter: Presenter, theme: Theme) -> None:
        super().__init__()
        self._presenter = presenter
        self._asking = False
        self._chosen: int | None = None
        self._drawn: tuple[Course, Rung | None] | None = None
        self._picture: EdgePicture | None = None
        self.choice = QComboBox()
        self.choice.setAccessibleName("Search")
        self.choice.setMinimumContentsLength(30)
        self.choice.activated.connect(lambda _: presenter.searches.show(self.choice.currentData()))
        self._title = Elided("How far can it go?", "title")
        self._story = label("", wraps=True)
        self._notice = QFrame()
        self._notice.setProperty("role", "notice")
        told = column(self._notice, margins=(10, 6, 10, 6))
        told.addWidget(self._story)
        self._none = label(NO_SEARCH, "muted", wraps=True)
        self.chart = EdgeChart(theme)
        self.chart.picked.connect(self._pick_in_list)
        self._area = QScrollArea()
        self._area.setWidget(self.chart)
        self._area.setWidgetResizable(True)
        self._area.setFrameShape(QFrame.Shape.NoFrame)
        self._area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._legend = EdgeLegend(theme)
        self.form = EdgeForm(presenter)
        self.form.begun.connect(self._begin)
        self.form.rehearsed.connect(self._rehearse)
        self.form.closed.connect(lambda: self._ask(wanted=False))
        self.standing = EdgeStanding(presenter)
        self.standing.new_wanted.connect(lambda: self._ask(wanted=True))
        self.standing.drafted.connect(self._draft)
        self.standing.compared.connect(self._compare)
        self.standing.picked.connect(self._pick)
        self._side = QStackedWidget()
        form = QWidget()
        column(form, margins=(14, 10, 6, 10)).addWidget(self.form)
        form.setFixedWidth(SIDE_W)
        standing = QWidget()
        column(standing, margins=(14, 10, 14, 10)).addWidget(self.standing)
        self._side.addWidget(scrolled(form))
        self._side.addWidget(standing)
        self._side.setFixedWidth(SIDE_W + 9)
        self._arrange()
        presenter.searches.changed.connect(lambda _: self.show_state())
        presenter.settings_changed.connect(lambda _: self._show_form())
        presenter.runs.changed.connect(lambda _: self._show_form())

    def _arrange(self) -> None:
        left = QWidget()
        inner = column(left, margins=(16, 10, 12, 8), gap=7)
        head = QHBoxLayout()
        head.addWidget(heading("Where the edge lies"))
        head.addStretch()
        head.addWidget(self.choice)
        inner.addLayout(head)
        inner.addWidget(self._title)
        inner.addWidget(self._notice)
        inner.addWidget(self._none)
        inner.addWidget(self._area, 1)
        inner.addWidget(self._legend)
        inner.addStretch(0)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(left, 1)
        layout.addWidget(rule(upright=True))
        layout.addWidget(self._side)

    def showEvent(self, event: QShowEvent | None) -> None:
        """Show what has happened while something else was in sight."""
        super().showEvent(event)
        self.show_state()

    def show_state(self) -> None:
        """Show the search, or ask for one."""
        if not self.isVisible():
            return
        searches = self._presenter.searches
        course = searches.shown
        self._story.setText(searches.story)
        self._notice.setVisible(bool(searches.story))
        offer(self.choice, [(named(one), one.asked.id) for one in reversed(searches.found)])
        if course is not None:
            self.choice.setCurrentIndex(max(0, self.choice.findData(course.search.asked.id)))
        self.choice.setVisible(len(searches.found) > 1)
        possible = not searches.why_not(self._presenter.controls)
        self._legend.setVisible(course is not None)
        self._area.setVisible(course is not None or (possible and searches.expected is not None))
        self._none.setVisible(course is None)
        self._title.setText(named(course.search) if course is not None else "No search yet")
        if course is None and searches.expected is not None:
            self.chart.show_picture(picture_of(searches.expected))
            self._none.setText(f"{NO_SEARCH} {EXPECTED if possible else ''}")
        if course is not None:
            now = searches.progress.rung if searches.progress is not None else None
            if (course, now) != self._drawn:
                self._drawn, self._picture = (course, now), picture_of(course, now)
            self.chart.show_picture(self._picture, self._chosen)
            self.standing.show_course(course)
        asking = course is None or (self._asking and searches.open is None)
        self._side.setCurrentIndex(0 if asking else 1)
        self._show_form()

    def _show_form(self) -> None:
        if self.isVisible() and self._side.currentIndex() == 0:
            self.form.show_state()

    def _ask(self, *, wanted: bool) -> None:
        self._asking = wanted
        self.show_state()

    def _begin(self, typed: RawArguments) -> None:
        self._asking = False
        self._presenter.searches.begin(typed)

    def _rehearse(self) -> None:
        spec = self._presenter.outline.spec
        model = spec.partition("#")[0] if spec.startswith("twin:") else "twin:tern"
        self.rehearsed.emit(f"{model}#{1 + randbelow(INDIVIDUALS)}")

    def _draft(self) -> None:
        course = self._presenter.searches.shown
        if course is not None:
            self._presenter.draft_values(dict(course.recommended))
            self.drafted.emit()

    def _compare(self) -> None:
        course = self._presenter.searches.shown
        if course is not None:
            ids = [end.run_id for rung, end in course.search.ended if rung.settings and end.run_id is not None]
            self.compared.emit(course.search.asked.id, ids)

    def _pick(self, number: int) -> None:
        self._chosen = number
        self.show_state()

    def _pick_in_list(self, number: int) -> None:
        self.standing.choose(number)
        self._pick(number)
