"""A table of what was found in a file that someone handed in."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QTableWidget, QTableWidgetItem


def found_table(rows: Sequence[tuple[str, str]]) -> QTableWidget:
    """Return rows of (what, found) to be looked at."""
    table = QTableWidget(len(rows), 2)
    table.setAccessibleName("What was found in the file")
    table.setHorizontalHeaderLabels(["What", "Found"])
    table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
    table.setTabKeyNavigation(False)
    table.verticalHeader().hide()
    table.setShowGrid(False)
    for i, (what, found) in enumerate(rows):
        table.setItem(i, 0, QTableWidgetItem(what))
        table.setItem(i, 1, QTableWidgetItem(found))
    table.resizeColumnsToContents()
    table.horizontalHeader().setStretchLastSection(True)
    return table
