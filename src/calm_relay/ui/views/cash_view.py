"""Twenty years of a plan's cash: a bar a year, and the running sum from what it costs to where it stands at the end."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.theme import Theme, ui_font, ui_metrics
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from calm_relay.decision.twenty import TwentyYears

HIGH, LEFT, RIGHT, ABOVE, BELOW = 210.0, 74.0, 12.0, 22.0, 22.0
LEAST_WIDE = 420


class CashView(Copyable, QWidget):
    """Money on one scale with a plain line at nothing; the year in which it has paid back is marked."""

    def __init__(self, theme: Theme, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._theme, self._scale = theme, scale
        self._years: TwentyYears | None = None
        self.setAccessibleName("Cash of twenty years")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(round(HIGH * scale))

    def sizeHint(self) -> QSize:
        return QSize(LEAST_WIDE, round(HIGH * self._scale))

    def show_years(self, years: TwentyYears) -> None:
        """Show a plan's years; what it costs is the sum they begin with."""
        self._years = years
        ends = years.years[-1]
        self.setAccessibleDescription(
            f"from {show(-(years.first_cost or 0.0), 'money')} to {show(ends.running, 'money')} after {ends.year} years"
        )
        self.update()

    def copy_rows(self) -> Rows:
        """Return each year's cash and the running sum."""
        rows = [] if self._years is None else self._years.years
        return [["year", "cash", "running sum"], *([str(r.calendar_year), f"{r.cash:.2f}", f"{r.running:.2f}"] for r in rows)]

    def paintEvent(self, _: QPaintEvent) -> None:
        if self._years is None:
            return
        painter, t, s = QPainter(self), self._theme, self._scale
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(ui_font(8.0 * s))
        rows = self._years.years
        sums = [-(self._years.first_cost or 0.0), *(row.running for row in rows)]
        values = [0.0, *sums, *(row.cash for row in rows)]
        low, high = min(values), max(values)
        span = max(high - low, 1.0)
        wide, tall = self.width() - (LEFT + RIGHT) * s, self.height() - (ABOVE + BELOW) * s

        def at(year: float, money: float) -> QPointF:
            return QPointF(LEFT * s + wide * year / len(rows), ABOVE * s + tall * (high - money) / span)

        line = ui_metrics(8.0 * s).height()
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        marks = sorted({low, 0.0, high})
        for money in marks:
            if money != 0.0 and abs(at(0, money).y() - at(0, 0.0).y()) < line:
                continue
            y = at(0, money).y()
            painter.setPen(QPen(t.color("ink" if money == 0 else "line"), 1.0))
            painter.drawLine(QPointF(LEFT * s, y), QPointF(self.width() - RIGHT * s, y))
            painter.setPen(t.color("quiet"))
            painter.drawText(QRectF(0, y - line / 2, (LEFT - 6) * s, line), right, show(money, "money", 0))
        bar = wide / len(rows)
        for row in rows:
            x = LEFT * s + bar * (row.year - 1)
            top, base = at(0, max(0.0, row.cash)).y(), at(0, min(0.0, row.cash)).y()
            color = t.color("accent" if row.cash >= 0 else "lost")
            painter.fillRect(QRectF(x + bar * 0.2, top, bar * 0.6, max(1.0, base - top)), color)
        painter.setPen(QPen(t.color("ink"), 2.0))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolyline(QPolygonF([at(year, money) for year, money in enumerate(sums)]))
        painter.setPen(t.color("quiet"))
        for row in rows:
            if row.year % 5 == 0 or row.year == 1:
                place = QRectF(LEFT * s + bar * (row.year - 1) - 20 * s, self.height() - BELOW * s + 3, bar + 40 * s, line)
                painter.drawText(place, Qt.AlignmentFlag.AlignHCenter, str(row.calendar_year))
        painter.drawText(QPointF(LEFT * s, line), "bars: a year's cash; line: the running sum, from what it costs")
        worth = self._years.worth
        if worth is not None and worth.payback_years is not None and worth.payback_years > 0:
            spot = at(worth.payback_years, 0.0)
            painter.setPen(QPen(t.color("within"), 1.6))
            painter.drawEllipse(QRectF(spot.x() - 4 * s, spot.y() - 4 * s, 8 * s, 8 * s))
        painter.end()
