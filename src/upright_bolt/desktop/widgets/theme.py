"""Looks: ink on warm paper and its dark counterpart, one accent, one colour per quantity everywhere.

A colour means a quantity and never good or bad; states are shown by shape or word as well.
"""

from dataclasses import dataclass

from PyQt6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PyQt6.QtWidgets import QApplication


@dataclass(frozen=True, slots=True)
class Theme:
    """Colours as ``#rrggbb``."""

    name: str
    paper: str
    sheet: str
    ink: str
    muted: str
    line: str
    faint: str
    accent: str
    on_accent: str
    rail: str
    rail_ink: str
    rail_mark: str
    notice: str
    notice_line: str
    clock: str
    power: str
    temperature: str
    voltage: str
    score: str
    noise: str

    def of(self, quantity: str) -> str:
        """Return the colour of a quantity; ink for those without one of their own."""
        table = {
            "clock": self.clock,
            "power": self.power,
            "time": self.power,
            "temperature": self.temperature,
            "voltage": self.voltage,
            "score": self.score,
            "efficiency": self.score,
            "fan speed": self.noise,
            "noise": self.noise,
            "preference": self.accent,
        }
        return table.get(quantity, self.ink)


LIGHT = Theme(
    name="light", paper="#f4f1e9", sheet="#fcfbf7", ink="#1f2a2e", muted="#5c625f", line="#d8d2c3", faint="#e7e2d6",
    accent="#125a6c", on_accent="#ffffff", rail="#202b30", rail_ink="#c9d1d0", rail_mark="#ecc062",
    notice="#fcf3dc", notice_line="#dcb35c", clock="#1d6f8c", power="#946012", temperature="#a8352b",
    voltage="#6b4a98", score="#2b7548", noise="#5b6b8c",
)  # fmt: skip
DARK = Theme(
    name="dark", paper="#1b2225", sheet="#232b2f", ink="#e8e4d9", muted="#a2a79f", line="#3b4549", faint="#303a3e",
    accent="#5fb3c8", on_accent="#10211f", rail="#12181a", rail_ink="#aeb7b5", rail_mark="#ecc062",
    notice="#3a3220", notice_line="#8d713a", clock="#6fbdd6", power="#d9a353", temperature="#e68a7e",
    voltage="#b096dd", score="#7cc497", noise="#9aabcf",
)  # fmt: skip

LINES = ("solid", "solid", "dash", "dot", "dash-dot", "solid")
"""Line styles of overlaid runs, so that they differ without colour."""


def run_colours(theme: Theme) -> tuple[str, ...]:
    """Return the colours of overlaid runs, in the order of their letters."""
    return (theme.ink, theme.clock, theme.power, theme.voltage, theme.score, theme.temperature)


def font(points: float, *, bold: bool = False) -> QFont:
    """Return the application's typeface, Inter where installed, with figures of one width."""
    family = "Inter" if "Inter" in QFontDatabase.families() else QApplication.font().family()
    made = QFont(family)
    made.setPointSizeF(points)
    made.setWeight(QFont.Weight.DemiBold if bold else QFont.Weight.Normal)
    made.setFeature(QFont.Tag("tnum"), 1)
    return made


def apply(app: QApplication, theme: Theme) -> None:
    """Dress the application, unless it is dressed so already: every widget would be gone through."""
    sheet = _sheet(theme)
    if app.styleSheet() == sheet:
        return
    app.setStyle("Fusion")
    app.setFont(font(9.0))
    palette = QPalette()
    for role, colour in (
        (QPalette.ColorRole.Window, theme.paper),
        (QPalette.ColorRole.Base, theme.sheet),
        (QPalette.ColorRole.AlternateBase, theme.faint),
        (QPalette.ColorRole.WindowText, theme.ink),
        (QPalette.ColorRole.Text, theme.ink),
        (QPalette.ColorRole.ButtonText, theme.ink),
        (QPalette.ColorRole.Button, theme.sheet),
        (QPalette.ColorRole.Highlight, theme.accent),
        (QPalette.ColorRole.HighlightedText, theme.on_accent),
        (QPalette.ColorRole.ToolTipBase, theme.sheet),
        (QPalette.ColorRole.ToolTipText, theme.ink),
        (QPalette.ColorRole.PlaceholderText, theme.muted),
    ):
        palette.setColor(role, QColor(colour))
    app.setPalette(palette)
    app.setStyleSheet(sheet)


def _sheet(t: Theme) -> str:
    return f"""
    QWidget {{ color: {t.ink}; }}
    QMainWindow, QScrollArea, QScrollArea > QWidget > QWidget {{ background: {t.paper}; border: none; }}
    QLabel[role="heading"] {{ color: {t.muted}; font-weight: 600; font-size: 8pt; }}
    QLabel[role="muted"] {{ color: {t.muted}; font-size: 8pt; }}
    QLabel[role="title"] {{ font-weight: 600; font-size: 12pt; }}
    QLabel[role="strong"] {{ font-weight: 600; }}
    QLabel[role="figure"] {{ font-weight: 600; font-size: 14pt; }}
    QLabel[role="fault"] {{ color: {t.temperature}; font-size: 8pt; }}
    QFrame[role="note"] {{ background: {t.sheet}; border: 1px solid {t.line}; border-radius: 4px; }}
    QFrame[role="notice"] {{ background: {t.notice}; border: 1px solid {t.notice_line}; border-radius: 4px; }}
    QFrame[role="rule"] {{ background: {t.line}; border: none; }}
    QWidget[role="strip"] {{ background: {t.sheet}; }}
    {_buttons(t)}
    QLineEdit {{ background: {t.sheet}; border: 1px solid {t.line}; border-radius: 4px;
        padding: 3px 6px; placeholder-text-color: {t.muted};
        selection-background-color: {t.accent}; selection-color: {t.on_accent}; }}
    QComboBox QAbstractItemView {{ background: {t.sheet}; color: {t.ink}; border: 1px solid {t.line}; outline: none;
        selection-background-color: {t.accent}; selection-color: {t.on_accent}; }}
    QLineEdit:disabled {{ background: {t.paper}; color: {t.muted}; }}
    QSpinBox {{ min-height: 22px; }}
    QLineEdit:focus {{ border: 1px solid {t.accent}; }}
    QComboBox QLineEdit {{ border: none; padding: 0 2px; }}
    QLineEdit[fault="true"] {{ border: 2px solid {t.temperature}; }}
    QProgressBar {{ background: {t.faint}; border: none; border-radius: 3px; max-height: 7px; }}
    QProgressBar::chunk {{ background: {t.accent}; border-radius: 3px; }}
    QTableWidget {{ background: {t.sheet}; border: 1px solid {t.line}; gridline-color: {t.faint}; }}
    QHeaderView::section {{ background: {t.paper}; color: {t.muted}; border: none;
        border-bottom: 1px solid {t.line}; padding: 4px 6px; font-weight: 600; font-size: 8pt; }}
    QListView#runs {{ background: transparent; border: none; outline: none; }}
    QScrollBar:vertical {{ background: transparent; width: 9px; }}
    QScrollBar::handle:vertical {{ background: {t.line}; border-radius: 4px; min-height: 24px; }}
    QScrollBar:horizontal {{ background: transparent; height: 9px; }}
    QScrollBar::handle:horizontal {{ background: {t.line}; border-radius: 4px; min-width: 24px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; width: 0; }}
    QMenu {{ background: {t.sheet}; border: 1px solid {t.line}; padding: 4px; }}
    QMenu::item {{ padding: 5px 18px; }}
    QMenu::item:selected {{ background: {t.accent}; color: {t.on_accent}; }}
    QMenu::separator {{ background: {t.line}; height: 1px; margin: 4px 8px; }}
    QDialog {{ background: {t.paper}; }}
    QToolTip {{ background: {t.sheet}; color: {t.ink}; border: 1px solid {t.line}; }}
    """


def _buttons(t: Theme) -> str:
    return f"""
    QPushButton {{ background: {t.sheet}; border: 1px solid {t.line}; border-radius: 4px; padding: 5px 10px; }}
    QPushButton:hover {{ border-color: {t.muted}; }}
    QPushButton:focus {{ border: 2px solid {t.accent}; padding: 4px 9px; }}
    QPushButton:disabled {{ color: {t.muted}; background: {t.paper}; }}
    QPushButton[role="main"] {{ background: {t.accent}; color: {t.on_accent}; border-color: {t.accent};
        font-weight: 600; }}
    QPushButton[role="main"]:focus {{ border: 2px solid {t.ink}; }}
    QPushButton[role="main"]:disabled {{ background: {t.faint}; color: {t.muted}; border-color: {t.line}; }}
    QPushButton[role="title"] {{ border: 1px solid transparent; background: transparent; font-weight: 600;
        font-size: 12pt; padding: 3px 20px 3px 4px; text-align: left; }}
    QPushButton[role="title"]:hover, QPushButton[role="title"]:focus {{ border-color: {t.line}; }}
    QPushButton[role="title"]::menu-indicator {{ subcontrol-position: right center; right: 5px; width: 9px; }}
    QWidget[role="guide"] {{ background: {t.notice}; border-bottom: 1px solid {t.notice_line}; }}
    QListWidget {{ background: {t.sheet}; border: 1px solid {t.line}; outline: none; }}
    QListWidget::item {{ padding: 5px 8px; }}
    QListWidget::item:selected {{ background: {t.accent}; color: {t.on_accent}; }}
    QTextBrowser {{ background: {t.sheet}; border: 1px solid {t.line}; padding: 4px 10px; }}
    QPushButton[role="segment"] {{ border-radius: 0; padding: 4px 8px; }}
    QPushButton[role="segment"]:checked {{ background: {t.accent}; color: {t.on_accent}; font-weight: 600; }}
    """
