"""One table of colours and sizes, two looks, one style sheet."""

from __future__ import annotations

from dataclasses import dataclass
from importlib.resources import files

from PyQt6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PyQt6.QtWidgets import QApplication


@dataclass(frozen=True)
class Palette:
    """Colours by what they are for."""

    surround: str
    panel: str
    sunk: str
    raised: str
    line: str
    text: str
    second: str
    accent: str
    accent_text: str
    strand: str
    ring: str


DARK = Palette(
    surround="#4b4b4b", panel="#353535", sunk="#2d2d2d", raised="#434343", line="#4e4e4e", text="#efefef",
    second="#b9b9b9", accent="#d19a55", accent_text="#241a0d", strand="#8a6a42", ring="#ffffff",
)  # fmt: skip
LIGHT = Palette(
    surround="#8a8a8a", panel="#ececec", sunk="#dedede", raised="#f8f8f8", line="#bdbdbd", text="#1b1b1b",
    second="#4c4c4c", accent="#8a5410", accent_text="#ffffff", strand="#8a6a42", ring="#000000",
)  # fmt: skip
TABLES = {"dark": DARK, "light": LIGHT}

FONT_FILES = ("Inter-Regular.otf", "Inter-Medium.otf", "Inter-SemiBold.otf", "Inter-Bold.otf")
STRIP_HEIGHT, TOP_HEIGHT, ROPE_WIDTH, BENCH_WIDTH, MARGIN = 34, 46, 88, 320, 18


class Theme:
    """The colours in force; widgets ask it when they paint."""

    def __init__(self) -> None:
        self.name = "dark"

    @property
    def colors(self) -> Palette:
        """The table of the look in force."""
        return TABLES[self.name]

    def color(self, role: str) -> QColor:
        """One colour of the table."""
        return QColor(getattr(self.colors, role))


THEME = Theme()


def load_fonts() -> None:
    """Register the shipped type."""
    folder = files("ropebell.app") / "fonts"
    for name in FONT_FILES:
        QFontDatabase.addApplicationFontFromData((folder / name).read_bytes())


def font(size: int = 13, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
    """The type at a size in pixels."""
    made = QFont("Inter")
    made.setPixelSize(size)
    made.setWeight(weight)
    return made


def apply(app: QApplication, name: str) -> None:
    """Give the whole application a look, `dark` or `light`."""
    THEME.name = name
    c = THEME.colors
    app.setStyle("Fusion")
    app.setFont(font())
    palette = QPalette()
    roles = {
        QPalette.ColorRole.Window: c.panel, QPalette.ColorRole.WindowText: c.text, QPalette.ColorRole.Base: c.sunk,
        QPalette.ColorRole.AlternateBase: c.panel, QPalette.ColorRole.Text: c.text, QPalette.ColorRole.Button: c.raised,
        QPalette.ColorRole.ButtonText: c.text, QPalette.ColorRole.Highlight: c.accent,
        QPalette.ColorRole.HighlightedText: c.accent_text, QPalette.ColorRole.ToolTipBase: c.sunk,
        QPalette.ColorRole.ToolTipText: c.text, QPalette.ColorRole.PlaceholderText: c.second,
        QPalette.ColorRole.Mid: c.line, QPalette.ColorRole.Dark: c.sunk, QPalette.ColorRole.Light: c.raised,
    }  # fmt: skip
    for role, color in roles.items():
        palette.setColor(role, QColor(color))
    for role in (QPalette.ColorRole.Text, QPalette.ColorRole.ButtonText, QPalette.ColorRole.WindowText):
        palette.setColor(QPalette.ColorGroup.Disabled, role, QColor(c.second))
    app.setPalette(palette)
    app.setStyleSheet(_sheet(c))


def _sheet(c: Palette) -> str:
    return f"""
    * {{ font-family: Inter; font-size: 13px; }}
    QToolTip {{ background: {c.sunk}; color: {c.text}; border: 1px solid {c.line}; padding: 6px; }}
    QLabel[role="title"] {{ font-size: 15px; font-weight: 700; }}
    QLabel[role="heading"] {{ font-weight: 600; }}
    QLabel[role="second"] {{ color: {c.second}; font-size: 12px; }}
    QLabel[role="accent"] {{ color: {c.accent}; font-size: 12px; }}
    QLabel[role="number"] {{ font-weight: 600; }}
    QFrame[role="notice"] {{ background: {c.accent}; }}
    QFrame[role="notice"] QLabel {{ color: {c.accent_text}; font-weight: 600; }}
    QFrame[role="notice"] QPushButton[role="flat"] {{ color: {c.accent_text}; }}
    QFrame[role="notice"] QPushButton[role="flat"]:hover, QFrame[role="notice"] QPushButton[role="flat"]:focus {{ color: {c.text}; }}
    QFrame[role="news"] {{ background: {c.sunk}; border-left: 3px solid {c.strand}; }}
    QFrame[role="panel"] {{ background: {c.panel}; border: none; }}
    QFrame[role="rule"] {{ background: {c.line}; border: none; max-height: 1px; min-height: 1px; }}
    QFrame[role="pane"] {{ background: {c.panel}; border: 1px solid {c.line}; border-radius: 6px; }}
    QFrame[role="note"] {{ background: {c.sunk}; border-radius: 6px; }}
    QPushButton {{ background: {c.raised}; color: {c.text}; border: 1px solid {c.line}; border-radius: 6px; padding: 6px 14px; }}
    QPushButton:hover {{ border-color: {c.second}; }}
    QPushButton:focus {{ border-color: {c.accent}; }}
    QPushButton:disabled {{ color: {c.second}; }}
    QPushButton[role="main"] {{ background: {c.accent}; color: {c.accent_text}; border: none; font-weight: 700; padding: 9px 18px; }}
    QPushButton[role="main"]:disabled {{ background: {c.raised}; color: {c.second}; }}
    QPushButton[role="step"] {{ background: transparent; color: {c.second}; border: none; border-radius: 0; padding: 0 12px; border-bottom: 3px solid transparent; border-top: 3px solid transparent; }}
    QPushButton[role="step"]:hover {{ color: {c.text}; }}
    QPushButton[role="step"]:checked {{ color: {c.text}; font-weight: 700; border-bottom-color: {c.accent}; }}
    QPushButton[role="step"]:focus {{ color: {c.text}; }}
    QPushButton[role="flat"] {{ background: transparent; border: none; color: {c.second}; padding: 2px 6px; border-radius: 4px; }}
    QPushButton[role="flat"]:hover, QPushButton[role="flat"]:focus {{ color: {c.text}; background: {c.raised}; }}
    QPushButton[role="flat"]::menu-indicator {{ image: none; width: 0; }}
    QPushButton[role="fold"] {{ background: transparent; border: none; text-align: left; color: {c.second}; padding: 3px 0; border-radius: 3px; }}
    QPushButton[role="fold"]:hover, QPushButton[role="fold"]:focus {{ color: {c.text}; }}
    QPushButton[role="recent"] {{ text-align: left; background: {c.sunk}; }}
    QPushButton[role="choice"] {{ background: {c.sunk}; border: 1px solid {c.line}; border-radius: 0; padding: 5px 0; }}
    QPushButton[role="choice"]:checked {{ background: {c.raised}; color: {c.text}; border: 1px solid {c.accent}; font-weight: 600; }}
    QLineEdit, QSpinBox, QDoubleSpinBox, QComboBox {{ background: {c.sunk}; color: {c.text}; border: 1px solid {c.line}; border-radius: 4px; padding: 4px 6px; selection-background-color: {c.accent}; selection-color: {c.accent_text}; }}
    QLineEdit:focus, QSpinBox:focus, QDoubleSpinBox:focus, QComboBox:focus {{ border-color: {c.accent}; }}
    QSpinBox::up-button, QSpinBox::down-button, QDoubleSpinBox::up-button, QDoubleSpinBox::down-button {{ width: 0; border: none; }}
    QComboBox QAbstractItemView {{ background: {c.sunk}; border: 1px solid {c.line}; }}
    QTableView, QListView {{ background: {c.sunk}; border: 1px solid {c.line}; border-radius: 4px; gridline-color: transparent; outline: none; selection-background-color: {c.raised}; selection-color: {c.text}; }}
    QTableView::item {{ padding: 2px 6px; border: none; }}
    QTableView::item:selected {{ background: {c.raised}; color: {c.text}; }}
    QHeaderView::section {{ background: {c.panel}; color: {c.second}; border: none; border-bottom: 1px solid {c.line}; padding: 3px 6px; font-size: 12px; }}
    QHeaderView {{ background: {c.panel}; }}
    QProgressBar {{ background: {c.sunk}; border: none; border-radius: 3px; max-height: 6px; min-height: 6px; }}
    QProgressBar::chunk {{ background: {c.accent}; border-radius: 3px; }}
    QSlider::groove:horizontal {{ background: {c.sunk}; height: 4px; border-radius: 2px; }}
    QSlider::sub-page:horizontal {{ background: {c.strand}; height: 4px; border-radius: 2px; }}
    QSlider::handle:horizontal {{ background: {c.text}; width: 12px; height: 12px; margin: -4px 0; border-radius: 6px; }}
    QSlider::handle:horizontal:focus {{ background: {c.accent}; }}
    QScrollArea {{ border: none; background: {c.panel}; }}
    QScrollArea > QWidget > QWidget {{ background: {c.panel}; }}
    QScrollBar:vertical {{ background: transparent; width: 10px; margin: 0; }}
    QScrollBar::handle:vertical {{ background: {c.line}; border-radius: 4px; min-height: 24px; margin: 1px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; width: 0; }}
    QScrollBar:horizontal {{ background: transparent; height: 10px; }}
    QScrollBar::handle:horizontal {{ background: {c.line}; border-radius: 4px; min-width: 24px; margin: 1px; }}
    QMenu {{ background: {c.sunk}; color: {c.text}; border: 1px solid {c.line}; padding: 4px; }}
    QMenu::item {{ padding: 5px 22px 5px 12px; border-radius: 4px; }}
    QMenu::item:selected {{ background: {c.raised}; }}
    QMenu::item:disabled {{ color: {c.second}; }}
    QMenu::separator {{ height: 1px; background: {c.line}; margin: 4px 8px; }}
    QCheckBox::indicator {{ width: 14px; height: 14px; border: 1px solid {c.second}; border-radius: 3px; background: {c.sunk}; }}
    QCheckBox::indicator:checked {{ background: {c.accent}; border-color: {c.accent}; }}
    QSplitter::handle {{ background: {c.line}; width: 1px; }}
    """
