"""Measures a window: what is cut, what lies over what, what has no name for a screen reader."""

from __future__ import annotations

import itertools
from collections.abc import Iterator

from PySide6.QtCore import QPoint, QRect, QRectF, Qt
from PySide6.QtGui import QFontMetricsF
from PySide6.QtWidgets import (
    QAbstractButton,
    QCheckBox,
    QComboBox,
    QLabel,
    QLineEdit,
    QListWidget,
    QPushButton,
    QScrollArea,
    QTableWidget,
    QWidget,
)

from calm_relay.ui.fields.quantity import QuantityField
from calm_relay.ui.views.carpet import CarpetView
from calm_relay.ui.views.charts import Chart
from calm_relay.ui.views.day_view import DayView
from calm_relay.ui.views.direction_map import DirectionMapView
from calm_relay.ui.views.headroom_row import HeadroomRow
from calm_relay.ui.views.horizon_view import HorizonView
from calm_relay.ui.views.ladder_view import LadderView
from calm_relay.ui.views.limit_bars import LimitBars
from calm_relay.ui.views.plan_tabs import PlanTab
from calm_relay.ui.views.relay_view import RelayView
from calm_relay.ui.views.ribbon_view import RibbonView
from calm_relay.ui.views.shade_table import ShadeTableView
from calm_relay.ui.views.work_order import OrderButton
from calm_relay.ui.widgets import Swatch
from tests.test_relay import check_picture

SLACK = 1.5
LEAVES = (
    QLabel,
    QAbstractButton,
    QLineEdit,
    QComboBox,
    QListWidget,
    QTableWidget,
    RelayView,
    CarpetView,
    DayView,
    RibbonView,
    LadderView,
    Chart,
    Swatch,
    HorizonView,
    ShadeTableView,
    DirectionMapView,
    LimitBars,
)
CUSTOM = (RelayView, CarpetView, DayView, RibbonView, LadderView, Chart)
PAINTED = (HorizonView, ShadeTableView, DirectionMapView, LimitBars)


def shown(window: QWidget) -> Iterator[QWidget]:
    for widget in window.findChildren(QWidget):
        if widget.isVisibleTo(window) and widget.width() > 0 and widget.height() > 0:
            yield widget


def name_of(widget: QWidget) -> str:
    text = widget.text() if isinstance(widget, QLabel | QAbstractButton | QLineEdit) else widget.accessibleName()
    return f"{type(widget).__name__} '{text[:50]}'"


def text_width(widget: QWidget, text: str) -> float:
    metrics = QFontMetricsF(widget.font())
    return max(metrics.horizontalAdvance(line) for line in text.split("\n"))


def cut(widget: QWidget) -> str:
    """Return why a widget's text is cut, or nothing."""
    if isinstance(widget, QLabel):
        if widget.wordWrap():
            need = widget.heightForWidth(widget.width())
            return f"needs {need} px of height, has {widget.height()}" if need > widget.height() + SLACK else ""
        need = widget.sizeHint().width()
        return f"needs {need} px, has {widget.width()}" if need > widget.width() + SLACK else ""
    if isinstance(widget, PlanTab | OrderButton | QPushButton | QCheckBox | Swatch):
        need = widget.sizeHint()
        small = need.width() > widget.width() + SLACK or need.height() > widget.height() + SLACK
        return f"needs {need.width()}×{need.height()}, has {widget.width()}×{widget.height()}" if small else ""
    if isinstance(widget, QuantityField):
        need = text_width(widget, widget.text() or widget.placeholderText()) + 16
        return f"needs {need:.0f} px, has {widget.width()}" if need > widget.width() + SLACK else ""
    if isinstance(widget, QComboBox):
        need = text_width(widget, widget.currentText()) + 26
        return f"needs {need:.0f} px, has {widget.width()}" if need > widget.width() + SLACK and not widget.toolTip() else ""
    if isinstance(widget, QTableWidget):
        return cut_table(widget)
    if isinstance(widget, QListWidget):
        for row in range(widget.count()):
            need = widget.sizeHintForIndex(widget.indexFromItem(widget.item(row))).height()
            if need > widget.visualItemRect(widget.item(row)).height() + SLACK:
                return f"row {row} is cut"
    if isinstance(widget, HeadroomRow):
        at = widget.places(widget.width())
        inside = all(rect.right() <= widget.width() + SLACK and rect.bottom() <= widget.height() + SLACK for rect in at.values())
        crossing = overlapping([(n, r) for n, r in at.items() if n != "all"])
        return crossing or ("" if inside else "its parts leave the row")
    return cut_view(widget)


def cut_table(table: QTableWidget) -> str:
    for row, column in itertools.product(range(table.rowCount()), range(table.columnCount())):
        item = table.item(row, column)
        if item is not None and text_width(table, item.text()) + 6 > table.columnWidth(column) + SLACK:
            return f"cell '{item.text()}' needs more than {table.columnWidth(column)} px"
    header = table.horizontalHeader()
    for column in range(table.columnCount()):
        text = str(table.model().headerData(column, Qt.Orientation.Horizontal))
        room = QRect(0, 0, table.columnWidth(column) - 12, 10_000)
        need = header.fontMetrics().boundingRect(room, Qt.TextFlag.TextWordWrap | Qt.AlignmentFlag.AlignRight, text)
        if need.height() > header.height() + SLACK or need.width() > room.width() + SLACK:
            return f"header '{text}' does not fit"
    return ""


def overlapping(places: list[tuple[str, QRectF]]) -> str:
    for (one, a), (other, b) in itertools.combinations(places, 2):
        if a.adjusted(0.5, 0.5, -0.5, -0.5).intersects(b.adjusted(0.5, 0.5, -0.5, -0.5)):
            return f"'{one}' touches '{other}'"
    return ""


def cut_view(widget: QWidget) -> str:
    """Look into the views that paint their own labels."""
    if isinstance(widget, RelayView) and widget.picture is not None:
        try:
            check_picture(widget.picture, "relay line")
        except AssertionError as error:
            return str(error).splitlines()[0]
    places: list[tuple[str, QRectF]] = []
    if isinstance(widget, CarpetView | DayView):
        places = [(text, rect) for rect, text, _ in widget.tick_labels()]
    if isinstance(widget, DayView):
        places += [(text, rect) for rect, text, _ in widget.legend_labels()]
    if isinstance(widget, RibbonView):
        places = [(text, rect) for rect, text, _, _ in widget.labels()]
    if isinstance(widget, LadderView):
        places = [(text, rect) for rect, text, _, _ in widget.labels()]
    if isinstance(widget, PAINTED):
        places = [(text, rect) for rect, text, _ in widget.labels()]
    outside = [
        text for text, r in places if r.x() < -SLACK or r.right() > widget.width() + 6 or r.bottom() > widget.height() + SLACK
    ]
    return overlapping(places) or (f"'{outside[0]}' leaves the view" if outside else "")


def clipped(widget: QWidget, window: QWidget) -> str:
    """Return what clips a widget, up to the next scroll area; scrolled-away is not cut."""
    rect, here = QRect(QPoint(0, 0), widget.size()), widget
    while here is not window:
        parent = here.parentWidget()
        if parent is None:
            return ""
        area = parent.parentWidget()
        if isinstance(area, QScrollArea) and area.viewport() is parent:
            return ""
        rect = rect.translated(here.pos())
        if not parent.rect().adjusted(-2, -2, 2, 2).contains(rect):
            return f"leaves {type(parent).__name__} {parent.objectName()}: {rect.getRect()} in {parent.rect().getRect()}"
        here = parent
    return ""


def faults(window: QWidget) -> list[str]:
    """Return everything that is cut, clipped or lies over something else."""
    out = []
    leaves = [w for w in shown(window) if isinstance(w, LEAVES) and w.objectName() != "qt_spinbox_lineedit"]
    leaves = [w for w in leaves if not isinstance(w.parentWidget(), QComboBox) and "qt_" not in w.objectName()]
    leaves = [w for w in leaves if not any(isinstance(w.parentWidget(), kind) for kind in (QTableWidget, *CUSTOM))]
    for widget in leaves:
        why = cut(widget) or clipped(widget, window)
        if why:
            out.append(f"{name_of(widget)}: {why}")
    for parent in {w.parentWidget() for w in leaves}:
        inside = [w for w in leaves if w.parentWidget() is parent]
        for one, other in itertools.combinations(inside, 2):
            both = one.geometry().intersected(other.geometry())
            if both.width() > 1 and both.height() > 1:
                out.append(f"{name_of(one)} lies over {name_of(other)}")
    return out


def unnamed(window: QWidget) -> list[str]:
    """Return inputs and custom views that a screen reader would have no name for."""
    kinds = (QLineEdit, QComboBox, QCheckBox, QAbstractButton, QListWidget, QTableWidget, *CUSTOM)
    out = []
    for widget in shown(window):
        if (
            not isinstance(widget, kinds)
            or "qt_" in widget.objectName()
            or isinstance(widget.parentWidget(), QComboBox | QTableWidget)
        ):
            continue
        text = widget.text() if isinstance(widget, QAbstractButton) else ""
        if not widget.accessibleName() and not text:
            out.append(f"{type(widget).__name__} {widget.objectName()} in {type(widget.parentWidget()).__name__}")
    return out
