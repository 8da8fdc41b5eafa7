"""The icon in the desktop's panel: one number that a person chose, the profile in force, and a short menu."""

from PyQt6.QtCore import QObject, QRectF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QAction, QActionGroup, QColor, QIcon, QPainter, QPixmap
from PyQt6.QtWidgets import QMenu, QSystemTrayIcon

from upright_bolt.desktop.widgets.theme import Theme, font
from upright_bolt.model.profile import STOCK
from upright_bolt.model.sample import Sample, value_of
from upright_bolt.presentation.preferences import PanelNumber
from upright_bolt.presentation.presenter import Presenter
from upright_bolt.text.enforcement import standing_words

SIDE = 64
EVERY_MS = 2000
NO_PANEL = "This desktop has no panel that shows icons of programs, so the window stays as it is; nothing is lost."
READINGS = {
    PanelNumber.HOTTEST: ("temperature.package", 1.0, 0, "°C"),
    PanelNumber.WATTS: ("power.package", 1.0, 0, "W"),
    PanelNumber.CLOCK: ("clock.mean", 0.001, 1, "GHz"),
}
"""By choice: sensor, factor, digits behind the point, unit."""


def number_of(sample: Sample | None, index: dict[str, int], chosen: PanelNumber) -> tuple[str, str]:
    """Return the number as the icon shows it, and with its unit; a dash where it is not measured."""
    sensor, factor, digits, unit = READINGS[chosen]
    value = None if sample is None or sensor not in index else value_of(sample, index, sensor)
    shown = "" if value is None else f"{value * factor:.{digits}f}"
    return (shown, f"{shown} {unit}") if shown else ("–", "not measured")


def icon_of(text: str, theme: Theme) -> QIcon:
    """Return an icon that shows a short text."""
    pixmap = QPixmap(SIDE, SIDE)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QColor(theme.rail))
    painter.drawRoundedRect(QRectF(0, 0, SIDE, SIDE), 12, 12)
    painter.setPen(QColor(theme.rail_mark))
    made = font(10.0, bold=True)
    made.setPixelSize(SIDE * 5 // 8 if len(text) < 3 else SIDE * 7 // 16)
    painter.setFont(made)
    painter.drawText(QRectF(0, 0, SIDE, SIDE), Qt.AlignmentFlag.AlignCenter, text)
    painter.end()
    return QIcon(pixmap)


class Panel(QObject):
    """The icon, its tip and its menu.

    Args:
        presenter: of the machine that is open.
        theme: colours.
        chosen: the number that the icon shows.

    Signals:
        opened: the window is wanted.
        ended: the program is to end.
    """

    opened = pyqtSignal()
    ended = pyqtSignal()

    def __init__(self, presenter: Presenter, theme: Theme, chosen: PanelNumber) -> None:
        super().__init__()
        self._presenter = presenter
        self._theme = theme
        self._chosen = chosen
        self._shown = ""
        self._filled: tuple[object, ...] = ()
        self.menu = QMenu()
        self._group = QActionGroup(self.menu)
        self.icon = QSystemTrayIcon()
        self.icon.setContextMenu(self.menu)
        self.icon.activated.connect(self._activated)
        self.menu.aboutToShow.connect(self.fill)
        self._timer = QTimer(self)  # the window may be hidden, and then draws nothing
        self._timer.timeout.connect(self._keep_up)
        self._timer.start(EVERY_MS)
        self._keep_up()

    @staticmethod
    def there_is_one() -> bool:
        """Tell whether this desktop has a panel."""
        return QSystemTrayIcon.isSystemTrayAvailable()

    def _keep_up(self) -> None:
        self.show_number()
        if not self.menu.isVisible():
            self.fill()  # a panel in another process reads the menu before it shows it

    def show_number(self) -> None:
        """Show the number of the moment; drawn only when it has changed."""
        text, _ = self._number()
        # Each new picture goes over the bus to the desktop, once a second.
        if text != self._shown:
            self._shown = text
            self.icon.setIcon(icon_of(text, self._theme))
        self._show_tip()

    def _number(self) -> tuple[str, str]:
        return number_of(self._presenter.sample, self._presenter.outline.index, self._chosen)

    def _show_tip(self) -> None:
        presenter = self._presenter
        tip = f"{presenter.outline.identity.name}: {self._number()[1]}\n{standing_words(presenter.profiles.status)}"
        if tip != self.icon.toolTip():
            self.icon.setToolTip(tip)

    def fill(self) -> None:
        """Fill the menu with what can be done now, if that has changed."""
        menu, presenter = self.menu, self._presenter
        status, trying = presenter.profiles.status, presenter.status.trial is not None
        names = (STOCK, *(view.profile.name for view in status.profiles))
        now = (names, status.active, status.hold, trying)
        if now == self._filled:
            return
        self._filled = now
        menu.clear()
        self._group.deleteLater()
        self._group = QActionGroup(menu)
        for name in names:
            action = QAction(name, menu)
            action.setCheckable(True)
            action.setChecked(name == status.active)
            action.triggered.connect(lambda _checked, name=name: presenter.profiles.use(name))
            self._group.addAction(action)
            menu.addAction(action)
        menu.addSeparator()
        self._add("Turn hold off" if status.hold else "Turn hold on",
                  lambda: presenter.profiles.set_hold(on=not status.hold))  # fmt: skip
        back = self._add("Put back", presenter.revert)
        back.setEnabled(trying)
        menu.addSeparator()
        self._add("Open the window", self.opened.emit)
        self._add("End", self.ended.emit)

    def _add(self, words: str, act: object) -> QAction:
        action = QAction(words, self.menu)
        action.triggered.connect(act)  # type: ignore[arg-type]
        self.menu.addAction(action)
        return action

    def _activated(self, reason: QSystemTrayIcon.ActivationReason) -> None:
        if reason is not QSystemTrayIcon.ActivationReason.Context:
            self.opened.emit()
