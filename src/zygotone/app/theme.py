"""Colours, fonts and the style sheet: Paper (light) and Night (dark)."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtGui import QColor, QFont, QFontDatabase, QGuiApplication, QPalette
from PySide6.QtWidgets import QApplication

ASSETS = Path(__file__).parent / "assets"
FONTS = ASSETS / "fonts"


@dataclass(frozen=True)
class Colours:
    """Every colour by what it means."""

    ground: str  # behind everything
    sheet: str  # cards, plots, header
    line: str  # edges and grid
    fill: str  # quiet shapes: spectra, selected rows
    ink: str
    soft: str  # text that may be passed over
    a: str  # kept
    b: str  # trial
    a_fill: str
    b_fill: str
    clash: str
    count: str  # findings waiting
    good: str
    on_b: str  # text on ``b``


PAPER = Colours(
    ground="#f3eee6", sheet="#fbfaf4", line="#d8d2c3", fill="#e8e1d2", ink="#22262b", soft="#6b675f",
    a="#2552a0", b="#b8431a", a_fill="#e2e9f5", b_fill="#fdeae2", clash="#7a3572", count="#8a5f00", good="#3d6b2a",
    on_b="#ffffff",
)  # fmt: skip
NIGHT = Colours(
    ground="#16181b", sheet="#1e2125", line="#3a3f45", fill="#2c3036", ink="#e9e5dc", soft="#a29d93",
    a="#86aef0", b="#f0875c", a_fill="#232e42", b_fill="#3d2820", clash="#c98bc0", count="#d9a944", good="#93c47c",
    on_b="#1b1210",
)  # fmt: skip


class Theme(QObject):
    """The theme in force. ``preference`` is "desktop", "paper" or "night"."""

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.preference = "desktop"
        self.colours = PAPER
        QGuiApplication.styleHints().colorSchemeChanged.connect(lambda _: self.apply())

    @property
    def is_night(self) -> bool:
        return self.colours is NIGHT

    def prefer(self, preference: str) -> None:
        self.preference = preference
        self.apply()

    def apply(self) -> None:
        dark = QGuiApplication.styleHints().colorScheme() == Qt.ColorScheme.Dark
        night = self.preference == "night" or (self.preference == "desktop" and dark)
        self.colours = NIGHT if night else PAPER
        app = application()
        palette = QPalette()
        c = self.colours
        for role, colour in (
            (QPalette.ColorRole.Window, c.ground), (QPalette.ColorRole.Base, c.sheet), (QPalette.ColorRole.Text, c.ink),
            (QPalette.ColorRole.WindowText, c.ink), (QPalette.ColorRole.Button, c.sheet),
            (QPalette.ColorRole.ButtonText, c.ink), (QPalette.ColorRole.Highlight, c.a),
            (QPalette.ColorRole.HighlightedText, c.sheet), (QPalette.ColorRole.ToolTipBase, c.sheet),
            (QPalette.ColorRole.ToolTipText, c.ink), (QPalette.ColorRole.PlaceholderText, c.soft),
            (QPalette.ColorRole.AlternateBase, c.ground),
        ):  # fmt: skip
            palette.setColor(role, QColor(colour))
        app.setPalette(palette)
        app.setStyleSheet(style_sheet(c))
        self.changed.emit()


def application() -> QApplication:
    app = QApplication.instance()
    assert isinstance(app, QApplication), "made in main before anything else"
    return app


_theme: Theme | None = None


def theme() -> Theme:
    global _theme
    if _theme is None:
        _theme = Theme()
    return _theme


def colour(name: str) -> QColor:
    return QColor(getattr(theme().colours, name))


def load_fonts() -> None:
    for file in sorted(FONTS.glob("*.otf")):
        QFontDatabase.addApplicationFont(str(file))
    application().setFont(text_font(10))


def text_font(points: float, *, bold: bool = False) -> QFont:
    font = QFont("Karla")
    font.setPointSizeF(points)
    font.setBold(bold)
    return font


def number_font(points: float, *, bold: bool = False) -> QFont:
    font = QFont("B612")
    font.setPointSizeF(points * 0.9)  # its digits are wider than Karla's
    font.setBold(bold)
    return font


def style_sheet(c: Colours) -> str:
    arrow = (ASSETS / ("arrow-night.png" if c is NIGHT else "arrow-paper.png")).as_posix()
    return f"""
    QWidget {{ color: {c.ink}; }}
    QMainWindow, QDialog {{ background: {c.ground}; }}
    #header, #status {{ background: {c.sheet}; }}
    #header {{ border-bottom: 1px solid {c.line}; }}
    #status {{ border-top: 1px solid {c.line}; color: {c.soft}; }}
    #status QLabel {{ color: {c.soft}; }}
    #left {{ border-right: 1px solid {c.line}; }}
    #margin {{ border-left: 1px solid {c.line}; }}
    QScrollArea, QScrollArea > QWidget > QWidget {{ background: transparent; border: none; }}
    QLabel[kind="title"] {{ font-size: 15pt; font-weight: bold; }}
    QLabel[kind="heading"] {{ font-size: 10pt; font-weight: bold; }}
    QLabel[kind="soft"] {{ color: {c.soft}; font-size: 9pt; }}
    QLabel[kind="number"] {{ font-family: B612; font-size: 9pt; }}
    QLabel[kind="a"] {{ font-family: B612; font-size: 9pt; color: {c.a}; }}
    QLabel[kind="b"] {{ font-family: B612; font-size: 9pt; color: {c.b}; }}
    QFrame[kind="card"] {{ background: {c.sheet}; border: 1px solid {c.line}; border-radius: 5px; }}
    QFrame[kind="card"][trial="true"] {{ background: {c.b_fill}; border: 1px solid {c.b}; }}
    QFrame[kind="trialcard"] {{ background: {c.sheet}; border: 2px solid {c.b}; border-radius: 6px; }}
    QPushButton {{ background: {c.sheet}; border: 1px solid {c.line}; border-radius: 11px; padding: 3px 11px; }}
    QPushButton:hover {{ border-color: {c.soft}; }}
    QPushButton[kind="narrow"] {{ padding: 3px 2px; }}
    QPushButton[kind="narrow"]:focus {{ padding: 2px 1px; }}
    QPushButton[kind="ear"] {{ padding: 0px 6px; border-radius: 8px; min-height: 18px; }}
    QPushButton[kind="ear"]:focus {{ padding: 0px 5px; }}
    QPushButton[kind="ear"][heard="true"] {{ background: {c.b}; color: {c.on_b}; border-color: {c.b}; }}
    QPushButton[kind="ear"][heard="true"][plain="true"] {{ background: {c.fill}; color: {c.ink}; border-color: {c.soft}; }}
    QComboBox[kind="ear"] {{ min-height: 16px; padding: 0px 4px; }}
    QPushButton[kind="choice"]:checked {{ background: {c.fill}; border-color: {c.ink}; }}
    QPushButton:focus {{ border: 2px solid {c.a}; padding: 2px 10px; }}
    QPushButton:disabled {{ color: {c.soft}; border-color: {c.line}; background: {c.ground}; }}
    QPushButton[kind="strong"] {{ border: 1px solid {c.ink}; font-weight: bold; }}
    QPushButton[kind="strong"]:disabled {{ border-color: {c.line}; color: {c.soft}; }}
    QPushButton[kind="keep"] {{ background: {c.b}; color: {c.on_b}; border: 1px solid {c.b}; font-weight: bold; }}
    QListView::indicator, QCheckBox::indicator {{ width: 11px; height: 11px; border: 1px solid {c.soft}; border-radius: 2px; }}
    QListView::indicator:checked, QCheckBox::indicator:checked {{ background: {c.ink}; border-color: {c.ink}; }}
    QCheckBox::indicator:disabled {{ border-color: {c.line}; }}
    QCheckBox::indicator:checked:disabled {{ background: {c.soft}; border-color: {c.soft}; }}
    QCheckBox:focus {{ text-decoration: underline; }}
    QPushButton[kind="keep"]:disabled {{ background: {c.sheet}; color: {c.soft}; border: 1px solid {c.line}; }}
    QPushButton[kind="keep"]:focus {{ border: 2px solid {c.ink}; }}
    QPushButton[kind="kept"] {{ border: 1px solid {c.a}; color: {c.a}; }}
    QPushButton[kind="ontrial"] {{ background: {c.b}; color: {c.on_b}; border: 1px solid {c.b}; }}
    QPushButton[kind="chosen"] {{ border: 1px solid {c.ink}; background: {c.fill}; font-weight: bold; }}
    QPushButton[kind="plain"] {{ border: none; background: transparent; padding: 2px 4px; }}
    QPushButton[kind="plain"]:focus {{ border: 1px solid {c.a}; }}
    QLineEdit, QComboBox, QSpinBox, QDoubleSpinBox, QPlainTextEdit {{
        background: {c.sheet}; border: 1px solid {c.line}; border-radius: 4px; padding: 2px 6px;
        selection-background-color: {c.a}; selection-color: {c.sheet}; }}
    QLineEdit:focus, QComboBox:focus, QSpinBox:focus, QDoubleSpinBox:focus {{ border: 1px solid {c.a}; }}
    QSpinBox::up-button, QSpinBox::down-button, QDoubleSpinBox::up-button, QDoubleSpinBox::down-button {{
        width: 0; border: none; }}
    QSpinBox QLineEdit, QDoubleSpinBox QLineEdit {{ border: none; background: transparent; }}
    QLineEdit[kind="ruler"] {{ border: none; border-bottom: 1px solid transparent; background: transparent; padding: 0 4px; }}
    QLineEdit[kind="ruler"]:focus {{ border: none; border-bottom: 1px solid {c.a}; }}
    QComboBox::drop-down {{ border: none; width: 18px; }}
    QComboBox::down-arrow {{ image: url({arrow}); width: 9px; height: 6px; }}
    QComboBox QAbstractItemView {{ background: {c.sheet}; border: 1px solid {c.line}; selection-background-color: {c.fill};
        selection-color: {c.ink}; }}
    QTableWidget, QListWidget, QTreeWidget {{ background: {c.sheet}; border: 1px solid {c.line}; border-radius: 5px;
        gridline-color: {c.line}; selection-background-color: {c.fill}; selection-color: {c.ink}; }}
    QHeaderView::section {{ background: {c.ground}; color: {c.soft}; border: none; border-bottom: 1px solid {c.line};
        padding: 3px 6px; }}
    QTableCornerButton::section {{ background: {c.ground}; border: none; }}
    QMenuBar {{ background: {c.sheet}; color: {c.soft}; }}
    QMenuBar::item {{ padding: 2px 8px; background: transparent; }}
    QMenuBar::item:selected, QMenu::item:selected {{ background: {c.fill}; color: {c.ink}; }}
    QMenu {{ background: {c.sheet}; border: 1px solid {c.line}; }}
    QMenu::item {{ padding: 4px 24px; }}
    QMenu::item:disabled {{ color: {c.soft}; }}
    QToolTip {{ background: {c.sheet}; color: {c.ink}; border: 1px solid {c.line}; }}
    QScrollBar:vertical {{ background: transparent; width: 9px; }}
    QScrollBar:horizontal {{ background: transparent; height: 9px; }}
    QScrollBar::handle {{ background: {c.line}; border-radius: 4px; min-height: 24px; min-width: 24px; }}
    QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page {{ background: none; border: none;
        width: 0; height: 0; }}
    QProgressBar {{ border: 1px solid {c.line}; border-radius: 4px; background: {c.sheet}; text-align: center; }}
    QProgressBar::chunk {{ background: {c.a}; }}
    """
