"""Yield by tilt and direction at a place, in percent of the best, with the face itself marked."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from calm_relay.decision.directions import DirectionMap
from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.theme import Theme, mixed, readable_on, ui_font, ui_metrics
from calm_relay.ui.views.compass import wind

CELL_HIGH_PX = 17.0


class DirectionMapView(Copyable, QWidget):
    """One row a tilt, one column a direction; figures are percent of the best, darker is more."""

    def __init__(self, theme: Theme, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._theme, self._scale = theme, scale
        self._map: DirectionMap | None = None
        self._face = (0.0, 0.0)
        self._middle = 180.0
        self.setObjectName("direction-map")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(round((9 * CELL_HIGH_PX + 20) * scale))
        self.setAccessibleName("Yield by tilt and direction")

    def sizeHint(self) -> QSize:
        return QSize(560, self.height())

    def show_map(self, made: DirectionMap | None, tilt_deg: float, azimuth_deg: float, *, north: bool) -> None:
        """Show a map with the face's own direction; None while it is worked out."""
        self._map, self._face, self._middle = made, (tilt_deg, azimuth_deg), 180.0 if north else 0.0
        if made is not None:
            tilt, azimuth, value = made.best
            self.setAccessibleDescription(f"best {value:.0f} kWh per kWp at tilt {tilt:g}, azimuth {azimuth:g}, {wind(azimuth)}")
        self.update()

    def copy_rows(self) -> Rows:
        """Return the yields: a row a tilt, a column a direction."""
        if self._map is None:
            return ()
        heads = ["kWh per kWp", *(f"{a:g}°" for a in self._map.azimuths_deg)]
        rows = zip(self._map.tilts_deg, self._map.kwh_per_kwp, strict=True)
        return [heads, *([f"tilt {tilt:g}°", *(f"{v:.0f}" for v in values)] for tilt, values in rows)]

    # --- geometry
    def _order(self) -> list[float]:
        """Return the directions from left to right, the noon sun's in the middle."""
        assert self._map is not None
        return sorted(self._map.azimuths_deg, key=lambda a: (a - self._middle + 180.0) % 360.0)

    def _frame(self) -> QRectF:
        metrics = ui_metrics(7.5 * self._scale)
        left = metrics.horizontalAdvance("tilt 90°") + 8
        return QRectF(left, 2, max(40.0, self.width() - left - 4), self.height() - metrics.height() - 7)

    def _cell(self, row: int, column: int) -> QRectF:
        assert self._map is not None
        frame = self._frame()
        wide, high = frame.width() / len(self._map.azimuths_deg), frame.height() / len(self._map.tilts_deg)
        return QRectF(frame.x() + column * wide, frame.y() + row * high, wide, high)

    def labels(self) -> list[tuple[QRectF, str, Qt.AlignmentFlag]]:
        """Return where the texts beside the cells stand; one that would touch another is left out."""
        if self._map is None:
            return []
        metrics, frame = ui_metrics(7.5 * self._scale), self._frame()
        out = []
        for row, tilt in enumerate(self._map.tilts_deg):
            middle = self._cell(row, 0).center().y()
            rect = QRectF(0, middle - metrics.height() / 2, frame.x() - 5, metrics.height())
            out.append(
                (rect, f"tilt {tilt:g}°" if row in (0, len(self._map.tilts_deg) - 1) else f"{tilt:g}°", Qt.AlignmentFlag.AlignRight)
            )
        last = -1e9
        for column, azimuth in enumerate(self._order()):
            text = f"{azimuth:g}°"
            wide = metrics.horizontalAdvance(text) + 2
            rect = QRectF(self._cell(0, column).center().x() - wide / 2, frame.bottom() + 3, wide, metrics.height())
            if rect.x() > last:
                out.append((rect, text, Qt.AlignmentFlag.AlignCenter))
                last = rect.right() + 3
        return out

    def paintEvent(self, _: QPaintEvent) -> None:
        painter = QPainter(self)
        t, metrics = self._theme, ui_metrics(7.5 * self._scale)
        painter.setFont(ui_font(7.5 * self._scale))
        painter.setPen(t.color("quiet"))
        if self._map is None:
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "other tilts and directions are being worked out")
            return
        best = max(self._map.best[2], 1e-9)
        order = self._order()
        for row, values in enumerate(self._map.kwh_per_kwp):
            for column, azimuth in enumerate(order):
                part = values[self._map.azimuths_deg.index(azimuth)] / best
                cell = self._cell(row, column)
                ground = mixed(t.color("track"), t.color("sun"), max(0.0, 2 * part - 1))
                painter.fillRect(cell.adjusted(0.5, 0.5, -0.5, -0.5), ground)
                text = f"{part * 100:.0f}"
                if metrics.horizontalAdvance(text) + 2 < cell.width():
                    painter.setPen(readable_on(t, ground))
                    painter.drawText(cell, Qt.AlignmentFlag.AlignCenter, text)
        painter.setPen(t.color("quiet"))
        for rect, text, align in self.labels():
            painter.drawText(rect, align | Qt.AlignmentFlag.AlignVCenter, text)
        self._paint_face(painter)

    def _paint_face(self, painter: QPainter) -> None:
        """Mark where the face itself lies between the cells."""
        assert self._map is not None
        tilt, azimuth = self._face
        frame, count = self._frame(), len(self._map.azimuths_deg)
        order = self._order()
        across = ((azimuth - order[0]) % 360.0) / (360.0 / count) + 0.5
        tilts = self._map.tilts_deg
        below = max(i for i, value in enumerate(tilts) if value <= tilt + 1e-9)
        above = min(below + 1, len(tilts) - 1)
        part = (tilt - tilts[below]) / (tilts[above] - tilts[below]) if above > below else 0.0
        down = below + part + 0.5
        x = frame.x() + (across % count) * frame.width() / count
        at = QPointF(x, frame.y() + down * frame.height() / len(tilts))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        side = 8 * self._scale
        for color, wide in (("panel", 4.0), ("ink", 2.0)):
            painter.setPen(QPen(self._theme.color(color), wide))
            painter.drawRect(QRectF(at.x() - side, at.y() - side * 0.8, 2 * side, 1.6 * side))
