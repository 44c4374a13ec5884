"""The flow ribbon: where the year's energy came from, where it went, and what was lost on the way; one scale for all."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QBrush, QColor, QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.theme import Theme, hatch_brush, ui_font, ui_metrics
from calm_relay.units import format_quantity as show
from calm_relay.year.pictures import SOURCES, STORES, USES, Ribbon

HUES = {
    "PV": "sun", "Grid": "grid",
    "Not served": "over", "Battery": "battery", "House": "house", "Exported": "grid", "Own draws": "quiet",
    "Lost in storing": "lost", "Clipped, held back": "lost",
}  # fmt: skip
LOSSES = ("Lost in storing", "Clipped, held back")
BAR = 12.0


class RibbonView(Copyable, QWidget):
    """Paints a :class:`Ribbon`; arrows go from bar to bar, and Enter or a click asks how one comes about."""

    asked = Signal(str)

    def __init__(self, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._theme, self._scale = theme, 1.0
        self._ribbon = Ribbon(())
        self._dim, self._at = False, 0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setToolTip("How a bar comes about: click it, or choose it with the arrows and press Enter")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Flows of the year")
        self.setObjectName("ribbon")

    def set_theme(self, theme: Theme, scale: float) -> None:
        """Use other colours and another text size."""
        self._theme, self._scale = theme, scale
        self.setMinimumWidth(int(360 * scale))
        self.setFixedHeight(int(182 * scale))
        self.update()

    def show_ribbon(self, ribbon: Ribbon, *, dim: bool) -> None:
        """Show a year; `dim`: it is of an older state."""
        self._ribbon, self._dim = ribbon, dim
        self.setAccessibleDescription("; ".join(f"{a} to {b} {show(wh, 'energy_wh', 0)}" for a, b, wh in ribbon.flows))
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        names, key = list(self.bars()), event.key()
        if names and key in (Qt.Key.Key_Right, Qt.Key.Key_Down, Qt.Key.Key_Left, Qt.Key.Key_Up):
            self._at = (self._at + (1 if key in (Qt.Key.Key_Right, Qt.Key.Key_Down) else -1)) % len(names)
            self.update()
        elif names and key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.asked.emit(names[self._at % len(names)])
        else:
            super().keyPressEvent(event)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        bars = self.bars()
        names = list(bars)
        places = [*(rect.adjusted(-8, -4, 8, 4) for rect in bars.values()), *(label[0] for label in self.labels())]
        hit = next((i % len(names) for i, rect in enumerate(places) if rect.contains(event.position())), None)
        if hit is not None:
            self._at = hit
            self.update()
            self.asked.emit(names[hit])

    def copy_rows(self) -> Rows:
        """Return every flow of the year."""
        return [["from", "to", "kWh a year"], *([a, b, f"{wh / 1000:.1f}"] for a, b, wh in self._ribbon.flows)]

    def bars(self) -> dict[str, QRectF]:
        """Return where every node's bar stands."""
        r = self._ribbon
        line = ui_metrics(8.25 * self._scale).height()
        columns = ((SOURCES, 0.0), (STORES, 0.44), (USES, 1.0))
        sizes = {name: max(r.into(name), r.out_of(name)) for names, _ in columns for name in names}
        tall = max((sum(sizes[n] for n in names if sizes[n]) for names, _ in columns), default=0.0)
        most = max((sum(1 for n in names if sizes[n]) for names, _ in columns), default=1)
        gap = 2.1 * line
        room = self.height() - most * gap - 4
        scale = max(0.0, room) / tall if tall > 0 else 0.0
        left, right = 4.0, self.width() - BAR - 4
        out: dict[str, QRectF] = {}
        for names, part in columns:
            y = gap if names is not STORES else gap + 0.35 * max(0.0, room)
            for name in names:
                if sizes[name] <= 0:
                    continue
                height = max(2.0, sizes[name] * scale)
                out[name] = QRectF(left + part * (right - left), y, BAR, height)
                y += height + gap
        return out

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        bars = self.bars()
        if not bars:
            painter.setPen(self._theme.color("quiet"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "the year is being run")
            return
        r = self._ribbon
        scale = max((bars[n].height() / max(1.0, r.into(n), r.out_of(n)) for n in bars), default=0.0)
        left_at = {name: rect.y() for name, rect in bars.items()}
        right_at = dict(left_at)
        for source, to, wh in sorted(r.flows, key=lambda row: (list(bars).index(row[0]), list(bars).index(row[1]))):
            thick = wh * min(bars[source].height() / max(r.out_of(source), r.into(source)), scale)
            a, b = bars[source], bars[to]
            self._band(
                painter,
                QPointF(a.right(), left_at[source]),
                QPointF(b.left(), right_at[to]),
                thick,
                self._color(source, to),
                to in LOSSES,
            )
            left_at[source] += thick
            right_at[to] += thick
        for name, rect in bars.items():
            color = self._theme.color(HUES[name])
            painter.fillRect(rect, hatch_brush(color) if name in LOSSES else QBrush(color))
        for rect, text, align, role in self.labels():
            painter.setFont(ui_font(8.25 * self._scale, bold=role == "ink"))
            painter.setPen(self._theme.color(role))
            painter.drawText(rect, align | Qt.AlignmentFlag.AlignVCenter, text)
        if self.hasFocus():
            painter.setPen(self._theme.color("accent"))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(list(bars.values())[self._at % len(bars)].adjusted(-2, -2, 2, 2))

    def labels(self) -> list[tuple[QRectF, str, Qt.AlignmentFlag, str]]:
        """Return every label with its place: name and energy above the node's bar."""
        metrics = ui_metrics(8.25 * self._scale, bold=True)
        out = []
        for name, rect in self.bars().items():
            text = f"{name} {show(max(self._ribbon.into(name), self._ribbon.out_of(name)), 'energy_wh', 0)}"
            w, h = metrics.horizontalAdvance(text) + 2, metrics.height()
            at_right = name in USES
            x = rect.right() - w if at_right else rect.x()
            out.append(
                (
                    QRectF(x, rect.y() - h - 1, w, h),
                    text,
                    Qt.AlignmentFlag.AlignRight if at_right else Qt.AlignmentFlag.AlignLeft,
                    "ink",
                )
            )
        return out

    def _color(self, source: str, to: str) -> QColor:
        color = QColor(self._theme.color("lost" if to in LOSSES else HUES[source]))
        color.setAlphaF(0.25 if self._dim else 0.5)
        return color

    def _band(self, painter: QPainter, a: QPointF, b: QPointF, thick: float, color: QColor, hatch: bool) -> None:
        middle = (a.x() + b.x()) / 2
        path = QPainterPath(a)
        path.cubicTo(QPointF(middle, a.y()), QPointF(middle, b.y()), b)
        path.lineTo(QPointF(b.x(), b.y() + thick))
        path.cubicTo(QPointF(middle, b.y() + thick), QPointF(middle, a.y() + thick), QPointF(a.x(), a.y() + thick))
        path.closeSubpath()
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(hatch_brush(color) if hatch else QBrush(color))
        painter.drawPath(path)
