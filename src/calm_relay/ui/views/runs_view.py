"""The runs of a plan drawn as a chain: strings, batteries, inverters, board and supply, each run with its figures."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from calm_relay.plant.runs import TO_SUPPLY, RunRow
from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.theme import Theme, ui_font, ui_metrics

ROW_PX, PAD, BOX_FRAC = 40.0, 4.0, 0.115
MIDDLE = Qt.AlignmentFlag.AlignCenter | Qt.AlignmentFlag(Qt.TextFlag.TextWordWrap)
UNKNOWN = "not measured"


@dataclass(frozen=True)
class Way:
    """One way into an inverter, or from it to the board: what it comes from, and the run. `over`: its size carries too little."""

    begins: str
    run: RunRow

    @property
    def above(self) -> str:
        """What is drawn above the line: length and size."""
        run = self.run.run
        if run is None or (not run.size and run.length_m is None):
            return UNKNOWN
        length = "length ?" if run.length_m is None else f"{run.length_m:g} m"
        return f"{length}, {run.size or 'size ?'}"

    @property
    def below(self) -> str:
        """What is drawn below it: amps against what it carries, its device, and the volts along it."""
        row, run = self.run, self.run.run
        parts = [f"{row.design_a:.1f} A" if row.held is None else f"{row.design_a:.1f} of {row.held.amps:.1f} A"]
        if run is not None and run.protected_a is not None:
            parts.append(f"{'fuse' if row.way == 'dc' else 'at'} {run.protected_a:g} A")
        if row.change_v is not None:
            parts.append(f"{row.change_v:.2f} V, {row.change_v / row.volts * 100:.1f} %")
        return ", ".join(parts)

    @property
    def over(self) -> bool:
        """Whether its size carries less than what flows."""
        return self.run.held is not None and self.run.design_a > self.run.held.amps + 1e-9


@dataclass(frozen=True)
class Chain:
    """An inverter with the ways into it and the way to the board."""

    name: str
    into: tuple[Way, ...]
    out: Way


def chains_of(ac: tuple[RunRow, ...], dc: tuple[RunRow, ...], names: dict[str, str]) -> tuple[tuple[Chain, ...], Way | None]:
    """Return a chain for each inverter, by its name, and the way from the board to the supply; None without a grid."""
    chains, last = [], None
    for row in ac:
        if row.id == TO_SUPPLY:
            last = Way("Board", row)
            continue
        into = tuple(
            Way("Battery" if one.id.endswith(":battery") else one.name.rpartition(" to ")[0], one)
            for one in dc
            if one.id.partition(":")[0] == row.id
        )
        chains.append(Chain(names.get(row.id, row.id), into, Way(row.name, row)))
    return tuple(chains), last


class RunsView(Copyable, QWidget):
    """Boxes are devices, lines are runs; a line drawn in dashes was not measured, a red one carries too little."""

    def __init__(self, theme: Theme, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._theme, self._scale = theme, scale
        self._chains: tuple[Chain, ...] = ()
        self._last: Way | None = None
        self.setAccessibleName("Runs from string to supply")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_chains(self, chains: tuple[Chain, ...], last: Way | None) -> None:
        """Show these chains, and the way from the board to the supply."""
        self._chains, self._last = chains, last
        lines = sum(max(1, len(chain.into)) for chain in chains)
        self.setFixedHeight(round((ROW_PX * max(1, lines) + 4) * self._scale))
        self.setAccessibleDescription("; ".join(f"{w.run.name}: {w.above}; {w.below}" for w in self._ways()))
        self.update()

    def _ways(self) -> list[Way]:
        out = [way for chain in self._chains for way in (*chain.into, chain.out)]
        return out if self._last is None else [*out, self._last]

    def sizeHint(self) -> QSize:
        return QSize(480, self.height())

    def copy_rows(self) -> Rows:
        """Return every run."""
        return [["run", "length and size", "amps, device, volts"], *([w.run.name, w.above, w.below] for w in self._ways())]

    def paintEvent(self, _: QPaintEvent) -> None:
        painter, s = QPainter(self), self._scale
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box, row = BOX_FRAC * self.width(), ROW_PX * s
        ends = 3 if self._last is not None else 2
        line = (self.width() - (ends + 1) * box) / ends
        x = [i * (box + line) for i in range(ends + 1)]
        y, middles = 2 * s, []
        for chain in self._chains:
            high = row * max(1, len(chain.into))
            middle = y + high / 2
            for i, way in enumerate(chain.into):
                at = y + row * (i + 0.5)
                self._box(painter, QRectF(x[0], at - row / 2 + 3 * s, box, row - 6 * s), way.begins)
                self._line(painter, way, x[0] + box, x[1], at)
            self._box(painter, QRectF(x[1], y + 3 * s, box, high - 6 * s), chain.name)
            self._line(painter, chain.out, x[1] + box, x[2], middle)
            middles.append(middle)
            y += high
        if middles:
            self._box(painter, QRectF(x[2], 5 * s, box, y - 10 * s), "Board")
        if middles and self._last is not None:
            middle = (y + 2 * s) / 2
            self._line(painter, self._last, x[2] + box, x[3], middle)
            self._box(painter, QRectF(x[3], middle - row / 2 + 3 * s, box, row - 6 * s), "Supply")
        painter.end()

    def _box(self, painter: QPainter, rect: QRectF, text: str) -> None:
        t, s = self._theme, self._scale
        painter.setPen(QPen(t.color("track"), 1.2))
        painter.fillRect(rect, t.color("panel"))
        painter.drawRect(rect)
        painter.setPen(t.color("ink"))
        size = next((p for p in (8.5, 7.75, 7.0) if self._fits(rect, text, p * s)), 7.0)
        painter.setFont(ui_font(size * s))
        painter.drawText(rect.adjusted(PAD, 1, -PAD, -1), MIDDLE, text)

    def _fits(self, rect: QRectF, text: str, size: float) -> bool:
        room = rect.adjusted(PAD, 1, -PAD, -1)
        need = ui_metrics(size).boundingRect(QRectF(0, 0, room.width(), 1000), MIDDLE, text)
        return need.height() <= room.height() and need.width() <= room.width()

    def _line(self, painter: QPainter, way: Way, x0: float, x1: float, y: float) -> None:
        t, s = self._theme, self._scale
        known = way.above != UNKNOWN
        role = "over" if way.over else "accent" if known else "quiet"
        pen = QPen(t.color(role), 2.4 * s)
        if not known:
            pen.setStyle(Qt.PenStyle.DashLine)
        painter.setPen(pen)
        painter.drawLine(QPointF(x0, y), QPointF(x1, y))
        room = x1 - x0 - 2 * PAD
        painter.setFont(ui_font(8.0 * s))
        metrics = ui_metrics(8.0 * s)
        high = metrics.height()
        painter.setPen(t.color("ink" if known else "quiet"))
        above = metrics.elidedText(way.above, Qt.TextElideMode.ElideRight, int(room))
        painter.drawText(QRectF(x0 + PAD, y - high - 2 * s, room, high), Qt.AlignmentFlag.AlignHCenter, above)
        painter.setPen(t.color("over") if way.over else t.color("quiet"))
        below = next((text for text in _shorter(way.below) if metrics.horizontalAdvance(text) <= room), "")
        painter.drawText(QRectF(x0 + PAD, y + 3 * s, room, high), Qt.AlignmentFlag.AlignHCenter, below)


def _shorter(text: str) -> list[str]:
    """Return the text, then with one part less each time."""
    parts = text.split(", ")
    return [", ".join(parts[:n]) for n in range(len(parts), 0, -1)]
