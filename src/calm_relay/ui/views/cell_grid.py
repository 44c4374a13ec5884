"""A grid of cells one paints with keys or the mouse: months by hours of shade, a week by hours of prices, months by season."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.theme import Theme, readable_on, ui_font, ui_metrics

MOVES = {Qt.Key.Key_Up: (-1, 0), Qt.Key.Key_Down: (1, 0), Qt.Key.Key_Left: (0, -1), Qt.Key.Key_Right: (0, 1)}


class CellGrid(Copyable, QWidget):
    """Cells with a cursor. Arrows move, Shift or dragging takes in more; what a key puts in is the subclass's."""

    def __init__(
        self, rows: Sequence[str], columns: Sequence[str], theme: Theme, scale: float, row_px: float, every: int = 1
    ) -> None:
        super().__init__()
        self._rows, self._columns, self._every = tuple(rows), tuple(columns), every
        self._theme, self._scale = theme, scale
        self._at = self._from = (0, min(12, len(columns) - 1))  # where the cursor is, and where the taking in began
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(round(len(rows) * row_px * scale + ui_metrics(7.5 * scale).height() + 8))
        self._row_px = row_px

    # --- to be filled in
    def cell_color(self, row: int, column: int) -> QColor:
        """Return the colour of a cell."""
        raise NotImplementedError

    def cell_words(self, row: int, column: int) -> str:
        """Return what a cell holds, for screen readers and tips."""
        raise NotImplementedError

    def cell_text(self, row: int, column: int) -> str:
        """Return what is written in a cell; nothing by default."""
        return ""

    def typed(self, event: QKeyEvent) -> bool:
        """Take a key that is no move; returns whether it was taken."""
        return False

    def released(self) -> None:
        """The mouse has taken cells in."""

    # --- shared
    def copy_rows(self) -> Rows:
        """Return the cells in words."""
        body = ([row, *(self.cell_words(r, c) for c in range(len(self._columns)))] for r, row in enumerate(self._rows))
        return [["", *self._columns], *body]

    def sizeHint(self) -> QSize:
        return QSize(600, self.height())

    def announce(self) -> None:
        """Say the cell under the cursor."""
        self.setAccessibleDescription(self.cell_words(*self._at))
        self.setToolTip(self.accessibleDescription())
        self.update()

    def taken(self) -> tuple[range, range]:
        """Return rows and columns that are taken in."""
        (m1, h1), (m2, h2) = sorted((self._at[0], self._from[0])), sorted((self._at[1], self._from[1]))
        return range(m1, h1 + 1), range(m2, h2 + 1)

    def _frame(self) -> QRectF:
        metrics = ui_metrics(7.5 * self._scale)
        left = max(metrics.horizontalAdvance(name) for name in self._rows) + 6
        return QRectF(left, 2, max(24.0, self.width() - left - 4), len(self._rows) * self._row_px * self._scale)

    def cell(self, row: int, column: int) -> QRectF:
        """Return a cell's place."""
        frame = self._frame()
        wide, high = frame.width() / len(self._columns), frame.height() / len(self._rows)
        return QRectF(frame.x() + column * wide, frame.y() + row * high, wide, high)

    def _cell_at(self, at: QPointF) -> tuple[int, int]:
        frame = self._frame()
        column = int((at.x() - frame.x()) / frame.width() * len(self._columns))
        row = int((at.y() - frame.y()) / frame.height() * len(self._rows))
        return min(len(self._rows) - 1, max(0, row)), min(len(self._columns) - 1, max(0, column))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        move = MOVES.get(Qt.Key(event.key()))
        if move is not None:
            row = min(len(self._rows) - 1, max(0, self._at[0] + move[0]))
            self._at = (row, min(len(self._columns) - 1, max(0, self._at[1] + move[1])))
            if not event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
                self._from = self._at
            self.announce()
        elif not self.typed(event):
            super().keyPressEvent(event)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        self._at = self._cell_at(event.position())
        if not event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._from = self._at
        self.announce()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._at = self._cell_at(event.position())
            self.announce()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self.released()

    def labels(self) -> list[tuple[QRectF, str, Qt.AlignmentFlag]]:
        """Return where names of rows and columns stand; one that would touch another is left out."""
        frame, metrics = self._frame(), ui_metrics(7.5 * self._scale)
        high, out = metrics.height(), []
        last = -1e9
        for row, name in enumerate(self._rows):
            middle = self.cell(row, 0).center().y()
            if name and middle - high / 2 >= last - 0.1:
                out.append((QRectF(0, middle - high / 2, frame.x() - 4, high), name, Qt.AlignmentFlag.AlignRight))
                last = middle + high / 2
        right = -1.0
        for column in range(0, len(self._columns), self._every):
            text = self._columns[column]
            rect = QRectF(self.cell(0, column).x(), frame.bottom() + 3, metrics.horizontalAdvance(text) + 2, high)
            if rect.x() > right and rect.right() <= self.width():
                out.append((rect, text, Qt.AlignmentFlag.AlignLeft))
                right = rect.right() + 2
        return out

    def paintEvent(self, _: QPaintEvent) -> None:
        painter = QPainter(self)
        t = self._theme
        painter.setFont(ui_font(7.5 * self._scale))
        metrics = ui_metrics(7.5 * self._scale)
        for row in range(len(self._rows)):
            for column in range(len(self._columns)):
                cell = self.cell(row, column)
                ground = self.cell_color(row, column)
                painter.fillRect(cell.adjusted(0.5, 0.5, -0.5, -0.5), ground)
                text = self.cell_text(row, column)
                if text and metrics.horizontalAdvance(text) + 2 < cell.width():
                    painter.setPen(readable_on(t, ground))
                    painter.drawText(cell, Qt.AlignmentFlag.AlignCenter, text)
        if self.hasFocus():
            rows, columns = self.taken()
            around = self.cell(rows[0], columns[0]).united(self.cell(rows[-1], columns[-1]))
            painter.setPen(QPen(t.color("accent"), 1.8))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(around)
        painter.setPen(t.color("quiet"))
        for rect, text, align in self.labels():
            painter.drawText(rect, align | Qt.AlignmentFlag.AlignVCenter, text)
