"""The year carpet: days across, hours of the day upwards, one quantity as shade; the clock stands on it."""

from __future__ import annotations

import functools

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from calm_relay.calendar import MONTH_DAYS, MONTHS
from calm_relay.ui.clock import STEPS_PER_DAY, Clock
from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.theme import Theme, mixed, ui_font, ui_metrics
from calm_relay.units import SCALES
from calm_relay.units import format_quantity as show

ROWS = 96  # quarter hours
HOURS = (0, 6, 12, 18, 24)


@functools.lru_cache(maxsize=32)
def _colors(theme: Theme, hue: str) -> list[int]:
    """Return the colours from an empty cell to a full one."""
    low, high = theme.color("track"), theme.color(hue)
    return [mixed(low, high, i / 255.0).rgb() for i in range(256)]


class CarpetView(Copyable, QWidget):
    """Shows one quantity over the year; moving over it, or the arrow keys, move the clock."""

    moved = Signal(int)

    def __init__(self, clock: Clock, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._clock, self._theme, self._scale = clock, theme, 1.0
        self._image: QImage | None = None
        self._buffer: NDArray[np.uint8] | None = None
        self._values: NDArray[np.float64] | None = None
        self._kind, self._hue, self._top, self._name = "power_w", "sun", 0.0, ""
        self.full_at = 1.0  # full colour from this quantile of the quarter hours on; below 1 a few peaks do not pale the year
        self._dim = False
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setObjectName("carpet")
        clock.moved.connect(self._announce)

    def set_theme(self, theme: Theme, scale: float) -> None:
        """Use other colours and another text size."""
        self._theme, self._scale = theme, scale
        self.setMinimumSize(QSize(int(220 * scale), int(74 * scale)))
        self._shade()

    def show_values(self, name: str, values: NDArray[np.float64], kind: str, hue: str) -> None:
        """Show a quantity: one value a step of the year."""
        self._name, self._values, self._kind, self._hue = name, values, kind, hue
        self._dim = False
        self._shade()
        self._announce()

    def copy_rows(self) -> Rows:
        """Return the quantity's mean of every hour: a row a day."""
        if self._values is None:
            return ()
        hours = self._values.reshape(365, 24, -1).mean(axis=2)
        dates = [f"{month} {day}" for month, days in zip(MONTHS, MONTH_DAYS, strict=True) for day in range(1, days + 1)]
        rows = (
            [date, *(show(v, self._kind, with_unit=False) for v in row)] for date, row in zip(dates, hours.tolist(), strict=True)
        )
        return [[f"{self._name}, {SCALES[self._kind].unit}", *(f"{h:02d}:00" for h in range(24))], *rows]

    @property
    def top(self) -> float:
        """What full colour stands for, as a mean over a quarter of an hour, in the quantity's own unit."""
        return self._top

    def set_dim(self, dim: bool) -> None:
        """Say that what is shown is of an older state."""
        if dim != self._dim:
            self._dim = dim
            self.update()

    def _shade(self) -> None:
        if self._values is None:
            self.update()
            return
        quarter = self._values.reshape(365, ROWS, -1).mean(axis=2)
        self._top = 1.0 if self._kind == "fraction" else float(np.quantile(quarter, self.full_at)) or float(quarter.max()) or 1.0
        shade = np.clip(quarter / self._top * 255.0, 0, 255).astype(np.uint8)
        self._buffer = np.ascontiguousarray(np.pad(shade.T[::-1], ((0, 0), (0, 3))))  # rows of an image are 4-byte aligned
        image = QImage(self._buffer.data, 365, ROWS, 368, QImage.Format.Format_Indexed8)
        image.setColorTable(_colors(self._theme, self._hue))
        self._image = image.copy()
        self.update()

    # --- geometry
    def frame_rect(self) -> QRectF:
        metrics = ui_metrics(7.5 * self._scale)
        left, low = metrics.horizontalAdvance("24 h") + 6, metrics.height() + 2
        return QRectF(left, 4, max(10.0, self.width() - left - 2), max(10.0, self.height() - low - 5))

    def _step_at(self, point: QPointF) -> int | None:
        frame = self.frame_rect()
        if not frame.adjusted(0, -2, 0, 2).contains(point):
            return None
        day = min(364, max(0, int((point.x() - frame.x()) / frame.width() * 365)))
        part = 1.0 - (point.y() - frame.y()) / frame.height()
        return day * STEPS_PER_DAY + min(STEPS_PER_DAY - 1, max(0, int(part * STEPS_PER_DAY)))

    def _announce(self) -> None:
        if self._values is not None:
            value = show(float(self._values[self._clock.step]), self._kind, None if self._kind == "fraction" else 1)
            self.setAccessibleDescription(f"{self._name} at the clock: {value}")
        self.update()

    # --- events
    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        step = self._step_at(event.position())
        if step is not None and (event.buttons() & Qt.MouseButton.LeftButton or not event.buttons()):
            self.moved.emit(step)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        step = self._step_at(event.position())
        if step is not None:
            self.moved.emit(step)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, step = event.key(), self._clock.step
        by = {
            Qt.Key.Key_Right: STEPS_PER_DAY, Qt.Key.Key_Left: -STEPS_PER_DAY, Qt.Key.Key_Up: 3, Qt.Key.Key_Down: -3,
            Qt.Key.Key_PageUp: -7 * STEPS_PER_DAY, Qt.Key.Key_PageDown: 7 * STEPS_PER_DAY,
        }.get(Qt.Key(key))  # fmt: skip
        if by is None:
            super().keyPressEvent(event)
        else:
            self.moved.emit(step + by)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        frame = self.frame_rect()
        painter.fillRect(frame, self._theme.color("track"))
        if self._image is not None:
            painter.setOpacity(0.45 if self._dim else 1.0)
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            painter.drawImage(frame, self._image)
            painter.setOpacity(1.0)
        painter.setFont(ui_font(7.5 * self._scale))
        painter.setPen(self._theme.color("quiet"))
        for rect, text, align in self.tick_labels():
            painter.drawText(rect, align | Qt.AlignmentFlag.AlignVCenter, text)
        if self._image is None:
            painter.drawText(frame, Qt.AlignmentFlag.AlignCenter, "the year is being run")
            return
        x = frame.x() + (self._clock.day + 0.5) / 365 * frame.width()
        y = frame.bottom() - (self._clock.in_day + 0.5) / STEPS_PER_DAY * frame.height()
        painter.setPen(QPen(self._theme.color("ink"), 1.4))
        painter.drawRect(QRectF(x - 2, frame.y() - 2, 4, frame.height() + 4))
        painter.drawLine(QPointF(x - 6, y), QPointF(x + 6, y))
        if self.hasFocus():
            painter.setPen(QPen(self._theme.color("accent"), 1.6, Qt.PenStyle.DashLine))
            painter.drawRect(frame.adjusted(-1, -1, 1, 1))

    def tick_labels(self) -> list[tuple[QRectF, str, Qt.AlignmentFlag]]:
        """Return where month and hour labels stand; a label that would touch the one before is left out."""
        frame = self.frame_rect()
        metrics = ui_metrics(7.5 * self._scale)
        out: list[tuple[QRectF, str, Qt.AlignmentFlag]] = []
        start, right = 0, -1.0
        for days, name in zip(MONTH_DAYS, MONTHS, strict=True):
            x, w = frame.x() + start / 365 * frame.width(), metrics.horizontalAdvance(name)
            if x > right and x + w <= self.width():
                out.append((QRectF(x, frame.bottom() + 2, w + 1, metrics.height()), name, Qt.AlignmentFlag.AlignLeft))
                right = x + w + 4
            start += days
        last = self.height() + 1.0
        for hour in HOURS:
            y = frame.bottom() - hour / 24 * frame.height()
            rect = QRectF(
                0, min(max(0.0, y - metrics.height() / 2), frame.bottom() - metrics.height() + 3), frame.x() - 4, metrics.height()
            )
            if rect.bottom() <= last:
                out.append((rect, f"{hour} h", Qt.AlignmentFlag.AlignRight))
                last = rect.y()
        return out
