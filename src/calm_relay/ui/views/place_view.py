"""Mounting places side by side: what stands in each, and what its checks say, a line a check with its verdict in words."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.theme import VERDICT_ROLE, Theme, ui_font, ui_metrics

WRAP = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag(Qt.TextFlag.TextWordWrap)
NONE = "No place is chosen for a battery or an inverter yet"
PAD, GAP, LEAST_PX = 10.0, 12.0, 250.0


@dataclass(frozen=True)
class PlaceBox:
    """A place in use: its name, what stands there, and (check, verdict in words, figures, verdict) of each of its checks."""

    name: str
    things: tuple[str, ...]
    checks: tuple[tuple[str, str, str, str], ...]


class PlacesView(Copyable, QWidget):
    """A card a place; as many side by side as the width holds. Its height follows from its width."""

    def __init__(self, theme: Theme, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._theme, self._scale = theme, scale
        self._boxes: tuple[PlaceBox, ...] = ()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_boxes(self, boxes: tuple[PlaceBox, ...]) -> None:
        """Show these places."""
        self._boxes = boxes
        words = [f"{box.name}: {', '.join(box.things)}; {', '.join(f'{n} {w}' for n, w, _, _ in box.checks)}" for box in boxes]
        self.setAccessibleName(" | ".join(words) or NONE)
        self._fit()
        self.update()

    def copy_rows(self) -> Rows:
        """Return every check of every place."""
        rows = [[box.name, check, figure, word] for box in self._boxes for check, word, figure, _ in box.checks]
        return [["place", "check", "figures", "verdict"], *rows]

    def _columns(self) -> int:
        return max(1, min(len(self._boxes) or 1, int((self.width() + GAP) // (LEAST_PX * self._scale + GAP))))

    def _places(self) -> list[QRectF]:
        count = self._columns()
        width = (self.width() - GAP * (count - 1)) / count
        out, y, high = [], 0.0, 0.0
        for i, box in enumerate(self._boxes):
            column = i % count
            if column == 0 and i:
                y, high = y + high + GAP, 0.0
            rect = QRectF(column * (width + GAP), y, width, self._height(box, width))
            high = max(high, rect.height())
            out.append(rect)
        return out

    def _height(self, box: PlaceBox, width: float) -> float:
        head, plain = ui_metrics(9.5 * self._scale, bold=True), ui_metrics(8.75 * self._scale)
        room = QRectF(0, 0, width - 2 * PAD, 1000)
        things = sum(plain.boundingRect(room, WRAP, text).height() for text in box.things)
        return 2 * PAD + head.height() + things + 6 + len(box.checks) * (plain.height() + 2)

    def _fit(self) -> None:
        rects = self._places()
        least = ui_metrics(8.75 * self._scale).height() + 4
        self.setFixedHeight(int(max((r.bottom() for r in rects), default=least)) + 2)

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._fit()

    def sizeHint(self) -> QSize:
        return QSize(int(LEAST_PX * self._scale), self.height())

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t, s = self._theme, self._scale
        head, plain, bold = ui_metrics(9.5 * s, bold=True), ui_metrics(8.75 * s), ui_metrics(8.75 * s, bold=True)
        if not self._boxes:
            painter.setPen(t.color("quiet"))
            painter.setFont(ui_font(8.75 * s))
            painter.drawText(QRectF(0, 0, self.width(), self.height()), WRAP, f"{NONE}.")
            return
        for box, rect in zip(self._boxes, self._places(), strict=True):
            painter.setPen(t.color("track"))
            painter.drawRect(rect.adjusted(0.5, 0.5, -0.5, -0.5))
            inner = rect.adjusted(PAD, PAD, -PAD, -PAD)
            painter.setPen(t.color("ink"))
            painter.setFont(ui_font(9.5 * s, bold=True))
            painter.drawText(inner, WRAP, box.name[:1].upper() + box.name[1:])
            y = inner.y() + head.height()
            painter.setFont(ui_font(8.75 * s))
            painter.setPen(t.color("quiet"))
            for text in box.things:
                high = plain.boundingRect(QRectF(0, 0, inner.width(), 1000), WRAP, text).height()
                painter.drawText(QRectF(inner.x(), y, inner.width(), high), WRAP, text)
                y += high
            y += 6
            for name, word, figure, verdict in box.checks:
                painter.setFont(ui_font(8.75 * s, bold=True))
                painter.setPen(t.color(VERDICT_ROLE[verdict]))
                right = bold.horizontalAdvance(word) + 2
                painter.drawText(QRectF(inner.right() - right, y, right, plain.height()), Qt.AlignmentFlag.AlignRight, word)
                painter.setFont(ui_font(8.75 * s))
                painter.setPen(t.color("ink"))
                text = plain.elidedText(
                    f"{name}  {figure}" if figure not in ("", "yes", "no") else name, Qt.TextElideMode.ElideRight,
                    int(inner.width() - right - 8),
                )  # fmt: skip
                painter.drawText(QRectF(inner.x(), y, inner.width() - right - 8, plain.height()), Qt.AlignmentFlag.AlignLeft, text)
                y += plain.height() + 2
