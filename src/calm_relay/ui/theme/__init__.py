"""Colours by role, the style sheet and the shipped font."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from importlib import resources
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import (
    QBrush,
    QColor,
    QFont,
    QFontDatabase,
    QFontMetricsF,
    QGuiApplication,
    QPalette,
)
from PySide6.QtWidgets import QApplication

FAMILY = "Inter"


@dataclass(frozen=True)
class Theme:
    """Colours by role; hues of quantities are used for those quantities only."""

    name: str
    paper: str
    side: str
    panel: str
    ink: str
    quiet: str
    line: str
    track: str
    accent: str
    accent_ink: str
    within: str
    tight: str
    over: str
    unknown: str
    sun: str
    battery: str
    house: str
    grid: str
    lost: str
    bus: str
    house_text: str
    grid_text: str

    def color(self, role: str) -> QColor:
        """Return the colour of a role."""
        return QColor(getattr(self, role))


LIGHT = Theme(
    name="light",
    paper="#f5f1e8",
    side="#ebe6d9",
    panel="#fbf9f3",
    ink="#1f2a33",
    quiet="#566069",
    line="#d5cdbb",
    track="#e2dccb",
    accent="#1f6b75",
    accent_ink="#ffffff",
    within="#1f6b75",
    tight="#8a5a0b",
    over="#a8381f",
    unknown="#5c5470",
    sun="#c98f2b",
    battery="#4b8c6f",
    house="#4f6f9c",
    grid="#86629a",
    lost="#b8503a",
    bus="#36474f",
    house_text="#3f5d87",
    grid_text="#744f88",
)
DARK = Theme(
    name="dark",
    paper="#1d2226",
    side="#161a1e",
    panel="#24292e",
    ink="#ece7db",
    quiet="#a7adb0",
    line="#3b4248",
    track="#353c42",
    accent="#5fb6bf",
    accent_ink="#0f1416",
    within="#6fc3cb",
    tight="#e0ac55",
    over="#f08c74",
    unknown="#b9aed6",
    sun="#d9a548",
    battery="#62ab8b",
    house="#7d9fd0",
    grid="#b08fc6",
    lost="#e07a63",
    bus="#b9c4c9",
    house_text="#93b2dd",
    grid_text="#c0a3d3",
)


def mixed(low: QColor, high: QColor, part: float) -> QColor:
    """Return a colour between two: 0 is the first, 1 the second."""
    rows = zip((low.redF(), low.greenF(), low.blueF()), (high.redF(), high.greenF(), high.blueF()), strict=True)
    return QColor.fromRgbF(*(a + (b - a) * part for a, b in rows))


def _luminance(color: QColor) -> float:
    """Return relative luminance as in WCAG 2.1 (from memory)."""
    parts = (color.redF(), color.greenF(), color.blueF())
    linear = [p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def contrast(one: QColor, other: QColor) -> float:
    """Return the contrast of two colours, 1 to 21."""
    low, high = sorted((_luminance(one), _luminance(other)))
    return (high + 0.05) / (low + 0.05)


def readable_on(theme: Theme, ground: QColor) -> QColor:
    """Return ink or paper where one has 4.5:1 on a ground, else black or white: one of these always has."""
    ours = max((theme.color("ink"), theme.color("panel")), key=lambda color: contrast(color, ground))
    if contrast(ours, ground) >= 4.5:
        return ours
    return max((QColor("#000000"), QColor("#ffffff")), key=lambda color: contrast(color, ground))


def hatch_brush(color: QColor) -> QBrush:
    """Return the hatch that means 'lost' or 'past its limit', in a colour."""
    return QBrush(color, Qt.BrushStyle.BDiagPattern)


def dot_brush(color: QColor) -> QBrush:
    """Return the dots that mean 'assumed' or 'not known', in a colour."""
    return QBrush(color, Qt.BrushStyle.Dense6Pattern)


VERDICT_ROLE = {"within": "within", "tight": "tight", "over": "over", "not known": "unknown", "note": "quiet"}


def system_theme() -> Theme:
    """Return dark where the system asks for it, else light."""
    hints = QGuiApplication.styleHints()
    return DARK if hints.colorScheme() == Qt.ColorScheme.Dark else LIGHT


def theme_of(choice: str) -> Theme:
    """Return the theme of a choice: light, dark, or what the system asks for."""
    return system_theme() if choice == "system" else DARK if choice == "dark" else LIGHT


def fonts_ready() -> bool:
    """Load the shipped font; returns whether it is there. Call once after the application is made."""
    folder = resources.files("calm_relay.assets").joinpath("fonts")
    ok = True
    for name in ("Inter-Regular.otf", "Inter-SemiBold.otf"):
        ok = QFontDatabase.addApplicationFont(str(Path(str(folder.joinpath(name))))) >= 0 and ok
    return ok


@cache
def ui_font(points: float, *, bold: bool = False) -> QFont:
    """Return the shipped font with tabular figures, unhinted so that pictures are the same everywhere. Not to be changed."""
    font = QFont(FAMILY)
    font.setPointSizeF(points)
    font.setHintingPreference(QFont.HintingPreference.PreferNoHinting)
    font.setFeature(QFont.Tag("tnum"), 1)
    if bold:
        font.setWeight(QFont.Weight.DemiBold)
    return font


@cache
def ui_metrics(points: float, *, bold: bool = False) -> QFontMetricsF:
    """Return the metrics of :func:`ui_font`."""
    return QFontMetricsF(ui_font(points, bold=bold))


def apply_theme(app: QApplication, theme: Theme, text_scale: float = 1.0) -> None:
    """Give the application its palette, font and style sheet; nothing is done where it has them already."""
    if app.property("look") == (theme.name, text_scale):
        return
    app.setProperty("look", (theme.name, text_scale))
    palette = QPalette()
    roles = QPalette.ColorRole
    for role, name in (
        (roles.Window, "paper"), (roles.Base, "panel"), (roles.AlternateBase, "side"), (roles.WindowText, "ink"),
        (roles.Text, "ink"), (roles.ButtonText, "ink"), (roles.Button, "panel"), (roles.Highlight, "accent"),
        (roles.HighlightedText, "accent_ink"), (roles.ToolTipBase, "panel"), (roles.ToolTipText, "ink"),
        (roles.PlaceholderText, "quiet"), (roles.Mid, "line"), (roles.Midlight, "track"), (roles.Dark, "quiet"),
    ):  # fmt: skip
        palette.setColor(role, theme.color(name))
    app.setPalette(palette)
    app.setFont(ui_font(9.75 * text_scale))
    app.setStyleSheet(_sheet(theme, text_scale))


def _icon(name: str, t: Theme) -> str:
    """Return the path of a small picture of the style sheet, in the theme's ink."""
    return Path(str(resources.files("calm_relay.assets").joinpath("icons", f"{name}-{t.name}.svg"))).as_posix()


def _sheet(t: Theme, scale: float) -> str:
    small, head, title = 8.5 * scale, 8.0 * scale, 13.5 * scale
    return f"""
    QWidget {{ color: {t.ink}; font-family: "{FAMILY}"; }}
    QMainWindow, QWidget#page {{ background: {t.paper}; }}
    QWidget#side, QScrollArea#tabs, QWidget#tabs {{ background: {t.side}; }}
    QWidget#headroom, QScrollArea#headroomScroll, QWidget#sheet {{ background: {t.panel}; }}
    QWidget#sheet {{ border-top: 1px solid {t.line}; }}
    QLabel#title {{ font-size: {title}pt; font-weight: 600; }}
    QLabel#heading {{ font-size: {11 * scale}pt; font-weight: 600; }}
    QLabel#head {{ font-size: {head}pt; font-weight: 600; color: {t.quiet}; }}
    QLabel#quiet, QLabel#small {{ color: {t.quiet}; font-size: {small}pt; }}
    QLabel#reason {{ color: {t.over}; font-size: {small}pt; }}
    QLabel#caution {{ color: {t.quiet}; font-size: {small}pt; }}
    QLabel#strong {{ font-weight: 600; }}
    QLineEdit, QComboBox, QSpinBox {{ background: {t.panel}; border: 1px solid {t.line}; padding: 3px 6px; border-radius: 2px;
        selection-background-color: {t.accent}; selection-color: {t.accent_ink}; }}
    QLineEdit:focus, QComboBox:focus {{ border: 2px solid {t.accent}; padding: 2px 5px; }}
    QLineEdit[bad="true"] {{ border: 2px solid {t.over}; padding: 2px 5px; }}
    QComboBox::drop-down {{ border: none; width: 16px; }}
    QComboBox::down-arrow {{ image: url("{_icon("opens", t)}"); width: 9px; height: 6px; }}
    QComboBox QAbstractItemView {{ background: {t.panel}; border: 1px solid {t.line}; }}
    QPushButton {{ background: {t.panel}; border: 1px solid {t.line}; padding: 4px 10px; border-radius: 2px; }}
    QPushButton:hover {{ border-color: {t.accent}; }}
    QPushButton:focus {{ border: 2px solid {t.accent}; padding: 3px 9px; }}
    QPushButton:checked {{ background: {t.accent}; color: {t.accent_ink}; border-color: {t.accent}; }}
    QPushButton:disabled {{ color: {t.quiet}; }}
    QPushButton#card {{ text-align: left; padding: 3px 22px 3px 6px; min-width: 200px; }}
    QPushButton#card:focus {{ padding: 2px 21px 2px 5px; }}
    QPushButton#link {{ background: transparent; border: none; color: {t.accent}; padding: 2px 4px; font-size: {small}pt; }}
    QPushButton#link:focus {{ border: 1px solid {t.accent}; padding: 1px 3px; }}
    QLabel#assumed {{ color: {t.tight}; font-size: {7.75 * scale}pt; }}
    QLabel#teach {{ background: {t.panel}; border-left: 3px solid {t.accent}; padding: 8px 10px; }}
    QLabel#section {{ font-weight: 600; margin-top: 8px; border-top: 1px solid {t.line}; padding-top: 6px; }}
    QLabel#clock {{ font-weight: 600; padding: 5px 4px; }}
    QWidget#strip {{ background: {t.paper}; border-top: 1px solid {t.line}; }}
    QWidget#pins {{ background: {t.panel}; border-bottom: 1px solid {t.line}; }}
    QWidget#cell {{ background: transparent; }}
    QListWidget {{ background: {t.panel}; border: 1px solid {t.line}; }}
    QListWidget::item {{ padding: 3px 6px; }}
    QListWidget::item:selected {{ background: {t.track}; color: {t.ink}; }}
    QListWidget:focus {{ border: 2px solid {t.accent}; }}
    QCheckBox::indicator {{ width: 13px; height: 13px; border: 1px solid {t.quiet}; background: {t.panel}; }}
    QCheckBox::indicator:checked {{ background: {t.accent}; border-color: {t.accent}; image: url("{_icon("tick", t)}"); }}
    QCheckBox:focus {{ color: {t.accent}; }}
    QSlider::groove:horizontal {{ height: 4px; background: {t.track}; }}
    QSlider::handle:horizontal {{ width: 10px; margin: -6px 0; background: {t.accent}; border-radius: 2px; }}
    QSlider:focus {{ border: 1px solid {t.accent}; }}
    QScrollArea {{ border: none; }}
    QTableWidget {{ background: {t.panel}; border: 1px solid {t.line}; gridline-color: {t.line}; }}
    QHeaderView::section {{ background: {t.side}; border: none; border-bottom: 1px solid {t.line}; padding: 5px 4px 5px 8px;
        font-weight: 600; }}
    QTableWidget::item:selected {{ background: {t.track}; color: {t.ink}; }}
    QMenuBar {{ background: {t.side}; }} QMenuBar::item:selected {{ background: {t.track}; }}
    QMenu {{ background: {t.panel}; border: 1px solid {t.line}; }}
    QMenu::item:selected {{ background: {t.accent}; color: {t.accent_ink}; }}
    QStatusBar {{ background: {t.side}; color: {t.quiet}; font-size: {small}pt; }}
    QToolTip {{ background: {t.panel}; color: {t.ink}; border: 1px solid {t.line}; }}
    QScrollBar:vertical {{ background: transparent; width: 8px; }}
    QScrollBar::handle:vertical {{ background: {t.line}; min-height: 24px; }}
    QScrollBar:horizontal {{ background: transparent; height: 8px; }}
    QScrollBar::handle:horizontal {{ background: {t.line}; }}
    QProgressBar {{ background: {t.track}; border: none; }}
    QProgressBar::chunk {{ background: {t.accent}; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    """
