"""The relay line laid out: graph and flows in, rectangles, bands, gates and labels out. Painter, keys, hit test and the
overlap test read the same object.

Left to right: roof, trackers, DC node with its battery, inverter, backup bus, transfer device, main panel, grid. One scale
for every band and gate; a gate is two posts whose opening is the rating.
"""

from __future__ import annotations

import math
from collections.abc import Mapping

from calm_relay.relay.bus_side import lay_out_buses
from calm_relay.relay.graph import NodeStation, PlanGraph
from calm_relay.relay.picture import (
    BUS_PX,
    HAIRLINE_PX,
    HEADS,
    POST_PX,
    Band,
    Bar,
    Box,
    Canvas,
    Gate,
    Measure,
    Rect,
    RelayPicture,
    Station,
    kw,
    lost_words,
    said_of,
    state_of,
    total_of,
)
from calm_relay.relay.values import NodeValues, Parts, RelayValues
from calm_relay.units import format_quantity as show

TIGHT_LINES, TIGHT_PX = 3.0, 46.0
BATTERY_SHARE = 0.44  # of a row's height, under the PV and AC lane


def lay_out(
    graph: PlanGraph,
    values: RelayValues,
    width: float,
    height: float,
    measure: Measure,
    *,
    grid_up: bool = True,
    lost_wh: Mapping[str, float] | None = None,
) -> RelayPicture:
    """Lay a plan out in `width` × `height` pixels; `lost_wh` holds what each station's limit lost in the year."""
    c = Canvas(measure, width, height)
    lost = lost_wh or {}
    for column, text in HEADS:
        if (graph.has_transfer or column not in ("backup", "transfer")) and not (graph.off_grid and column == "grid"):
            c.head(text, c.x(column) + (measure(text, "head")[0] / 2 if column == "roof" else 0.0))
    top = measure("X", "head")[1] + 3.4 * c.line
    bottom = height - 2.2 * c.line
    rows = list(graph.nodes)
    heights = _row_heights(rows, bottom - top)
    scale = _scale(graph, rows, heights, bottom - top)
    lanes: list[tuple[NodeStation, float]] = []
    y = top
    for node, row_height in zip(rows, heights, strict=True):
        lane = row_height * (1 - BATTERY_SHARE) if node.battery else row_height
        _row(c, graph, values, node, y, row_height, lane, scale, lost, grid_up=grid_up)
        lanes.append((node, y + lane / 2))
        y += row_height
    lay_out_buses(c, graph, values, lanes, scale, (top, bottom), lost, grid_up=grid_up)
    c.settle()
    return c.picture(scale)


def _row_heights(rows: list[NodeStation], room: float) -> list[float]:
    weights = [1.0 + (0.75 if n.battery else 0.0) + 0.4 * max(0, len(n.trackers) - 1) for n in rows]
    total = sum(weights) or 1.0
    return [room * w / total for w in weights]


def _scale(graph: PlanGraph, rows: list[NodeStation], heights: list[float], room: float) -> float:
    """Pixels per watt: the largest rating fits its row, and the buses fit the picture."""
    limits = [] if graph.off_grid else [0.5 * room / max(graph.service_w, 1.0)]
    if graph.has_transfer and math.isfinite(graph.transfer_w):
        limits.append(0.75 * room / max(graph.transfer_w, 1.0))
    for node, h in zip(rows, heights, strict=True):
        lane = h * (1 - BATTERY_SHARE) if node.battery else h
        stc = sum(t.stc_w for t in node.trackers)
        limits.append(0.5 * lane / max(node.ac_rated_w, stc, 1.0))
        if node.battery:
            limits.append(0.55 * (h - lane) / max(node.battery.charge_w, node.battery.discharge_w, 1.0))
        for t in node.trackers:
            limits.append(0.5 * lane / len(node.trackers) / max(t.limit_w, t.stc_w, 1.0))
    return min(limits, default=0.5 * room / max(graph.service_w, 1.0))


def _row(
    c: Canvas, graph: PlanGraph, values: RelayValues, node: NodeStation, y0: float, row_height: float, lane: float,
    scale: float, lost: Mapping[str, float], *, grid_up: bool,
) -> None:  # fmt: skip
    """One inverter: its trackers, its bar, its AC gate and its battery."""
    v = values.nodes.get(node.id, NodeValues())
    yc = y0 + lane / 2
    dead = not grid_up and (node.side != "backup" or not graph.forming or values.dark or node.id in values.off)
    stc = sum(t.stc_w for t in node.trackers)
    half = max(14.0, 0.5 * scale * max(node.ac_rated_w, stc))
    _trackers(c, node, v, y0, lane, scale, lost, dead=dead)
    bar = Rect(c.x("node") - BUS_PX / 2, yc - half, BUS_PX, 2 * half)
    c.bar(Bar(f"node:{node.id}", bar, dead))
    title = f"{node.count} × {node.name}" if node.count > 1 else node.name
    x = bar.x + BUS_PX / 2
    c.want(
        [(title, "value")],
        [(x, bar.y - c.line - 3, "centre"), (x, bar.y + bar.h + 3, "centre"), (x - 30, bar.y - c.line - 3, "right")],
        f"node:{node.id}", dead=dead,
    )  # fmt: skip
    x_gate, x_bus = c.x("inverter"), c.x(graph.bus_of(node)) - BUS_PX / 2
    parts, left = (v.out, False) if v.out else (v.into, True)
    c.band(
        Band(x0=bar.x + BUS_PX, y0=yc, x1=x_gate, y1=yc, parts=parts, px_per_w=scale, dead=dead, towards_left=left), node.ac_rated_w
    )
    c.band(Band(x0=x_gate, y0=yc, x1=x_bus, y1=yc, parts=parts, px_per_w=scale, dead=dead, towards_left=left), node.ac_rated_w)
    limit, name = node.ac_rated_w, "inverter AC"
    forms = node.forms_grid and node.battery is not None
    if (not grid_up or graph.off_grid) and forms:
        limit, name = (node.ac_rated_w, "off grid not known") if node.offgrid_va is None else (node.offgrid_va, "off grid")
    unknown = (not grid_up or graph.off_grid) and forms and node.offgrid_va is None
    figure = "–" if unknown else kw(limit)
    flow = total_of(parts)
    state = "open" if unknown else state_of(flow, limit)
    c.gate(
        Gate(station=f"inverter:{node.id}", x=x_gate, y=yc, opening=limit * scale, state=state, dead=dead, spill=v.spill_w * scale)
    )
    above, below = yc - limit * scale / 2 - POST_PX - 3, yc + limit * scale / 2 + POST_PX + 3
    c.want(
        [(name, "label"), (figure, "value")],
        [
            (x_gate, above - 2 * c.line, "centre"), (x_gate, below, "centre"), (x_gate + 26, above - 2 * c.line, "left"),
            (x_gate + 30, yc - limit * scale / 2 - c.line - 2, "left"),
            *([] if node.battery else [(x_gate + 30, yc + limit * scale / 2 + 2, "left")]),
        ],
        f"inverter:{node.id}", "over" if state == "full" else "ink", dead=dead, short=figure,
    )  # fmt: skip
    if not dead and grid_up:
        lost_words(c, f"inverter:{node.id}", lost, [(x_gate, below + i * c.line, "centre") for i in range(4)])
    gate_rect = Rect(x_gate - 22, yc - limit * scale / 2 - 14, 44, limit * scale + 28)
    c.stations.append(Station(f"node:{node.id}", "node", title, Rect(bar.x - 16, bar.y, 40, bar.h), f"{title}, {node.kind}"))
    said = f"{name}, {kw(flow)}" if unknown else said_of(name, flow, limit)
    c.stations.append(Station(f"inverter:{node.id}", "node", f"{title}, AC side", gate_rect, said))
    if node.battery:
        _battery(c, node, v, bar, y0 + lane, row_height - lane, scale, c.x(graph.bus_of(node)), dead=dead)


def _trackers(
    c: Canvas, node: NodeStation, v: NodeValues, y0: float, lane: float, scale: float, lost: Mapping[str, float], *, dead: bool
) -> None:
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
        station = f"tracker:{t.id}"
        thick = max(8.0, t.stc_w * scale)
        c.bar(Bar(f"face:{t.id}", Rect(x_face, yc - thick / 2, 6, thick), dead))
        c.band(Band(x0=x_face + 6, y0=yc, x1=x_gate, y1=yc, parts=parts, px_per_w=scale, dead=dead), t.stc_w)
        c.band(Band(x0=x_gate, y0=yc, x1=x_bar, y1=arrive, parts=parts, px_per_w=scale, dead=dead), t.stc_w)
        state = state_of(watts, t.limit_w)
        c.gate(Gate(station=station, x=x_gate, y=yc, opening=t.limit_w * scale, state=state, dead=dead))
        half = t.limit_w * scale / 2
        above, below = yc - half - POST_PX - 3, yc + half + POST_PX + 3
        c.want(
            [(f"{t.word} {t.number}", "label"), (kw(t.limit_w), "value")],
            [
                (x_gate, above - 2 * c.line, "centre"), (x_gate, below, "centre"),
                (x_gate + 10, above - c.line, "left"), (x_gate - 10, below - c.line, "right"),
            ],
            station, "over" if state == "full" else "ink", dead=dead, short=kw(t.limit_w),
        )  # fmt: skip
        under, over = yc + thick / 2 + 3, yc - thick / 2 - 3
        c.want(
            [(t.face_names, "value"), (t.strings_text, "label")],
            [(x_face, under, "left"), (x_face, over - 2 * c.line, "left"), (x_face, under + c.line, "left")],
            station, dead=dead, short=t.strings_text,
        )  # fmt: skip
        lost_words(c, station, lost, [(x_gate + 8, below, "left"), (x_gate, below, "centre"), (x_face, under, "left")])
        rect = Rect(x_face, yc - max(6.0, thick / 2), x_gate - x_face + 10, max(12.0, thick))
        title = f"{node.name}, {t.word} {t.number}"
        c.stations.append(Station(station, "strings", title, rect, said_of(f"{t.word} {t.number}", watts, t.limit_w)))


def _battery(
    c: Canvas, node: NodeStation, v: NodeValues, bar: Rect, y0: float, room: float, scale: float, bus: float, *, dead: bool
) -> None:
    assert node.battery is not None
    b = node.battery
    station = f"battery:{node.id}"
    soc = "–" if v.soc_frac is None else show(v.soc_frac, "fraction")
    texts = [(soc, "value"), (f"{show(b.usable_wh, 'energy_wh')} usable", "small"), (b.text, "small")]
    while len(texts) > 1 and sum(c.measure(text, role)[1] for text, role in texts) + 4 > room:
        texts.pop()
    box_w = max(c.measure(text, role)[0] for text, role in texts) + 14
    box_h = min(room, sum(c.measure(text, role)[1] for text, role in texts) + 8)
    yc = y0 + room / 2
    tight = TIGHT_PX if room < TIGHT_LINES * c.line else 0.0  # in a narrow row its gate stands beside the inverter's
    x_gate = min(c.x("inverter") - tight, bus - box_w - 34)
    box = Rect(x_gate + 22, yc - box_h / 2, box_w, box_h)
    charging = total_of(v.charge) > v.discharge_w
    parts: Parts = v.charge if charging else ((("battery", v.discharge_w),) if v.discharge_w > 0.5 else ())
    thick = max(HAIRLINE_PX, total_of(parts) * scale)
    most = max(b.charge_w, b.discharge_w)
    start = Band(
        x0=bar.x + BUS_PX,
        y0=bar.y + bar.h - 0.5 * thick,
        x1=x_gate,
        y1=yc,
        parts=parts,
        px_per_w=scale,
        dead=dead,
        towards_left=not charging,
    )
    c.band(start, most)
    c.band(Band(x0=x_gate, y0=yc, x1=box.x, y1=yc, parts=parts, px_per_w=scale, dead=dead, towards_left=not charging), most)
    gives = v.discharge_w > total_of(v.charge)
    limit = b.discharge_w if gives else b.charge_w
    state = state_of(total_of(parts), limit)
    c.gate(Gate(station=station, x=x_gate, y=yc, opening=limit * scale, state=state, dead=dead))
    c.box(Box(station, box, v.soc_frac, dead), texts)
    half = limit * scale / 2 + POST_PX + 3
    word = "gives" if gives else "takes"
    c.want(
        [(f"{word} {kw(limit)}", "small")] if tight else [(word, "label"), (kw(limit), "value")],
        [
            *([(box.x + box.w + 6, yc - c.line / 2, "left")] if tight else []),
            (x_gate, yc + half, "centre"), (x_gate, yc - half - 2 * c.line, "centre"),
            (x_gate - 10, yc + half - c.line, "right"), (box.x + box.w + 6, yc - c.line, "left"),
            (box.x + box.w + 6, yc - c.line / 2, "left"),
        ],
        station, "over" if state == "full" else "ink", dead=dead, short=kw(limit),
    )  # fmt: skip
    title = f"{node.name}, battery"
    c.stations.append(Station(station, "battery", title, box, said_of(title, total_of(parts), limit)))
