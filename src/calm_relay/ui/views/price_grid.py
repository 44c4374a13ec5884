"""A week of price periods by clock hour, and the months by season: painted with a brush by mouse, by digits with keys."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent

from calm_relay.calendar import MONTHS
from calm_relay.ui.theme import Theme, mixed
from calm_relay.ui.views.cell_grid import CellGrid

DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")


def period_color(theme: Theme, place: int, count: int) -> QColor:
    """Return the shade of a period: paler is cheaper, the figure in the cell says which it is."""
    return mixed(theme.color("track"), theme.color("grid"), 0.15 + 0.75 * place / max(1, count - 1))


class PriceGrid(CellGrid):
    """Cells hold the number of a choice; `painted` tells rows, columns and the number put in.

    Digits from 1 put a choice into all that is taken in; releasing the mouse puts the brush in.
    """

    painted = Signal(list, list, int)

    def __init__(self, name: str, rows: Sequence[str], columns: Sequence[str], theme: Theme, scale: float, every: int) -> None:
        super().__init__(rows, columns, theme, scale, 19.0, every=every)
        self.setAccessibleName(name)
        self.setObjectName("price-grid")
        self._choices: tuple[tuple[str, int], ...] = ()
        self._cells: tuple[tuple[int, ...], ...] = ((0,) * len(columns),) * len(rows)
        self.brush = 0

    def show_cells(self, cells: Sequence[Sequence[int]], choices: Sequence[tuple[str, int]]) -> None:
        """Show cells by the number of their choice; choices are (name, rank among the prices)."""
        self._cells, self._choices = tuple(tuple(row) for row in cells), tuple(choices)
        self.brush = min(self.brush, max(0, len(choices) - 1))
        self.announce()

    def cell_color(self, row: int, column: int) -> QColor:
        place = self._cells[row][column]
        rank = self._choices[place][1] if place < len(self._choices) else 0
        return period_color(self._theme, rank, len(self._choices))

    def cell_text(self, row: int, column: int) -> str:
        return str(self._cells[row][column] + 1)

    def cell_words(self, row: int, column: int) -> str:
        place = self._cells[row][column]
        name = self._choices[place][0] if place < len(self._choices) else ""
        return f"{self._rows[row]} {self._columns[column]}: {place + 1}, {name}".strip()

    def typed(self, event: QKeyEvent) -> bool:
        text = event.text()
        if text.isdigit() and 1 <= int(text) <= len(self._choices):
            self.put(int(text) - 1)
        elif Qt.Key(event.key()) in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.put(self.brush)
        else:
            return False
        return True

    def released(self) -> None:
        self.put(self.brush)

    def put(self, choice: int) -> None:
        """Put a choice into all that is taken in."""
        rows, columns = (list(span) for span in self.taken())
        if any(self._cells[r][c] != choice for r in rows for c in columns):
            self.painted.emit(rows, columns, choice)


def week_grid(theme: Theme, scale: float) -> PriceGrid:
    """Return the grid of a week."""
    return PriceGrid("Week by hours, price periods", DAYS, [f"{hour} h" for hour in range(24)], theme, scale, every=3)


def month_grid(theme: Theme, scale: float) -> PriceGrid:
    """Return the grid of months by season."""
    return PriceGrid("Months by season", ("season",), MONTHS, theme, scale, every=1)
