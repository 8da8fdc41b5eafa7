"""Small parts that every view uses: labels by role, rules, columns."""

from collections.abc import Sequence

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QComboBox, QFrame, QLabel, QPushButton, QScrollArea, QSizePolicy, QVBoxLayout, QWidget


class Wrapped(QLabel):
    """A label that breaks its lines and is always just as high as they need.

    Qt's own asks for the height of its narrowest form, which makes a window grow without need.
    """

    def __init__(self, text: str) -> None:
        super().__init__(text)
        self.setWordWrap(True)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        """Return the height that the lines need at the present width."""
        return QSize(10, self.heightForWidth(max(40, self.width())))

    def minimumSizeHint(self) -> QSize:
        """Return the same: it is never cut."""
        return self.sizeHint()

    def hasHeightForWidth(self) -> bool:
        """Keep layouts from asking for a height at widths that it never gets."""
        return False

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Take the height that the new width needs."""
        super().resizeEvent(event)
        self.updateGeometry()


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
    made.setFixedWidth(inner.width())
    return made


def restyle(widget: QWidget, name: str, value: object) -> None:
    """Set a property that the style sheet looks at, and dress the widget anew."""
    if widget.property(name) == value:
        return
    widget.setProperty(name, value)
    style = widget.style()
    if style is not None:
        style.unpolish(widget)
        style.polish(widget)
