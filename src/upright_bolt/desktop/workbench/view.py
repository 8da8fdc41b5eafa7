"""The Workbench: settings on the left, live charts in the middle, the run on the right."""

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QWidget

from upright_bolt.analysis.chip import board_of, chip_of
from upright_bolt.analysis.validation.evidence import evidence
from upright_bolt.desktop.widgets.basic import Bounded, column, heading, label, rule, scrolled
from upright_bolt.desktop.widgets.theme import Theme
from upright_bolt.desktop.workbench.core_cards import CARD_H, GAP, CoreCards
from upright_bolt.desktop.workbench.curve_dialog import CurveDialog
from upright_bolt.desktop.workbench.live_charts import LiveCharts
from upright_bolt.desktop.workbench.run_panel import RunPanel
from upright_bolt.desktop.workbench.settings_panel import SettingsPanel
from upright_bolt.presentation.presenter import ALL, Presenter

SETTINGS_W = 318
MOST_CORES_PX = 3 * (CARD_H + GAP)


class Workbench(QWidget):
    """The daily screen.

    Signals:
        reasons_wanted: a person asks why something is not on this machine.
    """

    reasons_wanted = pyqtSignal()

    def __init__(self, presenter: Presenter, theme: Theme) -> None:
        super().__init__()
        self._presenter, self._theme = presenter, theme
        outline = presenter.outline
        self.settings = SettingsPanel(presenter.controls, theme, presenter.outline.about.chips)
        self.settings.setFixedWidth(SETTINGS_W)
        self.settings.drafted.connect(presenter.draft_values)
        self.settings.tried.connect(presenter.try_draft)
        self.settings.dropped.connect(presenter.drop_draft)
        self.settings.stock_wanted.connect(presenter.reset_to_stock)
        self.settings.wake_wanted.connect(presenter.wake_chip)
        self.settings.curve_wanted.connect(self.show_curve)
        self.settings.reasons_wanted.connect(self.reasons_wanted)
        self.charts = LiveCharts(presenter.history, presenter.pace, theme, outline.ceiling_c, outline.highest_mhz)
        self.cores = CoreCards(theme)
        self.run = RunPanel(presenter, theme)
        middle = QWidget()
        inner = column(middle, margins=(10, 6, 8, 8), gap=4)
        head = QHBoxLayout()
        head.addWidget(heading("Last 10 minutes"))
        head.addStretch()
        head.addWidget(label("Drag to look at a span, double-click to return", "muted"))
        inner.addLayout(head)
        inner.addWidget(self.charts, 1)
        inner.addWidget(heading("Cores now"))
        inner.addWidget(Bounded(self.cores, MOST_CORES_PX, CARD_H))
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.settings)
        layout.addWidget(rule(upright=True))
        layout.addWidget(middle, 1)
        layout.addWidget(rule(upright=True))
        layout.addWidget(scrolled(self.run))
        presenter.drafted.connect(self._show_draft)
        self.settings.tried_over.connect(lambda: presenter.try_draft(allow_known_bad=True))
        presenter.said.connect(lambda said: self.settings.show_outcome(said, doubted=bool(presenter.warning)))
        presenter.searches.changed.connect(lambda _: self.settings.show_ground(presenter.failures.failed_at))
        presenter.settings_changed.connect(lambda _: self._show_controls())
        presenter.live.connect(lambda _: self._show_live())
        chip, board = chip_of(outline.identity), board_of(outline.identity)
        presenter.runs.changed.connect(
            lambda _: self.settings.show_evidence(evidence(presenter.runs.all, outline.spec, chip, board))
        )
        self.settings.show_outcome(presenter.outcome)

    def show_state(self) -> None:
        """Show everything as it is."""
        self._show_controls()
        self._show_live()

    def show_curve(self, part: str) -> None:
        """Show clocks and voltages of a graphics chip in a window of their own."""
        presenter = self._presenter
        dialog = CurveDialog(presenter, presenter.chip_curve, part, self._theme, self.window() or self)
        dialog.drafted.connect(presenter.draft_values)
        dialog.show()

    def _show_controls(self) -> None:
        self.settings.show_controls(self._presenter.controls, self._presenter.draft)

    def _show_draft(self, name: str) -> None:
        presenter = self._presenter
        self.settings.over_button.setVisible(bool(presenter.warning))
        if name == ALL:
            self._show_controls()
        else:
            self.settings.show_draft(name, presenter.controls, presenter.draft)

    def _show_live(self) -> None:
        """Draw the newest samples, if this view is in sight."""
        presenter = self._presenter
        if self.isVisible():
            self.charts.draw()
            self.charts.held.setText(presenter.holding_now())
            self.cores.show_cores(presenter.cores_now())
