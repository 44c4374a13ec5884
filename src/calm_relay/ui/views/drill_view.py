"""An outage as a picture: charge, what is asked for and served, the sun used and throttled; a cursor walks it by arrows."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QBrush, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.theme import Theme, hatch_brush, ui_font, ui_metrics
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from calm_relay.year.drill import Drill

HIGH, LEFT, RIGHT, ABOVE, BELOW = 230.0, 58.0, 46.0, 20.0, 22.0
STEP_MIN, FAR_MIN = 10, 60
FLAGGED = ("dead", "trip", "locked", "empty", "short")  # events drawn as flags


class DrillView(Copyable, QWidget):
    """Powers on the left scale, charge on the right; `told` says what stands under the cursor."""

    told = Signal(str)
    walked = Signal(int)
    way_asked = Signal(int)

    def __init__(self, theme: Theme, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._theme, self._scale = theme, scale
        self._drill: Drill | None = None
        self.minute = 0
        self.setAccessibleName("The outage, minute by minute")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(round(HIGH * scale))

    def sizeHint(self) -> QSize:
        return QSize(480, round(HIGH * self._scale))

    def show_drill(self, drill: Drill | None) -> None:
        """Show a drill, or nothing."""
        self._drill = drill
        if drill is not None:
            self.minute = min(self.minute, len(drill.asked_w) - 1)
            self.setAccessibleDescription(drill.first_words)
            self.told.emit(self._words())
            self.walked.emit(self.minute)
        self.update()

    def copy_rows(self) -> Rows:
        """Return every tenth minute."""
        heads = ["minute", "charge", "asked W", "served W", "sun used W", "sun throttled W"]
        d = self._drill
        if d is None:
            return [heads]
        rows = (
            [str(m), f"{d.charge_frac[m]:.3f}", *(f"{v[m]:.0f}" for v in (d.asked_w, d.served_w, d.pv_used_w, d.pv_throttled_w))]
            for m in range(0, len(d.asked_w), 10)
        )
        return [heads, *rows]

    def _words(self) -> str:
        d, m = self._drill, self.minute
        if d is None:
            return ""
        hours, minutes = divmod(m, 60)
        parts = [f"{hours} h {minutes:02d} min: charge {d.charge_frac[m] * 100:.0f} %", f"served {show(d.served_w[m], 'power_w')}"]
        if d.asked_w[m] - d.served_w[m] > 1.0:
            parts.append(f"of {show(d.asked_w[m], 'power_w')} asked for")
        parts.append(f"sun used {show(d.pv_used_w[m], 'power_w')}")
        if d.pv_throttled_w[m] > 1.0:
            parts.append(f"throttled {show(d.pv_throttled_w[m], 'power_w')}")
        if d.generator_w[m] > 1.0:
            parts.append(f"generator {show(d.generator_w[m], 'power_w')}")
        return ", ".join(parts)

    # --- walking
    def _walk(self, minute: int) -> None:
        if self._drill is None:
            return
        self.minute = min(max(0, minute), len(self._drill.asked_w) - 1)
        self.told.emit(self._words())
        self.walked.emit(self.minute)
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if Qt.Key.Key_1 <= event.key() <= Qt.Key.Key_9:
            self.way_asked.emit(event.key() - Qt.Key.Key_1)
            return
        step = FAR_MIN if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else STEP_MIN
        if event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self._walk(self.minute + (step if event.key() == Qt.Key.Key_Right else -step))
        elif event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.next_event(back=event.key() == Qt.Key.Key_Up)
        else:
            super().keyPressEvent(event)

    def next_event(self, *, back: bool = False) -> None:
        """Go to the next event, or to the one before."""
        marks = sorted({e.minute for e in self._drill.events}) if self._drill is not None else []
        ahead = [m for m in marks[::-1] if m < self.minute] if back else [m for m in marks if m > self.minute]
        if ahead:
            self._walk(ahead[0])

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self._drill is not None:
            wide = self.width() - (LEFT + RIGHT) * self._scale
            share = (event.position().x() - LEFT * self._scale) / max(1.0, wide)
            self._walk(round(share * len(self._drill.asked_w)))
        self.setFocus()

    # --- painting
    def paintEvent(self, _: QPaintEvent) -> None:
        d = self._drill
        painter, t, s = QPainter(self), self._theme, self._scale
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(ui_font(8.0 * s))
        if d is None:
            return
        minutes = len(d.asked_w)
        each = max(1, minutes // 600)
        area = QRectF(LEFT * s, ABOVE * s, self.width() - (LEFT + RIGHT) * s, self.height() - (ABOVE + BELOW) * s)
        sun = d.pv_used_w + d.pv_throttled_w
        top = max(500.0, float(d.asked_w.max()), float(sun.max()), float(d.generator_w.max()))

        def line(values: NDArray[np.float64], most: float) -> list[QPointF]:
            rows = values[: minutes - minutes % each].reshape(-1, each).mean(axis=1) if minutes >= each else values
            return [
                QPointF(area.x() + area.width() * (i + 0.5) / len(rows), area.bottom() - area.height() * min(1.0, float(v) / most))
                for i, v in enumerate(rows)
            ]

        def fill(values: NDArray[np.float64], brush: QBrush) -> None:
            points = line(values, top)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(brush)
            painter.drawPolygon(QPolygonF([QPointF(area.x(), area.bottom()), *points, QPointF(area.right(), area.bottom())]))

        fill(sun, hatch_brush(t.color("lost")))
        fill(d.pv_used_w, QBrush(t.color("sun")))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for begin, end in d.dark_spans:
            x = area.x() + area.width() * begin / minutes
            dark = QRectF(x, area.y(), max(2.0, area.width() * (end - begin) / minutes), area.height())
            shade = t.color("over")
            shade.setAlpha(70)
            painter.fillRect(dark, shade)
        painter.setPen(QPen(t.color("house"), 1.4))
        painter.drawPolyline(QPolygonF(line(d.asked_w, top)))
        if d.generator_w.any():
            painter.setPen(QPen(t.color("grid"), 1.6, Qt.PenStyle.DashLine))
            painter.drawPolyline(QPolygonF(line(d.generator_w, top)))
        painter.setPen(QPen(t.color("battery"), 2.0))
        painter.drawPolyline(QPolygonF(line(np.clip(d.charge_frac, 0.0, 1.0), 1.0)))
        self._axes(painter, area, top, minutes)
        painter.setPen(QPen(t.color("over"), 1.6))
        for minute in {e.minute for e in d.events if e.kind in FLAGGED}:
            x = area.x() + area.width() * minute / minutes
            painter.drawLine(QPointF(x, area.y() - 8 * s), QPointF(x, area.y()))
            painter.drawLine(QPointF(x, area.y() - 8 * s), QPointF(x + 6 * s, area.y() - 5 * s))
        painter.setPen(QPen(t.color("ink"), 1.2))
        x = area.x() + area.width() * self.minute / minutes
        painter.drawLine(QPointF(x, area.y()), QPointF(x, area.bottom()))
        painter.end()

    def _axes(self, painter: QPainter, area: QRectF, top: float, minutes: int) -> None:
        t, s = self._theme, self._scale
        high = ui_metrics(8.0 * s).height()
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        painter.setPen(t.color("quiet"))
        for share in (0.0, 1.0):
            y = area.bottom() - share * area.height()
            painter.drawText(QRectF(0, y - high / 2, area.x() - 6 * s, high), right, show(share * top, "power_w", 1))
            painter.drawText(QPointF(area.right() + 5 * s, y + high / 3), f"{share * 100:.0f} %")
        hours = minutes / 60.0
        step = next(h for h in (1, 2, 3, 6, 12, 24, 48) if hours / h <= 9)
        for hour in range(0, int(hours) + 1, step):
            x = area.x() + area.width() * hour / hours
            painter.drawText(QRectF(x - 30 * s, area.bottom() + 3, 60 * s, high), Qt.AlignmentFlag.AlignHCenter, f"{hour} h")
        painter.setPen(QPen(t.color("line"), 1.0))
        painter.drawRect(area)
