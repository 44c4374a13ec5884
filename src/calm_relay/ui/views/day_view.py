"""The chosen day: PV used and lost, house, import and state of charge over its hours; the clock runs through it."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QBrush, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from calm_relay.ui.clock import STEPS_PER_DAY, Clock
from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.theme import Theme, hatch_brush, ui_font, ui_metrics

if TYPE_CHECKING:
    from calm_relay.year.pictures import DayPicture

LEGEND = (("PV used", "sun"), ("lost", "lost"), ("house", "house"), ("import", "grid"), ("state of charge", "battery"))


class DayView(Copyable, QWidget):
    """Draws a :class:`DayPicture`; moving over it, or left and right, move the clock within the day."""

    moved = Signal(int)

    def __init__(self, clock: Clock, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._clock, self._theme, self._scale = clock, theme, 1.0
        self._day: DayPicture | None = None
        self._top = 1000.0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("The chosen day, hour by hour")
        self.setObjectName("day")
        clock.moved.connect(self.update)

    def set_theme(self, theme: Theme, scale: float) -> None:
        """Use other colours and another text size."""
        self._theme, self._scale = theme, scale
        self.setMinimumSize(QSize(int(220 * scale), int(72 * scale)))
        self.update()

    def show_day(self, day: DayPicture | None) -> None:
        """Show a day, or nothing."""
        self._day = day
        if day is not None:
            most = max(float(day.pv_w.max()), float(day.load_w.max()), float(day.import_w.max()), 500.0)
            self._top = float(np.ceil(most / 1000.0) * 1000.0)
        self.update()

    def copy_rows(self) -> Rows:
        """Return the day step by step."""
        d = self._day
        if d is None:
            return ()
        columns = [d.hours, d.pv_used_w / 1000, d.lost_w / 1000, d.load_w / 1000, d.import_w / 1000, d.export_w / 1000]
        heads = ["hour", "PV used, kW", "lost, kW", "house, kW", "import, kW", "export, kW"]
        if d.soc_frac is not None:
            columns, heads = [*columns, d.soc_frac * 100], [*heads, "state of charge, %"]
        return [heads, *([f"{v:.3f}" for v in row] for row in np.column_stack(columns).tolist())]

    def frame_rect(self) -> QRectF:
        metrics = ui_metrics(7.5 * self._scale)
        left, low = metrics.horizontalAdvance("88 kW") + 6, metrics.height() + 2
        return QRectF(
            left, 3 + metrics.height(), max(10.0, self.width() - left - 2), max(10.0, self.height() - low - metrics.height() - 4)
        )

    def _line(self, frame: QRectF, values: NDArray[np.float64], top: float) -> list[QPointF]:
        x = frame.x() + (np.arange(len(values)) + 0.5) / len(values) * frame.width()
        y = frame.bottom() - np.minimum(1.0, values / top) * frame.height()
        return [QPointF(a, b) for a, b in zip(x.tolist(), y.tolist(), strict=True)]

    def _area(self, frame: QRectF, high: NDArray[np.float64], low: NDArray[np.float64]) -> QPolygonF:
        up, down = self._line(frame, high, self._top), self._line(frame, low, self._top)
        return QPolygonF([*up, *reversed(down)])

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t, frame = self._theme, self.frame_rect()
        painter.fillRect(frame, t.color("panel"))
        painter.setFont(ui_font(7.5 * self._scale))
        if self._day is not None:
            d, none = self._day, np.zeros(len(self._day.pv_w))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.color("sun"))
            painter.drawPolygon(self._area(frame, d.pv_used_w, none))
            painter.setBrush(hatch_brush(t.color("lost")))
            painter.drawPolygon(self._area(frame, d.pv_w, d.pv_used_w))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            rows = [(d.load_w, "house", Qt.PenStyle.SolidLine), (self._second(d), self._second_hue(), Qt.PenStyle.DashLine)]
            for values, hue, style in rows:
                painter.setPen(QPen(t.color(hue), 1.6, style))
                painter.drawPolyline(self._line(frame, values, self._top))
            if d.soc_frac is not None:
                painter.setPen(QPen(t.color("battery"), 1.8, Qt.PenStyle.DotLine))
                painter.drawPolyline(self._line(frame, d.soc_frac, 1.0))
        painter.setPen(t.color("line"))
        painter.drawRect(frame)
        painter.setPen(t.color("quiet"))
        for rect, text, align in self.tick_labels():
            painter.drawText(rect, align | Qt.AlignmentFlag.AlignVCenter, text)
        self._paint_legend(painter)
        x = frame.x() + (self._clock.in_day + 0.5) / STEPS_PER_DAY * frame.width()
        painter.setPen(QPen(t.color("ink"), 1.4))
        painter.drawLine(QPointF(x, frame.y()), QPointF(x, frame.bottom()))
        if self.hasFocus():
            painter.setPen(QPen(t.color("accent"), 1.6, Qt.PenStyle.DashLine))
            painter.drawRect(frame)

    def _second_hue(self) -> str:
        """Return the hue of the second line: import, or without a grid what is not served."""
        return "grid" if self._day is None or self._day.unserved_w is None else "over"

    @staticmethod
    def _second(day: DayPicture) -> NDArray[np.float64]:
        return day.import_w if day.unserved_w is None else day.unserved_w

    def legend_labels(self) -> list[tuple[QRectF, str, str]]:
        """Return the legend's words with their place and hue; what has no room is left out from the end."""
        metrics = ui_metrics(7.5 * self._scale)
        x, out = self.frame_rect().x(), []
        for name, usual in LEGEND:
            text, hue = name, usual
            if hue == "battery" and (self._day is None or self._day.soc_frac is None):
                continue
            if hue == "grid" and self._second_hue() != "grid":
                text, hue = "not served", self._second_hue()
            w = metrics.horizontalAdvance(text)
            if x + 14 + w > self.width() - 2:
                break
            out.append((QRectF(x + 14, 1, w + 1, metrics.height()), text, hue))
            x += w + 28
        return out

    def _paint_legend(self, painter: QPainter) -> None:
        styles = {"grid": Qt.PenStyle.DashLine, "over": Qt.PenStyle.DashLine, "battery": Qt.PenStyle.DotLine}
        for rect, text, hue in self.legend_labels():
            y = rect.center().y()
            if hue in ("sun", "lost"):
                color = self._theme.color(hue)
                brush = hatch_brush(color) if hue == "lost" else QBrush(color)
                painter.fillRect(QRectF(rect.x() - 13, y - 3, 10, 7), brush)
            else:
                painter.setPen(QPen(self._theme.color(hue), 1.8, styles.get(hue, Qt.PenStyle.SolidLine)))
                painter.drawLine(QPointF(rect.x() - 13, y), QPointF(rect.x() - 3, y))
            painter.setPen(self._theme.color("quiet"))
            painter.drawText(rect, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, text)

    def tick_labels(self) -> list[tuple[QRectF, str, Qt.AlignmentFlag]]:
        """Return where hour and power labels stand."""
        frame, metrics = self.frame_rect(), ui_metrics(7.5 * self._scale)
        out: list[tuple[QRectF, str, Qt.AlignmentFlag]] = []
        shift = 0.0 if self._day is None else self._day.clock_shift_h
        for hour in range(0, 24, 3):
            x = frame.x() + (hour - shift) / 24 * frame.width()
            w = metrics.horizontalAdvance(f"{hour:02d}:00")
            if x - w / 2 >= 0 and x + w / 2 <= self.width() and (not out or x - w / 2 > out[-1][0].right() + 4):
                out.append(
                    (
                        QRectF(x - w / 2, frame.bottom() + 1, w + 1, metrics.height()),
                        f"{hour:02d}:00",
                        Qt.AlignmentFlag.AlignHCenter,
                    )
                )
        for part in (1.0, 0.0):
            y = frame.bottom() - part * frame.height()
            text = f"{self._top * part / 1000:.0f} kW" if part else "0"
            at = min(max(frame.y() - metrics.height() / 2, y - metrics.height() / 2), frame.bottom() - metrics.height() + 2)
            out.append((QRectF(0, at, frame.x() - 4, metrics.height()), text, Qt.AlignmentFlag.AlignRight))
        return out

    def _move_to(self, x: float) -> None:
        frame = self.frame_rect()
        part = min(0.999999, max(0.0, (x - frame.x()) / frame.width()))
        self.moved.emit(self._clock.day * STEPS_PER_DAY + int(part * STEPS_PER_DAY))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self.frame_rect().contains(event.position()):
            self._move_to(event.position().x())

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        self._move_to(event.position().x())

    def keyPressEvent(self, event: QKeyEvent) -> None:
        by = {Qt.Key.Key_Right: 1, Qt.Key.Key_Left: -1, Qt.Key.Key_PageDown: 12, Qt.Key.Key_PageUp: -12}.get(Qt.Key(event.key()))
        if by is None:
            super().keyPressEvent(event)
        else:
            self.moved.emit(self._clock.step + by)
