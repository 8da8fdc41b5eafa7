"""What is wrong with a window as it stands on the screen: text that overlaps, is cut or hard to read; keys and names.

Texts are told from what is painted: every visible widget is rendered through a paint engine that notes what is
written, where and in which colour. So it holds for labels, tables and charts alike.
"""

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass

from PyQt6.QtCore import QPoint, QRectF, Qt
from PyQt6.QtGui import QColor, QImage, QPaintDevice, QPaintEngine, QRegion
from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractScrollArea,
    QApplication,
    QComboBox,
    QGraphicsItem,
    QGraphicsView,
    QHeaderView,
    QLabel,
    QLineEdit,
    QScrollArea,
    QTableView,
    QWidget,
)

LEAST_CONTRAST = 4.5
"""Of small text on its ground, by WCAG 2.2, level AA."""
TOUCH_PX = 1.5
"""Texts that share no more than this do not overlap: rounding, and the slant of a letter."""


@dataclass(frozen=True)
class Written:
    """A text on the screen: in which widget, where in the window, in which colour, and what of it is in sight."""

    text: str
    owner: QWidget
    place: QRectF
    colour: QColor
    cut: bool


class _Notes(QPaintEngine):
    """Notes what is written; draws nothing."""

    def __init__(self) -> None:
        super().__init__(QPaintEngine.PaintEngineFeature.AllFeatures)
        self.found: list[tuple[str, QRectF, QColor, QRectF | None]] = []
        self._colour = QColor()
        self._transform = None
        self._opacity = 1.0
        self._clip: QRectF | None = None

    def begin(self, _device) -> bool:
        self.setActive(True)
        return True

    def end(self) -> bool:
        self.setActive(False)
        return True

    def type(self):
        return QPaintEngine.Type.User

    def updateState(self, state) -> None:
        changed, flag = state.state(), QPaintEngine.DirtyFlag
        if changed & flag.DirtyPen:
            self._colour = state.pen().color()
        if changed & flag.DirtyTransform:
            self._transform = state.transform()
        if changed & (flag.DirtyClipRegion | flag.DirtyClipPath | flag.DirtyClipEnabled):
            clips = state.isClipEnabled()
            region = QRectF(state.clipRegion().boundingRect()) if clips else QRectF()
            path = state.clipPath().boundingRect() if clips else QRectF()
            there = path if changed & flag.DirtyClipPath else region
            self._clip = self._mapped(there) if clips and not there.isEmpty() else None
        if changed & flag.DirtyOpacity:
            self._opacity = state.opacity()

    def drawTextItem(self, at, item) -> None:
        if item.text().strip() and self._opacity > 0.0:
            # the ink of letters without their room above and below
            box = QRectF(at.x(), at.y() - 0.75 * item.ascent(), item.width(), 0.75 * item.ascent() + 1.0)
            self.found.append((item.text(), self._mapped(box), QColor(self._colour), self._clip))

    def _mapped(self, box: QRectF) -> QRectF:
        return self._transform.mapRect(box) if self._transform is not None else box

    def _nothing(self, *_) -> None:
        """Draw nothing."""


for _name_of_a_way in ("Pixmap", "Image", "TiledPixmap", "Polygon", "Path", "Rects", "Lines", "Ellipse", "Points"):
    setattr(_Notes, f"draw{_name_of_a_way}", _Notes._nothing)


class _Screen(QPaintDevice):
    """A device of a widget's size that only notes."""

    def __init__(self, of: QWidget) -> None:
        super().__init__()
        self.notes = _Notes()
        self._of = of

    def paintEngine(self) -> QPaintEngine:
        return self.notes

    def metric(self, which) -> int:
        of, metric = self._of, QPaintDevice.PaintDeviceMetric
        known = {
            metric.PdmWidth: of.width(), metric.PdmHeight: of.height(), metric.PdmWidthMM: of.widthMM(),
            metric.PdmHeightMM: of.heightMM(), metric.PdmNumColors: 2**31 - 1, metric.PdmDepth: 32,
            metric.PdmDpiX: of.logicalDpiX(), metric.PdmDpiY: of.logicalDpiY(),
            metric.PdmPhysicalDpiX: of.physicalDpiX(), metric.PdmPhysicalDpiY: of.physicalDpiY(),
            metric.PdmDevicePixelRatioScaled: round(self.devicePixelRatioFScale()),
        }  # fmt: skip
        return known.get(which, 1)


def texts(window: QWidget) -> list[Written]:
    """Return all that is written in a window and in sight."""
    found = []
    for widget in _shown(window):
        if isinstance(widget, QGraphicsView):
            for item in widget.scene().items():
                item.setCacheMode(QGraphicsItem.CacheMode.NoCache)  # a cached picture is not written anew
        screen = _Screen(widget)
        widget.render(screen, QPoint(), QRegion(), QWidget.RenderFlag(0))
        corner = widget.mapTo(window, QPoint())
        sight = QRectF(_in_sight(widget, window))
        for text, place, colour, clip in screen.notes.found:
            there = place.translated(corner.x(), corner.y()).intersected(sight)
            if there.height() > 0.7 * place.height() and there.width() > TOUCH_PX:
                room = QRectF(widget.rect())
                if clip is not None and isinstance(widget.parent(), QGraphicsView):
                    room = room.intersected(clip)
                inside = room.adjusted(-TOUCH_PX, -TOUCH_PX, TOUCH_PX, TOUCH_PX).contains(place)
                in_full = not text.rstrip().endswith("…") or text[:-1] in _tip_at(widget, place) + _words_of(widget)
                typed = isinstance(widget, QLineEdit) and bool(widget.text())
                whole = in_full and (inside or typed or _scrolls(widget) or text in widget.toolTip())
                found.append(Written(text, widget, there, colour, cut=not whole))
    return found


def _shown(window: QWidget) -> Iterator[QWidget]:
    for widget in (window, *window.findChildren(QWidget)):
        if widget.isVisible() and not widget.visibleRegion().isEmpty() and not widget.isWindow():
            yield widget


def _in_sight(widget: QWidget, window: QWidget):
    return widget.visibleRegion().boundingRect().translated(widget.mapTo(window, QPoint()))


def _tip_at(widget: QWidget, place: QRectF) -> str:
    """Return the tip of a widget, or of the entry of a list that is drawn there."""
    view = widget.parent()
    index = view.indexAt(place.center().toPoint()) if isinstance(view, QAbstractItemView) else None
    return widget.toolTip() if index is None else str(index.data(Qt.ItemDataRole.ToolTipRole))


def _words_of(widget: QWidget) -> str:
    return widget.text() if isinstance(widget, QLabel | QAbstractButton) else ""


def _scrolls(widget: QWidget) -> bool:
    """Tell whether what is beyond the edge of this viewport can be reached by its scroll bar."""
    area = widget.parent().parent() if isinstance(widget.parent(), QHeaderView) else widget.parent()
    if isinstance(area, QTableView) and widget is not area.viewport():
        return bool(area.horizontalScrollBar().maximum())
    return (
        isinstance(area, QAbstractScrollArea)
        and not isinstance(area, QGraphicsView)
        and area.viewport() is widget
        and bool(area.verticalScrollBar().maximum() or area.horizontalScrollBar().maximum())
    )


def overlapping(found: list[Written]) -> list[str]:
    """Return pairs of texts that are written over each other."""
    faults = []
    for i, one in enumerate(found):
        for other in found[i + 1 :]:
            shared = one.place.intersected(other.place)
            halo = one.text == other.text and (one.place.topLeft() - other.place.topLeft()).manhattanLength() < 3
            if shared.width() > TOUCH_PX and shared.height() > TOUCH_PX and not halo:
                faults.append(f"“{one.text}” and “{other.text}” at {round(shared.x())}, {round(shared.y())}")
    return faults


def cut(found: list[Written], window: QWidget) -> list[str]:
    """Return texts that are not written in full, and widgets that reach beyond what they stand in."""
    faults = [f"“{one.text}” in {_name(one.owner)}" for one in found if one.cut]
    for widget in _shown(window):
        parent = widget.parentWidget()
        if parent is None or isinstance(widget, QHeaderView):
            continue
        area = parent.parent()
        if isinstance(area, QScrollArea) and area.viewport() is parent:
            if widget.width() > parent.width() + 1 and not area.horizontalScrollBar().isVisible():
                faults.append(f"{_name(widget)} is wider than what scrolls it")
        elif not parent.rect().adjusted(-1, -1, 1, 1).contains(widget.geometry()) and not _scrolls(parent):
            faults.append(f"{_name(widget)} reaches beyond {_name(parent)}")
    return faults


def pale(found: list[Written], window: QWidget) -> list[str]:
    """Return texts whose contrast to the ground that they stand on is below the least."""
    image = window.grab().toImage()
    faults = []
    for one in found:
        ground = _ground(image, one.place)
        contrast = contrast_of(_blended(one.colour, ground), ground)
        if contrast < LEAST_CONTRAST:
            faults.append(f"“{one.text}” {one.colour.name()} on {ground.name()}: {contrast:.1f} in {_name(one.owner)}")
    return faults


def _ground(image: QImage, place: QRectF) -> QColor:
    box = place.adjusted(-2, -2, 2, 2).toAlignedRect().intersected(image.rect())
    counted = Counter(
        image.pixel(x, y) for x in range(box.left(), box.right() + 1, 2) for y in range(box.top(), box.bottom() + 1)
    )
    return QColor(counted.most_common(1)[0][0])


def _blended(colour: QColor, ground: QColor) -> QColor:
    part = colour.alphaF()
    mixed = [part * a + (1.0 - part) * b for a, b in zip(colour.getRgbF()[:3], ground.getRgbF()[:3], strict=True)]
    return QColor.fromRgbF(*mixed)


def contrast_of(one: QColor, other: QColor) -> float:
    """Return the contrast of two colours, 1 to 21, by WCAG 2.2."""
    bright, dark = sorted((_luminance(one), _luminance(other)), reverse=True)
    return (bright + 0.05) / (dark + 0.05)


def _luminance(colour: QColor) -> float:
    parts = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in colour.getRgbF()[:3]]
    return 0.2126 * parts[0] + 0.7152 * parts[1] + 0.0722 * parts[2]


def unnamed(window: QWidget) -> list[str]:
    """Return the visible widgets that a screen reader could not tell apart."""
    faults = []
    for widget in _shown(window):
        if isinstance(widget, QAbstractButton | QLabel):
            named = widget.accessibleName() or widget.text() or widget.toolTip()
        else:
            named = widget.accessibleName()
        if not named and (_takes_focus(widget) or isinstance(widget, QGraphicsView)):
            faults.append(_name(widget))
    return faults


def tab_gaps(window: QWidget) -> list[str]:
    """Return the visible widgets that the Tab key does not reach, and those that it reaches out of sight."""
    window.activateWindow()
    reached, first = [], None
    for _ in range(400):
        window.focusNextChild()
        now = QApplication.focusWidget()
        if now is None or now is first:
            break
        first = first or now
        reached.append(now)
    wanted = [w for w in _shown(window) if _takes_focus(w) or (isinstance(w, QAbstractButton) and w.isEnabled())]
    return [f"{_name(w)}, out of sight" for w in reached if not w.isVisible()] + [
        _name(w) for w in wanted if w not in reached and w.focusProxy() not in reached and not _in_a_group(w)
    ]


def _takes_focus(widget: QWidget) -> bool:
    inside_another = isinstance(widget, QLineEdit) and isinstance(widget.parent(), QComboBox)
    tabs = bool(widget.focusPolicy() & Qt.FocusPolicy.TabFocus)
    return widget.isEnabled() and tabs and not inside_another and widget.focusProxy() is None


def _in_a_group(widget: QWidget) -> bool:
    """Tell whether the arrow keys lead here from the chosen one of a group, as for radio buttons."""
    if not isinstance(widget, QAbstractButton):
        return False
    return widget.autoExclusive() or (widget.group() is not None and widget.group().exclusive())


def _name(widget: QWidget) -> str:
    words = widget.accessibleName() or _words_of(widget)
    return f"{type(widget).__name__} {words!r}" if words else type(widget).__name__
