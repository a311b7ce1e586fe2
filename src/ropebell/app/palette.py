"""One table of colours and sizes, two looks, one style sheet."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from importlib.resources import files
from string import Template

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
    sheet = Template((files("ropebell.app") / "sheet.qss").read_text())
    app.setStyleSheet(sheet.substitute(asdict(c)))
