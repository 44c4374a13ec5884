"""Twelve small bars, one a month: what a roof face takes in."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from calm_relay.calendar import MONTHS
from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.theme import Theme, ui_font, ui_metrics

STEP_PX, BARS_PX = 21.0, 34.0


class MonthBars(Copyable, QWidget):
    """Paints a value a month on a scale shared with its neighbours; the words beside it carry the sum."""

    def __init__(self, name: str, theme: Theme, scale: float, parent: QWidget | None = None, *, hue: str = "sun") -> None:
        super().__init__(parent)
        self._theme, self._scale, self._hue = theme, scale, hue
        self._values: tuple[float, ...] = ()
        self._behind: tuple[float, ...] = ()
        self._top = 1.0
        self.setAccessibleName(name)
        self._letters_px = ui_metrics(7.5 * scale).height()
        self.setFixedSize(round(12 * STEP_PX * scale), round(BARS_PX * scale + self._letters_px + 2))

    def show_months(self, values: Sequence[float], top: float, unit: str, behind: Sequence[float] = ()) -> None:
        """Show twelve values, before twelve others drawn as outlines; the tallest bar on the page stands for `top`."""
        self._values, self._behind, self._top = tuple(values), tuple(behind), max(top, 1e-9)
        said = ", ".join(f"{month} {value:.0f}" for month, value in zip(MONTHS, values, strict=True))
        self.setAccessibleDescription(f"{said} {unit}")
        self.setToolTip(f"{said} {unit}")
        self.update()

    def copy_rows(self) -> Rows:
        """Return the months."""
        return [["month", self.accessibleName()], *([m, f"{v:g}"] for m, v in zip(MONTHS, self._values, strict=False))]

    def paintEvent(self, _: QPaintEvent) -> None:
        if not self._values:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(ui_font(7.5 * self._scale))
        step, base = STEP_PX * self._scale, BARS_PX * self._scale
        for i, value in enumerate(self._values):
            if self._behind:
                tall = base * self._behind[i] / self._top
                painter.setPen(self._theme.color("quiet"))
                painter.drawRect(QRectF(i * step + 2, base - tall, step - 4, tall))
            tall = base * value / self._top
            painter.fillRect(QRectF(i * step + 2, base - tall, step - 4, tall), self._theme.color(self._hue))
            painter.setPen(self._theme.color("quiet"))
            place = QRectF(i * step, base + 1, step, self._letters_px)
            painter.drawText(place, Qt.AlignmentFlag.AlignCenter, MONTHS[i][0])
        painter.setPen(self._theme.color("line"))
        painter.drawLine(QPointF(0, base), QPointF(self.width(), base))
        painter.end()
