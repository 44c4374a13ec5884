"""The part of a face in shadow by month and hour: a grid one paints with keys or the mouse."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent

from calm_relay.calendar import MONTHS
from calm_relay.ui.theme import Theme, mixed
from calm_relay.ui.views.cell_grid import CellGrid

ROW_PX = 13.0
Table = tuple[tuple[float, ...], ...]
EMPTY: Table = ((0.0,) * 24,) * 12


class ShadeTableView(CellGrid):
    """Emits `changed` with the new table and words.

    Digits 0 to 9 set tenths in all that is taken in, Return sets all of it in shadow, Delete clears it.
    """

    changed = Signal(tuple, str)

    def __init__(self, theme: Theme, scale: float) -> None:
        super().__init__(MONTHS, [f"{hour} h" for hour in range(24)], theme, scale, ROW_PX, every=3)
        self._table: Table = EMPTY
        self.setObjectName("shade-table")
        self.setAccessibleName("Part of the face in shadow, months by hours")

    def show_table(self, table: Sequence[Sequence[float]] | None) -> None:
        """Show a face's table; none is open sky."""
        self._table = EMPTY if table is None else tuple(tuple(row) for row in table)
        self.announce()

    def cell_color(self, row: int, column: int) -> QColor:
        return mixed(self._theme.color("track"), self._theme.color("ink"), 0.8 * self._table[row][column])

    def cell_words(self, row: int, column: int) -> str:
        return f"{MONTHS[row]}, {column} to {column + 1} h: {self._table[row][column] * 100:.0f} % in shadow"

    def typed(self, event: QKeyEvent) -> bool:
        key = Qt.Key(event.key())
        if event.text().isdigit():
            self.fill(int(event.text()) / 10)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.fill(1.0)
        elif key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.fill(0.0)
        else:
            return False
        return True

    def fill(self, part: float) -> None:
        """Set all that is taken in to one part."""
        months, hours = self.taken()
        table = tuple(
            tuple(part if m in months and h in hours else v for h, v in enumerate(row)) for m, row in enumerate(self._table)
        )
        if table == self._table:
            return
        self._table = table
        self.announce()
        span = MONTHS[months[0]] if len(months) == 1 else f"{MONTHS[months[0]]} to {MONTHS[months[-1]]}"
        self.changed.emit(table, f"{span}, {hours[0]} to {hours[-1] + 1} h: {part * 100:.0f} % in shadow")
