"""The relay line on screen: paints the laid-out picture, and answers to mouse and keys. No layout of its own."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QContextMenuEvent,
    QFontMetricsF,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QResizeEvent,
)
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from calm_relay.relay.fold import folded
from calm_relay.relay.graph import PlanGraph
from calm_relay.relay.layout import lay_out
from calm_relay.relay.picture import HAIRLINE_PX, POST_PX, Band, Gate, RelayPicture, Station
from calm_relay.relay.values import RelayValues
from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.theme import Theme, hatch_brush, ui_font, ui_metrics

ROLES = {"label": (8.25, False), "value": (9.25, True), "head": (7.5, True), "small": (8.0, False)}
TONES = {"ink": "ink", "quiet": "quiet", "over": "over", "grid": "grid_text", "house": "house_text", "lost": "over"}


class RelayView(Copyable, QWidget):
    """Shows a :class:`RelayPicture`; arrows move along the stations, Enter opens one, Insert adds there, Delete takes out."""

    opened = Signal(object)
    add_asked = Signal(object)  # what can be added at a station; None: in the plan
    out_asked = Signal(object)

    def __init__(self, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._theme = theme
        self._scale = 1.0
        self._metrics: dict[str, QFontMetricsF] = {}
        self._sizes: dict[tuple[str, str], tuple[float, float]] = {}
        self._graph: PlanGraph | None = None
        self._values = RelayValues("")
        self._lost_wh: Mapping[str, float] = {}
        self._grid_up = True
        self._dim = False
        self._assumed: Mapping[str, tuple[str, ...]] = {}
        self.how: Callable[[str], str] = lambda _: ""  # how a station's limit comes about; the page puts it here
        self.fold = True  # like inverters in one row, where there are many
        self.rows: dict[str, int] = {}  # how many stand in a row, by the id of its first
        self._picture: RelayPicture | None = None
        self._at = 0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(QSize(520, 260))
        self.setAccessibleName("Relay line")
        self.setObjectName("relay")

    def copy_rows(self) -> Rows:
        """Return every station with what it says, how its limit comes about and what is assumed of it."""
        stations = self._picture.stations if self._picture else ()
        rows = [[s.title, s.said, self.how(s.id), "; ".join(self._assumed.get(s.id, ()))] for s in stations]
        return [["station", "now", "its limit", "assumed"], *rows]

    @property
    def picture(self) -> RelayPicture | None:
        """What is painted; None before the first plan."""
        return self._picture

    @property
    def station(self) -> Station | None:
        """The station in focus."""
        if self._picture is None or not self._picture.stations:
            return None
        return self._picture.stations[min(self._at, len(self._picture.stations) - 1)]

    def set_theme(self, theme: Theme, scale: float) -> None:
        """Use other colours and another text size."""
        self._theme, self._scale = theme, scale
        self._metrics, self._sizes = {}, {}
        self.setMinimumSize(QSize(int(490 * scale), int(222 * scale)))
        self._lay_out()

    def show_plan(
        self, graph: PlanGraph, values: RelayValues, lost_wh: Mapping[str, float], assumed: Mapping[str, tuple[str, ...]], *,
        grid_up: bool, dim: bool,
    ) -> None:  # fmt: skip
        """Show a plan with its flows, its yearly losses and what is assumed; `dim` says that these are of an older state."""
        self._assumed = assumed
        self._graph, self._values, self._lost_wh, self._grid_up, self._dim = graph, values, lost_wh, grid_up, dim
        self._lay_out()

    def toggle_fold(self) -> None:
        """Show like inverters in one row, or each by itself."""
        self.fold = not self.fold
        self._lay_out()

    def focus_station(self, station_id: str) -> None:
        """Move the focus to a station."""
        for i, station in enumerate(self._picture.stations if self._picture else ()):
            if station.id == station_id:
                self._at = i
        self._announce()
        self.update()

    def measure(self, text: str, role: str) -> tuple[float, float]:
        """Return the size of a text in a role."""
        known = self._sizes.get((text, role))
        if known is None:
            metrics = self._metrics.get(role)
            if metrics is None:
                points, bold = ROLES[role]
                metrics = self._metrics[role] = ui_metrics(points * self._scale, bold=bold)
            known = self._sizes[text, role] = (metrics.horizontalAdvance(text) + 1.0, metrics.height())
        return known

    def _lay_out(self) -> None:
        if self._graph is not None:
            size = (float(self.width()), float(self.height()))
            graph, values, lost, self.rows = self._graph, self._values, dict(self._lost_wh), {}
            if self.fold:
                graph, values, lost, self.rows = folded(graph, values, lost)
            self._picture = lay_out(graph, values, *size, self.measure, grid_up=self._grid_up, lost_wh=lost)
            self._announce()
        self.update()

    def _announce(self) -> None:
        station = self.station
        self.setAccessibleDescription("" if station is None else self.words_of(station))

    def words_of(self, station: Station) -> str:
        """Return what a station says under the mouse: its flow, how its limit comes about, what is assumed of it."""
        how, assumed = self.how(station.id), self._assumed.get(station.id, ())
        like = self.rows.get(station.id.partition(":")[2].split("/")[0], 0)
        if like:
            how = f"{like} like inverters in one row; of the first: {how}"
        lines = [f"{station.title}. {station.said}", how[:1].upper() + how[1:], *(f"Assumed: {line}" for line in assumed)]
        return "\n".join(line for line in lines if line)

    def event(self, event: QEvent) -> bool:
        """Tell the station under the mouse."""
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            station = self._under(QPointF(event.pos()))
            if station is None:
                QToolTip.hideText()
            else:
                QToolTip.showText(event.globalPos(), self.words_of(station), self)
            return True
        return super().event(event)

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._lay_out()
        super().resizeEvent(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        count = len(self._picture.stations) if self._picture else 0
        key = event.key()
        if count and key in (Qt.Key.Key_Right, Qt.Key.Key_Down, Qt.Key.Key_Left, Qt.Key.Key_Up):
            step = 1 if key in (Qt.Key.Key_Right, Qt.Key.Key_Down) else -1
            self._at = (min(self._at, count - 1) + step) % count
            self._announce()
            self.update()
        elif count and key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.opened.emit(self.station)
        elif key in (Qt.Key.Key_Insert, Qt.Key.Key_Plus):
            self.add_asked.emit(self.station)
        elif count and key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.out_asked.emit(self.station)
        else:
            super().keyPressEvent(event)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self._picture is None:
            return
        point = event.position()
        if event.button() == Qt.MouseButton.LeftButton and self._hit(point):
            self.opened.emit(self.station)

    def _hit(self, point: QPointF) -> bool:
        """Move the focus to the station under a point; returns whether there is one."""
        station = self._under(point)
        if station is not None and self._picture is not None:
            self._at = self._picture.stations.index(station)
            self._announce()
            self.update()
        return station is not None

    def _under(self, point: QPointF) -> Station | None:
        """Return the smallest station under a point."""
        hits = [s for s in (self._picture.stations if self._picture else ()) if _rect(s.rect).contains(point)]
        return min(hits, key=lambda s: s.rect.w * s.rect.h, default=None)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """Offer what can be done at the station under the mouse, and to copy the picture."""
        if self._hit(QPointF(event.pos())):
            self.add_asked.emit(self.station)
        else:
            super().contextMenuEvent(event)

    # --- painting
    def _hue(self, origin: str, *, dead: bool) -> QColor:
        color = self._theme.color(origin)
        if dead or self._dim:
            color.setAlphaF(0.28 if dead else 0.5)
        return color

    def _ink(self, role: str, *, dead: bool = False) -> QColor:
        color = self._theme.color("quiet" if dead else role)
        if self._dim and not dead:
            color.setAlphaF(0.8)
        return color

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        picture = self._picture
        if picture is None:
            return
        for band in picture.bands:
            self._paint_band(painter, band)
        for bar in picture.bars:
            role = "sun" if bar.station.startswith("face:") else "bus"
            painter.fillRect(_rect(bar.rect), self._hue(role, dead=bar.dead) if role == "sun" else self._ink(role, dead=bar.dead))
        for box in picture.boxes:
            rect = _rect(box.rect)
            painter.fillRect(rect, self._theme.color("panel"))
            fill = self._theme.color("battery")
            fill.setAlphaF(0.35 if not box.dead else 0.12)
            part = rect.height() * (box.soc_frac or 0.0)
            painter.fillRect(QRectF(rect.x(), rect.bottom() - part, rect.width(), part), fill)
            painter.setPen(QPen(self._hue("battery", dead=box.dead), 1.6))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(rect)
        for gate in picture.gates:
            self._paint_gate(painter, gate)
        self._paint_labels(painter, picture)
        for place in picture.stations:
            if place.id in self._assumed:
                self._paint_dots(painter, place)
        station = self.station
        if station is not None and self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(self._theme.color("accent"), 1.6, Qt.PenStyle.DashLine))
            painter.drawRect(_rect(station.rect).adjusted(-3, -2, 3, 2))

    def _paint_labels(self, painter: QPainter, picture: RelayPicture) -> None:
        """Put the words, role by role: to change the font costs more than to write."""
        align = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        for role, (points, bold) in ROLES.items():
            painter.setFont(ui_font(points * self._scale, bold=bold))
            for label in picture.labels:
                if label.role == role:
                    painter.setPen(self._ink(TONES.get(label.tone, "ink"), dead=label.dead))
                    painter.drawText(_rect(label.rect), align, label.text)

    def _paint_dots(self, painter: QPainter, station: Station) -> None:
        """Three dots beside a station that rests on something assumed."""
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self._theme.color("quiet"))
        x, y = station.rect.x + station.rect.w + 3, station.rect.y + station.rect.h / 2 + 9
        for i in range(3):
            painter.drawEllipse(QPointF(x + 5 * i, y), 1.4, 1.4)

    def _paint_band(self, painter: QPainter, band: Band) -> None:
        height = band.height
        if height < HAIRLINE_PX:
            color = self._ink("line") if not band.parts else self._hue(band.parts[0][0], dead=band.dead)
            painter.setPen(QPen(color, 1.2 if not band.parts else HAIRLINE_PX))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPath(_curve(band.x0, band.y0, band.x1, band.y1))
            return
        painter.setPen(Qt.PenStyle.NoPen)
        offset = -height / 2
        for origin, watts in band.parts:
            thick = watts * band.px_per_w
            painter.setBrush(self._hue(origin, dead=band.dead))
            path = _curve(band.x0, band.y0 + offset, band.x1, band.y1 + offset)
            back = _curve(band.x1, band.y1 + offset + thick, band.x0, band.y0 + offset + thick)
            path.connectPath(back)
            path.closeSubpath()
            painter.drawPath(path)
            offset += thick
        if band.towards_left and abs(band.x1 - band.x0) > 30:
            self._chevrons(painter, band)

    def _chevrons(self, painter: QPainter, band: Band) -> None:
        """Mark a flow that runs right to left: direction is never told by colour alone."""
        x, y = (band.x0 + band.x1) / 2, (band.y0 + band.y1) / 2
        painter.setPen(QPen(self._theme.color("paper"), 1.6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for dx in (-7, 0, 7):
            painter.drawPolyline([QPointF(x + dx + 3, y - 4), QPointF(x + dx - 1, y), QPointF(x + dx + 3, y + 4)])

    def _paint_gate(self, painter: QPainter, gate: Gate) -> None:
        color = self._ink("over" if gate.state == "full" else "ink", dead=gate.dead)
        half = gate.opening / 2
        painter.setPen(QPen(color, 1.4))
        for sign in (-1, 1):
            edge = gate.y + sign * half
            painter.drawLine(QPointF(gate.x - 7, edge), QPointF(gate.x + 7, edge))
            painter.fillRect(QRectF(gate.x - 2.5, min(edge, edge + sign * POST_PX), 5, POST_PX), color)
        if gate.state == "open":
            painter.fillRect(QRectF(gate.x - 8, gate.y - half + 1, 16, 2 * half - 2), self._theme.color("paper"))
            painter.setPen(QPen(self._ink("ink", dead=True), 1.6))
            painter.drawLine(QPointF(gate.x - 10, gate.y + min(half, 12)), QPointF(gate.x + 6, gate.y - min(half, 12)))
        if gate.spill > 0.2:
            lost, high = self._theme.color("lost"), max(3.0, gate.spill)
            painter.fillRect(QRectF(gate.x - 72, gate.y - half - high, 36, high), hatch_brush(lost))


def _rect(rect: object) -> QRectF:
    return QRectF(rect.x, rect.y, rect.w, rect.h)  # type: ignore[attr-defined]


def _curve(x0: float, y0: float, x1: float, y1: float) -> QPainterPath:
    path = QPainterPath(QPointF(x0, y0))
    middle = (x0 + x1) / 2
    path.cubicTo(QPointF(middle, y0), QPointF(middle, y1), QPointF(x1, y1))
    return path
