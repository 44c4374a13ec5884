"""A table of words that wrap, which only shows: each row has the height of its words."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QHeaderView, QTableWidget, QTableWidgetItem, QWidget


class WordTable(QTableWidget):
    """Columns of a width [px], those without one share what is left. Tab leaves it."""

    def __init__(self, name: str, widths: Sequence[float | None], parent: QWidget | None = None) -> None:
        super().__init__(0, len(widths), parent)
        self.setAccessibleName(name)
        self.verticalHeader().hide()
        self.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.setTabKeyNavigation(False)
        self.setWordWrap(True)
        self.setShowGrid(False)
        header = self.horizontalHeader()
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        for column, width in enumerate(widths):
            if width is None:
                header.setSectionResizeMode(column, QHeaderView.ResizeMode.Stretch)
            else:
                self.setColumnWidth(column, round(width))
        header.sectionResized.connect(self.fit_rows)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        QTimer.singleShot(0, self.fit_rows)  # only now the columns have their widths

    def show_rows(self, heads: Sequence[str], rows: Sequence[Sequence[str]]) -> list[list[QTableWidgetItem]]:
        """Show these rows under these heads in place of those before; returns their cells."""
        self.setHorizontalHeaderLabels(list(heads))
        self.setRowCount(len(rows))
        cells = [[QTableWidgetItem(text) for text in row] for row in rows]
        for at, row in enumerate(cells):
            for column, item in enumerate(row):
                item.setTextAlignment(Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft)
                self.setItem(at, column, item)
        self.fit_rows()
        return cells

    def fit_rows(self, *_: int) -> None:
        """Give each row the height of its words, and a little air below."""
        self.resizeRowsToContents()
        for row in range(self.rowCount()):
            self.setRowHeight(row, self.rowHeight(row) + 6)
