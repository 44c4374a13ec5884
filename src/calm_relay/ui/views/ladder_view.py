"""The string ladder on screen: one column a string, its cold and hot volts against the tracker's window and the ceiling."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QBrush, QFontMetricsF, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from calm_relay.pv.ladder import Ladder
from calm_relay.ui.theme import Theme, ui_font

COLUMN_PX = 150


class LadderView(QWidget):
    """Paints ladders; columns wrap to further rows where there are many."""

    def __init__(self, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._theme, self._scale = theme, 1.0
        self._ladders: tuple[Ladder, ...] = ()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("String ladder")
        self.setObjectName("ladder")

    def set_theme(self, theme: Theme, scale: float) -> None:
        """Use other colours and another text size."""
        self._theme, self._scale = theme, scale
        self._fit()

    def show_ladders(self, ladders: tuple[Ladder, ...]) -> None:
        """Show the strings of a plan."""
        self._ladders = ladders
        said = []
        for x in ladders:
            cold = "not known" if x.cold_voc_v is None else f"{x.cold_voc_v:.0f} V"
            hot = "not known" if x.hot_vmp_v is None else f"{x.hot_vmp_v:.0f} V"
            window = f"window {x.mppt_min_v:.0f} to {x.mppt_max_v:.0f} V"
            said.append(f"{x.node} tracker {x.tracker}: cold {cold} of {x.ceiling_v:.0f} V, hot {hot}, {window}")
        self.setAccessibleDescription("; ".join(said))
        self._fit()

    def _per_row(self) -> int:
        return max(1, int(self.width() / (COLUMN_PX * self._scale)))

    def _row_px(self) -> float:
        return 196.0 * self._scale

    def _fit(self) -> None:
        rows = -(-len(self._ladders) // self._per_row()) if self._ladders else 0
        self.setFixedHeight(int(rows * self._row_px()) if rows else int(24 * self._scale))
        self.update()

    def resizeEvent(self, event: object) -> None:
        self._fit()

    def minimumSizeHint(self) -> QSize:
        return QSize(int(COLUMN_PX * self._scale), 24)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not self._ladders:
            painter.setFont(ui_font(8.5 * self._scale))
            painter.setPen(self._theme.color("quiet"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, "no strings in this plan")
            return
        for i, ladder in enumerate(self._ladders):
            row, column = divmod(i, self._per_row())
            self._paint(
                painter,
                ladder,
                QRectF(column * COLUMN_PX * self._scale, row * self._row_px(), COLUMN_PX * self._scale, self._row_px()),
            )

    def _paint(self, painter: QPainter, x: Ladder, cell: QRectF) -> None:
        t, s = self._theme, self._scale
        painter.setFont(ui_font(8.25 * s, bold=True))
        line = QFontMetricsF(painter.font()).height()
        painter.setPen(t.color("ink"))
        width = cell.width() - 8
        metrics = QFontMetricsF(painter.font())
        node = metrics.elidedText(x.node, Qt.TextElideMode.ElideRight, width - metrics.horizontalAdvance(f", T{x.tracker}"))
        painter.drawText(QRectF(cell.x(), cell.y(), width, line), Qt.AlignmentFlag.AlignLeft, f"{node}, T{x.tracker}")
        painter.setFont(ui_font(7.75 * s))
        painter.setPen(t.color("quiet"))
        painter.drawText(QRectF(cell.x(), cell.y() + line, width, line), Qt.AlignmentFlag.AlignLeft, f"{x.modules} in series")
        scale_top = max(x.ceiling_v, x.cold_voc_v or 0.0, x.mppt_max_v) * 1.06
        frame = QRectF(cell.x() + 4, cell.y() + 2 * line + 8, 30 * s, cell.height() - 2 * line - 20)

        def y_of(volts: float) -> float:
            return frame.bottom() - volts / scale_top * frame.height()

        painter.fillRect(
            QRectF(frame.x(), y_of(x.mppt_max_v), frame.width(), y_of(x.mppt_min_v) - y_of(x.mppt_max_v)), t.color("track")
        )
        painter.setPen(QPen(t.color("line"), 1))
        painter.drawRect(frame)
        if x.hot_vmp_v is not None and x.cold_vmp_v is not None:
            low, high = y_of(x.hot_vmp_v), y_of(x.cold_vmp_v)
            painter.fillRect(QRectF(frame.x() + 8 * s, high, frame.width() - 16 * s, low - high), QBrush(t.color("sun")))
        marks: list[tuple[float, str, str]] = [(x.ceiling_v, f"{x.ceiling_v:.0f} V {x.ceiling}", "ink")]
        over = x.cold_voc_v is not None and x.cold_voc_v > x.ceiling_v
        under = x.hot_vmp_v is not None and x.hot_vmp_v < x.mppt_min_v
        marks.append(
            (
                x.cold_voc_v or 0.0,
                f"{x.cold_voc_v:.0f} V cold, open" if x.cold_voc_v is not None else "cold: not known",
                "over" if over else "accent",
            )
        )
        marks.append(
            (
                x.hot_vmp_v or 0.0,
                f"{x.hot_vmp_v:.0f} V hot, working" if x.hot_vmp_v is not None else "hot: not known",
                "over" if under else "accent",
            )
        )
        marks.append((x.mppt_min_v, f"{x.mppt_min_v:.0f} V tracker needs", "quiet"))
        painter.setPen(QPen(t.color("ink"), 2.2))
        painter.drawLine(QPointF(frame.x() - 3, y_of(x.ceiling_v)), QPointF(frame.right() + 3, y_of(x.ceiling_v)))
        for volts, _, role in marks[1:3]:
            if volts:
                painter.setPen(QPen(t.color(role), 2.2))
                painter.drawLine(QPointF(frame.x() - 3, y_of(volts)), QPointF(frame.right() + 3, y_of(volts)))
        self._labels(
            painter, marks, frame, y_of, QRectF(cell.x(), cell.y() + 2 * line + 2, cell.width() - 6, cell.height() - 2 * line - 6)
        )

    def _labels(self, painter: QPainter, marks: list[tuple[float, str, str]], frame: QRectF, y_of: object, room: QRectF) -> None:
        """Labels beside the ladder, pushed apart so that none touches another."""
        painter.setFont(ui_font(7.75 * self._scale))
        metrics = QFontMetricsF(painter.font())
        height = metrics.height()
        wanted = sorted(((y_of(volts) - height / 2, text, role) for volts, text, role in marks), key=lambda row: row[0])  # type: ignore[operator]
        places: list[float] = []
        for y, _, _ in wanted:
            places.append(max(y, places[-1] + height if places else room.y()))
        for i in range(len(places) - 1, -1, -1):
            most = room.bottom() - height if i == len(places) - 1 else places[i + 1] - height
            places[i] = min(places[i], most)
        left = frame.right() + 8
        for y, (_, text, role) in zip(places, wanted, strict=True):
            painter.setPen(self._theme.color(role))
            shown = metrics.elidedText(text, Qt.TextElideMode.ElideRight, room.right() - left)
            painter.drawText(
                QRectF(left, y, room.right() - left, height), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, shown
            )
