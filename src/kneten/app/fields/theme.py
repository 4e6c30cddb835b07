"""Colours, type and measures of the two themes, and the style sheet made from them."""

from __future__ import annotations

import atexit
import functools
import importlib.resources
import shutil
import tempfile
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import QByteArray, QRectF, Qt
from PySide6.QtGui import QColor, QFont, QFontDatabase, QIcon, QPainter, QPalette, QPixmap
from PySide6.QtSvg import QSvgRenderer
from PySide6.QtWidgets import QApplication

from kneten.render.style import KILN, PORCELAIN, Ground


@dataclass(frozen=True)
class Theme:
    """One set of colours. Text on its ground reaches at least 4.5 : 1 (a test measures it)."""

    name: str
    base: str
    panel: str
    raised: str
    line: str
    text: str
    quiet: str
    accent: str
    on_accent: str
    warning: str
    error: str
    ground: Ground


THEMES = {
    "kiln": Theme(
        "Kiln",
        base="#181513",
        panel="#211d1a",
        raised="#2c2723",
        line="#3b342e",
        text="#ece5db",
        quiet="#b0a597",
        accent="#7FB8A4",
        on_accent="#13201b",
        warning="#e2a75c",
        error="#e58368",
        ground=KILN,
    ),
    "porcelain": Theme(
        "Porcelain",
        base="#ebe5dc",
        panel="#f7f3ed",
        raised="#ffffff",
        line="#d8cfc2",
        text="#2a2521",
        quiet="#675d53",
        accent="#2F7D68",
        on_accent="#ffffff",
        warning="#875400",
        error="#a2341d",
        ground=PORCELAIN,
    ),
}

_SHEET = """
* { font-family: "Lato"; font-size: %(size)dpx; color: %(text)s; }
QMainWindow, QDialog { background: %(base)s; }
QWidget#bar, QWidget#strip, QWidget#rack, QWidget#cards, QScrollArea#cards, QWidget#cards > QWidget { background: %(panel)s; border: none; }
QWidget#card { background: %(panel)s; border: none; border-top: 1px solid %(line)s; }
QToolTip { background: %(raised)s; color: %(text)s; border: 1px solid %(line)s; padding: 6px 8px; }
QLabel { background: transparent; }
QLabel#quiet { color: %(quiet)s; }
QLabel#heading { font-weight: 600; }
QLabel#warning { color: %(warning)s; }
QToolButton, QPushButton { background: transparent; border: 1px solid transparent; border-radius: 6px; padding: 5px 10px; }
QPushButton { background: %(raised)s; border-color: %(line)s; }
QToolButton:hover, QPushButton:hover { background: %(raised)s; border-color: %(quiet)s; }
QToolButton:focus, QPushButton:focus { border-color: %(accent)s; }
QToolButton:checked { color: %(on_accent)s; background: %(accent)s; border-color: %(accent)s; }
QToolButton:disabled, QPushButton:disabled { color: %(dim)s; }
QToolButton::menu-indicator { image: none; }
QToolButton#stage { padding: 6px 14px; border-radius: 0; border: none; border-bottom: 2px solid transparent; color: %(quiet)s; }
QToolButton#stage:hover { color: %(text)s; background: transparent; }
QToolButton#stage:checked { color: %(text)s; background: transparent; border-bottom: 2px solid %(accent)s; }
QToolButton#tool { padding: 2px 1px 2px 1px; border-radius: 8px; font-size: %(small)dpx; }
QToolButton#tool:checked { background: %(raised)s; color: %(text)s; border: 1px solid %(accent)s; }
QPushButton#fold { background: transparent; font-weight: 600; text-align: left; padding: 8px 12px; border-radius: 0; border: none; }
QPushButton#fold:hover { background: %(raised)s; }
QPushButton#fold:focus { color: %(accent)s; }
QToolButton#flat { padding: 2px 8px; border: none; color: %(quiet)s; }
QToolButton#flat:hover { color: %(text)s; background: transparent; }
QToolButton#flat:checked { color: %(accent)s; background: transparent; }
QToolButton#more { padding: 8px 12px; border: none; color: %(quiet)s; border-top: 1px solid %(line)s; border-radius: 0; }
QToolButton#more:hover { color: %(text)s; }
QToolButton#state { padding: 3px 10px; border-radius: 11px; background: %(chip)s; border: 1px solid %(accent)s; color: %(text)s; font-size: %(small)dpx; }
QToolButton#state:hover { background: %(raised)s; }
QToolButton#toggle { padding: 4px 8px; border-color: %(line)s; }
QPushButton#primary { background: %(accent)s; color: %(on_accent)s; border-color: %(accent)s; font-weight: 600; }
QPushButton#primary:disabled { background: %(raised)s; color: %(dim)s; border-color: %(line)s; }
QLineEdit, QComboBox, QSpinBox { background: %(raised)s; border: 1px solid %(line)s; border-radius: 6px; padding: 4px 6px; selection-background-color: %(accent)s; selection-color: %(on_accent)s; }
QLineEdit:focus, QComboBox:focus { border-color: %(accent)s; }
QLineEdit:disabled { color: %(dim)s; }
QLineEdit[bad="true"] { border-color: %(error)s; }
QComboBox::drop-down { border: none; width: 18px; }
QComboBox::down-arrow { image: url("%(arrow)s"); width: 10px; height: 10px; }
QComboBox QAbstractItemView, QMenu { background: %(raised)s; border: 1px solid %(line)s; selection-background-color: %(accent)s; selection-color: %(on_accent)s; }
QMenu { padding: 6px; }
QMenu::item { padding: 6px 28px 6px 14px; border-radius: 4px; }
QMenu::item:selected { background: %(accent)s; color: %(on_accent)s; }
QMenu::item:disabled { color: %(dim)s; }
QMenu::separator { height: 1px; background: %(line)s; margin: 4px 8px; }
QListWidget, QTreeWidget { background: transparent; border: none; outline: none; }
QListWidget::item { padding: 5px 8px; border-radius: 5px; }
QListWidget::item:hover { background: %(raised)s; }
QListWidget::item:selected { background: %(raised)s; color: %(text)s; border: 1px solid %(accent)s; }
QCheckBox { spacing: 8px; padding: 3px 0; }
QCheckBox::indicator { width: 14px; height: 14px; border: 1px solid %(quiet)s; border-radius: 4px; background: transparent; }
QCheckBox::indicator:checked { background: %(accent)s; border-color: %(accent)s; image: url("%(check)s"); }
QCheckBox:focus { color: %(accent)s; }
QScrollArea { border: none; }
QScrollBar:vertical { width: 8px; background: transparent; margin: 0; }
QScrollBar:horizontal { height: 8px; background: transparent; margin: 0; }
QScrollBar::handle { background: %(line)s; border-radius: 4px; min-height: 24px; min-width: 24px; }
QScrollBar::handle:hover { background: %(quiet)s; }
QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page { background: transparent; width: 0; height: 0; }
QProgressBar { background: %(line)s; border: none; border-radius: 2px; max-height: 4px; }
QProgressBar::chunk { background: %(accent)s; border-radius: 2px; }
QFrame#notice { background: %(raised)s; border: 1px solid %(line)s; border-radius: 8px; }
QFrame#notice QScrollArea, QFrame#notice QScrollArea > QWidget > QWidget { background: transparent; }
QFrame#notice[kind="warning"] { border-color: %(warning)s; }
QFrame#notice[kind="error"] { border-color: %(error)s; }
QToolButton#swatch { padding: 2px; border-radius: 8px; border: 1px solid transparent; }
QToolButton#swatch:checked { border-color: %(accent)s; background: %(raised)s; }
QToolButton#saved { padding: 3px; font-size: %(small)dpx; }
QHeaderView::section { background: transparent; color: %(quiet)s; border: none; padding: 4px 8px; }
QTreeWidget::item { padding: 4px 6px; }
QTreeWidget::item:hover { background: %(raised)s; }
QTreeWidget::item:selected { background: %(accent)s; color: %(on_accent)s; }
QTreeWidget#parts { background: transparent; show-decoration-selected: 1; }
QTreeWidget#parts::item { padding: 0 2px; border-bottom: 1px solid transparent; }
QTreeWidget#parts::item:selected { background: %(raised)s; color: %(text)s; border-bottom: 1px solid %(accent)s; }
QTreeWidget#parts::branch { background: transparent; }
QTreeWidget#parts::branch:selected { background: %(raised)s; }
QWidget#board { background: %(panel)s; border-left: 1px solid %(line)s; }
QLabel#chip { background: %(chip)s; border-radius: 9px; padding: 3px 10px; font-size: %(small)dpx; }
QLabel#chip[kind="warning"] { color: %(warning)s; }
"""


def rgb(colour: QColor) -> tuple[int, int, int]:
    """Red, green and blue, 0 to 255."""
    return colour.red(), colour.green(), colour.blue()


def mixed(a: str, b: str, share: float) -> str:
    """`a` with `share` of `b` in it."""
    one, two = QColor(a), QColor(b)
    return QColor(*(round(x + (y - x) * share) for x, y in zip(rgb(one), rgb(two), strict=True))).name()


def load_fonts() -> None:
    """Make the typeface that ships with Kneten known to Qt."""
    folder = importlib.resources.files("kneten") / "data" / "fonts"
    for name in ("Lato-Regular.ttf", "Lato-Semibold.ttf"):
        QFontDatabase.addApplicationFontFromData(QByteArray((folder / name).read_bytes()))


@functools.cache
def _marks() -> Path:
    """A folder of this process's own: fixed names in one that all may write to can be traps."""
    folder = Path(tempfile.mkdtemp(prefix="kneten-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    return folder


def _drawn(name: str, body: str) -> str:
    """Small marks that style sheets want as files."""
    folder = _marks()
    path = folder / f"{name}.svg"
    path.write_text(f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 10 10" fill="none">{body}</svg>')
    return path.as_posix()


def apply_theme(app: QApplication, theme: Theme, scale: float = 1.0) -> None:
    """Dress the whole application; nothing when it wears this already. `scale` is that of its text."""
    worn = f"{theme.name} {scale}"
    if app.property("theme") == worn:
        return
    app.setProperty("theme", worn)
    stroke = 'stroke-width="1.6" stroke-linecap="round" stroke-linejoin="round"'
    words = {
        **vars(theme),
        "size": round(13 * scale),
        "small": round(12 * scale),
        "dim": mixed(theme.quiet, theme.panel, 0.45),
        "chip": mixed(theme.panel, theme.base, 0.3),
        "arrow": _drawn(
            f"arrow-{theme.name}", f'<path d="M2 3.5 5 6.5 8 3.5" stroke="{theme.quiet}" {stroke}/>'
        ),
        "check": _drawn(
            f"check-{theme.name}", f'<path d="M2 5.2 4.2 7.4 8 2.8" stroke="{theme.on_accent}" {stroke}/>'
        ),
    }
    font = QFont("Lato")
    font.setPixelSize(round(13 * scale))
    font.setFeature(QFont.Tag("tnum"), 1)
    if app.font() != font:
        app.setFont(font)
    palette = QPalette()
    for role, colour in (
        (QPalette.ColorRole.Window, theme.base),
        (QPalette.ColorRole.Base, theme.raised),
        (QPalette.ColorRole.AlternateBase, theme.panel),
        (QPalette.ColorRole.Text, theme.text),
        (QPalette.ColorRole.WindowText, theme.text),
        (QPalette.ColorRole.Button, theme.raised),
        (QPalette.ColorRole.ButtonText, theme.text),
        (QPalette.ColorRole.Highlight, theme.accent),
        (QPalette.ColorRole.HighlightedText, theme.on_accent),
        (QPalette.ColorRole.PlaceholderText, theme.quiet),
        (QPalette.ColorRole.Link, theme.accent),
    ):
        palette.setColor(role, QColor(colour))
    # Each of these has every widget there is measured anew, changed or not.
    if app.palette() != palette:
        app.setPalette(palette)
    sheet = _SHEET % words
    if app.styleSheet() != sheet:
        app.setStyleSheet(sheet)


def coloured_drawing(name: str, theme: Theme) -> str:
    """One of our drawings as SVG, in the theme's colours."""
    path = importlib.resources.files("kneten") / "data" / "icons" / f"{name}.svg"
    text = path.read_text()
    for word, colour in (
        ("thin", theme.quiet),
        ("bold", theme.text),
        ("mark", theme.accent),
        ("clay", mixed(theme.panel, theme.quiet, 0.22)),
    ):
        text = text.replace(f'"{word}"', f'"{colour}"')
    return text


@functools.lru_cache(maxsize=512)
def glyph(name: str, theme: Theme, size: int = 40, ratio: float = 2.0) -> QIcon:
    """An icon drawn in the theme's colours.

    The drawings name their colours: `thin` is the surface before, `bold` after, `clay` its body.
    """
    renderer = QSvgRenderer(QByteArray(coloured_drawing(name, theme).encode()))
    picture = QPixmap(round(size * ratio), round(size * ratio))
    picture.fill(Qt.GlobalColor.transparent)
    painter = QPainter(picture)
    box = renderer.viewBoxF()
    high = size * ratio * box.height() / box.width()
    renderer.render(painter, QRectF(0, (size * ratio - high) / 2, size * ratio, high))
    painter.end()
    picture.setDevicePixelRatio(ratio)
    return QIcon(picture)
