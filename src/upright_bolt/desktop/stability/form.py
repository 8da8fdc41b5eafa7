"""What a person is asked before a search begins: what, how bold, how long, and what after a freeze."""

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QFormLayout, QLineEdit, QWidget

from upright_bolt.desktop.widgets.basic import Elided, button, column, heading, label, offer
from upright_bolt.model.axis import Axis
from upright_bolt.model.control import ControlState
from upright_bolt.model.quantity import with_unit
from upright_bolt.model.search import AfterFreeze, Bold
from upright_bolt.presentation.presenter import Presenter
from upright_bolt.session.search_request import AXES, IN_BREAKS, RawArguments, axes_of, usual_soak
from upright_bolt.text.search import axis_words, step_words

STEPS = "steps"
CAREFUL_WORDS = (
    "Each test is the one that tells most for its risk, and ends at its first error. On simulated laptops it took "
    "14 min before the soak, and 3 in 100 searches froze the machine."
)
QUICK_WORDS = (
    "Ends as soon as little more is to be learnt: 6 min on simulated laptops, 1 in 100 froze, and 2 mV more are given "
    "away than by a careful one."
)
THOROUGH_WORDS = (
    "Goes on as long as anything is to be learnt: 36 min on simulated laptops, 3 in 100 froze, and 2 mV less are given "
    "away than by a careful one."
)
STEP_WORDS = "Goes down by the step you choose until one fails. What is kept is told from the same model."
HOW = (
    ("Careful", Bold.CAREFUL.value, CAREFUL_WORDS),
    ("Quick", Bold.QUICK.value, QUICK_WORDS),
    ("Thorough", Bold.THOROUGH.value, THOROUGH_WORDS),
    ("Steps of one size", STEPS, STEP_WORDS),
)
SOAKS = (
    ("10 min", "10min"),
    ("20 min", "20min"),
    ("1 hour", "1h"),
    ("8 hours", "8h"),
    ("1 hour, in my breaks", IN_BREAKS),
    ("none", "0"),
)
SHARES = ("1 %", "0.5 %", "0.1 %", "5 %")
IN_USE = (("not at the end", ""), ("30 min", "30min"), ("1 hour", "1h"), ("2 hours", "2h"))
AFTER = (("Wait for me", AfterFreeze.WAIT.value), ("Go on by itself", AfterFreeze.GO_ON.value))
HONEST = (
    "A search takes this machine to where it fails. Results go wrong there, and it may freeze: save your work and "
    "close what you cannot lose. A value is on record before it is tried, and after a restart the firmware's own "
    "voltage is in force."
)


class EdgeForm(QWidget):
    """The conversation.

    Signals:
        begun: a ``RawArguments``.
        rehearsed: the same is to be practised on a simulated machine first.
        closed: not now.
    """

    begun = pyqtSignal(object)
    rehearsed = pyqtSignal()
    closed = pyqtSignal()

    def __init__(self, presenter: Presenter) -> None:
        super().__init__()
        self._presenter = presenter
        self._unit, self._usual = "mV", ""
        simulated = presenter.outline.spec.startswith("twin:")
        self.axis, self.how, self.soak, self.use, self.after = (QComboBox() for _ in range(5))
        self.fails = QComboBox()
        self.fails.setEditable(True)
        self.fails.addItems(SHARES)
        offer(self.how, [(words, value) for words, value, _ in HOW], Bold.CAREFUL.value)
        offer(self.soak, SOAKS, "10min")
        offer(self.use, IN_USE, "")
        offer(self.after, AFTER, AfterFreeze.WAIT.value)
        self.step = _entry("-10 mV")
        self.reach = _entry("as it chooses")
        self.gain = _entry("any")
        self.at = _entry("as it is")
        self._rows = QFormLayout()
        self._rows.setVerticalSpacing(6)
        self._rows.setLabelAlignment(Qt.AlignmentFlag.AlignLeft)
        self._rows.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)
        for words, widget in (
            ("What is moved", self.axis), ("Highest clock", self.at), ("How it goes", self.how),
            ("Each step", self.step), ("Soak at the end", self.soak), ("Then your own use", self.use),
            ("May fail in 8 h", self.fails), ("Deepest step", self.reach), ("Ends below a gain of", self.gain),
            ("After a freeze", self.after),
        ):  # fmt: skip
            widget.setAccessibleName(words)
            self._rows.addRow(label(words, "muted"), widget)
        self.reach.setToolTip("Never further below what has passed than this, e.g. -20 mV")
        self.gain.setToolTip("End where going further could not bring so much more score, e.g. 0.5 %")
        self.at.setToolTip("Of the graphics chip, meanwhile and with what is kept, e.g. 2.1 GHz")
        self.use.setToolTip("You use the machine at the value found, and say how it went")
        self.fails.setToolTip("Share of eight-hour loads that may fail with the value that is kept")
        self._how_words = label("", "muted", wraps=True)
        self._why_not = label("", "fault", wraps=True)
        self.begin = button("Begin the search", "main" if simulated else "")
        again = "Rehearse on another one of these" if simulated else "Rehearse on a simulated laptop first"
        self.rehearse = button(again, "" if simulated else "main")
        self.close_button = button("Not now")
        self.begin.clicked.connect(lambda: self.begun.emit(self.typed()))
        self.rehearse.clicked.connect(self.rehearsed)
        self.close_button.clicked.connect(self.closed)
        self.how.currentIndexChanged.connect(lambda _: self._show_how())
        self.axis.currentIndexChanged.connect(lambda _: self._show_axis())
        layout = column(self, gap=8)
        layout.addWidget(heading("A new search"))
        layout.addWidget(Elided("How far can it go?", "title"))
        layout.addWidget(label(HONEST, wraps=True))
        layout.addLayout(self._rows)
        layout.addWidget(self._how_words)
        layout.addWidget(self._why_not)
        order = (self.begin, self.rehearse) if simulated else (self.rehearse, self.begin)
        for pressed in (*order, self.close_button):
            layout.addWidget(pressed)
        layout.addStretch()
        self._show_how()

    def show_state(self) -> None:
        """Offer what can be searched on this machine; where nothing can, say why."""
        presenter = self._presenter
        open_to = (ControlState.SETTABLE, ControlState.ASLEEP)
        movable = {name for name, control in presenter.controls.items() if control.state in open_to}
        open_axes = [
            (axis_words(controls), axis)
            for axis, controls in axes_of(presenter.controls).items()
            if {*controls} <= movable
        ]
        offer(self.axis, open_axes, "core,cache")
        why = presenter.searches.why_not(presenter.controls)
        self._why_not.setText(f"✕ {why}" if why else "")
        self._why_not.setVisible(bool(why))
        for row in range(self._rows.rowCount()):
            self._rows.setRowVisible(row, not why)
        for widget in (self._how_words, self.begin):
            widget.setVisible(not why)
        self._show_how()
        self._show_axis()
        self.begin.setEnabled(not why and presenter.progress is None)
        self.close_button.setVisible(bool(presenter.searches.found))

    def _show_axis(self) -> None:
        """Ask what belongs to the axis that is chosen, in its unit."""
        word = self.axis.currentData() or "core,cache"
        axis = Axis(axes_of(self._presenter.controls).get(word, AXES["core,cache"]))
        self._rows.setRowVisible(self.at, bool(axis.part) and self.begin.isVisibleTo(self))
        self._unit = axis.quantity.unit
        self.step.setPlaceholderText(step_words(axis, 10.0))
        if (usual := usual_soak(axis.controls)) != self._usual:
            self._usual = usual
            self.soak.setCurrentIndex(self.soak.findData(usual))

    def _show_how(self) -> None:
        """Say what the way of searching chosen means, and ask for the step where one is needed."""
        chosen = self.how.currentData()
        self._how_words.setText(next(words for _, value, words in HOW if value == chosen))
        self._rows.setRowVisible(self.step, chosen == STEPS and self.begin.isVisibleTo(self))

    def typed(self) -> RawArguments:
        """Return what was chosen."""
        how = self.how.currentData()
        plain = how == STEPS
        at = self.at.text().strip() if self._rows.isRowVisible(self.at) else ""
        return RawArguments(
            axis=self.axis.currentData() or "core,cache",
            plain=with_unit(self.step.text().strip() or "-10", self._unit) if plain else "",
            bold=Bold.CAREFUL.value if plain else how,
            fails=self.fails.currentText(),
            soak=self.soak.currentData(),
            after_freeze=self.after.currentData(),
            reach=with_unit(self.reach.text().strip(), self._unit) if self.reach.text().strip() else "",
            least_gain=self.gain.text().strip(),
            at=with_unit(at, "MHz") if at else "",
            in_use=self.use.currentData(),
        )


def _entry(example: str) -> QLineEdit:
    made = QLineEdit()
    made.setPlaceholderText(example)
    return made
