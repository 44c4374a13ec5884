"""Plans side by side in a table: a column a plan; in each cell a figure, a thin bar of its size, its spread where one is known."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QPoint, QPointF, QRect, QRectF, Qt, Signal
from PySide6.QtGui import QFontMetrics, QPainter, QPen, QResizeEvent
from PySide6.QtWidgets import (
    QHeaderView,
    QMenu,
    QSizePolicy,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableWidget,
    QTableWidgetItem,
    QWidget,
)

from calm_relay.ui.copying import fill_menu
from calm_relay.ui.theme import Theme, ui_font

BAR = Qt.ItemDataRole.UserRole
TONE = Qt.ItemDataRole.UserRole + 1
SPREAD = Qt.ItemDataRole.UserRole + 2


@dataclass(frozen=True)
class Cell:
    """A figure as text; `bar` is its size, `spread` from where to where it may lie, both as shares of the row. [0 to 1]"""

    text: str
    bar: float | None = None
    tone: str = ""
    spread: tuple[float, float] | None = None
    color: str = ""
    tip: str = ""


@dataclass(frozen=True)
class Row:
    """A line of the table; `head` stands above the lines that belong to it."""

    text: str
    cells: tuple[Cell, ...]
    head: bool = False
    tip: str = ""


class _Bars(QStyledItemDelegate):
    """Draws the bar under a figure, and its spread as a line with ends."""

    def __init__(self, table: PlanTable) -> None:
        super().__init__(table)
        self._table = table

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> None:
        super().paint(painter, option, index)
        share, spread = index.data(BAR), index.data(SPREAD)
        if share is None and spread is None:
            return
        theme = self._table.theme
        rect = QRectF(option.rect).adjusted(8, 0, -4, -1)
        bar = QRectF(rect.x(), rect.bottom() - 3, rect.width(), 3)
        if share is not None:
            painter.fillRect(bar, theme.color("track"))
            color = theme.color(index.data(TONE) or "quiet")
            painter.fillRect(QRectF(bar.x(), bar.y(), bar.width() * float(share), bar.height()), color)
        if spread is not None:
            low, high = (bar.x() + bar.width() * float(at) for at in spread)
            y = bar.center().y()
            painter.setPen(QPen(theme.color("ink"), 1.2))
            painter.drawLine(QPointF(low, y), QPointF(high, y))
            for x in (low, high):
                painter.drawLine(QPointF(x, y - 3), QPointF(x, y + 3))


class PlanTable(QTableWidget):
    """As tall as its rows, so that the page scrolls and not the table; nothing in it is typed. `told` says how the chosen cell
    comes about, for keys as the tip does for the mouse."""

    told = Signal(str)

    def __init__(self, name: str, theme: Theme, scale: float, parent: QWidget | None = None, *, least_chars: int = 11) -> None:
        super().__init__(parent)
        self._least_chars = least_chars
        self.theme, self._scale = theme, scale
        self.setObjectName("comparison")
        self.setAccessibleName(name)
        self.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.setItemDelegate(_Bars(self))
        self.setShowGrid(False)
        self.setTabKeyNavigation(False)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.customContextMenuRequested.connect(self._menu)
        self.verticalHeader().hide()
        self.currentCellChanged.connect(lambda row, column, *_: self._tell(row, column))

    def _tell(self, row: int, column: int) -> None:
        item, name = self.item(row, column), self.item(row, 0)
        if item is None or name is None:
            self.told.emit("")
            return
        head = self.horizontalHeaderItem(column)
        letter = "" if head is None else head.text().split("\n")[0]
        where = ", ".join(part for part in (name.text().strip(), letter) if part)
        tip = item.toolTip() or name.toolTip()
        self.told.emit(f"{where}: {item.text()}" + (f" · {tip}" if tip else "") if column else f"{where}. {tip}")

    def show_rows(self, heads: Sequence[str], rows: Sequence[Row]) -> None:
        """Show a column for each of `heads`, and these rows."""
        self.clear()
        self.setColumnCount(len(heads) + 1)
        self.setRowCount(len(rows))
        self.setHorizontalHeaderLabels(["", *heads])
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        for i, row in enumerate(rows):
            item = QTableWidgetItem(row.text)
            item.setToolTip(row.tip)
            if row.head:
                item.setFont(ui_font(9.75 * self._scale, bold=True))
            self.setItem(i, 0, item)
            for column, cell in enumerate(row.cells, start=1):
                item = QTableWidgetItem(cell.text)
                item.setTextAlignment(right)
                item.setToolTip(cell.tip)
                if row.head:
                    item.setFont(ui_font(9.75 * self._scale, bold=True))
                if cell.color:
                    item.setForeground(self.theme.color(cell.color))
                if cell.bar is not None:
                    item.setData(BAR, min(1.0, max(0.0, cell.bar)))
                    item.setData(TONE, cell.tone)
                if cell.spread is not None:
                    item.setData(SPREAD, tuple(min(1.0, max(0.0, at)) for at in cell.spread))
                self.setItem(i, column, item)
        header = self.horizontalHeader()
        header.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.ResizeToContents)
        wrap = Qt.AlignmentFlag(Qt.TextFlag.TextWordWrap)
        header.setDefaultAlignment(right | wrap)
        header.setMinimumSectionSize(int(self.fontMetrics().averageCharWidth() * self._least_chars))
        self.clearSelection()
        self.setCurrentCell(-1, -1)
        self._fit()

    def _fit(self) -> None:
        """Make the heads as tall as their words, the table as tall as its rows."""
        header = self.horizontalHeader()
        tall = 0
        for column in range(self.columnCount()):
            text = str(self.model().headerData(column, Qt.Orientation.Horizontal) or "")
            cell = QRect(0, 0, max(20, header.sectionSize(column) - 14), 10_000)
            flags = Qt.TextFlag.TextWordWrap | Qt.AlignmentFlag.AlignRight
            tall = max(tall, QFontMetrics(ui_font(9.75 * self._scale, bold=True)).boundingRect(cell, flags, text).height())
        header.setFixedHeight(tall + 12)
        each = int(self.fontMetrics().height() * 1.65)
        self.verticalHeader().setDefaultSectionSize(each)
        self.setFixedHeight(tall + 12 + each * self.rowCount() + 4)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def _menu(self, at: QPoint) -> None:
        menu = QMenu(self)
        fill_menu(menu, self)
        menu.exec(self.viewport().mapToGlobal(at))
