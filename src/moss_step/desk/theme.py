"""Colours, typeface, icons and style of the window."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

from PySide6.QtCore import QByteArray, QRectF, Qt
from PySide6.QtGui import QColor, QFont, QFontDatabase, QIcon, QPainter, QPalette, QPixmap
from PySide6.QtSvg import QSvgRenderer
from PySide6.QtWidgets import QApplication

from moss_step.scene.colors import (
    CARD,
    DEEP,
    DIM,
    FAINT,
    GROUND,
    HOVER,
    HOVER_MOSS,
    INK,
    LICHEN,
    LINE,
    MOSS,
    MUTED,
    OCHRE,
    PALE,
    PALE_MOSS,
    PAPER,
    PICKED,
    WASH,
)

ASSETS = Path(__file__).parent / "assets"

HEADER_HEIGHT, PANEL_WIDTH, TRAIL_HEIGHT = 44, 324, 148


def apply(app: QApplication) -> None:
    """Give the application its typeface, palette and style."""
    for file in sorted((ASSETS / "fonts").glob("*.otf")):
        QFontDatabase.addApplicationFont(str(file))
    _icon_texts()
    app.setStyle("Fusion")
    app.setFont(font(13))
    palette = QPalette()
    for role, color in (
        (QPalette.ColorRole.Window, PAPER),
        (QPalette.ColorRole.Base, CARD),
        (QPalette.ColorRole.Text, INK),
        (QPalette.ColorRole.WindowText, INK),
        (QPalette.ColorRole.Button, CARD),
        (QPalette.ColorRole.ButtonText, INK),
        (QPalette.ColorRole.Highlight, LICHEN),
        (QPalette.ColorRole.HighlightedText, INK),
        (QPalette.ColorRole.ToolTipBase, DEEP),
        (QPalette.ColorRole.ToolTipText, PAPER),
        (QPalette.ColorRole.PlaceholderText, MUTED),
        (QPalette.ColorRole.Link, MOSS),
    ):
        palette.setColor(role, QColor(color))
    app.setPalette(palette)
    app.setStyleSheet(STYLE)


def font(pixels: int, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
    """Give the typeface at a size in pixels, with figures of one width."""
    result = QFont("Inter")
    result.setPixelSize(pixels)
    result.setWeight(weight)
    result.setFeature(QFont.Tag("tnum"), 1)
    return result


@lru_cache(maxsize=1)
def _icon_texts() -> dict[str, str]:
    """All icons, read once: the window's thread touches no file while it is used."""
    return {file.stem: file.read_text() for file in (ASSETS / "icons").glob("*.svg")}


@lru_cache(maxsize=256)
def pixmap(name: str, color: str = INK, size: int = 16, ratio: float = 2.0) -> QPixmap:
    """Draw an icon in one colour, ``size`` logical pixels high."""
    text = _icon_texts()[name].replace("currentColor", color)
    drawn = QPixmap(round(size * ratio), round(size * ratio))
    drawn.fill(Qt.GlobalColor.transparent)
    painter = QPainter(drawn)
    QSvgRenderer(QByteArray(text.encode())).render(painter, QRectF(drawn.rect()))
    painter.end()
    drawn.setDevicePixelRatio(ratio)
    return drawn


def icon(name: str, color: str = INK) -> QIcon:
    """Give an icon that turns pale when its button is disabled."""
    result = QIcon(pixmap(name, color))
    result.addPixmap(pixmap(name, PALE), QIcon.Mode.Disabled)
    return result


STYLE = f"""
QToolTip {{ background: {DEEP}; color: {PAPER}; border: 0; padding: 5px 8px; }}
QMainWindow, QDialog, QWidget#panel, QStackedWidget#panel {{ background: {PAPER}; }}
QLabel {{ background: transparent; }}
QLabel[role="title"] {{ font-size: 15px; font-weight: 600; }}
QLabel[role="head"] {{ font-weight: 600; }}
QLabel[role="muted"] {{ color: {MUTED}; font-size: 12px; }}
QLabel[role="value"] {{ font-size: 12px; }}
QLabel[role="warn"] {{ font-size: 12px; color: {INK}; }}
QFrame[role="note"] {{ background: {WASH}; border-radius: 5px; }}
QFrame[role="card"], QWidget[role="card"] {{ background: {CARD}; border: 1px solid {LINE};
  border-radius: 7px; }}
QScrollArea {{ border: 0; background: transparent; }}
QScrollArea > QWidget > QWidget {{ background: transparent; }}
QPushButton {{ background: {CARD}; border: 1px solid {LINE}; border-radius: 5px; padding: 7px 12px;
  min-height: 16px; }}
QPushButton:hover {{ border-color: {MUTED}; }}
QPushButton:pressed {{ background: {GROUND}; }}
QPushButton:focus {{ border: 2px solid {LICHEN}; padding: 6px 11px; }}
QPushButton:disabled {{ color: {FAINT}; background: {PAPER}; }}
QPushButton[role="main"] {{ background: {MOSS}; border: 1px solid {MOSS}; color: white; font-weight: 600; }}
QPushButton[role="main"]:hover {{ background: {HOVER_MOSS}; }}
QPushButton[role="main"]:focus {{ border: 2px solid {LICHEN}; }}
QPushButton[role="main"]:disabled {{ background: {PALE_MOSS}; border-color: {PALE_MOSS}; color: {PAPER}; }}
QPushButton[role="choice"] {{ padding: 5px 10px; text-align: center; }}
QPushButton[role="choice"]:checked {{ background: {PICKED}; border-color: {MOSS}; font-weight: 600; }}
QPushButton[role="list"] {{ text-align: left; padding: 5px 10px; font-weight: 600; }}
QPushButton[role="pick"] {{ text-align: left; padding: 4px 8px; min-height: 18px; font-size: 12px;
  font-weight: 500; }}
QPushButton[role="pick"]:focus {{ padding: 3px 7px; }}
QPushButton[role="fold"] {{ text-align: left; padding: 4px 2px; border: 1px solid transparent; color: {MUTED};
  background: transparent; font-weight: 600; }}
QPushButton[role="fold"]:hover {{ background: {HOVER}; }}
QPushButton[role="fold"]:focus {{ border: 1px solid {LICHEN}; }}
QPushButton[role="plain"], QToolButton {{ background: transparent; border: 1px solid transparent;
  border-radius: 4px; padding: 3px; }}
QPushButton[role="plain"] {{ text-align: left; padding: 4px 6px; }}
QPushButton[role="plain"]:hover, QToolButton:hover {{ background: {HOVER}; }}
QPushButton[role="plain"]:focus, QToolButton:focus {{ border: 1px solid {LICHEN}; }}
QToolButton:checked {{ background: {WASH}; }}
QToolButton::menu-indicator {{ image: none; }}
QLineEdit, QComboBox, QAbstractSpinBox, QPlainTextEdit {{ background: {CARD}; border: 1px solid {LINE};
  border-radius: 5px;
  padding: 4px 7px; min-height: 18px; selection-background-color: {LICHEN}; selection-color: {INK}; }}
QLineEdit:focus, QComboBox:focus, QAbstractSpinBox:focus, QPlainTextEdit:focus {{ border: 2px solid {LICHEN};
  padding: 3px 6px; }}
QLineEdit[role="cell"] {{ border: 1px solid transparent; padding: 1px 3px; min-height: 16px; }}
QLineEdit[role="cell"]:focus {{ border: 1px solid {LICHEN}; padding: 1px 3px; }}
QToolButton[role="cell"] {{ padding: 0; }}
QLineEdit[pale="true"] {{ color: {MUTED}; }}
QLabel[role="badge"] {{ background: {WASH}; border-radius: 8px; font-size: 11px; font-weight: 600;
  padding: 1px 4px; max-height: 16px; }}
QFrame[role="line"] {{ background: {LINE}; }}
QLineEdit[wrong="true"] {{ border: 1px solid {OCHRE}; }}
QAbstractSpinBox::up-button, QAbstractSpinBox::down-button {{ width: 0; border: 0; }}
QComboBox::drop-down {{ border: 0; width: 20px; }}
QComboBox::down-arrow {{ image: url({(ASSETS / "icons" / "caret-down.svg").as_posix()});
  width: 12px; height: 12px; }}
QComboBox QAbstractItemView {{ background: {CARD}; border: 1px solid {LINE};
  selection-background-color: {WASH}; selection-color: {INK}; outline: 0; }}
QCheckBox {{ spacing: 7px; }}
QCheckBox::indicator {{ width: 16px; height: 16px; border: 1px solid {MUTED}; border-radius: 3px;
  background: {CARD}; }}
QCheckBox::indicator:checked {{ background: {MOSS}; border-color: {MOSS};
  image: url({(ASSETS / "icons" / "tick.svg").as_posix()}); }}
QCheckBox::indicator:focus {{ border: 2px solid {LICHEN}; }}
QMenu {{ background: {CARD}; border: 1px solid {LINE}; padding: 4px; }}
QMenu::item {{ padding: 6px 22px 6px 10px; border-radius: 3px; }}
QMenu::item:selected {{ background: {WASH}; }}
QMenu::item:disabled {{ color: {FAINT}; }}
QSlider::groove:horizontal {{ height: 4px; background: {LINE}; border-radius: 2px; }}
QSlider::sub-page:horizontal {{ background: {MOSS}; border-radius: 2px; }}
QSlider::handle:horizontal {{ width: 14px; margin: -6px 0; border-radius: 7px; background: {CARD};
  border: 1px solid {MUTED}; }}
QSlider::handle:horizontal:focus {{ border: 2px solid {LICHEN}; }}
QScrollBar:vertical {{ width: 9px; background: transparent; }}
QScrollBar:horizontal {{ height: 7px; background: transparent; }}
QScrollBar::handle {{ background: {DIM}; border-radius: 3px; min-height: 24px; min-width: 24px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
QListWidget {{ background: {CARD}; border: 1px solid {LINE}; border-radius: 6px; outline: 0; }}
QListWidget::item {{ padding: 6px 8px; }}
QListWidget::item:selected {{ background: {WASH}; color: {INK}; }}
"""
