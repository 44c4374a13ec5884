"""What a relay line is made of once it is laid out: rectangles, bands, gates, boxes, labels, stations. No Qt here.

Text is measured by a function passed in; a label is put where no other stands, else into a numbered key.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from calm_relay.relay.values import LineLoad, Parts
from calm_relay.units import format_quantity as show

Measure = Callable[[str, str], tuple[float, float]]  # (text, role) → width, height; roles: label, value, head, small

COLUMNS = {
    "roof": 0.0,
    "tracker": 0.18,
    "node": 0.315,
    "inverter": 0.455,
    "backup": 0.585,
    "transfer": 0.69,
    "panel": 0.80,
    "grid": 0.915,
}
HEADS = (
    ("roof", "ROOF"), ("tracker", "TRACKERS"), ("node", "DC NODE"), ("inverter", "INVERTER"), ("backup", "BACKUP BUS"),
    ("transfer", "TRANSFER"), ("panel", "PANEL"), ("grid", "GRID"),
)  # fmt: skip
HAIRLINE_PX = 2.0
BUS_PX = 8.0
POST_PX = 10.0


class Rect(NamedTuple):
    """A rectangle in picture pixels."""

    x: float
    y: float
    w: float
    h: float

    def overlaps(self, other: Rect, gap: float = 0.0) -> bool:
        """Return whether the two share ground, `gap` pixels around counted."""
        return (
            self.x < other.x + other.w + gap
            and other.x < self.x + self.w + gap
            and self.y < other.y + other.h + gap
            and other.y < self.y + self.h + gap
        )


@dataclass(frozen=True)
class Band:
    """A flow from one point to another, stacked by origin; `dead` is drawn faint, with no flow a hairline."""

    x0: float
    y0: float
    x1: float
    y1: float
    parts: Parts
    px_per_w: float
    dead: bool = False
    towards_left: bool = False

    @property
    def height(self) -> float:
        """Thickness of the whole band. [px]"""
        return sum(watts for _, watts in self.parts) * self.px_per_w


@dataclass(frozen=True)
class Gate:
    """A limit: two posts around an opening as wide as the rating. `state`: free, full, open (disconnected), none."""

    station: str
    x: float
    y: float
    opening: float
    state: str
    dead: bool = False
    spill: float = 0.0


@dataclass(frozen=True)
class Bar:
    """A bus or node bar."""

    station: str
    rect: Rect
    dead: bool = False


@dataclass(frozen=True)
class Box:
    """A battery: filled to its state of charge."""

    station: str
    rect: Rect
    soc_frac: float | None
    dead: bool = False


@dataclass(frozen=True)
class Label:
    """One line of text at a place that no other label touches."""

    text: str
    role: str
    rect: Rect
    station: str = ""
    tone: str = "ink"
    dead: bool = False


@dataclass(frozen=True)
class Station:
    """Something that can be chosen: by mouse in `rect`, by keys in list order. `kind` and `id` say what is edited."""

    id: str
    kind: str
    title: str
    rect: Rect
    said: str


@dataclass(frozen=True)
class RelayPicture:
    """Everything to paint, and to reach."""

    width: float
    height: float
    bands: tuple[Band, ...]
    gates: tuple[Gate, ...]
    bars: tuple[Bar, ...]
    boxes: tuple[Box, ...]
    labels: tuple[Label, ...]
    key: tuple[str, ...]
    stations: tuple[Station, ...]
    px_per_w: float


CELL_PX = 48.0


class _Ground:
    """Rectangles by the cells of a grid that they touch, so that a place is held against those near it only."""

    def __init__(self) -> None:
        self._cells: dict[tuple[int, int], list[tuple[float, float, float, float]]] = {}

    def append(self, rect: Rect) -> None:
        """Take a rectangle in."""
        left, top, right, bottom = rect.x, rect.y, rect.x + rect.w, rect.y + rect.h
        edges = left, top, right, bottom
        for i in range(int(left // CELL_PX), int(right // CELL_PX) + 1):
            for j in range(int(top // CELL_PX), int(bottom // CELL_PX) + 1):
                self._cells.setdefault((i, j), []).append(edges)

    def touches(self, rect: Rect, gap: float) -> bool:
        """Return whether any rectangle shares ground with this one, `gap` pixels around counted."""
        left, top, right, bottom = rect.x - gap, rect.y - gap, rect.x + rect.w + gap, rect.y + rect.h + gap
        for i in range(int(left // CELL_PX), int(right // CELL_PX) + 1):
            for j in range(int(top // CELL_PX), int(bottom // CELL_PX) + 1):
                for x0, y0, x1, y1 in self._cells.get((i, j), ()):
                    if left < x1 and x0 < right and top < y1 and y0 < bottom:
                        return True
        return False


@dataclass
class _Wish:
    """A label still to be placed: its lines, its spots in order of preference, and a short form for tight rooms."""

    lines: list[tuple[str, str]]
    spots: list[tuple[float, float, str]]
    station: str
    tone: str
    dead: bool
    short: str


@dataclass
class Canvas:
    """Collects a picture: geometry first, then labels, each where it touches no other label, post, bar or box.

    Bands keep labels off the ground they cover at full rating, so that labels stay put while the clock moves.
    """

    measure: Measure
    width: float
    height: float
    bands: list[Band] = field(default_factory=list)
    gates: list[Gate] = field(default_factory=list)
    bars: list[Bar] = field(default_factory=list)
    boxes: list[Box] = field(default_factory=list)
    labels: list[Label] = field(default_factory=list)
    key: list[str] = field(default_factory=list)
    stations: list[Station] = field(default_factory=list)
    _hard: _Ground = field(default_factory=_Ground)
    _soft: _Ground = field(default_factory=_Ground)
    _wishes: list[_Wish] = field(default_factory=list)

    def x(self, column: str) -> float:
        """Return where a column stands. [px]"""
        return 4.0 + COLUMNS[column] * (self.width - 8.0)

    @property
    def line(self) -> float:
        """Height of a line of text. [px]"""
        return self.measure("Xg", "label")[1]

    # --- geometry
    def band(self, band: Band, full_w: float) -> None:
        """Add a band; `full_w` is the widest it gets, which labels keep off."""
        self.bands.append(band)
        half = max(HAIRLINE_PX, full_w * band.px_per_w) / 2
        pieces = 1 if band.y0 == band.y1 else 8
        for i in range(pieces):
            a, b = i / pieces, (i + 1) / pieces
            xa, xb = (band.x0 + (band.x1 - band.x0) * t for t in (a, b))
            ya, yb = (band.y0 + (band.y1 - band.y0) * (3 * t * t - 2 * t * t * t) for t in (a, b))
            low, high = min(ya, yb) - half, max(ya, yb) + half
            self._soft.append(Rect(min(xa, xb), low, abs(xb - xa), high - low))

    def gate(self, gate: Gate) -> None:
        """Add a gate with its two posts."""
        self.gates.append(gate)
        half = gate.opening / 2
        for top in (gate.y - half - POST_PX, gate.y + half):
            self._hard.append(Rect(gate.x - 7, top, 14, POST_PX))

    def bar(self, bar: Bar) -> None:
        """Add a bus or node bar."""
        self.bars.append(bar)
        self._hard.append(bar.rect)

    def box(self, box: Box, texts: list[tuple[str, str]]) -> None:
        """Add a battery with its own lines of text inside."""
        self.boxes.append(box)
        self._hard.append(box.rect)
        sizes = [self.measure(text, role) for text, role in texts]
        y = box.rect.y + (box.rect.h - sum(h for _, h in sizes)) / 2
        for (text, role), (w, h) in zip(texts, sizes, strict=True):
            rect = Rect(box.rect.x + (box.rect.w - w) / 2, y, w, h)
            self.labels.append(Label(text=text, role=role, rect=rect, station=box.station, tone="ink", dead=box.dead))
            y += h

    def head(self, text: str, x: float) -> None:
        """Add a column's heading, centred on `x` or kept inside; left out where it would touch the one before."""
        w, h = self.measure(text, "head")
        rect = Rect(min(max(0.0, x - w / 2), self.width - w - 1), 0.0, w, h)
        if not self._hard.touches(rect, 4.0):
            self.labels.append(Label(text, "head", rect, "", "quiet"))
            self._hard.append(rect)

    # --- labels
    def want(
        self,
        lines: list[tuple[str, str]],
        spots: list[tuple[float, float, str]],
        station: str = "",
        tone: str = "ink",
        *,
        dead: bool = False,
        short: str = "",
    ) -> None:
        """Ask for a label of some lines at one of the spots (x, y of the top, alignment)."""
        self._wishes.append(_Wish(lines=lines, spots=spots, station=station, tone=tone, dead=dead, short=short))

    def settle(self) -> None:
        """Place all labels asked for, in the order they were asked for: clear of bands, in short if need be, before across one."""
        for wish in self._wishes:
            forms = [wish.lines, [(wish.short, "small")]] if wish.short else [wish.lines]
            grounds = ((self._hard, self._soft), (self._hard,))
            if not any(self._try(wish, lines, blocks) for blocks in grounds for lines in forms):
                self.key.append(" ".join(text for text, _ in wish.lines))
                number = [(f"({len(self.key)})", "small")]
                any(self._try(wish, number, blocks, far=True) for blocks in grounds)

    def _try(self, wish: _Wish, lines: list[tuple[str, str]], blocks: tuple[_Ground, ...], *, far: bool = False) -> bool:
        sizes = [self.measure(text, role) for text, role in lines]
        w, h = max(s[0] for s in sizes), sum(s[1] for s in sizes)
        shifts = [(0.0, 0.0)]
        if far:
            shifts += [(dx, dy) for dy in (0.0, 14.0, -14.0, 28.0, -28.0, 42.0) for dx in (0.0, 22.0, -22.0, 44.0, -44.0)]
        for dx, dy in shifts:
            for x, y, align in wish.spots:
                left = x + dx - (0.0 if align == "left" else w / 2 if align == "centre" else w)
                left = min(max(left, 1.0), self.width - w - 1.0)
                block = Rect(left, y + dy, w, h)
                inside = block.y >= 0 and block.y + h <= self.height and w <= self.width
                if inside and not any(ground.touches(block, 1.0) for ground in blocks):
                    self._put(wish, lines, sizes, block, align)
                    return True
        return False

    def _put(self, wish: _Wish, lines: list[tuple[str, str]], sizes: list[tuple[float, float]], block: Rect, align: str) -> None:
        y = block.y
        for (text, role), (w, h) in zip(lines, sizes, strict=True):
            x = block.x + (0.0 if align == "left" else (block.w - w) / 2 if align == "centre" else block.w - w)
            self.labels.append(
                Label(text=text, role=role, rect=Rect(x, y, w, h), station=wish.station, tone=wish.tone, dead=wish.dead)
            )
            y += h
        self._hard.append(block)

    def picture(self, px_per_w: float) -> RelayPicture:
        """Return what was collected."""
        return RelayPicture(
            width=self.width,
            height=self.height,
            bands=tuple(self.bands),
            gates=tuple(self.gates),
            bars=tuple(self.bars),
            boxes=tuple(self.boxes),
            labels=tuple(self.labels),
            key=tuple(self.key),
            stations=tuple(self.stations),
            px_per_w=px_per_w,
        )


def kw(watts: float) -> str:
    return show(watts, "power_w", 1)


def said_of(label: str, flow: float, limit: float) -> str:
    most = "no limit" if math.isinf(limit) else kw(limit)
    return f"{label}: {kw(flow)} of {most}"


def state_of(flow: float, limit: float) -> str:
    if math.isinf(limit):
        return "none"
    return "full" if flow >= 0.999 * limit and flow > 0 else "free"


def fullest(lines: tuple[LineLoad, ...], limit_w: float) -> LineLoad | None:
    """Return the phase or leg that stands at or above its limit the furthest; None where none does or there is only one line."""
    worst = max(lines, key=lambda line: line.watts, default=None)
    return worst if worst is not None and state_of(worst.watts, limit_w) == "full" else None


def line_words(line: LineLoad, w_per_a: float) -> str:
    """Return what a phase or leg carries, in amps."""
    return f"{line.name} {show(line.watts / w_per_a, 'current_a', 1)}"


def total_of(parts: Parts) -> float:
    """Return the sum of a flow's parts. [W]"""
    return sum(watts for _, watts in parts)


def lost_words(c: Canvas, station: str, lost_wh: Mapping[str, float], spots: list[tuple[float, float, str]]) -> None:
    """Ask for the label of what a station's limit lost in the year, where it is worth a word."""
    wh = lost_wh.get(station, 0.0)
    if wh >= 1000.0:
        c.want([(f"{show(wh, 'energy_wh', 0)} a year lost", "small")], spots, station, "lost", short=f"−{show(wh, 'energy_wh', 0)}")
