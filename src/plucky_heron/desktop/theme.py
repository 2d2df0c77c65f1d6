"""Colours, typeface and style sheet: Foreshore, warm paper, and Night tide, the same roles in the dark."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PySide6.QtWidgets import QApplication


@dataclass(frozen=True)
class Theme:
    """Colours by role, as #RRGGBB."""

    paper: str = "#F6F3EC"
    card: str = "#FFFDF8"
    rule: str = "#D9D3C5"
    faint: str = "#ECE7DB"
    ink: str = "#22302E"
    soft: str = "#5E6B68"
    tide: str = "#1D6A72"
    on_tide: str = "#FFFDF8"
    reed: str = "#B98A2E"
    rust: str = "#A8452B"
    moss: str = "#5C7F3A"
    heron: str = "#6C8798"
    plum: str = "#7A4E74"
    sand: str = "#F3EBDD"
    water: str = "#8FB0B5"

    def color(self, role: str, alpha: float = 1.0) -> QColor:
        """A role as a colour, with opacity."""
        color = QColor(getattr(self, role))
        color.setAlphaF(alpha)
        return color


FORESHORE = Theme()
NIGHT_TIDE = Theme(
    paper="#16201F", card="#1D2928", rule="#3A4744", faint="#263331", ink="#E7E3D8", soft="#A3AFAB", tide="#5FB3BA",
    on_tide="#10201F", reed="#D9AE58", rust="#DB7A5E", moss="#93B56B", heron="#93AEBF", plum="#B98AB2", sand="#2A2F29",
    water="#3F6368",
)  # fmt: skip

LETTERS = "ABCDEFGH"
SERIES = ("tide", "reed", "plum", "moss", "heron", "ink")
"""Roles of series, always together with a letter or a line style."""

_current = FORESHORE
_family = "Source Sans Pro"


def theme() -> Theme:
    """The theme in use."""
    return _current


def font(size: int = 13, bold: bool = False, italic: bool = False) -> QFont:
    """The typeface with tabular figures."""
    made = QFont(_family)
    made.setPixelSize(size)
    made.setWeight(QFont.Weight.DemiBold if bold else QFont.Weight.Normal)
    made.setItalic(italic)
    made.setFeature(QFont.Tag("tnum"), 1)
    return made


def apply_theme(app: QApplication, dark: bool = False) -> None:
    """Load the typeface and set palette and style sheet."""
    global _current, _family
    _current = NIGHT_TIDE if dark else FORESHORE
    from font_source_sans_pro import font_files_ttf

    for file in sorted(font_files_ttf.values()):
        if file.endswith(("-Regular.ttf", "-It.ttf", "-Semibold.ttf", "-SemiboldIt.ttf", "-Bold.ttf")):
            number = QFontDatabase.addApplicationFont(file)
            families = QFontDatabase.applicationFontFamilies(number) if number >= 0 else []
            if file.endswith("-Regular.ttf") and families:
                _family = families[0]
    app.setStyle("Fusion")
    app.setFont(font())
    t = _current
    palette = QPalette()
    for role, name in (
        (QPalette.ColorRole.Window, "paper"), (QPalette.ColorRole.Base, "card"), (QPalette.ColorRole.Text, "ink"),
        (QPalette.ColorRole.WindowText, "ink"), (QPalette.ColorRole.Button, "card"), (QPalette.ColorRole.ButtonText, "ink"),
        (QPalette.ColorRole.Highlight, "tide"), (QPalette.ColorRole.HighlightedText, "on_tide"),
        (QPalette.ColorRole.ToolTipBase, "card"), (QPalette.ColorRole.ToolTipText, "ink"),
        (QPalette.ColorRole.PlaceholderText, "soft"),
    ):  # fmt: skip
        palette.setColor(role, t.color(name))
    app.setPalette(palette)
    app.setStyleSheet(_style(t))


def _style(t: Theme) -> str:
    return f"""
    QMainWindow, QDialog {{ background: {t.paper}; }}
    QToolTip {{ background: {t.card}; color: {t.ink}; border: 1px solid {t.rule}; padding: 4px; }}
    QFrame#card {{ background: {t.card}; border: 1px solid {t.rule}; border-radius: 4px; }}
    QFrame#rule {{ background: {t.rule}; max-height: 1px; min-height: 1px; border: none; }}
    QLabel {{ color: {t.ink}; background: transparent; }}
    QLabel#soft {{ color: {t.soft}; }}
    QLabel#caption {{ color: {t.soft}; font-size: 11px; font-weight: 600; letter-spacing: 1px; }}
    QLabel#strong {{ color: {t.ink}; font-weight: 600; }}
    QLabel#title {{ color: {t.ink}; font-size: 18px; font-weight: 600; }}
    QLabel#wrong {{ color: {t.ink}; border-left: 3px solid {t.rust}; padding-left: 6px; }}
    QPushButton {{ background: {t.card}; color: {t.ink}; border: 1px solid {t.rule}; border-radius: 4px; padding: 5px 14px; }}
    QPushButton:hover {{ border-color: {t.tide}; }}
    QPushButton:focus {{ border: 2px solid {t.tide}; padding: 4px 13px; }}
    QPushButton:disabled {{ color: {t.soft}; background: {t.paper}; }}
    QPushButton#primary {{ background: {t.tide}; color: {t.on_tide}; border-color: {t.tide}; font-weight: 600; }}
    QPushButton#primary:disabled {{ background: {t.rule}; color: {t.soft}; border-color: {t.rule}; }}
    QPushButton#primary:focus {{ border: 2px solid {t.ink}; }}
    QPushButton#link {{ background: transparent; border: none; color: {t.tide}; font-weight: 600; padding: 0 2px; text-align: right; }}
    QPushButton#link:hover {{ text-decoration: underline; }}
    QPushButton#link:focus {{ border-bottom: 2px solid {t.tide}; }}
    QPushButton#name {{ background: transparent; border: none; color: {t.ink}; font-weight: 600; padding: 1px 0; text-align: left; }}
    QPushButton#name:hover {{ color: {t.tide}; }}
    QPushButton#name:focus {{ border-bottom: 2px solid {t.tide}; }}
    QFrame#sheet {{ background: {t.paper}; border: 1px solid {t.rule}; border-left: 3px solid {t.tide}; border-radius: 4px; }}
    QMenu {{ background: {t.card}; color: {t.ink}; border: 1px solid {t.rule}; }}
    QMenu::item:selected {{ background: {t.faint}; color: {t.ink}; }}
    QPushButton::menu-indicator {{ image: none; width: 0; }}
    QPushButton#tool {{ border: 1px solid transparent; background: transparent; padding: 2px; min-width: 22px; min-height: 22px; }}
    QPushButton#tool:hover {{ border-color: {t.rule}; }}
    QPushButton#tool:focus {{ border: 2px solid {t.tide}; padding: 1px; }}
    QPushButton#tool:checked {{ background: {t.faint}; }}
    QLineEdit, QComboBox {{ background: {t.card}; color: {t.ink}; border: 1px solid {t.rule}; border-radius: 4px; padding: 2px 6px; }}
    QLineEdit:focus, QComboBox:focus {{ border: 2px solid {t.tide}; padding: 1px 5px; }}
    QLineEdit:disabled, QComboBox:disabled {{ background: {t.faint}; color: {t.soft}; }}
    QLineEdit[wrong="true"] {{ border: 2px solid {t.rust}; padding: 1px 5px; }}
    QComboBox {{ padding-right: 18px; }}
    QComboBox::drop-down {{ border: none; width: 18px; }}
    QComboBox::down-arrow {{ image: none; }}
    QComboBox QAbstractItemView {{ background: {t.card}; border: 1px solid {t.rule}; selection-background-color: {t.faint}; selection-color: {t.ink}; }}
    QScrollArea {{ background: transparent; border: none; }}
    QScrollArea > QWidget > QWidget {{ background: transparent; }}
    QScrollBar:vertical {{ background: transparent; width: 8px; margin: 0; }}
    QScrollBar::handle:vertical {{ background: {t.rule}; border-radius: 4px; min-height: 24px; }}
    QScrollBar:horizontal {{ background: transparent; height: 8px; margin: 0; }}
    QScrollBar::handle:horizontal {{ background: {t.rule}; border-radius: 4px; min-width: 24px; }}
    QAbstractScrollArea::corner {{ background: none; border: none; }}
    QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page {{ background: none; border: none; height: 0; width: 0; }}
    QTableView {{ background: transparent; border: none; outline: none; selection-background-color: {t.faint}; }}
    QTableView::item {{ padding: 0 6px; border-bottom: 1px solid {t.faint}; }}
    QTableView::item:selected {{ background: {t.faint}; border-left: none; }}
    QTableView:focus {{ border: 1px solid {t.tide}; }}
    QHeaderView, QHeaderView::section {{ background: transparent; border: none; color: {t.soft}; padding: 2px 6px; }}
    QListWidget {{ background: transparent; border: none; outline: none; }}
    QListWidget::item {{ padding: 3px 4px; border-bottom: 1px solid {t.faint}; border-left: 3px solid transparent; color: {t.ink}; }}
    QListWidget::item:selected {{ background: {t.faint}; color: {t.ink}; border-left: 3px solid {t.tide}; }}
    QListWidget:focus {{ border: 1px solid {t.tide}; }}
    """


def pen_style(number: int) -> Qt.PenStyle:
    """Line style of a series, beside its colour."""
    styles = (Qt.PenStyle.SolidLine, Qt.PenStyle.DashLine, Qt.PenStyle.DashDotLine, Qt.PenStyle.DotLine)
    return styles[number % len(styles)]
