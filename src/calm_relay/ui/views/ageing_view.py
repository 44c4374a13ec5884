"""A battery's capacity over twenty years: what cycles took, what the calendar took, and the warranty's line."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.theme import Theme, hatch_brush, ui_font, ui_metrics
from calm_relay.year.ageing import BatteryAgeing

WIDE, HIGH = 560.0, 190.0
LEFT, RIGHT, ABOVE, BELOW = 44.0, 14.0, 24.0, 24.0


class AgeingView(Copyable, QWidget):
    """One battery; the curve is the capacity at each year's end, as a share of the new one."""

    def __init__(self, row: BatteryAgeing, theme: Theme, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._row, self._theme, self._scale = row, theme, scale
        self.setAccessibleName(f"Capacity of {row.name} over twenty years")
        self.setAccessibleDescription(row.words)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
        self.setFixedSize(self.sizeHint())

    def sizeHint(self) -> QSize:
        return QSize(round(WIDE * self._scale), round(HIGH * self._scale))

    def copy_rows(self) -> Rows:
        """Return the capacity of each year's end, and what took it."""
        years = () if self._row.ageing is None else self._row.ageing.years
        rows = (
            [str(y.year), f"{y.capacity_frac * 100:.1f} %", f"{y.by_cycles_frac * 100:.2f} %", f"{y.by_calendar_frac * 100:.2f} %"]
            for y in years
        )
        return [["year", "capacity at its end", "by cycles", "by the calendar"], *rows]

    def _at(self, year: float, share: float) -> QPointF:
        s = self._scale
        wide, high = self.width() - (LEFT + RIGHT) * s, self.height() - (ABOVE + BELOW) * s
        return QPointF(LEFT * s + wide * year / 20.0, ABOVE * s + high * (1.0 - share))

    def paintEvent(self, _: QPaintEvent) -> None:
        if self._row.ageing is None:
            return
        painter, t, s = QPainter(self), self._theme, self._scale
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(ui_font(8.0 * s))
        high = ui_metrics(8.0 * s).height()
        for share in (0.0, 0.25, 0.5, 0.75, 1.0):
            a, b = self._at(0, share), self._at(20, share)
            painter.setPen(QPen(t.color("line"), 1.0))
            painter.drawLine(a, b)
            painter.setPen(t.color("quiet"))
            rect = QRectF(0, a.y() - high / 2, (LEFT - 6) * s, high)
            painter.drawText(rect, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, f"{share * 100:.0f} %")
        for year in (0, 5, 10, 15, 20):
            at = self._at(year, 0.0)
            align = Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignTop
            text = "new" if year == 0 else f"{year} y"
            painter.drawText(QRectF(at.x() - 24 * s, at.y() + 3 * s, 48 * s, high), align, text)
        ageing = self._row.ageing
        ends = [(0, ageing.begins_frac), *((y.year, y.capacity_frac) for y in ageing.years)]
        calendar, worn = ageing.begins_frac, [(0, ageing.begins_frac)]
        for y in ageing.years:
            calendar -= y.by_calendar_frac
            worn.append((y.year, calendar))
        below = [self._at(x, v) for x, v in ends]
        by_calendar = [self._at(x, v) for x, v in worn]
        top = [self._at(0, ageing.begins_frac), self._at(20, ageing.begins_frac)]
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.color("track"))
        painter.drawPolygon(QPolygonF([*top, *reversed(by_calendar)]))
        painter.setBrush(hatch_brush(t.color("lost")))
        painter.drawPolygon(QPolygonF([*by_calendar, *reversed(below)]))
        painter.setPen(QPen(t.color("battery"), 2.2))
        painter.drawPolyline(QPolygonF(below))
        self._draw_warranty(painter)
        painter.setPen(t.color("quiet"))
        painter.drawText(QPointF(LEFT * s, high), "capacity left; what the calendar took is shaded, what cycles took is hatched")

    def _draw_warranty(self, painter: QPainter) -> None:
        """Draw the corner of the warranty: so many years with so much capacity."""
        row, t = self._row, self._theme
        if row.end_floor_frac is None or row.warranty_years is None:
            return
        years = min(row.warranty_years, 20.0)
        pen = QPen(t.color("ink"), 1.4)
        pen.setStyle(Qt.PenStyle.DashLine)
        painter.setPen(pen)
        corner = self._at(years, row.end_floor_frac)
        painter.drawLine(self._at(0, row.end_floor_frac), corner)
        painter.drawLine(corner, self._at(years, 0.0))
        below = QPointF(0, ui_metrics(8.0 * self._scale).height())
        painter.drawText(self._at(0.2, row.end_floor_frac) + below, f"warranted {row.end_floor_frac * 100:.0f} %")
