"""Volts along the way: from the supply terminals over the board to each inverter, against the sustained limit."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.theme import Theme, ui_font, ui_metrics

if TYPE_CHECKING:
    from calm_relay.plant.runs import Rise

LINE_PX, TOP, LEFT, RIGHT = 46.0, 22.0, 190.0, 70.0


class VoltsView(Copyable, QWidget):
    """A line an inverter: nominal or measured volts at the left, each run's part in steps, the limit as a post at the right."""

    def __init__(self, theme: Theme, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._theme, self._scale = theme, scale
        self._rises: tuple[Rise, ...] = ()
        self._from_v, self._limit_v, self._measured = 230.0, 253.0, False
        self.setAccessibleName("Volts along the way")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_rises(self, rises: tuple[Rise, ...], from_v: float, limit_v: float, *, measured: bool) -> None:
        """Show the rises above the volts at the supply. [V]"""
        self._rises, self._from_v, self._limit_v, self._measured = rises, from_v, limit_v, measured
        self.setFixedHeight(round((TOP + LINE_PX * max(1, len(rises)) + 14) * self._scale))
        self.setAccessibleDescription("; ".join(f"{one.name}: {from_v + one.volts_v:.1f} of {limit_v:g} V" for one in rises))
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(480, self.height())

    def copy_rows(self) -> Rows:
        """Return every step."""
        out = [["inverter", "run", "V"]]
        for one in self._rises:
            out += [[one.name, name, f"{volts:.2f}"] for name, volts in one.parts]
        return out

    def paintEvent(self, _: QPaintEvent) -> None:
        painter, t, s = QPainter(self), self._theme, self._scale
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(ui_font(8.25 * s))
        high = ui_metrics(8.25 * s).height()
        area = QRectF(LEFT * s, TOP * s, self.width() - (LEFT + RIGHT) * s, self.height() - (TOP + 14) * s)
        most = max([self._limit_v, *(self._from_v + one.volts_v for one in self._rises)])
        low = self._from_v - 0.1 * (most - self._from_v + 1.0)
        span = most - low + 1.0

        def x_of(volts: float) -> float:
            return area.x() + area.width() * (volts - low) / span

        limit_x = x_of(self._limit_v)
        painter.setPen(QPen(t.color("ink"), 1.6))
        painter.drawLine(QPointF(limit_x, area.y() - 4 * s), QPointF(limit_x, area.bottom()))
        words = f"{self._limit_v:g} V, the limit used"
        wide = ui_metrics(8.25 * s).horizontalAdvance(words) + 4
        at = min(max(0.0, limit_x - wide / 2), self.width() - wide)
        painter.drawText(QRectF(at, 0, wide, high), Qt.AlignmentFlag.AlignHCenter, words)
        begins = f"{self._from_v:g} V {'measured' if self._measured else 'nominal'}"
        painter.setPen(t.color("quiet"))
        painter.drawText(QRectF(0, 0, area.x() + 60 * s, high), Qt.AlignmentFlag.AlignLeft, f"at the supply: {begins}")
        for i, one in enumerate(self._rises):
            y = area.y() + (i + 0.5) * LINE_PX * s
            painter.setPen(t.color("ink"))
            name = QRectF(0, y - high, area.x() - 8 * s, 2 * high)
            flags = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter | Qt.TextFlag.TextWordWrap
            painter.drawText(name, flags, one.name)
            volts, level = self._from_v, y + 7 * s
            points = [QPointF(x_of(volts), level)]
            for _name, part in reversed(one.parts):
                volts += part
                points.append(QPointF(x_of(volts), level))
                level -= 7 * s
                points.append(QPointF(x_of(volts), level))
            over = volts > self._limit_v
            painter.setPen(QPen(t.color("over" if over else "accent"), 3.0))
            painter.drawPolyline(QPolygonF(points))
            painter.setPen(t.color("over" if over else "ink"))
            end = points[-1]
            painter.drawText(QPointF(end.x() + 6 * s, end.y() + high / 3), f"{volts:.1f} V{' over' if over else ''}")
        painter.end()
