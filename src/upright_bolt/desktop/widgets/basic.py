"""Small parts that every view uses: labels by role, rules, columns."""

from collections.abc import Sequence

from PyQt6.QtCore import QEvent, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QResizeEvent
from PyQt6.QtWidgets import (
    QComboBox,
    QDialog,
    QFrame,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

BAR_W = 10
"""Room for a scroll bar, so that what it scrolls is not covered by it."""


class Wrapped(QLabel):
    """A label that breaks its lines and is always just as high as they need.

    Qt's own asks for the height of its narrowest form, which makes a window grow without need.
    """

    def __init__(self, text: str) -> None:
        super().__init__(text)
        self.setWordWrap(True)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self._laid_out: tuple[str, int, str] | None = None
        self._height = 0

    def sizeHint(self) -> QSize:
        """Return the height that the lines need at the present width; layouts ask several times in a row."""
        wanted = self.text(), max(40, self.width()), self.font().key()
        if wanted != self._laid_out:
            self._laid_out, self._height = wanted, self.heightForWidth(wanted[1])
        return QSize(10, self._height)

    def minimumSizeHint(self) -> QSize:
        """Return the same: it is never cut."""
        return self.sizeHint()

    def hasHeightForWidth(self) -> bool:
        """Keep layouts from asking for a height at widths that it never gets."""
        return False

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Take the height that the new width needs."""
        super().resizeEvent(event)
        if event is not None and event.size().width() != event.oldSize().width():
            self.updateGeometry()


class Elided(QLabel):
    """A label of one line that gives way where room is short: it ends in … then, and its tip has the whole text."""

    def __init__(self, text: str, role: str = "") -> None:
        super().__init__(text)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setProperty("role", role)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        self._tip = ""

    def explain(self, tip: str) -> None:
        """Let the tip say more than the text."""
        self._tip = tip
        self._show_tip()

    def _show_tip(self) -> None:
        whole = self.text() if self.fontMetrics().horizontalAdvance(self.text()) > self.width() else ""
        self.setToolTip("\n".join(part for part in (whole, self._tip) if part))

    def minimumSizeHint(self) -> QSize:
        """Return room for a word."""
        return QSize(min(40, self.sizeHint().width()), self.sizeHint().height())

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Draw as much of the text as there is room for."""
        painter = QPainter(self)
        painter.setPen(self.palette().color(self.foregroundRole()))
        shown = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, self.width())
        painter.drawText(self.rect(), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, shown)
        painter.end()

    def setText(self, text: str | None) -> None:
        """Show another text."""
        super().setText(text)
        self._show_tip()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Have the tip say what has no room."""
        super().resizeEvent(event)
        self._show_tip()


def label(text: str = "", role: str = "", *, wraps: bool = False) -> QLabel:
    """Return a label dressed by its role (heading, muted, title, strong, figure, fault)."""
    made = Wrapped(text) if wraps else QLabel(text)
    made.setTextFormat(Qt.TextFormat.PlainText)
    if role:
        made.setProperty("role", role)
    return made


def heading(text: str) -> QLabel:
    """Return a small capital heading."""
    return label(text.upper(), "heading")


def button(text: str, role: str = "") -> QPushButton:
    """Return a button; role ``main`` is the one that a screen is for."""
    made = QPushButton(text)
    if role:
        made.setProperty("role", role)
    return made


def foot_with_close(dialog: QDialog) -> QHBoxLayout:
    """Return the foot of a dialog that is only read, or takes effect at once: a button that closes it."""
    close = button("Close", "main")
    close.clicked.connect(dialog.close)
    foot = QHBoxLayout()
    foot.addStretch()
    foot.addWidget(close)
    return foot


def foot_with_cancel(dialog: QDialog, go: QPushButton) -> QHBoxLayout:
    """Return the foot of a dialog that does something: a button that leaves it, and ``go``."""
    leave = button("Cancel")
    leave.clicked.connect(dialog.close)
    foot = QHBoxLayout()
    foot.addStretch()
    foot.addWidget(leave)
    foot.addWidget(go)
    return foot


def rule(*, upright: bool = False) -> QFrame:
    """Return a thin line."""
    made = QFrame()
    made.setProperty("role", "rule")
    if upright:
        made.setFixedWidth(1)
    else:
        made.setFixedHeight(1)
    return made


def column(
    parent: QWidget | None = None, *, margins: tuple[int, int, int, int] = (0, 0, 0, 0), gap: int = 6
) -> QVBoxLayout:
    """Return a vertical layout."""
    made = QVBoxLayout(parent)
    made.setContentsMargins(*margins)
    made.setSpacing(gap)
    return made


def offer(combo: QComboBox, entries: Sequence[tuple[str, object]], usual: object = None) -> None:
    """Offer other entries (words, and what they stand for) without a signal, keeping what is chosen while it is there.

    Args:
        combo: the choice.
        entries: in their order.
        usual: what is chosen if nothing was.
    """
    kept = combo.currentData() or usual
    combo.blockSignals(True)  # noqa: FBT003 - Qt's own signature
    combo.clear()
    for words, data in entries:
        combo.addItem(words, data)
    combo.setCurrentIndex(max(0, combo.findData(kept)) if entries else -1)
    combo.blockSignals(False)  # noqa: FBT003 - same


def scrolled(inner: QWidget) -> QScrollArea:
    """Return a column in an area that scrolls once the window is too low for it, and never makes the window grow."""
    made = QScrollArea()
    made.setWidget(inner)
    made.setWidgetResizable(True)
    made.setFrameShape(QFrame.Shape.NoFrame)
    made.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    made.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    made.setFixedWidth(inner.width() + BAR_W)
    return made


class Bounded(QScrollArea):
    """Holds what needs more height the narrower it is: as high as it needs up to a height, and scrolled beyond that.

    There is always room for the bar: if text grew narrower by it, each new text would be laid out several times over.

    Args:
        inner: what it holds.
        most_px: its greatest height.
        least_px: how far it gives way where the window is low; not at all if None.
    """

    def __init__(self, inner: QWidget, most_px: int, least_px: int | None = None) -> None:
        super().__init__()
        self._most_px, self._least_px = most_px, least_px
        self._inner = inner
        self._wanted_px = 0
        self.setWidget(inner)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Maximum)

    def _fit(self) -> None:
        """Give the inner widget this width and the height that it needs then, and ask for that height."""
        self._inner.resize(self.width() - BAR_W, self._inner.height())
        self._inner.resize(self._inner.width(), self._inner.sizeHint().height())
        if self._inner.height() != self._wanted_px:
            self._wanted_px = self._inner.height()
            self.updateGeometry()

    def viewportEvent(self, event: QEvent | None) -> bool:
        """Follow what is in it: a new text asks the area for room."""
        if event is not None and event.type() == QEvent.Type.LayoutRequest:
            self._fit()
        return super().viewportEvent(event)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Follow another width."""
        super().resizeEvent(event)
        self._fit()

    def sizeHint(self) -> QSize:
        """Return the height of what is in it, up to the most."""
        return QSize(10, min(self._most_px, self._wanted_px))

    def minimumSizeHint(self) -> QSize:
        """Return the least height."""
        height = self.sizeHint().height()
        return QSize(10, height if self._least_px is None else min(height, self._least_px))


def restyle(widget: QWidget, name: str, value: object) -> None:
    """Set a property that the style sheet looks at, and dress the widget anew."""
    if widget.property(name) == value:
        return
    widget.setProperty(name, value)
    style = widget.style()
    if style is not None:
        style.unpolish(widget)
        style.polish(widget)
