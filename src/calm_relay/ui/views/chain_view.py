"""From cell to bus as bars: the links of both chains at one scale, the weakest named; each way with what arrives and is lost."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from calm_relay.report.chains import BatteryChains, Chain
from calm_relay.simulation.paths import Path
from calm_relay.ui.copying import Copyable, Rows
from calm_relay.ui.theme import Theme, dot_brush, hatch_brush, ui_font, ui_metrics
from calm_relay.units import format_quantity as show

BAR_PX, HIGH_PX, GAP_PX = 260.0, 10.0, 10.0


@dataclass(frozen=True)
class Line:
    """A line of the picture: a heading, a link or a way; texts left and right of its bar, and the parts of the bar by role."""

    text: str
    right: str = ""
    parts: tuple[tuple[str, float], ...] = ()
    kind: str = "heading"


def lines_of(rows: Sequence[BatteryChains]) -> tuple[Line, ...]:
    """Return the lines of every battery, all bars of a battery at one scale."""
    out: list[Line] = []
    for row in rows:
        known = [link.dc_w for made in (row.charge, row.discharge) for link in made.links if link.dc_w is not None]
        most = max(known, default=1.0)
        out.append(Line(row.name, row.growth, kind="title"))
        for made in (row.charge, row.discharge):
            out += _chain_lines(made, most)
        out += [Line("", words) for words in row.pair]
        for path in row.paths:
            out += _path_lines(path)
    return tuple(out)


def _chain_lines(made: Chain, most: float) -> list[Line]:
    out = [Line(f"{made.name}, DC watts at the battery's terminals", made.words)]
    for link in made.links:
        weak = link is made.weakest or link == made.weakest
        if link.dc_w is None:
            out.append(Line(link.name, f"not known: {link.how}", (("unknown", 1.0),), "bar"))
            continue
        role = "tight" if weak else "within"
        words = f"{show(link.dc_w, 'power_w')}   {link.how}"
        out.append(Line(link.name, f"{words}   the weakest" if weak else words, ((role, link.dc_w / most),), "bar"))
    return out


def _path_lines(path: Path) -> list[Line]:
    left = 1.0
    parts: list[tuple[str, float]] = []
    for step in path.steps:
        parts.append(("lost", left * (1.0 - step.passes_frac)))
        left *= step.passes_frac
    parts = [("battery", left), *parts]
    named = ", ".join(f"{step.name} {step.passes_frac * 100:.1f} %" for step in path.steps)
    return [
        Line(f"{path.name}: from {path.start} to {path.end}", f"{show(path.end_w, 'power_w')} arriving"),
        Line(f"{left * 100:.1f} % arrives", named, tuple(parts), "bar"),
    ]


class ChainView(Copyable, QWidget):
    """Draws the lines; fixed in size, so that a scroll area holds it."""

    def __init__(self, theme: Theme, scale: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._theme, self._scale = theme, scale
        self._lines: tuple[Line, ...] = ()
        self.setAccessibleName("Chains from cell to bus")
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)

    def show_chains(self, rows: Sequence[BatteryChains]) -> None:
        """Show the chains of a plan's batteries."""
        self._lines = lines_of(rows) or (Line("No battery in this plan.", kind="title"),)
        self.setAccessibleDescription("; ".join(f"{line.text}: {line.right}".rstrip(": ") for line in self._lines))
        self.setFixedSize(self.sizeHint())
        self.update()

    def copy_rows(self) -> Rows:
        """Return every line as text."""
        return [["what", "how much"], *([line.text, line.right] for line in self._lines)]

    # --- geometry
    def _names(self) -> float:
        metrics = ui_metrics(8.25 * self._scale)
        return max((metrics.horizontalAdvance(line.text) for line in self._lines if line.kind == "bar"), default=0.0) + 4

    def _height(self, line: Line) -> float:
        small = ui_metrics(8.25 * self._scale).height()
        return small + (4 if line.kind == "bar" else 22 if line.kind == "title" else 14) * self._scale

    def sizeHint(self) -> QSize:
        metrics, bold = ui_metrics(8.25 * self._scale), ui_metrics(9.0 * self._scale, bold=True)
        left = self._names() + (BAR_PX + 2 * GAP_PX) * self._scale
        wide = max((left + metrics.horizontalAdvance(line.right) for line in self._lines if line.kind == "bar"), default=100.0)
        heads = [bold.horizontalAdvance(n.text) + metrics.horizontalAdvance(n.right) + 24 for n in self._lines if n.kind != "bar"]
        return QSize(round(max([wide, *heads]) + 6), round(sum(self._height(line) for line in self._lines) + 6))

    def paintEvent(self, _: QPaintEvent) -> None:
        painter, t, s = QPainter(self), self._theme, self._scale
        names, y = self._names(), 0.0
        middle = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom
        for line in self._lines:
            high = self._height(line)
            rect = QRectF(0, y, self.width(), high - 2)
            y += high
            if line.kind != "bar":
                size = 10.0 if line.kind == "title" else 9.0
                painter.setFont(ui_font(size * s, bold=True))
                painter.setPen(t.color("ink"))
                painter.drawText(rect, middle, line.text)
                across = ui_metrics(size * s, bold=True).horizontalAdvance(line.text) + 14
                painter.setFont(ui_font(8.25 * s))
                painter.setPen(t.color("quiet"))
                painter.drawText(rect.adjusted(across, 0, 0, 0), middle, line.right)
                continue
            painter.setFont(ui_font(8.25 * s))
            painter.setPen(t.color("ink"))
            painter.drawText(rect, middle, line.text)
            left, whole = names + GAP_PX * s, BAR_PX * s
            bar = QRectF(left, rect.bottom() - HIGH_PX * s - 2, whole, HIGH_PX * s)
            painter.fillRect(bar, t.color("track"))
            at = bar.left()
            for role, share in line.parts:
                part = QRectF(at, bar.top(), whole * share, bar.height())
                if role == "unknown":
                    painter.fillRect(part, dot_brush(t.color("quiet")))
                elif role == "lost":
                    painter.fillRect(part, hatch_brush(t.color("lost")))
                    painter.setPen(QPen(t.color("panel"), 1.0))
                    painter.drawLine(part.topLeft(), part.bottomLeft())
                else:
                    painter.fillRect(part, t.color(role))
                at = part.right()
            painter.setPen(t.color("ink"))
            painter.drawText(rect.adjusted(left + whole + GAP_PX * s, 0, 0, 0), middle, line.right)
