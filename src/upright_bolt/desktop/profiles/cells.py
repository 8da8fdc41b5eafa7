"""Cells of the profiles side by side: one setting of one profile on a small scale strip, or one thing it measured.

Filled mark: proven, or nothing to prove. Hollow mark: not proven. Barred mark: held back. The thin pin is the machine's
own value; the words say the same.
"""

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from upright_bolt.desktop.widgets.theme import Theme, font
from upright_bolt.model.control import Control, Value
from upright_bolt.model.profile import Proof, needs_proof
from upright_bolt.text.enforcement import proof_words

HEIGHT = 34
BAR_Y = 25.5
PAD = 8.0
MARK = 4.2
NOT_SET = "as the machine has it"


class SettingCell(QWidget):
    """One setting of one profile.

    Args:
        control: as it stands on this machine.
        value: what the profile sets; None if it leaves the control alone.
        proof: what speaks for it; None if nothing does.
        held_back: why it is not put in force; empty if it is.
        theme: colours.
    """

    def __init__(
        self, control: Control, value: Value | None, proof: Proof | None, held_back: str, theme: Theme
    ) -> None:
        super().__init__()
        self._control = control
        self._value = value
        self._theme = theme
        self._held = held_back
        voltage = value is not None and needs_proof(control.name, value)
        self._proven = not voltage or (proof is not None and not held_back)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        words = NOT_SET if value is None else control.show(value)
        state = "" if value is None or not voltage else ("proven" if self._proven else "not proven")
        self.words = words if not held_back else f"{words} · held back"
        if state and not held_back:
            self.words = f"{words} · {state}"
        why = f"Held back: {held_back}." if held_back else ""
        spoken = "" if value is None else proof_words(control.name, value, proof)
        self.setToolTip("\n".join(part for part in (f"{control.title}: {self.words}", why, spoken) if part))
        self.setAccessibleName(f"{control.title}: {self.words}")
        self.setAccessibleDescription(why or spoken)

    def sizeHint(self) -> QSize:
        """Return room for a number and its word."""
        return QSize(150, HEIGHT)

    def minimumSizeHint(self) -> QSize:
        """Return room for a number."""
        return QSize(96, HEIGHT)

    def _x_of(self, value: float) -> float:
        low, high = self._control.minimum or 0.0, self._control.maximum or 1.0
        share = min(1.0, max(0.0, (value - low) / (high - low))) if high > low else 0.5
        return PAD + share * (self.width() - 2 * PAD)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Draw the words, and below them the scale."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        theme, set_ = self._theme, self._value is not None
        painter.setPen(QColor(theme.ink if set_ else theme.muted))
        painter.setFont(font(8.0, bold=set_))
        box = QRectF(PAD - 3, 2, self.width() - 2 * PAD + 6, 16)
        shown = painter.fontMetrics().elidedText(self.words, Qt.TextElideMode.ElideRight, int(box.width()))
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, shown)
        if self._control.minimum is not None and self._control.maximum is not None:
            self._paint_scale(painter)
        painter.end()

    def _paint_scale(self, painter: QPainter) -> None:
        theme = self._theme
        painter.setPen(QPen(QColor(theme.line), 3, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
        painter.drawLine(QPointF(PAD, BAR_Y), QPointF(self.width() - PAD, BAR_Y))
        if isinstance(self._control.stock, float):
            x = self._x_of(self._control.stock)
            painter.setPen(QPen(QColor(theme.muted), 1.2))
            painter.drawLine(QPointF(x, BAR_Y - 5), QPointF(x, BAR_Y + 5))
        if isinstance(self._value, float):
            self._paint_mark(painter, self._x_of(self._value))

    def _paint_mark(self, painter: QPainter, x: float) -> None:
        theme = self._theme
        colour = QColor(theme.of(self._control.declaration.quantity.name))
        painter.setPen(QPen(colour, 1.6))
        painter.setBrush(colour if self._proven and not self._held else QColor(theme.paper))
        painter.drawEllipse(QPointF(x, BAR_Y), MARK, MARK)
        if self._held:
            painter.drawLine(QPointF(x - MARK - 2, BAR_Y + MARK + 2), QPointF(x + MARK + 2, BAR_Y - MARK - 2))


class MeasureCell(QWidget):
    """One number that a profile measured, as a bar on the scale that all profiles share.

    Args:
        title: what it is.
        words: the number with its unit; "not measured" if there is none.
        share: the number's part of the largest one, 0 to 1; None if there is none.
        colour: of its quantity.
        tip: where the number is from.
        theme: colours.
    """

    def __init__(self, title: str, words: str, share: float | None, colour: str, tip: str, theme: Theme) -> None:
        super().__init__()
        self.words = words
        self._share = share
        self._colour = colour
        self._theme = theme
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setToolTip(tip)
        self.setAccessibleName(f"{title}: {words}")

    def sizeHint(self) -> QSize:
        """Return room for a number."""
        return QSize(150, 24)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Draw the number over its bar."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        theme = self._theme
        painter.setFont(font(8.0, bold=self._share is not None))
        painter.setPen(QColor(theme.ink if self._share is not None else theme.muted))
        box = QRectF(PAD - 3, 1, self.width() - 2 * PAD + 6, 15)
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, self.words)
        if self._share is not None:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(theme.faint))
            width = self.width() - 2 * PAD
            painter.drawRoundedRect(QRectF(PAD - 3, 17.5, width, 4), 2, 2)
            painter.setBrush(QColor(self._colour))
            painter.drawRoundedRect(QRectF(PAD - 3, 17.5, max(2.0, width * self._share), 4), 2, 2)
        painter.end()
