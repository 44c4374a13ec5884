"""What stands around a face, drawn against the sun's ways over the place; points are set by mouse and by keys."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QBrush, QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from calm_relay.job.sky_models import HorizonPoint
from calm_relay.pv.shade import SunPath, horizon_elevation_deg
from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.theme import Theme, ui_font, ui_metrics

WINDS = {0: "N", 45: "NE", 90: "E", 135: "SE", 180: "S", 225: "SW", 270: "W", 315: "NW"}
HIGH_PX = 210
GRAB_PX = 9.0
MOST_POINTS = 73


class HorizonView(Copyable, QWidget):
    """Emits `changed` with the new points.

    Tab reaches it; left and right choose a point, up and down raise and lower it (Shift: by 5°), Ctrl with left and right moves
    it along, Insert puts one beside it, Delete takes it out. The mouse drags a point, or sets one where there is none.
    """

    changed = Signal(tuple, str)

    def __init__(self, theme: Theme, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._theme, self._scale = theme, scale
        self._points: tuple[HorizonPoint, ...] = ()
        self._paths: tuple[SunPath, ...] = ()
        self._middle, self._looks, self._chosen = 180.0, 180.0, 0
        self.setObjectName("horizon")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(round(HIGH_PX * scale))
        self.setAccessibleName("Horizon of the face against the sun's ways")

    def sizeHint(self) -> QSize:
        return QSize(600, self.height())

    def show_horizon(self, points: Sequence[HorizonPoint], paths: Sequence[SunPath], looks_deg: float, *, north: bool) -> None:
        """Show a face's points and the sun's ways; the side of the noon sun stands in the middle."""
        self._points = tuple(sorted(points, key=lambda p: p.azimuth_deg))
        self._paths, self._looks, self._middle = tuple(paths), looks_deg, 180.0 if north else 0.0
        self._chosen = min(self._chosen, max(0, len(self._points) - 1))
        self._announce()
        self.update()

    def copy_rows(self) -> Rows:
        """Return the points of the horizon."""
        return [["azimuth, °", "elevation, °"], *([f"{p.azimuth_deg:g}", f"{p.elevation_deg:g}"] for p in self._points)]

    @property
    def chosen(self) -> HorizonPoint | None:
        """The point in hand."""
        return self._points[self._chosen] if self._points else None

    def _announce(self) -> None:
        p = self.chosen
        here = "no points: open sky" if p is None else f"point at {p.azimuth_deg:g} degrees, {p.elevation_deg:g} degrees high"
        self.setAccessibleDescription(f"{len(self._points)} points; {here}")

    # --- geometry
    def _frame(self) -> QRectF:
        metrics = ui_metrics(7.5 * self._scale)
        left, low = metrics.horizontalAdvance("80°") + 6, metrics.height() + 3
        return QRectF(left, 6, max(10.0, self.width() - left - 6), max(10.0, self.height() - low - 8))

    def _top(self) -> float:
        highest = max((max(p.elevation_deg, default=0.0) for p in self._paths), default=60.0)
        highest = max([highest, *(p.elevation_deg for p in self._points)])
        return min(90.0, 10.0 * math.ceil((highest + 4.0) / 10.0))

    def place_x(self, azimuth_deg: float) -> float:
        frame = self._frame()
        return frame.x() + ((azimuth_deg - self._middle + 180.0) % 360.0) / 360.0 * frame.width()

    def place_y(self, elevation_deg: float) -> float:
        frame = self._frame()
        return frame.bottom() - elevation_deg / self._top() * frame.height()

    def _sky_at(self, at: QPointF) -> tuple[float, float]:
        frame = self._frame()
        azimuth = round((at.x() - frame.x()) / frame.width() * 360.0 - 180.0 + self._middle) % 360
        return float(azimuth), float(min(85, max(0, round((frame.bottom() - at.y()) / frame.height() * self._top()))))

    def _nearest(self, at: QPointF) -> int | None:
        spots = [
            (math.hypot(self.place_x(p.azimuth_deg) - at.x(), self.place_y(p.elevation_deg) - at.y()), i)
            for i, p in enumerate(self._points)
        ]
        if not spots or min(spots)[0] > GRAB_PX * self._scale:
            return None
        return min(spots)[1]

    # --- changing
    def _put(self, rows: list[tuple[float, float]], chosen_azimuth: float, words: str) -> None:
        """Take new points; one azimuth stands once, the later one wins."""
        by_azimuth = {a % 360.0: min(85.0, max(0.0, e)) for a, e in rows}
        if len(by_azimuth) > MOST_POINTS:
            return
        points = tuple(HorizonPoint(azimuth_deg=a, elevation_deg=e) for a, e in sorted(by_azimuth.items()))
        self._points = points
        self._chosen = next((i for i, p in enumerate(points) if p.azimuth_deg == chosen_azimuth % 360.0), 0)
        self._announce()
        self.update()
        self.changed.emit(points, words)

    def _rows(self, without: int | None = None) -> list[tuple[float, float]]:
        return [(p.azimuth_deg, p.elevation_deg) for i, p in enumerate(self._points) if i != without]

    def _set(self, azimuth: float, elevation: float, without: int | None) -> None:
        words = f"{azimuth % 360:g}° {elevation:g}° high"
        self._put([*self._rows(without), (azimuth, elevation)], azimuth, words)

    def insert_point(self) -> None:
        """Put a point half way to the next one, as high as the horizon is there."""
        if self.chosen is None:
            self._set(self._middle, 10.0, None)
            return
        after = self._points[(self._chosen + 1) % len(self._points)].azimuth_deg
        gap = (after - self.chosen.azimuth_deg) % 360.0 or 360.0
        azimuth = round(self.chosen.azimuth_deg + gap / 2) % 360
        if azimuth not in {p.azimuth_deg for p in self._points}:
            self._set(float(azimuth), round(float(horizon_elevation_deg(self._points, np.array([azimuth]))[0])), None)

    def remove_point(self) -> None:
        """Take the point in hand out."""
        p = self.chosen
        if p is not None:
            left = self._rows(self._chosen)
            self._put(left, left[min(self._chosen, len(left) - 1)][0] if left else 0.0, f"without {p.azimuth_deg:g}°")

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, p = Qt.Key(event.key()), self.chosen
        by = 5.0 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        along = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        if key in (Qt.Key.Key_Insert, Qt.Key.Key_Plus):
            self.insert_point()
        elif key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.remove_point()
        elif p is None:
            super().keyPressEvent(event)
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self._set(p.azimuth_deg, min(85.0, max(0.0, p.elevation_deg + (by if key == Qt.Key.Key_Up else -by))), self._chosen)
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            step = 1 if key == Qt.Key.Key_Right else -1
            if along:
                self._set(p.azimuth_deg + by * step, p.elevation_deg, self._chosen)
            else:
                order = sorted(range(len(self._points)), key=lambda i: self.place_x(self._points[i].azimuth_deg))
                self._chosen = order[(order.index(self._chosen) + step) % len(order)]
                self._announce()
                self.update()
        else:
            super().keyPressEvent(event)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        near = self._nearest(event.position())
        if event.button() == Qt.MouseButton.RightButton:
            if near is not None:
                self._chosen = near
                self.remove_point()
        elif near is not None:
            self._chosen = near
            self._announce()
            self.update()
        elif self._frame().contains(event.position()):
            self._set(*self._sky_at(event.position()), None)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        p = self.chosen
        if p is not None and event.buttons() & Qt.MouseButton.LeftButton and self._frame().contains(event.position()):
            azimuth, elevation = self._sky_at(event.position())
            taken = {q.azimuth_deg for i, q in enumerate(self._points) if i != self._chosen}
            if (azimuth, elevation) != (p.azimuth_deg, p.elevation_deg) and azimuth not in taken:
                self._set(azimuth, elevation, self._chosen)

    # --- painting
    def labels(self) -> list[tuple[QRectF, str, Qt.AlignmentFlag]]:
        """Return where the texts stand; one that would touch another is left out."""
        frame, metrics = self._frame(), ui_metrics(7.5 * self._scale)
        high = metrics.height()
        out: list[tuple[QRectF, str, Qt.AlignmentFlag]] = []

        def add(rect: QRectF, text: str, align: Qt.AlignmentFlag) -> None:
            inside = rect.x() >= 0 and rect.right() <= self.width() and rect.y() >= 0
            free = not any(rect.contains(QPointF(self.place_x(p.azimuth_deg), self.place_y(p.elevation_deg))) for p in self._points)
            if inside and free and not any(rect.adjusted(-2, 0, 2, 0).intersects(other) for other, _, _ in out):
                out.append((rect, text, align))

        for around, letters in WINDS.items():
            w = metrics.horizontalAdvance(letters) + 2
            add(QRectF(self.place_x(around) - w / 2, frame.bottom() + 3, w, high), letters, Qt.AlignmentFlag.AlignCenter)
        for tick in range(0, int(self._top()) + 1, 20):
            y = min(max(0.0, self.place_y(tick) - high / 2), frame.bottom() - high + 4)
            add(QRectF(0, y, frame.x() - 4, high), f"{tick}°", Qt.AlignmentFlag.AlignRight)
        for path in self._paths:
            if not path.elevation_deg:
                continue
            peak = max(range(len(path.elevation_deg)), key=lambda i: path.elevation_deg[i])
            w = metrics.horizontalAdvance(path.name) + 2
            x = min(max(frame.x() + 2, self.place_x(path.azimuth_deg[peak]) - w / 2), frame.right() - w)
            add(QRectF(x, self.place_y(path.elevation_deg[peak]) - high - 1, w, high), path.name, Qt.AlignmentFlag.AlignCenter)
        for path in self._paths[::2]:
            for azimuth, elevation, hour in self._hours(path):
                text = f"{hour:.0f} h"
                w = metrics.horizontalAdvance(text) + 2
                add(QRectF(self.place_x(azimuth) + 3, self.place_y(elevation) + 1, w, high), text, Qt.AlignmentFlag.AlignLeft)
        return out

    @staticmethod
    def _hours(path: SunPath) -> list[tuple[float, float, float]]:
        """Return the points of a way nearest each third hour."""
        out = []
        for hour in (6.0, 9.0, 12.0, 15.0, 18.0):
            near = [(abs(h - hour), a, e) for a, e, h in zip(path.azimuth_deg, path.elevation_deg, path.hour, strict=True)]
            if near and min(near)[0] < 0.2:
                _, azimuth, elevation = min(near)
                out.append((azimuth, elevation, hour))
        return out

    def paintEvent(self, _: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t, frame = self._theme, self._frame()
        painter.fillRect(frame, t.color("panel"))
        self._paint_behind(painter, frame)
        for path in self._paths:
            self._paint_path(painter, path)
        if self._points:
            self._paint_horizon(painter, frame)
        painter.setPen(QPen(t.color("accent" if self.hasFocus() else "line"), 1.6 if self.hasFocus() else 1.0))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(frame)
        painter.setFont(ui_font(7.5 * self._scale))
        painter.setPen(t.color("quiet"))
        for rect, text, align in self.labels():
            painter.drawText(rect, align | Qt.AlignmentFlag.AlignVCenter, text)

    def _paint_behind(self, painter: QPainter, frame: QRectF) -> None:
        """Shade the side that the face turns its back to."""
        for azimuth in range(0, 360, 2):
            if abs((azimuth - self._looks + 180.0) % 360.0 - 180.0) > 90.0:
                painter.fillRect(
                    QRectF(self.place_x(azimuth), frame.y(), frame.width() / 180 + 0.6, frame.height()), self._theme.color("track")
                )

    def _paint_path(self, painter: QPainter, path: SunPath) -> None:
        hidden = 0.0
        heights = horizon_elevation_deg(self._points, np.array(path.azimuth_deg, dtype=float))
        before: QPointF | None = None
        for azimuth, elevation, edge in zip(path.azimuth_deg, path.elevation_deg, heights, strict=True):
            here = QPointF(self.place_x(azimuth), self.place_y(elevation))
            covered = elevation < edge
            if before is not None and abs(here.x() - before.x()) < self.width() / 3:
                style = Qt.PenStyle.DotLine if covered or hidden else Qt.PenStyle.SolidLine
                painter.setPen(QPen(self._theme.color("sun"), 1.4 if covered else 2.0, style))
                painter.drawLine(before, here)
            before, hidden = here, covered
        painter.setBrush(self._theme.color("sun"))
        painter.setPen(Qt.PenStyle.NoPen)
        for azimuth, elevation, _ in self._hours(path):
            painter.drawEllipse(QPointF(self.place_x(azimuth), self.place_y(elevation)), 2.6 * self._scale, 2.6 * self._scale)

    def _paint_horizon(self, painter: QPainter, frame: QRectF) -> None:
        t = self._theme
        xs = np.linspace(frame.x(), frame.right(), 361)
        azimuths = (np.arange(361, dtype=float) - 180.0 + self._middle) % 360.0
        heights = horizon_elevation_deg(self._points, azimuths)
        shape = QPainterPath(QPointF(frame.x(), frame.bottom()))
        for x, height in zip(xs, heights, strict=True):
            shape.lineTo(QPointF(float(x), self.place_y(float(height))))
        shape.lineTo(frame.bottomRight())
        shape.closeSubpath()
        ground = t.color("ink")
        ground.setAlphaF(0.28)
        painter.setPen(QPen(t.color("ink"), 1.4))
        painter.setBrush(QBrush(ground))
        painter.drawPath(shape)
        side = 3.4 * self._scale
        for i, p in enumerate(self._points):
            at = QPointF(self.place_x(p.azimuth_deg), self.place_y(p.elevation_deg))
            grown = side * (1.6 if i == self._chosen and self.hasFocus() else 1.0)
            painter.setBrush(t.color("accent" if i == self._chosen and self.hasFocus() else "ink"))
            painter.setPen(QPen(t.color("panel"), 1.0))
            painter.drawRect(QRectF(at.x() - grown, at.y() - grown, 2 * grown, 2 * grown))
