"""Small parts that every view uses: labels by role, rules, columns."""

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QLabel, QPushButton, QSizePolicy, QVBoxLayout, QWidget


def label(text: str = "", role: str = "", *, wraps: bool = False) -> QLabel:
    """Return a label dressed by its role (heading, muted, title, strong, figure, fault)."""
    made = QLabel(text)
    made.setTextFormat(Qt.TextFormat.PlainText)
    if role:
        made.setProperty("role", role)
    if wraps:
        made.setWordWrap(True)
        policy = QSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Minimum)
        policy.setHeightForWidth(True)
        made.setSizePolicy(policy)
        made.setMinimumWidth(1)
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


def restyle(widget: QWidget, name: str, value: object) -> None:
    """Set a property that the style sheet looks at, and dress the widget anew."""
    if widget.property(name) == value:
        return
    widget.setProperty(name, value)
    style = widget.style()
    if style is not None:
        style.unpolish(widget)
        style.polish(widget)
