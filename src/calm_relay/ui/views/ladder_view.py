"""The string ladder on screen: one column a string, its cold and hot volts against the tracker's window and the ceiling."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QBrush, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from calm_relay.pv.ladder import Ladder
from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.theme import Theme, ui_font, ui_metrics

COLUMN_PX = 168
WRAP = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag(Qt.TextFlag.TextWordWrap)


class LadderView(Copyable, QWidget):
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

    def copy_rows(self) -> Rows:
        """Return the volts of every string."""
        heads = [
            "inverter",
            "tracker",
            "cold open, V",
            "cold working, V",
            "hot working, V",
            "window from, V",
            "window to, V",
            "ceiling, V",
        ]
        out = [heads]
        for x in self._ladders:
            known = (x.cold_voc_v, x.cold_vmp_v, x.hot_vmp_v, x.mppt_min_v, x.mppt_max_v, x.ceiling_v)
            out.append([x.node, str(x.tracker), *("not known" if v is None else f"{v:.1f}" for v in known)])
        return out

    # --- geometry
    def _per_row(self) -> int:
        return max(1, int(self.width() / (COLUMN_PX * self._scale)))

    def _title(self, ladder: Ladder) -> str:
        return f"{ladder.node}, tracker {ladder.tracker}"

    def _title_height(self) -> float:
        """Height of the tallest title, wrapped to its column."""
        metrics = ui_metrics(8.25 * self._scale, bold=True)
        room = QRectF(0, 0, COLUMN_PX * self._scale - 10, 1000)
        return max((metrics.boundingRect(room, WRAP, self._title(x)).height() for x in self._ladders), default=0.0)

    def _row_px(self) -> float:
        return self._title_height() + 178.0 * self._scale

    def _fit(self) -> None:
        rows = -(-len(self._ladders) // self._per_row()) if self._ladders else 0
        self.setFixedHeight(int(rows * self._row_px()) + 2 if rows else int(24 * self._scale))
        self.update()

    def resizeEvent(self, event: object) -> None:
        self._fit()

    def minimumSizeHint(self) -> QSize:
        return QSize(int(COLUMN_PX * self._scale), 24)

    def _cell(self, index: int) -> QRectF:
        row, column = divmod(index, self._per_row())
        return QRectF(column * COLUMN_PX * self._scale, row * self._row_px(), COLUMN_PX * self._scale, self._row_px())

    def _frame(self, index: int) -> QRectF:
        cell, line = self._cell(index), ui_metrics(7.75 * self._scale).height()
        top = cell.y() + self._title_height() + line + 8
        return QRectF(cell.x() + 4, top, 26 * self._scale, cell.bottom() - top - 12)

    def _y(self, index: int, volts: float) -> float:
        x, frame = self._ladders[index], self._frame(index)
        return frame.bottom() - volts / (max(x.ceiling_v, x.cold_voc_v or 0.0, x.mppt_max_v) * 1.06) * frame.height()

    def _marks(self, x: Ladder) -> list[tuple[float, str, str]]:
        """Return what is marked on a ladder: volts, words, role."""
        over = x.cold_voc_v is not None and x.cold_voc_v > x.ceiling_v
        under = x.hot_vmp_v is not None and x.hot_vmp_v < x.mppt_min_v
        cold = "cold: not known" if x.cold_voc_v is None else f"{x.cold_voc_v:.0f} V cold, open"
        hot = "hot: not known" if x.hot_vmp_v is None else f"{x.hot_vmp_v:.0f} V hot, working"
        return [
            (x.ceiling_v, f"{x.ceiling_v:.0f} V {x.ceiling}", "ink"),
            (x.cold_voc_v or 0.0, cold, "over" if over else "accent"),
            (x.hot_vmp_v or 0.0, hot, "over" if under else "accent"),
            (x.mppt_min_v, f"{x.mppt_min_v:.0f} V tracker needs", "quiet"),
        ]

    def labels(self) -> list[tuple[QRectF, str, str, bool]]:
        """Return every label: place, text, role, bold. Those beside a ladder are pushed apart so that none touches another."""
        out: list[tuple[QRectF, str, str, bool]] = []
        plain = ui_metrics(7.75 * self._scale)
        height = plain.height()
        for i, x in enumerate(self._ladders):
            cell, frame = self._cell(i), self._frame(i)
            width = cell.width() - 10
            out.append((QRectF(cell.x(), cell.y(), width, self._title_height()), self._title(x), "ink", True))
            out.append((QRectF(cell.x(), cell.y() + self._title_height(), width, height), f"{x.modules} in series", "quiet", False))
            wanted = sorted(
                ((self._y(i, volts) - height / 2, text, role) for volts, text, role in self._marks(x)), key=lambda row: row[0]
            )
            places: list[float] = []
            for y, _, _ in wanted:
                places.append(max(y, places[-1] + height if places else frame.y() - 4))
            for j in range(len(places) - 1, -1, -1):
                most = cell.bottom() - height - 2 if j == len(places) - 1 else places[j + 1] - height
                places[j] = min(places[j], most)
            left = frame.right() + 7
            for y, (_, text, role) in zip(places, wanted, strict=True):
                out.append((QRectF(left, y, plain.horizontalAdvance(text) + 1, height), text, role, False))
        return out

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not self._ladders:
            painter.setFont(ui_font(8.5 * self._scale))
            painter.setPen(self._theme.color("quiet"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, "no strings in this plan")
            return
        for i in range(len(self._ladders)):
            self._paint(painter, i)
        for rect, text, role, bold in self.labels():
            painter.setFont(ui_font((8.25 if bold else 7.75) * self._scale, bold=bold))
            painter.setPen(self._theme.color(role))
            painter.drawText(rect, WRAP if bold else Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, text)

    def _paint(self, painter: QPainter, index: int) -> None:
        t, s, x, frame = self._theme, self._scale, self._ladders[index], self._frame(index)
        high, low = self._y(index, x.mppt_max_v), self._y(index, x.mppt_min_v)
        painter.fillRect(QRectF(frame.x(), high, frame.width(), low - high), t.color("track"))
        painter.setPen(QPen(t.color("line"), 1))
        painter.drawRect(frame)
        if x.hot_vmp_v is not None and x.cold_vmp_v is not None:
            high, low = self._y(index, x.cold_vmp_v), self._y(index, x.hot_vmp_v)
            painter.fillRect(QRectF(frame.x() + 7 * s, high, frame.width() - 14 * s, low - high), QBrush(t.color("sun")))
        for volts, _, role in self._marks(x)[:3]:
            if volts:
                painter.setPen(QPen(t.color(role), 2.2))
                painter.drawLine(QPointF(frame.x() - 3, self._y(index, volts)), QPointF(frame.right() + 3, self._y(index, volts)))
