"""The part of a face in shadow by month and hour: a grid one paints with keys or the mouse."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from calm_relay.calendar import MONTHS
from calm_relay.ui.theme import Theme, mixed, ui_font, ui_metrics

ROW_PX = 13.0
Table = tuple[tuple[float, ...], ...]
EMPTY: Table = ((0.0,) * 24,) * 12


class ShadeTableView(QWidget):
    """Emits `changed` with the new table and words.

    Arrows move, Shift with arrows takes in more; digits 0 to 9 set tenths in all that is taken in, Return sets all of it in shadow,
    Delete clears it. The mouse takes in cells by dragging; digits then fill them.
    """

    changed = Signal(tuple, str)

    def __init__(self, theme: Theme, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._theme, self._scale = theme, scale
        self._table: Table = EMPTY
        self._at, self._from = (0, 12), (0, 12)  # month, hour: where the cursor is, and where the taking in began
        self.setObjectName("shade-table")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(round(12 * ROW_PX * scale + ui_metrics(7.5 * scale).height() + 8))
        self.setAccessibleName("Part of the face in shadow, months by hours")

    def sizeHint(self) -> QSize:
        return QSize(600, self.height())

    def show_table(self, table: Sequence[Sequence[float]] | None) -> None:
        """Show a face's table; none is open sky."""
        self._table = EMPTY if table is None else tuple(tuple(row) for row in table)
        self._announce()
        self.update()

    def _announce(self) -> None:
        month, hour = self._at
        value = self._table[month][hour]
        self.setAccessibleDescription(f"{MONTHS[month]}, {hour} to {hour + 1} h: {value * 100:.0f} % in shadow")
        self.setToolTip(self.accessibleDescription())

    # --- geometry
    def _frame(self) -> QRectF:
        metrics = ui_metrics(7.5 * self._scale)
        left = max(metrics.horizontalAdvance(name) for name in MONTHS) + 6
        return QRectF(left, 2, max(24.0, self.width() - left - 4), 12 * ROW_PX * self._scale)

    def _cell(self, month: int, hour: int) -> QRectF:
        frame = self._frame()
        wide, high = frame.width() / 24, frame.height() / 12
        return QRectF(frame.x() + hour * wide, frame.y() + month * high, wide, high)

    def _cell_at(self, at: QPointF) -> tuple[int, int]:
        frame = self._frame()
        hour = min(23, max(0, int((at.x() - frame.x()) / frame.width() * 24)))
        return min(11, max(0, int((at.y() - frame.y()) / frame.height() * 12))), hour

    def taken(self) -> tuple[range, range]:
        """Return months and hours that the next digit fills."""
        (m1, h1), (m2, h2) = sorted((self._at[0], self._from[0])), sorted((self._at[1], self._from[1]))
        return range(m1, h1 + 1), range(m2, h2 + 1)

    # --- changing
    def fill(self, part: float) -> None:
        """Set all that is taken in to one part."""
        months, hours = self.taken()
        table = tuple(
            tuple(part if m in months and h in hours else v for h, v in enumerate(row)) for m, row in enumerate(self._table)
        )
        if table == self._table:
            return
        self._table = table
        self._announce()
        self.update()
        span = MONTHS[months[0]] if len(months) == 1 else f"{MONTHS[months[0]]} to {MONTHS[months[-1]]}"
        self.changed.emit(table, f"{span}, {hours[0]} to {hours[-1] + 1} h: {part * 100:.0f} % in shadow")

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = Qt.Key(event.key())
        move = {Qt.Key.Key_Up: (-1, 0), Qt.Key.Key_Down: (1, 0), Qt.Key.Key_Left: (0, -1), Qt.Key.Key_Right: (0, 1)}.get(key)
        if move is not None:
            self._at = (min(11, max(0, self._at[0] + move[0])), min(23, max(0, self._at[1] + move[1])))
            if not event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
                self._from = self._at
            self._announce()
            self.update()
        elif event.text().isdigit():
            self.fill(int(event.text()) / 10)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.fill(1.0)
        elif key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.fill(0.0)
        else:
            super().keyPressEvent(event)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        self._at = self._cell_at(event.position())
        if not event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._from = self._at
        self._announce()
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._at = self._cell_at(event.position())
            self._announce()
            self.update()

    # --- painting
    def labels(self) -> list[tuple[QRectF, str, Qt.AlignmentFlag]]:
        """Return where months and hours stand; one that would touch another is left out."""
        frame, metrics = self._frame(), ui_metrics(7.5 * self._scale)
        high, out = metrics.height(), []
        last = -1e9
        for month, name in enumerate(MONTHS):
            middle = self._cell(month, 0).center().y()
            if middle - high / 2 >= last - 0.1:
                out.append((QRectF(0, middle - high / 2, frame.x() - 4, high), name, Qt.AlignmentFlag.AlignRight))
                last = middle + high / 2
        for hour in range(0, 24, 3):
            text = f"{hour} h"
            cell = QRectF(self._cell(11, hour).x(), frame.bottom() + 3, metrics.horizontalAdvance(text) + 2, high)
            if cell.right() <= self.width():
                out.append((cell, text, Qt.AlignmentFlag.AlignLeft))
        return out

    def paintEvent(self, _: QPaintEvent) -> None:
        painter = QPainter(self)
        t = self._theme
        open_sky, dark = t.color("track"), t.color("ink")
        for month in range(12):
            for hour in range(24):
                cell = self._cell(month, hour)
                painter.fillRect(cell.adjusted(0.5, 0.5, -0.5, -0.5), mixed(open_sky, dark, 0.8 * self._table[month][hour]))
        if self.hasFocus():
            months, hours = self.taken()
            around = self._cell(months[0], hours[0]).united(self._cell(months[-1], hours[-1]))
            painter.setPen(QPen(t.color("accent"), 1.8))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(around)
        painter.setFont(ui_font(7.5 * self._scale))
        painter.setPen(t.color("quiet"))
        for rect, text, align in self.labels():
            painter.drawText(rect, align | Qt.AlignmentFlag.AlignVCenter, text)
