"""A day of slots over the price bands: one row a slot, hatched where a later one takes its hours."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from calm_relay.report.slot_day import SlotDay
from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.theme import Theme, hatch_brush, mixed, ui_font, ui_metrics

HUES = {
    "charge_from_grid": "grid", "timer": "grid", "surplus_only": "sun", "clipped_only": "sun", "discharge_to_grid": "battery",
    "hold": "quiet",
}  # fmt: skip
PRICE_PX, ROW_PX, BAR_PX = 30, 24, 12
EVERY_H = 3


class SlotBars(Copyable, QWidget):
    """Hours of the clock from left to right; the dearer the hour, the taller and darker its price."""

    def __init__(self, theme: Theme, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._theme, self._scale = theme, scale
        self._day: SlotDay | None = None
        self._currency = ""
        self.setAccessibleName("Slots of the day over its prices")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_day(self, day: SlotDay, currency: str) -> None:
        """Show a day; prices are in a currency a kWh."""
        self._day, self._currency = day, currency
        self.setAccessibleDescription("; ".join(f"{row.title}: {row.words}" for row in day.rows))
        self.setFixedHeight(self.sizeHint().height())
        self.update()

    def copy_rows(self) -> Rows:
        """Return every slot with its hours and words, and the price of every hour."""
        if self._day is None:
            return [["hour", "price"]]
        hours = [[f"{hour:02d}:00", f"{self._day.price[4 * hour : 4 * hour + 4].mean():.4g}"] for hour in range(24)]
        slots = [[row.title, " ".join(f"{a:g}–{b:g}" for a, b in row.holds), row.words] for row in self._day.rows]
        return [["hour", "price"], *hours, ["slot", "holds", "does"], *slots]

    def sizeHint(self) -> QSize:
        rows = len(self._day.rows) if self._day else 0
        line = ui_metrics(8.0 * self._scale).height()
        return QSize(round(480 * self._scale), round((PRICE_PX + ROW_PX * rows + 8) * self._scale + line))

    def _names_px(self) -> float:
        metrics = ui_metrics(8.25 * self._scale)
        titles = [row.title for row in self._day.rows] if self._day else []
        return max((metrics.horizontalAdvance(text) for text in (self._price_words(), *titles)), default=0.0) + 10

    def _price_words(self) -> str:
        """Return the day's lowest and highest price."""
        if self._day is None:
            return ""
        low, high = float(self._day.price.min()), float(self._day.price.max())
        return f"{self._currency} {low:.3g}" + ("" if high == low else f" to {high:.3g}") + " a kWh"

    def places(self) -> dict[str, QRectF]:
        """Return where the price band and each slot's row stand."""
        s, left = self._scale, self._names_px()
        wide = max(60.0, self.width() - left - 4)
        out = {"price": QRectF(left, 4 * s, wide, PRICE_PX * s)}
        for i in range(len(self._day.rows) if self._day else 0):
            out[f"slot {i}"] = QRectF(left, (PRICE_PX + 8 + ROW_PX * i) * s, wide, ROW_PX * s)
        return out

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._day is None:
            return
        painter, t, s = QPainter(self), self._theme, self._scale
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        at = self.places()
        price, prices = at["price"], self._day.price
        low, high = min(0.0, float(prices.min())), float(prices.max())
        span = high - low if high > low else 1.0
        each = price.width() / len(prices)
        for i, value in enumerate(prices):
            part = (float(value) - low) / span
            bar = QRectF(price.x() + i * each, price.bottom() - part * price.height(), each + 0.5, part * price.height())
            painter.fillRect(bar, mixed(t.color("panel"), t.color("grid"), 0.25 + 0.5 * part))
        painter.setFont(ui_font(8.25 * s))
        painter.setPen(t.color("quiet"))
        middle = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        painter.drawText(QRectF(0, price.y(), price.x(), price.height()), middle, self._price_words())
        for i, row in enumerate(self._day.rows):
            place = at[f"slot {i}"]
            bar_y, hue = place.y() + (place.height() - BAR_PX * s) / 2, t.color(HUES[row.kind])
            painter.setPen(t.color("ink"))
            painter.drawText(QRectF(0, place.y(), place.x(), place.height()), middle, row.title)
            painter.fillRect(QRectF(place.x(), bar_y, place.width(), BAR_PX * s), t.color("track"))
            for spans, brush in ((row.holds, hue), (row.taken, hatch_brush(hue))):
                for a, b in spans:
                    x = place.x() + place.width() * a / 24.0
                    painter.fillRect(QRectF(x, bar_y, place.width() * (b - a) / 24.0, BAR_PX * s), brush)
        bottom = price.bottom() + 4 * s + ROW_PX * s * len(self._day.rows)
        painter.setFont(ui_font(8.0 * s))
        for hour in range(0, 25, EVERY_H):
            x = price.x() + price.width() * hour / 24.0
            painter.setPen(QPen(t.color("quiet"), 0.6, Qt.PenStyle.DotLine))
            painter.drawLine(round(x), round(price.y()), round(x), round(bottom))
            painter.setPen(t.color("quiet"))
            ends = {0: (Qt.AlignmentFlag.AlignLeft, x), 24: (Qt.AlignmentFlag.AlignRight, x - 40)}
            side, left = ends.get(hour, (Qt.AlignmentFlag.AlignHCenter, x - 20))
            painter.drawText(QRectF(left, bottom, 40, ui_metrics(8.0 * s).height()), side, f"{hour}")
