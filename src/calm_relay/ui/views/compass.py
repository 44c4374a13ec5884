"""A dial that shows and turns the direction a roof face looks; its field beside it takes the same in digits."""

from __future__ import annotations

import math

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from calm_relay.ui.theme import Theme, ui_font, ui_metrics

SIDE_PX = 66.0
WINDS = ("north", "north-east", "east", "south-east", "south", "south-west", "west", "north-west")
KEYS = {
    Qt.Key.Key_Right: 1.0, Qt.Key.Key_Left: -1.0, Qt.Key.Key_Up: 5.0, Qt.Key.Key_Down: -5.0, Qt.Key.Key_PageUp: 45.0,
    Qt.Key.Key_PageDown: -45.0,
}  # fmt: skip


def wind(azimuth_deg: float) -> str:
    """Return the nearest of eight directions in words."""
    return WINDS[round(azimuth_deg / 45.0) % 8]


class CompassDial(QWidget):
    """Emits `turned` with a new azimuth; arrows turn by 1° and 5°, page keys by 45°, the mouse by 5° (1° with Ctrl)."""

    turned = Signal(float)

    def __init__(self, name: str, theme: Theme, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._theme, self._scale, self._name = theme, scale, name
        self.azimuth_deg, self._tilt_deg = 0.0, 0.0
        self.setAccessibleName(f"Direction of {name}")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setToolTip("Turn by dragging, by the arrow keys (1° and 5°) or Page up and down (45°)")
        side = round(SIDE_PX * scale)
        self.setFixedSize(side, side)

    def show_face(self, azimuth_deg: float, tilt_deg: float) -> None:
        """Show where a face looks and how steep it is: the plane gets shorter as it stands up."""
        self.azimuth_deg, self._tilt_deg = azimuth_deg, tilt_deg
        self.setAccessibleDescription(f"{azimuth_deg:g} degrees, {wind(azimuth_deg)}; tilt {tilt_deg:g} degrees")
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        by = KEYS.get(Qt.Key(event.key()))
        if by is None:
            super().keyPressEvent(event)
        else:
            self.turned.emit((self.azimuth_deg + by) % 360.0)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._turn(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._turn(event)

    def _turn(self, event: QMouseEvent) -> None:
        at = event.position() - QPointF(self.width() / 2, self.height() / 2)
        if math.hypot(at.x(), at.y()) < 4:
            return
        by = 1.0 if event.modifiers() & Qt.KeyboardModifier.ControlModifier else 5.0
        azimuth = by * round(math.degrees(math.atan2(at.x(), -at.y())) / by) % 360.0
        if azimuth != self.azimuth_deg:
            self.turned.emit(azimuth)

    def paintEvent(self, _: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t, middle = self._theme, QPointF(self.width() / 2, self.height() / 2)
        radius = self.width() / 2 - 2
        painter.setPen(QPen(t.color("accent" if self.hasFocus() else "line"), 1.8 if self.hasFocus() else 1.0))
        painter.setBrush(t.color("panel"))
        painter.drawEllipse(middle, radius, radius)
        painter.setFont(ui_font(7 * self._scale))
        painter.setPen(t.color("quiet"))
        high = ui_metrics(7 * self._scale).height()
        for letter, angle in (("N", 0), ("E", 90), ("S", 180), ("W", 270)):
            at = self._at(middle, radius - high / 2, angle)
            painter.drawText(QRectF(at.x() - 10, at.y() - high / 2, 20, high), Qt.AlignmentFlag.AlignCenter, letter)
        inner = (radius - high) * 0.86
        depth = max(0.25, math.cos(math.radians(self._tilt_deg))) * inner
        ridge = [self._at(middle, 0.62 * inner, self.azimuth_deg + side) for side in (-90, 90)]
        eave = QPointF(self._at(QPointF(0, 0), depth, self.azimuth_deg))
        plane = QPolygonF([ridge[0], ridge[1], ridge[1] + eave, ridge[0] + eave])
        painter.setClipRect(self.rect())
        painter.setPen(QPen(t.color("ink"), 1.2))
        painter.setBrush(t.color("sun"))
        painter.drawPolygon(plane)
        painter.setPen(QPen(t.color("ink"), 2.4))
        painter.drawLine(ridge[0], ridge[1])

    @staticmethod
    def _at(middle: QPointF, radius: float, azimuth_deg: float) -> QPointF:
        turn = math.radians(azimuth_deg)
        return QPointF(middle.x() + radius * math.sin(turn), middle.y() - radius * math.cos(turn))
