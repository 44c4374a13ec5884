"""The figures of a plan's year in a table, against another plan's where there is one; the chosen row says how it comes about."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem, QWidget

from calm_relay.year.arithmetic import FigurePair


class FigureTable(QTableWidget):
    """One row a figure. `told` brings the arithmetic of the row that is chosen."""

    told = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(0, 2, parent)
        self._pairs: tuple[FigurePair, ...] = ()
        self._letters = ("", "")
        self.setAccessibleName("Figures of the year; the chosen one says how it comes about")
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setTabKeyNavigation(False)
        self.setShowGrid(False)
        self.verticalHeader().hide()
        self.verticalHeader().setMinimumSectionSize(1)
        self.horizontalHeader().setHighlightSections(False)
        self.currentCellChanged.connect(lambda row, *_: self._tell(row))

    def show_figures(self, pairs: Sequence[FigurePair], letter: str, other: str) -> None:
        """Show figures of the plan of a letter, and of another plan beside them where `other` names one."""
        chosen = self.currentRow()
        key = self._pairs[chosen].key if 0 <= chosen < len(self._pairs) else ""
        self._pairs, self._letters = tuple(pairs), (letter, other)
        heads = ["", letter, other, "more by"] if other else ["", letter]
        self.blockSignals(True)
        self.verticalHeader().setDefaultSectionSize(self.fontMetrics().height() + 8)
        self.setColumnCount(len(heads))
        self.setRowCount(len(self._pairs))
        self.setHorizontalHeaderLabels(heads)
        for row, pair in enumerate(self._pairs):
            texts = [pair.name, *("" if f is None else f.words for f in (pair.one, pair.other)), pair.more_words]
            for column, text in enumerate(texts[: len(heads)]):
                item = QTableWidgetItem(text)
                side = Qt.AlignmentFlag.AlignLeft if column == 0 else Qt.AlignmentFlag.AlignRight
                item.setTextAlignment(side | Qt.AlignmentFlag.AlignVCenter)
                self.setItem(row, column, item)
        header = self.horizontalHeader()
        for column in range(len(heads)):
            header.setSectionResizeMode(column, QHeaderView.ResizeMode.ResizeToContents)
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.blockSignals(False)
        self.open_figure(key)

    def open_figure(self, key: str) -> None:
        """Choose the figure of a key, the first one where there is none."""
        row = next((i for i, pair in enumerate(self._pairs) if pair.key == key), 0)
        self.setCurrentCell(row, 0)
        self._tell(row)

    def _tell(self, row: int) -> None:
        if not 0 <= row < len(self._pairs):
            return
        pair, both = self._pairs[row], bool(self._letters[1])
        parts = [
            f"{f'{letter}: ' if both else ''}{pair.name} {figure.words} = {figure.arithmetic}."
            for letter, figure in zip(self._letters, (pair.one, pair.other), strict=True)
            if figure is not None
        ]
        self.told.emit(" ".join(parts))
