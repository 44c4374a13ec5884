"""Values against their limits as short bars, one a line: amps of trackers, ratios of inverters."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.theme import Theme, hatch_brush, ui_font, ui_metrics

BAR_PX, LINE_PX, BAR_HIGH_PX = 190.0, 20.0, 9.0


@dataclass(frozen=True)
class LimitBar:
    """A line: its name, the value and the limit in words, and both as numbers; `over` is how passing it counts."""

    name: str
    words: str
    value: float
    limit: float | None
    over: str = "over"


class LimitBars(Copyable, QWidget):
    """The limit stands at one place for all lines; a bar that passes it is hatched beyond."""

    def __init__(self, name: str, theme: Theme, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._theme, self._scale = theme, scale
        self._rows: tuple[LimitBar, ...] = ()
        self.setAccessibleName(name)
        self.setObjectName("limit-bars")
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)

    def show_bars(self, rows: Sequence[LimitBar]) -> None:
        """Show lines."""
        self._rows = tuple(rows)
        self.setAccessibleDescription("; ".join(f"{row.name}: {row.words}" for row in rows))
        self.setFixedSize(self.sizeHint())
        self.updateGeometry()
        self.update()

    def copy_rows(self) -> Rows:
        """Return every value with its limit."""
        rows = ([r.name, f"{r.value:g}", "none" if r.limit is None else f"{r.limit:g}", r.words] for r in self._rows)
        return [["what", "value", "limit", "in words"], *rows]

    # --- geometry
    def _columns(self) -> tuple[float, float]:
        """Return the width of the names and of the words."""
        metrics = ui_metrics(8.25 * self._scale)
        names = max((metrics.horizontalAdvance(row.name) for row in self._rows), default=0.0)
        return names + 2, max((metrics.horizontalAdvance(row.words) for row in self._rows), default=0.0) + 2

    def sizeHint(self) -> QSize:
        names, words = self._columns()
        return QSize(round(names + words + (BAR_PX + 24) * self._scale), round(max(1, len(self._rows)) * self._line()))

    def _line(self) -> float:
        return max(LINE_PX * self._scale, ui_metrics(8.25 * self._scale).height() + 3)

    def labels(self) -> list[tuple[QRectF, str, Qt.AlignmentFlag]]:
        """Return where the texts stand."""
        names, words = self._columns()
        out = []
        for i, row in enumerate(self._rows):
            y = i * self._line()
            out.append((QRectF(0, y, names, self._line()), row.name, Qt.AlignmentFlag.AlignLeft))
            out.append((QRectF(names + (BAR_PX + 20) * self._scale, y, words, self._line()), row.words, Qt.AlignmentFlag.AlignLeft))
        return out

    def paintEvent(self, _: QPaintEvent) -> None:
        painter = QPainter(self)
        t = self._theme
        painter.setFont(ui_font(8.25 * self._scale))
        painter.setPen(t.color("ink"))
        for rect, text, align in self.labels():
            painter.drawText(rect, align | Qt.AlignmentFlag.AlignVCenter, text)
        names = self._columns()[0]
        left, whole = names + 8 * self._scale, BAR_PX * self._scale
        at_limit = whole * 0.72
        for i, row in enumerate(self._rows):
            y = i * self._line() + (self._line() - BAR_HIGH_PX * self._scale) / 2
            high = BAR_HIGH_PX * self._scale
            painter.fillRect(QRectF(left, y, whole, high), t.color("track"))
            if row.limit is None:
                continue
            share = min(whole / at_limit, row.value / row.limit if row.limit else whole / at_limit)
            inside = min(share, 1.0) * at_limit
            past = row.value > row.limit * (1 + 1e-9)
            painter.fillRect(QRectF(left, y, inside, high), t.color(row.over if past else "within"))
            if past:
                beyond = QRectF(left + at_limit, y, (share - 1.0) * at_limit, high)
                painter.fillRect(beyond, hatch_brush(t.color(row.over)))
            painter.setPen(QPen(t.color("ink"), 1.6))
            x = left + at_limit
            painter.drawLine(round(x), round(y - 3), round(x), round(y + high + 3))
