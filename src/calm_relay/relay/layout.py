"""The relay line laid out: graph and flows in, rectangles, bands, gates and labels out. Painter, keys, hit test and the
overlap test read the same object; text is measured by a function passed in, so there is no Qt here.

Left to right: roof, trackers, DC node with its battery, inverter, backup bus, transfer device, main panel, grid. One scale
for every band and gate; a gate is two posts whose opening is the rating.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field

from calm_relay.relay.graph import NodeStation, PlanGraph
from calm_relay.relay.values import NodeValues, Parts, RelayValues
from calm_relay.units import format_quantity as show

Measure = Callable[[str, str], tuple[float, float]]  # (text, role) → width, height; roles: label, value, head, small

COLUMNS = {
    "roof": 0.0,
    "tracker": 0.165,
    "node": 0.305,
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


@dataclass(frozen=True)
class Rect:
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
        """Thickness of the whole band."""
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


@dataclass
class _Canvas:
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
    taken: list[Rect] = field(default_factory=list)

    def x(self, column: str) -> float:
        return 4.0 + COLUMNS[column] * (self.width - 8.0)

    def place(
        self,
        lines: list[tuple[str, str]],
        spots: list[tuple[float, float, str]],
        station: str = "",
        tone: str = "ink",
        dead: bool = False,
    ) -> None:
        """Put lines of text at the first spot (x, y of the top, alignment) where they fit; else into the numbered key."""
        sizes = [self.measure(text, role) for text, role in lines]
        w, h = max(s[0] for s in sizes), sum(s[1] for s in sizes)
        for x, y, align in spots:
            left = x if align == "left" else x - w / 2 if align == "centre" else x - w
            left = min(max(left, 1.0), self.width - w - 1.0)
            block = Rect(left, y, w, h)
            fits = y >= 0 and y + h <= self.height and left >= 0 and w <= self.width
            if fits and not any(block.overlaps(other, 1.0) for other in self.taken):
                self._put(lines, sizes, block, align, station, tone, dead)
                return
        self.key.append(" ".join(text for text, _ in lines))
        mark = f"({len(self.key)})"
        size = self.measure(mark, "small")
        for x, y, _ in spots:
            for dx in (0.0, 18.0, -18.0, 36.0, -36.0, 54.0, -54.0):
                for dy in (0.0, 12.0, -12.0, 24.0, 36.0):
                    block = Rect(min(max(x + dx, 1.0), self.width - size[0] - 1.0), max(0.0, y + dy), *size)
                    if not any(block.overlaps(other, 1.0) for other in self.taken) and block.y + block.h <= self.height:
                        self._put([(mark, "small")], [size], block, "left", station, tone, dead)
                        return

    def _put(
        self,
        lines: list[tuple[str, str]],
        sizes: list[tuple[float, float]],
        block: Rect,
        align: str,
        station: str,
        tone: str,
        dead: bool,
    ) -> None:
        y = block.y
        for (text, role), (w, h) in zip(lines, sizes, strict=True):
            x = block.x if align == "left" else block.x + (block.w - w) / 2 if align == "centre" else block.x + block.w - w
            self.labels.append(Label(text, role, Rect(x, y, w, h), station, tone, dead))
            y += h
        self.taken.append(block)


def lay_out(
    graph: PlanGraph, values: RelayValues, width: float, height: float, measure: Measure, *, grid_up: bool = True
) -> RelayPicture:
    """Lay a plan out in `width` × `height` pixels."""
    c = _Canvas(measure, width, height)
    line = measure("Xg", "label")[1]
    for column, head in HEADS:
        w, h = measure(head, "head")
        if (column == "backup" or column == "transfer") and not graph.has_transfer:
            continue
        x = c.x(column)
        x = x if column == "roof" else min(x - w / 2, width - w - 1)
        rect = Rect(x, 0.0, w, h)
        if not any(rect.overlaps(other, 3.0) for other in c.taken):
            c.labels.append(Label(head, "head", rect, "", "quiet"))
            c.taken.append(rect)
    top = measure("X", "head")[1] + 4.5 * line
    bottom = height - 1.6 * line
    rows = list(graph.nodes)
    heights = _row_heights(rows, bottom - top)
    scale = _scale(graph, rows, heights, bottom - top)
    centres = []
    y = top
    for row_height in heights:
        centres.append((y, row_height))
        y += row_height
    _rows(c, graph, values, rows, centres, scale, grid_up)
    _right_side(c, graph, values, rows, centres, scale, top, bottom, grid_up)
    return RelayPicture(
        width, height, tuple(c.bands), tuple(c.gates), tuple(c.bars), tuple(c.boxes), tuple(c.labels), tuple(c.key),
        tuple(c.stations), scale,
    )  # fmt: skip


def _row_heights(rows: list[NodeStation], room: float) -> list[float]:
    weights = [1.0 + (0.75 if n.battery else 0.0) + 0.35 * max(0, len(n.trackers) - 1) for n in rows]
    total = sum(weights) or 1.0
    return [room * w / total for w in weights]


def _lane(node: NodeStation, row_height: float) -> float:
    """Height of the PV and AC lane of a row; the battery's lane lies under it."""
    return row_height * (0.56 if node.battery else 1.0)


def _scale(graph: PlanGraph, rows: list[NodeStation], heights: list[float], room: float) -> float:
    """Pixels per watt: the largest rating fits its row, and the buses fit the picture."""
    limits = [0.62 * room / max(graph.service_w, 1.0)]
    for node, h in zip(rows, heights, strict=True):
        lane = _lane(node, h)
        stc = sum(t.stc_w for t in node.trackers)
        limits.append(0.5 * lane / max(node.ac_rated_w, stc, 1.0))
        if node.battery:
            limits.append(0.55 * (h - lane) / max(node.battery.charge_w, node.battery.discharge_w, 1.0))
        for t in node.trackers:
            limits.append(0.62 * lane / len(node.trackers) / max(t.limit_w, t.stc_w, 1.0))
    return min(limits)


def _kw(watts: float) -> str:
    return show(watts, "power_w", 1)


def _said(label: str, flow: float, limit: float) -> str:
    most = "no limit" if math.isinf(limit) else _kw(limit)
    return f"{label}: {_kw(flow)} of {most}"


def _state(flow: float, limit: float) -> str:
    if math.isinf(limit):
        return "none"
    return "full" if flow >= 0.999 * limit and flow > 0 else "free"


def _total(parts: Parts) -> float:
    return sum(watts for _, watts in parts)


def _rows(
    c: _Canvas,
    graph: PlanGraph,
    values: RelayValues,
    rows: list[NodeStation],
    centres: list[tuple[float, float]],
    scale: float,
    grid_up: bool,
) -> None:
    line = c.measure("Xg", "label")[1]
    formed = bool(graph.forming)
    for node, (y0, row_height) in zip(rows, centres, strict=True):
        v = values.nodes.get(node.id, NodeValues())
        lane = _lane(node, row_height)
        yc = y0 + lane / 2
        dead = not grid_up and (node.side != "backup" or not formed)
        half = max(14.0, 0.5 * scale * max(node.ac_rated_w, sum(t.stc_w for t in node.trackers)))
        _trackers(c, node, v, y0, lane, scale, dead)
        bar = Rect(c.x("node") - BUS_PX / 2, yc - half, BUS_PX, 2 * half)
        c.bars.append(Bar(f"node:{node.id}", bar, dead))
        title = f"{node.count} × {node.name}" if node.count > 1 else node.name
        backing = [(title, "value")]
        c.place(
            backing,
            [(c.x("node"), bar.y - line - 2, "centre"), (c.x("node"), bar.y - 2 * line, "centre")],
            f"node:{node.id}",
            dead=dead,
        )
        target = "backup" if node.side == "backup" else "panel"
        x_gate, x_bus = c.x("inverter"), c.x(target)
        flow_parts, left = (v.out, False) if v.out else (v.into, True)
        c.bands.append(Band(bar.x + BUS_PX, yc, x_gate, yc, flow_parts, scale, dead, left))
        c.bands.append(Band(x_gate, yc, x_bus, yc, flow_parts, scale, dead, left))
        flow = _total(flow_parts)
        limit = node.ac_rated_w
        name = "inverter AC"
        if not grid_up and node.offgrid_va is not None:
            limit, name = node.offgrid_va, "off grid"
        state = _state(flow, limit)
        c.gates.append(Gate(f"inverter:{node.id}", x_gate, yc, limit * scale, state, dead, v.spill_w * scale))
        above = yc - limit * scale / 2 - 12
        below = yc + limit * scale / 2 + 12
        c.place(
            [(name, "label"), (_kw(limit), "value")],
            [(x_gate, above - 2 * line, "centre"), (x_gate + 26, above - 2 * line, "left"), (x_gate, below, "centre"), (x_gate - 30, above - 2 * line, "right")],
            f"inverter:{node.id}", "over" if state == "full" else "ink", dead,
        )  # fmt: skip
        gate_rect = Rect(x_gate - 22, yc - limit * scale / 2 - 14, 44, limit * scale + 28)
        c.stations.append(Station(f"node:{node.id}", "node", title, Rect(bar.x - 16, bar.y, 40, bar.h), f"{title}, {node.kind}"))
        c.stations.append(Station(f"inverter:{node.id}", "node", f"{title}, AC side", gate_rect, _said("inverter AC", flow, limit)))
        if node.battery:
            _battery(c, node, v, bar, y0 + lane, row_height - lane, scale, dead)


def _trackers(c: _Canvas, node: NodeStation, v: NodeValues, y0: float, lane: float, scale: float, dead: bool) -> None:
    line = c.measure("Xg", "label")[1]
    n = len(node.trackers)
    x_face, x_gate, x_bar = c.x("roof"), c.x("tracker"), c.x("node") - BUS_PX / 2
    total = sum(t.stc_w for t in node.trackers) or 1.0
    run = -0.5 * total * scale
    for i, t in enumerate(node.trackers):
        yc = y0 + lane * (i + 0.5) / n
        watts = v.trackers_w[i] if i < len(v.trackers_w) else 0.0
        parts: Parts = (("sun", watts),) if watts > 0.5 else ()
        arrive = y0 + lane / 2 + run + 0.5 * t.stc_w * scale
        run += t.stc_w * scale
        c.bands.append(Band(x_face + 6, yc, x_gate, yc, parts, scale, dead))
        c.bands.append(Band(x_gate, yc, x_bar, arrive, parts, scale, dead))
        c.bars.append(Bar(f"face:{t.id}", Rect(x_face, yc - max(4.0, t.stc_w * scale / 2), 6, max(8.0, t.stc_w * scale)), dead))
        state = _state(watts, t.limit_w)
        c.gates.append(Gate(f"tracker:{t.id}", x_gate, yc, t.limit_w * scale, state, dead))
        half = max(8.0, t.limit_w * scale / 2) + 10
        c.place(
            [(f"tracker {t.number}", "label"), (_kw(t.limit_w), "value")],
            [(x_gate + 8, yc - half - 2 * line + 8, "left"), (x_gate + 8, yc + half - 6, "left"), (x_gate, yc - half - 2 * line, "centre"), (x_gate, yc + half, "centre")],
            f"tracker:{t.id}", "over" if state == "full" else "ink", dead,
        )  # fmt: skip
        below = yc + max(5.0, t.stc_w * scale / 2) + 2
        above = yc - max(5.0, t.stc_w * scale / 2) - 2
        c.place(
            [(t.face_names, "value"), (t.strings_text, "label")],
            [(x_face, below, "left"), (x_face, above - 2 * line, "left"), (x_face, below + line, "left")],
            f"tracker:{t.id}", "ink", dead,
        )  # fmt: skip
        rect = Rect(x_face, yc - max(16.0, t.stc_w * scale / 2), x_gate - x_face + 16, max(32.0, t.stc_w * scale))
        c.stations.append(
            Station(
                f"tracker:{t.id}",
                "strings",
                f"{node.name}, tracker {t.number}",
                rect,
                _said(f"tracker {t.number}", watts, t.limit_w),
            )
        )


def _battery(c: _Canvas, node: NodeStation, v: NodeValues, bar: Rect, y0: float, room: float, scale: float, dead: bool) -> None:
    assert node.battery is not None
    line = c.measure("Xg", "label")[1]
    b = node.battery
    box_w = max(96.0, c.measure("100 %  of 88.8 kWh", "value")[0] + 8)
    x_box = c.x("inverter") - 8
    box_h = min(room - 4, 3.6 * line)
    yc = y0 + room / 2
    box = Rect(x_box, yc - box_h / 2, box_w, box_h)
    charging = _total(v.charge) > v.discharge_w
    parts: Parts = v.charge if charging else ((("battery", v.discharge_w),) if v.discharge_w > 0.5 else ())
    x_gate = x_box - 26
    tail = Band(
        bar.x + BUS_PX, bar.y + bar.h - 0.5 * max(HAIRLINE_PX, _total(parts) * scale), x_gate, yc, parts, scale, dead, not charging
    )
    c.bands.append(tail)
    c.bands.append(Band(x_gate, yc, x_box, yc, parts, scale, dead, not charging))
    limit = b.discharge_w if v.discharge_w > _total(v.charge) else b.charge_w
    state = _state(_total(parts), limit)
    c.gates.append(Gate(f"battery:{node.id}", x_gate, yc, limit * scale, state, dead))
    c.boxes.append(Box(f"battery:{node.id}", box, v.soc_frac, dead))
    c.taken.append(box)
    soc = "–" if v.soc_frac is None else show(v.soc_frac, "fraction")
    texts = [(soc, "value"), (f"{show(b.usable_wh, 'energy_wh')} usable", "small"), (b.text, "small")]
    y = box.y + (box.h - sum(c.measure(t, r)[1] for t, r in texts)) / 2
    for text, role in texts:
        w, h = c.measure(text, role)
        c.labels.append(Label(text, role, Rect(box.x + (box.w - w) / 2, y, w, h), f"battery:{node.id}", "ink", dead))
        y += h
    word = "gives" if v.discharge_w > _total(v.charge) else "takes"
    half = limit * scale / 2 + 10
    c.place(
        [(word, "label"), (_kw(limit), "value")],
        [(x_gate - 8, yc + half - 8, "right"), (x_gate, yc + half, "centre"), (x_gate - 8, yc - half - line, "right"), (box.x + box.w + 6, yc - line, "left")],
        f"battery:{node.id}", "over" if state == "full" else "ink", dead,
    )  # fmt: skip
    title = f"{node.name}, battery"
    c.stations.append(Station(f"battery:{node.id}", "battery", title, box, _said(title, _total(parts), limit)))


def _right_side(
    c: _Canvas, graph: PlanGraph, values: RelayValues, rows: list[NodeStation], centres: list[tuple[float, float]],
    scale: float, top: float, bottom: float, grid_up: bool,
) -> None:  # fmt: skip
    line = c.measure("Xg", "label")[1]
    backup = [(y + _lane(n, h) / 2, n) for n, (y, h) in zip(rows, centres, strict=True) if n.side == "backup"]
    y_main = backup[0][0] if backup else (top + bottom) / 2 if not rows else centres[0][0] + _lane(rows[0], centres[0][1]) / 2
    if graph.has_transfer and not backup:
        y_main = top + 30
    y_low = max([y_main] + [y + _lane(n, h) / 2 for n, (y, h) in zip(rows, centres, strict=True) if n.side != "backup"])
    most = max((n.ac_rated_w for n in rows), default=graph.service_w)
    half = max(18.0, 0.5 * scale * max(most, graph.service_w))
    x_panel, x_grid = c.x("panel"), c.x("grid")
    formed = bool(graph.forming)
    dead_grid = not grid_up
    panel = Rect(x_panel - BUS_PX / 2, y_main - half, BUS_PX, y_low - y_main + 2 * half)
    if graph.has_transfer:
        _backup_bus(c, graph, values, backup, y_main, half, scale, grid_up, dead=not grid_up and not formed)
    c.bars.append(Bar("panel", panel, dead_grid))
    _load_branch(c, graph.other_loads, values.other_load_w, values.load_parts, x_panel, panel.y, scale, "panel", dead_grid)
    parts, left = (values.export, False) if values.export_w > values.import_w else ((("grid", values.import_w),), True)
    if not grid_up:
        parts = ()
    c.bands.append(Band(x_panel + BUS_PX / 2, y_main, x_grid, y_main, parts, scale, dead_grid, left))
    c.bands.append(Band(x_grid, y_main, c.width - 4, y_main, parts, scale, dead_grid, left))
    if left or math.isinf(graph.export_w):
        limit, word = min(graph.service_w, graph.import_w), "import" if not math.isinf(graph.import_w) else "service"
    else:
        limit, word = graph.export_w, "export"
    flow = _total(parts)
    state = "open" if not grid_up else _state(flow, limit)
    c.gates.append(Gate("grid", x_grid, y_main, limit * scale, state, dead_grid, values.held_w * scale if grid_up else 0.0))
    text = f"{graph.service_a:g} A" if word == "service" else _kw(limit)
    x_text = min(x_grid, c.width - 40)
    edge = limit * scale / 2 + 12
    c.place(
        [(word, "label"), (text, "value")],
        [(x_text, y_main - edge - 2 * line, "centre"), (x_text, y_main + edge, "centre"), (c.width - 2, y_main - edge - 2 * line, "right")],
        "grid", "over" if state == "full" else "ink", dead_grid,
    )  # fmt: skip
    if grid_up:
        flow_text = f"{_kw(flow)} {'in' if left else 'out'}" if flow > 0.5 else "nothing flows"
    else:
        flow_text = "grid is down"
    c.place(
        [(flow_text, "value")],
        [(c.width - 2, y_main + edge + 2, "right"), (c.width - 2, y_main + edge + 2.4 * line, "right"), (c.width - 2, bottom, "right")],
        "grid", "ink" if not grid_up else "grid",
    )  # fmt: skip
    rect = Rect(x_grid - 20, y_main - edge, c.width - x_grid + 16, 2 * edge)
    c.stations.append(Station("panel", "loads", "House and main panel", Rect(panel.x - 14, panel.y, 36, panel.h), "main panel"))
    c.stations.append(Station("grid", "grid", "Grid connection", rect, _said(word, flow, limit)))


def _backup_bus(
    c: _Canvas, graph: PlanGraph, values: RelayValues, backup: list[tuple[float, NodeStation]], y_main: float, half: float,
    scale: float, grid_up: bool, dead: bool,
) -> None:  # fmt: skip
    line = c.measure("Xg", "label")[1]
    x_bus, x_gate, x_panel = c.x("backup"), c.x("transfer"), c.x("panel")
    y_low = max([y_main] + [y for y, _ in backup])
    bus = Rect(x_bus - BUS_PX / 2, y_main - half, BUS_PX, y_low - y_main + 2 * half)
    c.bars.append(Bar("backup", bus, dead))
    _load_branch(c, graph.backup_loads, values.backup_load_w, values.load_parts, x_bus, bus.y, scale, "backup", dead)
    flow = abs(values.transfer_w) if grid_up else 0.0
    inwards = values.transfer_w > 0
    hue = "grid" if inwards and values.import_w > 0.5 else "sun"
    parts: Parts = ((hue, flow),) if flow > 0.5 else ()
    c.bands.append(Band(x_bus + BUS_PX / 2, y_main, x_gate, y_main, parts, scale, not grid_up, inwards))
    c.bands.append(Band(x_gate, y_main, x_panel - BUS_PX / 2, y_main, parts, scale, not grid_up, inwards))
    limit = graph.transfer_w
    state = "open" if not grid_up else _state(flow, limit)
    opening = (limit if math.isfinite(limit) else graph.service_w) * scale
    c.gates.append(Gate("transfer", x_gate, y_main, opening, state, not grid_up))
    text = "no limit known" if graph.transfer_a is None else f"{graph.transfer_a:g} A"
    edge = opening / 2 + 12
    c.place(
        [("passes through" if grid_up else "open", "label"), (text, "value")],
        [(x_gate, y_main - edge - 2 * line, "centre"), (x_gate, y_main + edge, "centre")],
        "transfer", "over" if state == "full" else "ink", not grid_up,
    )  # fmt: skip
    c.stations.append(Station("backup", "loads", "Backup side", Rect(bus.x - 14, bus.y, 36, bus.h), "backup bus"))
    rect = Rect(x_gate - 20, y_main - edge, 40, 2 * edge)
    c.stations.append(Station("transfer", "transfer", "Transfer device", rect, _said("transfer device", flow, limit)))


def _load_branch(
    c: _Canvas, text: str, watts: float, parts: Parts, x: float, y_bar: float, scale: float, station: str, dead: bool
) -> None:
    if not text:
        return
    line = c.measure("Xg", "label")[1]
    total = _total(parts) or 1.0
    shown: Parts = () if dead else tuple((name, watts * share / total) for name, share in parts)
    thick = max(HAIRLINE_PX, watts * scale)
    y_end = max(y_bar - 1.2 * line, 3.2 * line)
    c.bands.append(Band(x + BUS_PX / 2, y_bar + thick / 2, x + 34, y_end + thick / 2 + 2, shown, scale, dead))
    words = "dark" if dead else _kw(watts)
    c.place(
        [(text, "label"), (words, "value")],
        [(x + 2, y_end - 2 * line, "left"), (x + 38, y_end - line, "left"), (x - 10, y_end - 2 * line, "right")],
        station, "house" if not dead else "ink", dead,
    )  # fmt: skip
