"""Colours, typeface, icons and style of the window."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from functools import lru_cache
from pathlib import Path
from string import Template

from PySide6.QtCore import QByteArray, QRectF, Qt
from PySide6.QtGui import QColor, QFont, QFontDatabase, QIcon, QPainter, QPalette, QPixmap
from PySide6.QtSvg import QSvgRenderer
from PySide6.QtWidgets import QApplication

from moss_step.desk.tones import darken, is_dark, tone
from moss_step.scene import colors
from moss_step.scene.colors import (
    CARD,
    DEEP,
    INK,
    LICHEN,
    MOSS,
    MUTED,
    PALE,
    PAPER,
)

ASSETS = Path(__file__).parent / "assets"

FAMILY = "Inter"
HEADER_HEIGHT, PANEL_WIDTH, TRAIL_HEIGHT = 44, 324, 148


def apply(app: QApplication, dark: bool = False) -> None:
    """Give the application its typeface, palette and style."""
    darken(dark)
    for file in sorted((ASSETS / "fonts").glob("*.otf")):
        QFontDatabase.addApplicationFont(str(file))
    _icon_texts()
    app.setStyle("Fusion")
    app.setFont(font(13))
    palette = QPalette()
    for role, color in (
        (QPalette.ColorRole.Window, tone(PAPER)),
        (QPalette.ColorRole.Base, tone(CARD)),
        (QPalette.ColorRole.Text, tone(INK)),
        (QPalette.ColorRole.WindowText, tone(INK)),
        (QPalette.ColorRole.Button, tone(CARD)),
        (QPalette.ColorRole.ButtonText, tone(INK)),
        (QPalette.ColorRole.Highlight, LICHEN),
        (QPalette.ColorRole.HighlightedText, INK),
        (QPalette.ColorRole.ToolTipBase, DEEP),
        (QPalette.ColorRole.ToolTipText, PAPER),
        (QPalette.ColorRole.PlaceholderText, tone(MUTED)),
        (QPalette.ColorRole.Link, tone(MOSS)),
    ):
        palette.setColor(role, QColor(color))
    app.setPalette(palette)
    app.setStyleSheet(_style())


@contextmanager
def unstyled() -> Iterator[None]:
    """Build much without the style sheet, which is put back at the end: with it a widget that gets a parent
    is styled anew, and all that it holds.
    """
    app = QApplication.instance()
    if not isinstance(app, QApplication):
        yield
        return
    sheet = app.styleSheet()
    app.setStyleSheet("")
    try:
        yield
    finally:
        app.setStyleSheet(sheet)


def font(pixels: int, weight: QFont.Weight = QFont.Weight.Normal, tabular: bool = True) -> QFont:
    """Give the typeface at a size in pixels, with figures of one width unless that is not wanted. Without
    them no letter takes another shape beside others either: a file of letters then holds each of them as
    text.
    """
    result = QFont(FAMILY)
    result.setPixelSize(pixels)
    result.setWeight(weight)
    result.setFeature(QFont.Tag("tnum"), 1 if tabular else 0)
    if not tabular:
        result.setFeature(QFont.Tag("calt"), 0)
    return result


@lru_cache(maxsize=1)
def _icon_texts() -> dict[str, str]:
    """All icons, read once: the window's thread touches no file while it is used."""
    return {file.stem: file.read_text() for file in (ASSETS / "icons").glob("*.svg")}


@lru_cache(maxsize=256)
def pixmap(name: str, color: str, size: int = 16, ratio: float = 2.0) -> QPixmap:
    """Draw an icon in one colour, ``size`` logical pixels high."""
    text = _icon_texts()[name].replace("currentColor", color)
    drawn = QPixmap(round(size * ratio), round(size * ratio))
    drawn.fill(Qt.GlobalColor.transparent)
    with QPainter(drawn) as painter:
        QSvgRenderer(QByteArray(text.encode())).render(painter, QRectF(drawn.rect()))
    drawn.setDevicePixelRatio(ratio)
    return drawn


def icon(name: str, color: str = "") -> QIcon:
    """Give an icon, in ink where no colour is given, that turns pale when its button is disabled."""
    result = QIcon(pixmap(name, color or tone(INK)))
    result.addPixmap(pixmap(name, tone(PALE)), QIcon.Mode.Disabled)
    return result


def _style() -> str:
    """The style sheet in the colours of the window as it is now; ``day_`` names those that never change."""
    named = {n.lower(): c for n, c in vars(colors).items() if isinstance(c, str) and c.startswith("#")}
    icons = ASSETS / "icons"
    return Template((ASSETS / "window.qss").read_text(encoding="utf-8")).substitute(
        {n: tone(c) for n, c in named.items()},
        **{f"day_{n}": c for n, c in named.items()},
        caret=(icons / ("caret-down-pale.svg" if is_dark() else "caret-down.svg")).as_posix(),
        tick=(icons / "tick.svg").as_posix(),
    )
