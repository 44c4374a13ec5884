"""An inverter's efficiency over its load: the curve of its loss terms, and the points its sheet prints."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from calm_relay.equipment.efficiency import Fit, card_fit, efficiency_at
from calm_relay.library.cards import AcUnit, Card
from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.theme import Theme, ui_font, ui_metrics

LOWEST, TOP = 0.80, 1.00  # of the picture; what lies lower is drawn at its foot
LEFT, BELOW, ABOVE = 44.0, 22.0, 20.0


class FitView(Copyable, QWidget):
    """Hidden where a card has no efficiencies to show."""

    def __init__(self, theme: Theme, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._theme, self._scale = theme, scale
        self._fit: Fit | None = None
        self._rated = 1.0
        self.setAccessibleName("Efficiency by load")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.hide()

    def show_card(self, card: Card | None) -> None:
        """Show a card's curve and points."""
        self._fit = card_fit(card) if isinstance(card, AcUnit) else None
        self._rated = card.ac_rated_w if isinstance(card, AcUnit) else 1.0
        self.setVisible(self._fit is not None)
        if self._fit is not None:
            self.setAccessibleDescription(f"at most {self._fit.worst_frac * 100:.2f} % off its sheet")
        self.update()

    def copy_rows(self) -> Rows:
        """Return the points: load, efficiency on the sheet and of the loss."""
        points = self._fit.points if self._fit is not None else ()
        rows = ([f"{load * 100:.0f} %", f"{sheet * 100:.2f} %", f"{made * 100:.2f} %"] for load, sheet, made in points)
        return [["load", "on the sheet", "of the loss"], *rows]

    def sizeHint(self) -> QSize:
        return QSize(round(300 * self._scale), round(150 * self._scale))

    def _at(self, load: float, efficiency: float) -> QPointF:
        area = self._area()
        share = (min(max(efficiency, LOWEST), TOP) - LOWEST) / (TOP - LOWEST)
        return QPointF(area.left() + load * area.width(), area.bottom() - share * area.height())

    def _area(self) -> QRectF:
        s = self._scale
        return QRectF(LEFT * s, ABOVE * s, self.width() - (LEFT + 24) * s, self.height() - (ABOVE + BELOW) * s)

    def paintEvent(self, _: QPaintEvent) -> None:
        if self._fit is None:
            return
        painter, t, s, area = QPainter(self), self._theme, self._scale, self._area()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(ui_font(8.0 * s))
        painter.setPen(t.color("quiet"))
        high = ui_metrics(8.0 * s).height()
        painter.drawText(QPointF(0, high - 2), f"efficiency by load; at most {self._fit.worst_frac * 100:.2f} % off the sheet")
        for efficiency in (0.80, 0.85, 0.90, 0.95, 1.00):
            y = self._at(0.0, efficiency).y()
            painter.setPen(QPen(t.color("line"), 1.0))
            painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
            painter.setPen(t.color("quiet"))
            rect = QRectF(0, y - high / 2, area.left() - 6 * s, high)
            painter.drawText(rect, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, f"{efficiency * 100:.0f} %")
        for load in (0.0, 0.25, 0.5, 0.75, 1.0):
            x = self._at(load, 0.0).x()
            align = Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignTop
            painter.drawText(QRectF(x - 30 * s, area.bottom() + 3 * s, 60 * s, high), align, f"{load * 100:.0f} %")
        loads = np.linspace(0.01, 1.0, 160)
        curve = [self._at(float(x), efficiency_at(self._fit.terms, self._rated, float(x))) for x in loads]
        painter.setPen(QPen(t.color("accent"), 1.8))
        painter.drawPolyline(QPolygonF(curve))
        painter.setPen(QPen(t.color("ink"), 1.4))
        painter.setBrush(t.color("panel"))
        for load, sheet, _made in self._fit.points:
            painter.drawEllipse(self._at(load, sheet), 3.2 * s, 3.2 * s)
