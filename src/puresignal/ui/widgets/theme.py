"""Colours by role, and the typeface. Views ask for a role, never for a colour."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from PySide6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PySide6.QtWidgets import QApplication


@dataclass(frozen=True)
class Theme:
    """Colours by role, as #rrggbb.

    paper   background               sheet   behind drawings and lists
    ink     text                     faint   secondary text
    line    hair lines               edge    frames of controls
    accent  live, recording or urgent; on_accent: text on it
    chosen  behind selections        shade   alternate bars, table heads
    families  a colour for each family of drums, distinguishable for colour-blind eyes
    """

    name: str
    paper: str
    sheet: str
    shade: str
    ink: str
    faint: str
    line: str
    edge: str
    accent: str
    on_accent: str
    chosen: str
    families: dict[str, str]

    def colour(self, role: str) -> QColor:
        return QColor(_parsed(getattr(self, role)))

    def family(self, name: str) -> QColor:
        return QColor(_parsed(self.families.get(name, self.families["other"])))


@lru_cache(maxsize=256)
def _parsed(text: str) -> QColor:
    return QColor(text)


LIGHT = Theme(
    name="light",
    paper="#f3ecdf",
    sheet="#fdfaf3",
    shade="#f6f0e4",
    ink="#29241d",
    faint="#675d4e",
    line="#dfd5c3",
    edge="#887c68",
    accent="#c02636",
    on_accent="#ffffff",
    chosen="#ece2cc",
    families={
        "kick": "#24508f",
        "snare": "#9c4705",
        "hat": "#00695f",
        "tom": "#7d3a98",
        "cymbal": "#7a6300",
        "percussion": "#4f6420",
        "other": "#5d564b",
    },
)

DIM = Theme(
    name="dim",
    paper="#1d1a16",
    sheet="#25211c",
    shade="#2b2721",
    ink="#ece4d5",
    faint="#b9ae9b",
    line="#3a342c",
    edge="#857a68",
    accent="#ff6b6b",
    on_accent="#24100f",
    chosen="#393226",
    families={
        "kick": "#86b3f5",
        "snare": "#f0a05a",
        "hat": "#4fc9b8",
        "tom": "#cf9be6",
        "cymbal": "#d8c04a",
        "percussion": "#a8c46a",
        "other": "#b3a997",
    },
)

THEMES = {theme.name: theme for theme in (LIGHT, DIM)}
FAMILY = "Lato"
_ASSETS = Path(__file__).parent.parent / "assets"
_current = LIGHT


def current() -> Theme:
    """The theme in use."""
    return _current


def load_fonts() -> None:
    """Register the shipped typeface."""
    for entry in sorted((_ASSETS / "fonts").glob("*.ttf")):
        QFontDatabase.addApplicationFont(str(entry))


USUAL_POINTS = 9.0, 11.0
"""Sizes of the system's font at which ours are as designed: desktops differ that much without meaning it."""
_scale = 1.0


def follow_system_font(points: float) -> None:
    """Scale every size by the system's font size, so that those who read larger text get it here too."""
    global _scale
    smallest, largest = USUAL_POINTS
    nearest = min(max(points, smallest), largest)
    _scale = min(2.0, max(0.75, points / nearest)) if points > 0 else 1.0
    _font.cache_clear()


@lru_cache(maxsize=64)
def _font(size: float, weight: QFont.Weight) -> QFont:
    made = QFont(FAMILY)
    made.setPointSizeF(size * _scale)
    made.setWeight(weight)
    made.setFeature(QFont.Tag("tnum"), 1)
    return made


def font(size: float = 10.0, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
    """The typeface at a point size, with tabular figures."""
    return QFont(_font(size, weight))


def apply(app: QApplication, theme: Theme) -> None:
    """Apply a theme to the whole program."""
    global _current
    _current = theme
    app.setStyle("Fusion")
    app.setFont(font())
    palette = QPalette()
    roles = QPalette.ColorRole
    for role, colour in (
        (roles.Window, theme.paper),
        (roles.Base, theme.sheet),
        (roles.AlternateBase, theme.shade),
        (roles.Button, theme.sheet),
        (roles.WindowText, theme.ink),
        (roles.Text, theme.ink),
        (roles.ButtonText, theme.ink),
        (roles.ToolTipBase, theme.ink),
        (roles.ToolTipText, theme.sheet),
        (roles.Highlight, theme.chosen),
        (roles.HighlightedText, theme.ink),
        (roles.PlaceholderText, theme.faint),
        (roles.Mid, theme.line),
        (roles.Accent, theme.ink),
        (roles.Light, theme.sheet),
        (roles.Dark, theme.edge),
        (roles.Shadow, theme.edge),
    ):
        palette.setColor(role, QColor(colour))
    for role in (roles.WindowText, roles.Text, roles.ButtonText):
        palette.setColor(QPalette.ColorGroup.Disabled, role, QColor(theme.faint))
    app.setPalette(palette)
    app.setStyleSheet(_scaled(_sheet(theme)))


def _scaled(sheet: str) -> str:
    """A style sheet with its font sizes scaled like all others."""
    pattern = r"font-size: ([\d.]+)pt"  # not shown
    return re.sub(pattern, lambda found: f"font-size: {float(found.group(1)) * _scale:g}pt", sheet)  # not shown


def _sheet(t: Theme) -> str:
    check, down, up = ((_ASSETS / "icons" / f"{name}-{t.name}.svg").as_posix() for name in ("check", "down", "up"))
    return f"""
    * {{ font-family: "{FAMILY}"; }}
    QToolTip {{ color: {t.sheet}; background: {t.ink}; border: none; padding: 5px 8px; }}
    QWidget#header {{ background: {t.sheet}; border-bottom: 1px solid {t.line}; }}
    QWidget#rail {{ background: {t.paper}; border-right: 1px solid {t.line}; }}
    QScrollArea#side {{ border-left: 1px solid {t.line}; background: {t.paper}; }}
    QFrame#stage {{ background: transparent; border: none; border-top: 1px solid {t.line}; }}
    QLabel#stageName, QCheckBox#stageName {{ font-weight: 600; }}
    QWidget#strip {{ background: {t.sheet}; border-top: 1px solid {t.line}; }}
    QWidget#bar {{ background: {t.paper}; border-bottom: 1px solid {t.line}; }}
    QLabel#title {{ font-size: 15pt; font-weight: 700; }}
    QLabel#sessionName {{ font-size: 12pt; font-weight: 700; }}
    QLabel#section {{ color: {t.faint}; font-size: 8.5pt; font-weight: 700; letter-spacing: 1px; padding-top: 2px; }}
    QLabel#faint {{ color: {t.faint}; }}
    QLabel#figure {{ font-size: 13pt; font-weight: 600; }}
    QPushButton {{ background: {t.sheet}; border: 1px solid {t.edge}; border-radius: 4px; padding: 5px 12px; }}
    QPushButton:hover {{ background: {t.shade}; border-color: {t.ink}; }}
    QPushButton:pressed, QPushButton:checked {{ background: {t.ink}; color: {t.sheet}; border-color: {t.ink}; }}
    QPushButton:focus {{ border: 2px solid {t.ink}; padding: 4px 11px; }}
    QPushButton:disabled {{ color: {t.faint}; border-color: {t.line}; }}
    QPushButton#main {{ background: {t.ink}; color: {t.sheet}; border-color: {t.ink}; font-weight: 600; }}
    QPushButton#main:hover {{ background: {t.faint}; }}
    QPushButton#main:focus {{ border: 2px solid {t.accent}; }}
    QPushButton#record:checked {{ background: {t.accent}; border-color: {t.accent}; }}
    QPushButton#pass {{ padding: 0px 4px; min-width: 14px; font-size: 9pt; border-radius: 3px; }}
    QPushButton#pass:checked {{ background: {t.ink}; color: {t.sheet}; }}
    QPushButton#small {{ padding: 1px 6px; min-width: 10px; }}
    QPushButton#view {{ background: transparent; border: none; border-bottom: 3px solid transparent; border-radius: 0;
        padding: 12px 14px 9px 14px; font-size: 10.5pt; color: {t.faint}; }}
    QPushButton#view:hover {{ color: {t.ink}; }}
    QPushButton#view:checked {{ color: {t.ink}; font-weight: 700; border-bottom: 3px solid {t.ink}; }}
    QPushButton#view:focus {{ background: {t.chosen}; }}
    QPushButton#tally {{ background: transparent; border: 1px solid transparent; border-radius: 4px;
        padding: 3px 8px; font-size: 11pt; }}
    QPushButton#tally:hover {{ border-color: {t.edge}; }}
    QPushButton#tally:checked {{ background: {t.chosen}; color: {t.ink}; border-color: {t.edge}; }}
    QPushButton#tally:focus {{ border: 2px solid {t.ink}; padding: 2px 7px; }}
    QPushButton#card {{ text-align: left; background: {t.sheet}; border: 1px solid {t.edge}; border-radius: 6px; }}
    QPushButton#card:hover {{ border-color: {t.ink}; }}
    QPushButton#card:checked {{ background: {t.sheet}; color: {t.ink}; border: 2px solid {t.ink}; }}
    QPushButton#card:focus {{ border: 2px solid {t.accent}; }}
    QLineEdit {{ background: {t.sheet}; border: 1px solid {t.edge}; border-radius: 4px; padding: 4px 8px;
        selection-background-color: {t.ink}; selection-color: {t.sheet}; }}
    QLineEdit:focus {{ border: 2px solid {t.ink}; padding: 3px 7px; }}
    QTableView QLineEdit {{ border-radius: 0; padding: 0 4px; }}
    QComboBox, QAbstractSpinBox {{ background: {t.sheet}; border: 1px solid {t.edge}; border-radius: 4px;
        padding: 2px 2px 2px 5px; selection-background-color: {t.ink}; selection-color: {t.sheet}; }}
    QComboBox:focus, QAbstractSpinBox:focus {{ border: 2px solid {t.ink}; padding: 1px 1px 1px 4px; }}
    QComboBox:disabled, QAbstractSpinBox:disabled {{ color: {t.faint}; border-color: {t.line}; }}
    QComboBox::drop-down {{ border: none; width: 14px; }}
    QComboBox::down-arrow {{ image: url("{down}"); width: 11px; height: 11px; }}
    QAbstractSpinBox::up-button, QAbstractSpinBox::down-button {{ border: none; width: 16px; background: transparent; }}
    QAbstractSpinBox::up-arrow {{ image: url("{up}"); width: 9px; height: 9px; }}
    QAbstractSpinBox::down-arrow {{ image: url("{down}"); width: 9px; height: 9px; }}
    QComboBox QAbstractItemView {{ background: {t.sheet}; border: 1px solid {t.edge}; outline: none;
        selection-background-color: {t.chosen}; selection-color: {t.ink}; }}
    QCheckBox {{ spacing: 8px; padding: 2px; }}
    QSlider::groove:horizontal {{ height: 4px; background: {t.edge}; border-radius: 2px; }}
    QSlider::sub-page:horizontal {{ background: {t.faint}; border-radius: 2px; }}
    QSlider::handle:horizontal {{ width: 13px; margin: -5px 0; border-radius: 6px; background: {t.ink}; }}
    QSlider::handle:horizontal:focus {{ background: {t.accent}; }}
    QSlider::handle:horizontal:disabled {{ background: {t.line}; }}
    QSlider:focus {{ background: {t.chosen}; }}
    QCheckBox::indicator, QTableView::indicator {{ width: 14px; height: 14px; border: 1px solid {t.edge};
        border-radius: 3px; background: {t.sheet}; }}
    QCheckBox::indicator:checked, QTableView::indicator:checked {{ background: {t.ink}; border-color: {t.ink};
        image: url("{check}"); }}
    QCheckBox:focus {{ background: {t.chosen}; }}
    QTableView, QTreeView, QListView {{ background: {t.sheet}; border: 1px solid {t.edge};
        selection-background-color: {t.chosen}; selection-color: {t.ink}; outline: none; gridline-color: {t.line}; }}
    QTableView::item {{ padding: 0 8px; }}
    QListWidget::item {{ padding: 4px 6px; color: {t.ink}; }}
    QListWidget::item:selected {{ background: {t.chosen}; }}
    QListWidget::item:disabled {{ color: {t.faint}; }}
    QTableView:focus {{ border: 1px solid {t.ink}; }}
    QHeaderView::section {{ background: {t.shade}; color: {t.faint}; border: none;
        border-bottom: 1px solid {t.line}; padding: 6px 11px; font-size: 9pt; font-weight: 600; }}
    QMenuBar {{ background: {t.sheet}; padding: 2px 6px; }}
    QMenuBar::item {{ padding: 4px 9px; background: transparent; border-radius: 3px; }}
    QMenuBar::item:selected {{ background: {t.chosen}; }}
    QMenu {{ background: {t.sheet}; border: 1px solid {t.edge}; padding: 4px; }}
    QMenu::item {{ padding: 5px 24px 5px 12px; border-radius: 3px; }}
    QMenu::item:selected {{ background: {t.chosen}; color: {t.ink}; }}
    QMenu::item:disabled {{ color: {t.faint}; }}
    QMenu::separator {{ height: 1px; background: {t.line}; margin: 4px 6px; }}
    QFrame#notice {{ background: {t.chosen}; border-left: 4px solid {t.edge}; }}
    QFrame#problem {{ background: {t.chosen}; border-left: 4px solid {t.accent}; }}
    QFrame#panel {{ background: {t.sheet}; border: 1px solid {t.line}; border-radius: 6px; }}
    QTabWidget::pane {{ border: none; border-top: 1px solid {t.line}; }}
    QTabBar::tab {{ background: transparent; color: {t.faint}; padding: 6px 12px;
        border-bottom: 2px solid transparent; }}
    QTabBar::tab:selected {{ color: {t.ink}; border-bottom: 2px solid {t.ink}; font-weight: 600; }}
    QTabBar::tab:focus {{ background: {t.chosen}; }}
    QScrollBar:vertical {{ background: {t.paper}; width: 12px; margin: 0; }}
    QScrollBar:horizontal {{ background: {t.paper}; height: 12px; margin: 0; }}
    QScrollBar::handle {{ background: {t.edge}; border-radius: 4px; margin: 2px; min-width: 30px; min-height: 30px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
    """
