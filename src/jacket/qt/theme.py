"""Palette, fonts and the style sheet, by day and by night."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from PySide6.QtGui import QColor, QFont, QFontDatabase
from PySide6.QtWidgets import QApplication

ASSETS = Path(__file__).resolve().parent.parent / "assets"

# Tints of islands: quiet, apart from one another, none of them a signal colour.
ISLAND_TINTS = (
    "#bfd8c8", "#cdc5de", "#e2cbb8", "#c2d5e2", "#dcd6ae", "#e2c2c8", "#b8d6d4", "#d6cfc4", "#cbdcb2", "#c6c9e4",
    "#e3d3c8", "#b9cfc0",
)  # fmt: skip


@dataclass(frozen=True)
class Palette:
    """Colours by what they are for."""

    panel: str
    bar: str
    card: str
    ink: str
    soft: str
    rule: str
    accent: str
    on_accent: str
    good: str
    look: str
    chosen: str
    form_ground: str
    flat_ground: str
    sheet: str
    grid: str
    source: str
    jacket: str
    wire: str
    held: str = "#b8297f"
    stitch_dark: str = "#2b2118"
    stitch: str = "#e3a712"
    squeezed: str = "#6a4c9c"
    stretched: str = "#2f7d4f"
    paper: str = "#f3ede0"


DAY = Palette(
    panel="#eae5da", bar="#f4f0e8", card="#fbf9f4", ink="#23272e", soft="#5b616b", rule="#cfc8b8",
    accent="#7c2d3a", on_accent="#fbf9f4", good="#3f6b4f", look="#e3a712", chosen="#efe0cd",
    form_ground="#707b84", flat_ground="#d9cfb8", sheet="#e9e1ce", grid="#cbbf9f",
    source="#ccc2b0", jacket="#bcdccd", wire="#23272e",
)  # fmt: skip

NIGHT = Palette(
    panel="#26282c", bar="#2e3136", card="#33363c", ink="#ece6da", soft="#b0aca2", rule="#4a4d54",
    accent="#a34a58", on_accent="#fbf9f4", good="#7fb493", look="#e3a712", chosen="#4a3f3a",
    form_ground="#3b4147", flat_ground="#3a372f", sheet="#4a463b", grid="#5d5849",
    source="#a59c8c", jacket="#9cc4b2", wire="#15181c", paper="#d8d2c4",
)  # fmt: skip


def rgb(colour: str, alpha: float = 1.0) -> tuple[float, float, float, float]:
    """A colour as floats for drawing."""
    c = QColor(colour)
    return c.redF(), c.greenF(), c.blueF(), alpha


def load_fonts(app: QApplication) -> None:
    """Use the fonts that ship with Jacket."""
    for file in sorted((ASSETS / "fonts").glob("*.ttf")):
        QFontDatabase.addApplicationFont(str(file))
    font = QFont("DejaVu Sans")
    font.setPixelSize(11)
    app.setFont(font)


def font(size: int = 11, bold: bool = False, serif: bool = False) -> QFont:
    """A font of the interface by pixel size."""
    out = QFont("DejaVu Serif" if serif else "DejaVu Sans")
    out.setPixelSize(size)
    out.setBold(bold)
    return out


def style_sheet(p: Palette) -> str:
    """The style sheet of the whole window."""
    return f"""
* {{ color: {p.ink}; font-family: 'DejaVu Sans'; font-size: 11px; outline: none; }}
QMainWindow, QWidget#panel, QWidget#rail {{ background: {p.panel}; }}
QWidget#top, QWidget#strip {{ background: {p.bar}; }}
QWidget#top {{ border-bottom: 1px solid {p.rule}; }}
QWidget#strip {{ border-top: 1px solid {p.rule}; }}
QWidget#plain {{ background: transparent; }}
QLabel#brand {{ color: {p.accent}; font-family: 'DejaVu Serif'; font-size: 21px; font-weight: bold; }}
QLabel#soft, QLabel#hint, QLabel#status {{ color: {p.soft}; }}
QLabel#gesture, QLabel#wrong {{ color: {p.accent}; }}
QLabel#title {{ font-weight: bold; font-size: 12px; }}
QFrame#card {{ background: {p.card}; border: 1px solid {p.rule}; }}
QPushButton {{ background: {p.card}; border: 1px solid {p.rule}; padding: 4px 9px; }}
QPushButton:hover {{ border-color: {p.soft}; }}
QDialogButtonBox {{ dialogbuttonbox-buttons-have-icons: 0; }}
QPushButton:focus, QLineEdit:focus, QComboBox:focus, QSpinBox:focus, QDoubleSpinBox:focus {{ border: 1px solid {p.accent}; }}
QPushButton:disabled {{ color: {p.soft}; background: {p.panel}; }}
QPushButton#main {{ background: {p.accent}; color: {p.on_accent}; border: none; padding: 6px 9px; font-weight: bold; }}
QPushButton#main:hover {{ background: {QColor(p.accent).lighter(115).name()}; }}
QPushButton#main:disabled {{ background: {p.rule}; color: {p.soft}; }}
QPushButton#row {{ text-align: left; border: none; background: transparent; padding: 5px 6px; }}
QPushButton#chosen {{ text-align: left; border: none; border-left: 3px solid {p.accent}; background: {p.chosen};
  padding: 5px 3px; }}
QPushButton#row:hover {{ background: {p.chosen}; }}
QPushButton#chip {{ padding: 3px 9px; background: {p.sheet}; border: 1px solid {p.soft}; color: {p.soft}; }}
QPushButton#chip:checked {{ background: {p.card}; color: {p.ink}; border: 1px solid {p.ink}; }}
QPushButton#small {{ padding: 3px 2px; }}
QPushButton#picture {{ padding: 0; border: 1px solid transparent; background: transparent; }}
QPushButton#picture:hover {{ border: 1px solid {p.soft}; background: {p.chosen}; }}
QPushButton#picture:focus {{ border: 1px solid {p.accent}; }}
QPushButton#tab {{ border: 1px solid {p.soft}; border-bottom: none; padding: 3px 9px; background: {p.sheet}; color: {p.soft}; }}
QPushButton#tab:checked {{ background: {p.card}; color: {p.ink}; border-color: {p.ink}; }}
QPushButton#edge {{ border: none; border-left: 1px solid {p.rule}; background: {p.bar}; color: {p.soft}; padding: 0; }}
QPushButton#edge:hover {{ background: {p.chosen}; color: {p.ink}; }}
QPushButton#link {{ border: none; background: transparent; color: {p.accent}; padding: 2px 4px; text-align: left; }}
QPushButton#link:hover {{ text-decoration: underline; }}
QPushButton#link:disabled {{ color: {p.soft}; }}
QToolTip {{ background: {p.ink}; color: {p.card}; border: none; padding: 4px; }}
QSlider::groove:horizontal {{ height: 3px; background: {p.rule}; }}
QSlider::sub-page:horizontal {{ background: {p.accent}; }}
QSlider::handle:horizontal {{ width: 5px; background: {p.ink}; margin: -4px 0; }}
QLineEdit, QSpinBox, QDoubleSpinBox, QComboBox {{ background: {p.card}; border: 1px solid {p.rule}; padding: 3px 5px;
  selection-background-color: {p.accent}; selection-color: {p.on_accent}; }}
QSpinBox::up-button, QSpinBox::down-button, QDoubleSpinBox::up-button, QDoubleSpinBox::down-button {{ width: 0; }}
QComboBox::drop-down {{ border: none; width: 14px; }}
QCheckBox::indicator {{ width: 11px; height: 11px; border: 1px solid {p.soft}; background: {p.card}; }}
QCheckBox::indicator:checked {{ background: {p.accent}; }}
QMenu {{ background: {p.card}; border: 1px solid {p.rule}; padding: 4px; }}
QMenu::item {{ padding: 5px 16px; }}
QMenu::item:selected {{ background: {p.chosen}; }}
QMenu::item:disabled {{ color: {p.soft}; }}
QListWidget {{ background: {p.card}; border: none; }}
QListWidget::item {{ padding: 5px 8px; }}
QListWidget::item:selected {{ background: {p.chosen}; color: {p.ink}; }}
QScrollArea, QScrollArea > QWidget > QWidget {{ background: transparent; border: none; }}
QScrollBar:vertical {{ background: transparent; width: 7px; }}
QScrollBar::handle:vertical {{ background: {p.rule}; min-height: 30px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; }}
QSplitter::handle {{ background: {p.rule}; }}
QProgressBar {{ background: {p.rule}; border: none; height: 4px; }}
QProgressBar::chunk {{ background: {p.accent}; }}
QMessageBox, QDialog {{ background: {p.bar}; }}
"""
