"""The scale strip: one control on one horizontal scale from lowest to highest allowed.

Hollow pin: stock. Solid block: in force. Outlined diamond: draft. Below the bar a dot where past runs ended well (a
ring under an offset that was proven at full load only) and a cross where one went wrong. Hatched: at or beyond what has
failed on this chip. Mouse: click or drag. Wheel, when the strip has the focus: one step. Keys: arrows one step, page
keys five, Home and End the ends, Escape back to what is in force.
"""

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QBrush,
    QColor,
    QFocusEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
    QWheelEvent,
)
from PyQt6.QtWidgets import QSizePolicy, QWidget

from upright_bolt.analysis.validation.evidence import Evidence, is_offset
from upright_bolt.desktop.widgets.theme import Theme, font
from upright_bolt.model.control import Control
from upright_bolt.presentation.ticks import round_ticks
from upright_bolt.text.notes import sentence

PAD = 9
BAR_Y = 15
BAR_H = 5
HEIGHT = 38
BIG_STEPS = 5
MOST_TICKS = 6


class ScaleStrip(QWidget):
    """Shows one control and lets a draft be chosen on it.

    Signals:
        drafted: the value chosen, in the control's unit.
        dropped: Escape: no draft any more.
    """

    drafted = pyqtSignal(float)
    dropped = pyqtSignal()

    def __init__(self, control: Control, theme: Theme) -> None:
        super().__init__()
        self._control = control
        self._theme = theme
        self._draft: float | None = None
        self._evidence: tuple[Evidence, ...] = ()
        self._failed_at: float | None = None
        self._low, self._high = 0.0, 1.0
        self._ticks: list[tuple[float, str]] = []
        self._fixed_words = ""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self._take_control(control)

    def sizeHint(self) -> QSize:
        """Return a size that fits a settings column."""
        return QSize(200, HEIGHT)

    def show_control(self, control: Control, draft: float | None) -> None:
        """Show the control as it stands, with a draft or none."""
        if control != self._control:
            self._take_control(control)
        self.show_draft(draft)

    def show_draft(self, draft: float | None) -> None:
        """Show another draft, or none."""
        if draft != self._draft:
            self._draft = draft
            self._changed()

    def _take_control(self, control: Control) -> None:
        """Work out what does not change with the draft: range, ticks, words."""
        self._control = control
        low, high = control.minimum, control.maximum
        self._low, self._high = (0.0, 1.0) if low is None or high is None or high <= low else (low, high)
        ticks = [] if low is None or high is None else round_ticks(low, high, MOST_TICKS)
        only = self._control.steps
        if only:  # where nothing lies in between, that is what the scale shows
            ticks = list(only[:: -(-len(only) // MOST_TICKS)])
        self._ticks = [(value, self._tick_text(value)) for value in ticks]
        self.setEnabled(control.settable)
        self.setAccessibleName(control.title)
        # A drag changes the draft hundreds of times, and these words never.
        self._fixed_words = ", ".join(self._words())
        self._changed()

    def _changed(self) -> None:
        # For a screen reader the painted marks do not exist.
        self.setAccessibleDescription(self.described())
        self.update()

    def show_evidence(self, evidence: tuple[Evidence, ...]) -> None:
        """Show what past runs proved, and where they broke."""
        if evidence != self._evidence:
            self._evidence = evidence
            self._fixed_words = ", ".join(self._words())
            self._changed()

    def show_ground(self, failed_at: float | None) -> None:
        """Show from which value on something has failed on this chip; None if nothing has."""
        if failed_at != self._failed_at:
            self._failed_at = failed_at
            self._fixed_words = ", ".join(self._words())
            self._changed()

    def described(self) -> str:
        """Return what the strip shows, in words."""
        draft = "" if self._draft is None else f", draft {self._control.show(self._draft)}"
        return self._fixed_words + draft

    def _words(self) -> list[str]:
        """Return what the strip shows besides the draft."""
        control = self._control
        parts = [f"in force {control.show(control.current)}", f"stock {control.show(control.stock)}"]
        if control.minimum is not None and control.maximum is not None:
            parts.append(f"from {control.show(control.minimum)} to {control.show(control.maximum)}")
        for entry in self._evidence:
            ends = "" if entry.whole_s or not is_offset(control.name) else ", at full load only,"
            what = "went wrong" if entry.broke else f"{entry.passed_s / 60:.0f} min passed{ends}"
            parts.append(f"{what} at {control.show(entry.value)}")
        if self._failed_at is not None:
            parts.append(f"known failures from {control.show(self._failed_at)} on")
        if not control.settable:
            parts.append(f"{control.state.value}: {sentence(control.note)}")
        return parts

    def x_of(self, value: float) -> float:
        """Return where a value lies, in pixels."""
        share = min(1.0, max(0.0, (value - self._low) / (self._high - self._low)))
        return PAD + share * (self.width() - 2 * PAD)

    def value_at(self, x: float) -> float:
        """Return the value at a pixel, on the control's steps."""
        share = min(1.0, max(0.0, (x - PAD) / max(1, self.width() - 2 * PAD)))
        return self._stepped(self._low + share * (self._high - self._low))

    def _stepped(self, value: float) -> float:
        step = self._control.step
        if self._control.steps:
            return min(self._control.steps, key=lambda each: abs(each - value))
        if step:
            value = round(value / step) * step
        return min(self._high, max(self._low, value))

    def _present(self) -> float | None:
        # Keys go on from the draft, if there is one, as the mark that a person sees.
        value = self._draft if self._draft is not None else self._control.current
        return value if isinstance(value, float) else None

    def _move(self, steps: float) -> None:
        present, only = self._present(), self._control.steps
        if present is None:
            return
        if only:
            # From the nearest of them: the value that is current may lie between two steps.
            at = min(range(len(only)), key=lambda i: abs(only[i] - present))
            self.drafted.emit(only[max(0, min(len(only) - 1, at + round(steps)))])
        else:
            self.drafted.emit(self._stepped(present + steps * self._control.step))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Choose the value under the pointer."""
        if event is not None and event.button() == Qt.MouseButton.LeftButton:
            self.drafted.emit(self.value_at(event.position().x()))

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Drag."""
        if event is not None and event.buttons() & Qt.MouseButton.LeftButton:
            self.drafted.emit(self.value_at(event.position().x()))

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        """Step, but only with the focus: else the column scrolls."""
        if event is None:
            return
        # A wheel that was meant to scroll the column must not change a setting on its way.
        if not self.hasFocus():
            event.ignore()
            return
        self._move(1 if event.angleDelta().y() > 0 else -1)
        event.accept()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Step by keys."""
        if event is None:
            return
        steps = {
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Up: 1,
            Qt.Key.Key_Left: -1,
            Qt.Key.Key_Down: -1,
            Qt.Key.Key_PageUp: BIG_STEPS,
            Qt.Key.Key_PageDown: -BIG_STEPS,
        }
        key = Qt.Key(event.key())
        if key in steps:
            self._move(steps[key])
        elif key == Qt.Key.Key_Home:
            self.drafted.emit(self._low)
        elif key == Qt.Key.Key_End:
            self.drafted.emit(self._high)
        elif key == Qt.Key.Key_Escape:
            self.dropped.emit()
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        """Show the focus."""
        self.update()
        super().focusInEvent(event)

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        """Show that it is gone."""
        self.update()
        super().focusOutEvent(event)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Draw scale, ticks and marks."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._paint_bar(painter)
        self._paint_ground(painter)
        self._paint_ticks(painter)
        self._paint_evidence(painter)
        self._paint_marks(painter)
        painter.end()

    def _paint_bar(self, painter: QPainter) -> None:
        theme, control = self._theme, self._control
        bar = QRectF(PAD, BAR_Y, self.width() - 2 * PAD, BAR_H)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(theme.line if control.settable else theme.faint))
        painter.drawRoundedRect(bar, 2, 2)
        if isinstance(control.stock, float) and isinstance(control.current, float):
            a, b = sorted((self.x_of(control.stock), self.x_of(control.current)))
            tint = QColor(theme.of(control.declaration.quantity.name))
            tint.setAlpha(90)
            painter.setBrush(tint)
            painter.drawRect(QRectF(a, BAR_Y, b - a, BAR_H))
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(theme.accent), 1.5))
            painter.drawRoundedRect(QRectF(1, 1, self.width() - 2, HEIGHT - 2), 4, 4)

    def _paint_ground(self, painter: QPainter) -> None:
        """Hatch what lies at or beyond the first value that failed."""
        if self._failed_at is None:
            return
        failed_x = self.x_of(self._failed_at)
        upwards = self._control.declaration.unsafe_direction > 0.0
        # Everything beyond the first failure is marked, as a deeper value would fail sooner, not later.
        left, right = (failed_x, self.width() - PAD) if upwards else (PAD, failed_x)
        painter.setPen(QPen(QColor(self._theme.temperature), 1))
        painter.setBrush(QBrush(QColor(self._theme.temperature), Qt.BrushStyle.BDiagPattern))
        painter.drawRect(QRectF(left, BAR_Y, max(2.0, right - left), BAR_H))

    def _paint_ticks(self, painter: QPainter) -> None:
        painter.setFont(font(7.0))
        for value, text in self._ticks:
            x = self.x_of(value)
            painter.setPen(QPen(QColor(self._theme.line), 1))
            painter.drawLine(QPointF(x, BAR_Y + BAR_H + 2), QPointF(x, BAR_Y + BAR_H + 5))
            painter.setPen(QColor(self._theme.muted))
            width = painter.fontMetrics().horizontalAdvance(text)
            # Numbers at both ends stay inside of the widget.
            left = min(max(x - width / 2, 0.0), self.width() - width)
            painter.drawText(QPointF(left, HEIGHT - 4), text)

    def _tick_text(self, value: float) -> str:
        factor = 1.0 if self._low < 0.0 else self._control.declaration.quantity.on_axes[1]  # offsets in their own unit
        return f"{round(value * factor, 2):g}".replace("-", "−")

    def _paint_evidence(self, painter: QPainter) -> None:
        theme, y = self._theme, BAR_Y + BAR_H + 3.5
        for entry in self._evidence:
            x = self.x_of(entry.value)
            if entry.broke:
                painter.setPen(QPen(QColor(theme.temperature), 1.6))
                painter.drawLine(QPointF(x - 2.5, y - 2.5), QPointF(x + 2.5, y + 2.5))
                painter.drawLine(QPointF(x - 2.5, y + 2.5), QPointF(x + 2.5, y - 2.5))
            else:
                colour = QColor(theme.of(self._control.declaration.quantity.name))
                hollow = not entry.whole_s and is_offset(self._control.name)
                painter.setPen(QPen(colour, 1))
                painter.setBrush(Qt.BrushStyle.NoBrush if hollow else colour)
                painter.drawEllipse(QPointF(x, y), 1.5, 1.5)

    def _paint_marks(self, painter: QPainter) -> None:
        control, theme = self._control, self._theme
        colour = QColor(theme.of(control.declaration.quantity.name) if control.settable else theme.muted)
        if isinstance(control.stock, float):
            x = self.x_of(control.stock)
            painter.setPen(QPen(QColor(theme.ink), 1.3))
            painter.setBrush(QColor(theme.paper))
            painter.drawLine(QPointF(x, 9), QPointF(x, BAR_Y + BAR_H + 3))
            painter.drawEllipse(QPointF(x, 6.5), 2.7, 2.7)
        if isinstance(control.current, float):
            x = self.x_of(control.current)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour)
            painter.drawRoundedRect(QRectF(x - 3, BAR_Y - 4, 6, BAR_H + 8), 1.5, 1.5)
        if self._draft is not None:
            x, y = self.x_of(self._draft), BAR_Y + BAR_H / 2
            painter.setPen(QPen(colour, 2.0))
            painter.setBrush(QColor(theme.sheet))
            corners = [QPointF(x, y - 7), QPointF(x + 6, y), QPointF(x, y + 7), QPointF(x - 6, y)]
            painter.drawPolygon(QPolygonF(corners))
