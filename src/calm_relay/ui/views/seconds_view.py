"""Seconds of something quick in an outage: a motor's start against what its line is given, or PV under the frequency."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.theme import Theme, hatch_brush, ui_font, ui_metrics
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from calm_relay.year.switchboard import Moment

HIGH, LEFT, RIGHT, BELOW = 96.0, 64.0, 64.0, 18.0


class SecondsView(Copyable, QWidget):
    """Steps of a second: what is asked for or given filled, its limit as a dashed line, the frequency on the right scale."""

    def __init__(self, theme: Theme, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._theme, self._scale = theme, scale
        self.moment: Moment | None = None
        self.setAccessibleName("Seconds of the moment")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(round(HIGH * scale))

    def sizeHint(self) -> QSize:
        return QSize(480, round(HIGH * self._scale))

    def show_moment(self, moment: Moment | None) -> None:
        """Show a moment, or nothing."""
        self.moment = moment
        self.setAccessibleDescription("" if moment is None else moment.words)
        self.setVisible(moment is not None)
        self.update()

    def copy_rows(self) -> Rows:
        """Return every second."""
        if self.moment is None:
            return [["second", "value", "limit"]]
        m = self.moment
        rows = ([str(i), f"{m.value[i]:.0f}", f"{m.limit[i]:.0f}"] for i in range(len(m.value)))
        return [
            [
                "second",
                ("VA" if m.quantity == "apparent_va" else "W") if m.kind == "start" else "PV W",
                "limit" if m.kind == "start" else "sun W",
            ],
            *rows,
        ]

    def paintEvent(self, _: QPaintEvent) -> None:
        m = self.moment
        if m is None:
            return
        painter, t, s = QPainter(self), self._theme, self._scale
        painter.setFont(ui_font(8.0 * s))
        area = QRectF(LEFT * s, 4 * s, self.width() - (LEFT + RIGHT) * s, self.height() - (BELOW + 4) * s)
        top = max(1.0, float(m.value.max()), float(m.limit.max())) * 1.05
        each = area.width() / len(m.value)
        hue = t.color("house" if m.kind == "start" else "sun")
        for i, (value, limit) in enumerate(zip(m.value, m.limit, strict=True)):
            x, high = area.x() + i * each, area.height() * float(value) / top
            within = area.height() * min(float(value), float(limit)) / top
            painter.fillRect(QRectF(x, area.bottom() - within, each, within), hue)
            if high > within + 0.5:
                painter.fillRect(QRectF(x, area.bottom() - high, each, high - within), hatch_brush(t.color("over")))
        painter.setPen(QPen(t.color("ink"), 1.4, Qt.PenStyle.DashLine))
        painter.drawPolyline(
            QPolygonF([
                QPointF(area.x() + (i + end) * each, area.bottom() - area.height() * float(limit) / top)
                for i, limit in enumerate(m.limit) for end in (0, 1)
            ])
        )  # fmt: skip
        high = ui_metrics(8.0 * s).height()
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        painter.setPen(t.color("quiet"))
        quantity = m.quantity if m.kind == "start" else "power_w"
        painter.drawText(QRectF(0, area.y() - 2, area.x() - 6 * s, high), right, show(top / 1.05, quantity, 1))
        step = 5 if len(m.value) <= 30 else 10
        for second in range(0, len(m.value) + 1, step):
            x = area.x() + second * each
            box = QRectF(x - 20 * s, area.bottom() + 2, 40 * s, high)
            painter.drawText(box, Qt.AlignmentFlag.AlignHCenter, f"{second} s")
        if m.hz is not None and len(m.hz):
            low, most = float(m.hz.min()), float(m.hz.max())
            span = max(most - low, 0.1)
            painter.setPen(QPen(t.color("accent"), 1.6))
            points = [
                QPointF(area.x() + (i + 0.5) * each, area.bottom() - area.height() * (0.05 + 0.9 * (float(hz) - low) / span))
                for i, hz in enumerate(m.hz)
            ]
            painter.drawPolyline(QPolygonF(points))
            painter.drawText(QPointF(area.right() + 5 * s, area.y() + high), f"{most:.1f} Hz")
            painter.drawText(QPointF(area.right() + 5 * s, area.bottom()), f"{low:.1f} Hz")
        painter.setPen(QPen(t.color("line"), 1.0))
        painter.drawRect(area)
        painter.end()
