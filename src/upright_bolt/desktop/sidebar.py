"""The rail on the left: the views in the order of the work."""

from PyQt6.QtCore import QPoint, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeySequence, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QAbstractButton, QButtonGroup, QMenu, QWidget

from upright_bolt.desktop.widgets.basic import column
from upright_bolt.desktop.widgets.icons import bolt, view_sign
from upright_bolt.desktop.widgets.theme import Theme, font

VIEWS = (
    ("machine", "Machine"),
    ("workbench", "Workbench"),
    ("edge", "Edge"),
    ("compare", "Compare"),
    ("profiles", "Profiles"),
)
WIDTH = 68


class RailButton(QAbstractButton):
    """One view: its sign over its word."""

    def __init__(self, name: str, words: str, theme: Theme, shortcut: str) -> None:
        super().__init__()
        self._name = name
        self._theme = theme
        self.setText(words)
        self.setCheckable(True)
        if shortcut:
            self.setShortcut(QKeySequence(shortcut))
            self.setToolTip(f"{words} ({shortcut})")
        self.setAccessibleName(words)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)

    def sizeHint(self) -> QSize:
        """Return the fixed size."""
        return QSize(WIDTH, 62)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Draw."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        theme = self._theme
        colour = theme.rail_mark if self.isChecked() else theme.rail_ink
        if self.isChecked():
            painter.fillRect(self.rect(), QColor(255, 255, 255, 18))
            painter.fillRect(0, 0, 3, self.height(), QColor(theme.rail_mark))
        view_sign(painter, self._name, QRectF(WIDTH / 2 - 12, 10, 24, 22), colour)
        painter.setPen(QColor(colour))
        painter.setFont(font(7.5, bold=self.isChecked()))
        painter.drawText(QRectF(0, 36, WIDTH, 20), Qt.AlignmentFlag.AlignCenter, self.text())
        if self.hasFocus():
            painter.setPen(QPen(QColor(theme.rail_mark), 1.2, Qt.PenStyle.DotLine))
            painter.drawRect(QRectF(4.5, 4.5, WIDTH - 9, self.height() - 9))
        painter.end()


class Rail(QWidget):
    """The rail.

    Signals:
        chosen: a view's name.
        help_wanted: the name of a page, empty for the view in sight.
        preferences_wanted: the person wants to choose.
    """

    chosen = pyqtSignal(str)
    help_wanted = pyqtSignal(str)
    preferences_wanted = pyqtSignal()

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self.setFixedWidth(WIDTH)
        self._group = QButtonGroup(self)
        self.buttons: dict[str, RailButton] = {}
        layout = column(self, margins=(0, 74, 0, 12), gap=2)
        for i, (name, words) in enumerate(VIEWS, start=1):
            made = RailButton(name, words, theme, f"Alt+{i}")
            made.clicked.connect(lambda _checked, name=name: self.chosen.emit(name))
            self._group.addButton(made)
            self.buttons[name] = made
            layout.addWidget(made)
        layout.addStretch()
        self.more = RailButton("more", "More", theme, "")
        self.more.setCheckable(False)
        self.more.setAccessibleName("Help and preferences")
        self.more.clicked.connect(self._open_menu)
        layout.addWidget(self.more)
        self.menu = QMenu(self)
        for words, does in (
            ("Help", lambda: self.help_wanted.emit("")),
            ("The loop of work", lambda: self.help_wanted.emit("loop")),
            ("Keyboard", lambda: self.help_wanted.emit("shortcuts")),
            ("Preferences", self.preferences_wanted.emit),
            ("About Upright Bolt", lambda: self.help_wanted.emit("about")),
        ):
            action = self.menu.addAction(words)
            if action is not None:
                action.triggered.connect(lambda _checked, does=does: does())

    def _open_menu(self) -> None:
        self.menu.popup(self.more.mapToGlobal(QPoint(self.more.width(), 0)))

    def mark(self, name: str) -> None:
        """Mark the view that is shown."""
        self.buttons[name].setChecked(True)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Draw the ground and the bolt."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), QColor(self._theme.rail))
        bolt(painter, QRectF(WIDTH / 2 - 12, 16, 24, 40), self._theme.rail_mark)
        painter.end()
