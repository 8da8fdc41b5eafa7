"""Less voltage for the same clock: the chip's curve as it was seen, what is asked, and two drafts to begin with."""

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QLineEdit, QWidget

from upright_bolt.analysis.clock_voltage import ClockLadder, clocks_to_measure
from upright_bolt.desktop.widgets.basic import button, column, label
from upright_bolt.desktop.widgets.theme import Theme
from upright_bolt.desktop.workbench.curve_chart import CurveChart
from upright_bolt.errors import BadInput
from upright_bolt.model.quantity import CLOCK, with_unit
from upright_bolt.presentation.gpu_curve import ChipCurve
from upright_bolt.presentation.presenter import Presenter
from upright_bolt.presentation.records import SweepRequest
from upright_bolt.text.clock_voltage import measuring_words, no_ladder

WHAT = (
    "A clock at the voltage of a lower one: the whole curve is moved, and cut flat at that clock, so that no point is "
    "lifted alone. It is worked out from clocks and voltages that this chip has shown under load. Frames are right or "
    "wrong, so a search in the Edge view proves how far it can go."
)


class CurveDialog(QDialog):
    """The window of one chip's curve.

    Signals:
        drafted: settings that are to be drafted.
    """

    drafted = pyqtSignal(object)

    def __init__(self, presenter: Presenter, curve: ChipCurve, part: str, theme: Theme, parent: QWidget) -> None:
        super().__init__(parent)
        self._presenter, self._curve = presenter, curve
        self.setWindowTitle(f"Clock and voltage of {part}")
        self.chart = CurveChart(theme)
        self.clock, self.as_clock = QLineEdit(), QLineEdit()
        for entry, name, example in ((self.clock, "Clock", "2.1 GHz"), (self.as_clock, "At the voltage of", "1.9 GHz")):
            entry.setAccessibleName(name)
            entry.setPlaceholderText(example)
            entry.returnPressed.connect(self._ask)
        self.work_out = button("Work it out")
        self.speed = button("Same speed, fewer watts")
        self.quiet = button("Flat and quiet")
        self.measure = button("Measure its clocks")
        self.draft = button("Draft it", "main")
        self._words = label("", wraps=True)
        self._fault = label("", "fault", wraps=True)
        layout = column(self, margins=(18, 16, 18, 14), gap=10)
        layout.addWidget(label(WHAT, "muted", wraps=True))
        layout.addWidget(self.chart, 1)
        asked = QHBoxLayout()
        for widget in (label("Clock", "muted"), self.clock, label("at the voltage of", "muted"), self.as_clock):
            asked.addWidget(widget)
        asked.addWidget(self.work_out)
        layout.addLayout(asked)
        drafts = QHBoxLayout()
        drafts.addWidget(label("To begin with", "muted"))
        drafts.addWidget(self.speed)
        drafts.addWidget(self.quiet)
        drafts.addWidget(self.measure)
        drafts.addStretch()
        drafts.addWidget(self.draft)
        layout.addLayout(drafts)
        layout.addWidget(self._words)
        layout.addWidget(self._fault)
        self.work_out.clicked.connect(self._ask)
        self.speed.clicked.connect(lambda: curve.draft_speed(presenter.controls))
        self.quiet.clicked.connect(lambda: curve.draft_quiet(presenter.controls))
        self.measure.clicked.connect(self._measure)
        self.draft.clicked.connect(self._draft)
        for pressed in (self.work_out, self.speed, self.quiet, self.measure, self.draft):
            pressed.setAutoDefault(False)
        curve.changed.connect(self._show)
        self.finished.connect(lambda _: curve.changed.silence())
        self.resize(720, 600)
        curve.show(part)
        self._show(None)

    def _show(self, _: None) -> None:
        """Show the curve, what was worked out from it, and what could be measured."""
        curve, ladder = self._curve, self._ladder()
        why = "" if ladder is not None else no_ladder(curve.part, self._presenter.controls)
        self.chart.show_curve(curve.curve, curve.asked)
        self._words.setText(curve.words)
        self._words.setVisible(bool(curve.words))
        self._fault.setText(f"✕ {curve.fault} {why}" if curve.fault else "")
        self._fault.setVisible(bool(curve.fault))
        self.draft.setEnabled(curve.asked is not None)
        self.measure.setEnabled(ladder is not None)
        self.measure.setToolTip(why if ladder is None else measuring_words(ladder))

    def _ask(self) -> None:
        try:
            clock, lower = (
                CLOCK.parse(with_unit(entry.text().strip(), "MHz"), name)
                for entry, name in ((self.clock, "clock"), (self.as_clock, "at the voltage of"))
            )
        except BadInput as fault:
            self._curve.refuse(str(fault))
            return
        self._curve.ask(self._presenter.controls, clock, lower)

    def _ladder(self) -> ClockLadder | None:
        """Return which clocks could be measured; None while that is not known."""
        seen = self._curve.curve
        return None if seen is None else clocks_to_measure(self._presenter.controls, self._curve.part, seen)

    def _measure(self) -> None:
        """Run the graphics load at several clocks; the run panel shows how that goes."""
        ladder = self._ladder()
        if ladder is not None:
            first, last, step = (f"{clock:.0f}MHz" for clock in (ladder.first, ladder.last, ladder.step))
            asked = SweepRequest(ladder.control, first, last, step, "graphics", "1min", 1, "", self._curve.part)
            self._presenter.records.start_ladder(asked)
            self.close()

    def _draft(self) -> None:
        if self._curve.asked is not None:
            self.drafted.emit(dict(self._curve.asked.settings))
            self.close()
