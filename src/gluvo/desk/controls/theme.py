"""The look: paper and ink by day, the same chart by night. One colour, one meaning."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtGui import QColor, QFont, QFontDatabase, QGuiApplication, QPalette
from PySide6.QtWidgets import QApplication

FONTS = Path(__file__).parent / "fonts"
ICONS = Path(__file__).parent / "icons"
FAMILY = "IBM Plex Sans Condensed"


@dataclass(frozen=True)
class Colours:
    """What each colour means."""

    paper: str
    sheet: str
    rule: str
    hair: str
    ink: str
    faint: str
    wash: str
    signal: str
    mid: str
    side: str
    reduction: str
    reference: str
    over: str
    good: str

    def __getitem__(self, name: str) -> QColor:
        return QColor(getattr(self, name))

    def soft(self, name: str, alpha: int) -> QColor:
        """The colour, let through by `alpha` of 255."""
        colour = self[name]
        colour.setAlpha(alpha)
        return colour


DAY = Colours(
    paper="#F2EFE7",
    sheet="#FBF9F4",
    rule="#CFC8B8",
    hair="#E3DDCF",
    ink="#22303C",
    faint="#5E6A75",
    wash="#E4EAEA",
    signal="#23688C",
    mid="#8A6019",
    side="#36705F",
    reduction="#A84A25",
    reference="#6B4C92",
    over="#BF232B",
    good="#46722F",
)
NIGHT = Colours(
    paper="#14191E",
    sheet="#1B2127",
    rule="#3A444E",
    hair="#29313A",
    ink="#E8E2D6",
    faint="#93A0AB",
    wash="#202A33",
    signal="#62AFD6",
    mid="#DDB266",
    side="#79C2AC",
    reduction="#E68A5C",
    reference="#B698DA",
    over="#FF6A64",
    good="#9BC97A",
)


def load_type() -> None:
    """Load the type that comes with the program; once an application is there."""
    for path in sorted(FONTS.glob("*.woff")):
        QFontDatabase.addApplicationFont(str(path))


class Theme(QObject):
    """The colours in use, and a signal for when they change."""

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.colours = DAY
        self.night = False
        self.forced: bool | None = None

    def attach(self, app: QApplication) -> None:
        """Load the type, dress the application, and follow the desktop's colour scheme from now on."""
        load_type()
        app.setFont(font())
        app.setStyle("Fusion")
        app.styleHints().colorSchemeChanged.connect(lambda _: self._follow())
        self._follow()

    def force(self, night: bool | None) -> None:
        """Day or night whatever the desktop says; None follows it again."""
        self.forced = night
        self._follow()

    def _follow(self) -> None:
        dark = QGuiApplication.styleHints().colorScheme() == Qt.ColorScheme.Dark
        self.night = dark if self.forced is None else self.forced
        self.colours = NIGHT if self.night else DAY
        app = QApplication.instance()
        if isinstance(app, QApplication):
            app.setPalette(palette(self.colours))
            app.setStyleSheet(style_sheet(self.colours))
        self.changed.emit()

    @contextlib.contextmanager
    def afterwards(self) -> Iterator[None]:
        """Dress what is made inside at the end, at once: otherwise Qt dresses each widget again for every widget that it
        is put into, and a window takes three times as long to make."""
        app = QApplication.instance()
        if not isinstance(app, QApplication) or app.topLevelWidgets():  # others would be undressed meanwhile
            yield
            return
        app.setStyleSheet("")
        try:
            yield
        finally:
            app.setStyleSheet(style_sheet(self.colours))


theme = Theme()


def colours() -> Colours:
    return theme.colours


def font(size: int = 13, bold: bool = False) -> QFont:
    """The type at a size in pixels, with tabular numerals."""
    made = QFont(FAMILY)
    made.setPixelSize(size)
    made.setWeight(QFont.Weight.DemiBold if bold else QFont.Weight.Normal)
    made.setFeature(QFont.Tag("tnum"), 1)
    return made


def palette(c: Colours) -> QPalette:
    made = QPalette()
    role: Any = QPalette.ColorRole
    meanings: tuple[tuple[QPalette.ColorRole, str], ...] = (
        (role.Window, "paper"),
        (role.Base, "sheet"),
        (role.AlternateBase, "paper"),
        (role.Button, "sheet"),
        (role.WindowText, "ink"),
        (role.Text, "ink"),
        (role.ButtonText, "ink"),
        (role.ToolTipText, "ink"),
        (role.ToolTipBase, "sheet"),
        (role.Highlight, "wash"),
        (role.HighlightedText, "ink"),
        (role.Mid, "rule"),
        (role.PlaceholderText, "faint"),
        (role.Light, "sheet"),
        (role.Midlight, "hair"),
        (role.Dark, "rule"),
    )
    for which, name in meanings:
        made.setColor(which, c[name])
    for which in (role.WindowText, role.Text, role.ButtonText):
        made.setColor(QPalette.ColorGroup.Disabled, which, c.soft("faint", 150))
    return made


def style_sheet(c: Colours) -> str:
    return f"""
    QWidget {{ color: {c.ink}; }}
    QMainWindow, QDialog {{ background: {c.paper}; }}
    Finder {{ border: 1px solid {c.faint}; }}
    QMenuBar {{ background: {c.paper}; border: none; padding: 0 6px; }}
    QMenuBar::item {{ padding: 4px 9px; background: transparent; }}
    QMenuBar::item:selected {{ background: {c.wash}; }}
    QMenu {{ background: {c.sheet}; border: 1px solid {c.rule}; padding: 4px 0; }}
    QMenu::item {{ padding: 5px 26px 5px 22px; }}
    QMenu::item:selected {{ background: {c.wash}; }}
    QMenu::item:disabled {{ color: {c.faint}; }}
    QMenu::separator {{ height: 1px; background: {c.hair}; margin: 4px 0; }}
    QToolTip {{ background: {c.sheet}; color: {c.ink}; border: 1px solid {c.rule}; padding: 5px 7px; }}
    QFrame[role="notice"] {{ background: {c.sheet}; border-top: 1px solid {c.rule}; border-bottom: 1px solid {c.rule}; }}
    QLabel[role="caption"] {{ color: {c.faint}; font-size: 11px; }}
    QLabel[role="warning"] {{ color: {c.over}; font-size: 11px; }}
    QLabel[role="trouble"] {{ color: {c.over}; font-weight: 600; }}
    QLabel[role="title"] {{ font-weight: 600; font-size: 14px; }}
    QLabel[role="brand"] {{ font-weight: 600; font-size: 18px; }}
    QPushButton {{ background: {c.sheet}; border: 1px solid {c.rule}; border-radius: 2px; padding: 4px 10px; }}
    QPushButton:hover {{ background: {c.wash}; }}
    QPushButton:checked, QPushButton[kind="main"] {{ background: {c.ink}; color: {c.paper}; border-color: {c.ink}; }}
    QPushButton[kind="main"]:hover {{ background: {c.signal}; border-color: {c.signal}; }}
    QPushButton:disabled {{ color: {c.faint}; background: transparent; border-color: {c.hair}; }}
    QComboBox:disabled {{ color: {c.faint}; background: transparent; border-color: {c.hair}; }}
    QPushButton:focus, QToolButton:focus {{ border: 2px solid {c.signal}; padding: 3px 9px; }}
    QComboBox:focus {{ border: 2px solid {c.signal}; padding: 3px 3px 3px 7px; }}
    QPushButton[kind="plain"] {{ background: transparent; border: none; color: {c.faint}; padding: 4px 5px; }}
    QPushButton[kind="plain"]:hover, QPushButton[kind="plain"]:checked {{ color: {c.ink}; }}
    QPushButton[kind="plain"]:checked {{ background: {c.wash}; }}
    QPushButton[kind="plain"]:focus {{ color: {c.ink}; border: none; border-bottom: 2px solid {c.signal}; }}
    QPushButton[kind="fold"] {{ background: transparent; border: none; color: {c.ink}; font-weight: 600; padding: 1px 0;
        text-align: left; }}
    QPushButton[kind="fold"]:hover {{ color: {c.signal}; }}
    QPushButton[kind="fold"]:focus {{ border: none; border-bottom: 2px solid {c.signal}; padding: 1px 0; }}
    QPushButton[kind="tab"] {{ background: transparent; border: none; border-radius: 0; color: {c.faint};
        font-size: 15px; padding: 8px 8px; border-bottom: 2px solid transparent; }}
    QPushButton[kind="tab"]:checked {{ color: {c.ink}; font-weight: 600; border-bottom: 2px solid {c.ink}; }}
    QPushButton[kind="tab"]:focus {{ color: {c.signal}; }}
    QPushButton[kind="hear"]:checked {{ background: {c.signal}; border-color: {c.signal}; color: {c.paper}; }}
    QPushButton[kind="reference"] {{ border-color: {c.reference}; color: {c.reference}; }}
    QPushButton[kind="reference"]:checked {{ background: {c.reference}; color: {c.paper}; }}
    QComboBox {{ background: {c.sheet}; border: 1px solid {c.rule}; border-radius: 2px; padding: 4px 4px 4px 8px; }}
    QComboBox::drop-down {{ border: none; width: 15px; }}
    QComboBox::down-arrow {{ image: url("{(ICONS / "down.svg").as_posix()}"); width: 9px; height: 9px; }}
    QComboBox QAbstractItemView {{ background: {c.sheet}; border: 1px solid {c.rule}; outline: none;
        selection-background-color: {c.wash}; selection-color: {c.ink}; }}
    QLineEdit, QDoubleSpinBox {{ background: {c.sheet}; border: 1px solid {c.rule}; padding: 1px 4px;
        selection-background-color: {c.signal}; selection-color: {c.paper}; }}
    QLineEdit:focus, QDoubleSpinBox:focus {{ border-color: {c.signal}; }}
    QLineEdit:read-only {{ background: transparent; border-color: transparent; }}
    QLineEdit:read-only:focus {{ border-color: {c.signal}; }}
    QTableWidget {{ background: transparent; border: none; gridline-color: {c.hair}; outline: none;
        selection-background-color: {c.wash}; selection-color: {c.ink}; }}
    QHeaderView::section {{ background: transparent; color: {c.faint}; border: none; padding: 3px 3px;
        border-bottom: 1px solid {c.rule}; font-size: 11px; font-weight: 400; }}
    QProgressBar {{ background: {c.hair}; border: none; max-height: 6px; }}
    QProgressBar::chunk {{ background: {c.signal}; }}
    QScrollBar:vertical {{ background: transparent; width: 9px; }}
    QScrollBar::handle:vertical {{ background: {c.rule}; min-height: 24px; border-radius: 3px; margin: 1px 2px; }}
    QScrollBar:horizontal {{ background: transparent; height: 9px; }}
    QScrollBar::handle:horizontal {{ background: {c.rule}; min-width: 24px; border-radius: 3px; margin: 2px 1px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
    QAbstractScrollArea::corner {{ background: transparent; border: none; }}
    QScrollArea, QListWidget {{ background: transparent; border: none; outline: none; }}
    QFrame[role="line"] {{ background: {c.rule}; border: none; }}
    QFrame[role="sheet"] {{ background: {c.sheet}; border: none; }}
    """


def contrast(a: str, b: str) -> float:
    """The contrast ratio of two colours (WCAG 2.2)."""

    def light(colour: str) -> float:
        of = QColor(colour)
        parts = [
            v / 12.92 if v <= 0.04045 else ((v + 0.055) / 1.055) ** 2.4 for v in (of.redF(), of.greenF(), of.blueF())
        ]
        return 0.2126 * parts[0] + 0.7152 * parts[1] + 0.0722 * parts[2]

    high, low = sorted((light(a), light(b)), reverse=True)
    return (high + 0.05) / (low + 0.05)
