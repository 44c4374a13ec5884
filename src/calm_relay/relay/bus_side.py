"""The right half of the relay line: backup bus, transfer device, main panel and grid."""

from __future__ import annotations

import math
from collections.abc import Mapping

from calm_relay.relay.graph import NodeStation, PlanGraph
from calm_relay.relay.picture import (
    BUS_PX,
    HAIRLINE_PX,
    POST_PX,
    Band,
    Bar,
    Box,
    Canvas,
    Gate,
    Rect,
    Station,
    fullest,
    kw,
    line_words,
    lost_words,
    said_of,
    state_of,
    total_of,
)
from calm_relay.relay.values import Parts, RelayValues
from calm_relay.units import format_quantity as show


def lay_out_buses(
    c: Canvas, graph: PlanGraph, values: RelayValues, lanes: list[tuple[NodeStation, float]], scale: float,
    room: tuple[float, float], lost: Mapping[str, float], *, grid_up: bool,
) -> None:  # fmt: skip
    """Lay out everything right of the inverters; `lanes` holds each node's AC height, `room` top and bottom."""
    top, bottom = room
    backup = [y for node, y in lanes if graph.bus_of(node) == "backup"]
    others = [y for node, y in lanes if graph.bus_of(node) == "panel"]
    y_main = backup[0] if backup else others[0] if others else (top + bottom) / 2
    most = max((n.ac_rated_w for n, _ in lanes), default=0.0)
    half = max(18.0, 0.5 * scale * max(most, 0.0 if graph.off_grid else graph.service_w))
    y_main = max(y_main, top + half)
    y_through = _through_y(c, graph, y_main, scale)
    y_low = max([y_main, *others, *([y_through] if graph.has_transfer else [])])
    panel = Rect(c.x("panel") - BUS_PX / 2, y_main - half, BUS_PX, y_low - y_main + 2 * half)
    if graph.has_transfer:
        _backup_bus(c, graph, values, [*backup, y_through], (y_main, y_through), half, scale, lost, grid_up=grid_up)
    dark = not graph.forming if graph.off_grid else not grid_up
    c.bar(Bar("panel", panel, dark))
    text, watts = (graph.backup_loads, values.backup_load_w) if graph.off_grid else (graph.other_loads, values.other_load_w)
    _loads(c, text, watts, values.load_parts, "panel", panel.y, scale, dead=dark)
    rect = Rect(panel.x - 14, panel.y, 36, panel.h)
    c.stations.append(Station("panel", "loads", "House and main panel", rect, f"main panel: {kw(watts)} of house load"))
    if graph.generator:
        _generator(
            c,
            graph,
            values.generator_w,
            scale,
            bus_x=c.x("backup" if graph.has_transfer else "panel"),
            y_from=panel.y + panel.h,
            bottom=bottom,
        )
    if graph.off_grid:
        _no_grid(c, values, panel, lost)
        return
    _grid(c, graph, values, y_main, min(2 * half, (most or graph.service_w) * scale), scale, lost, grid_up=grid_up)


def _no_grid(c: Canvas, values: RelayValues, panel: Rect, lost: Mapping[str, float]) -> None:
    """Say that no grid is there, what is not served at the moment, and what found no use in the year."""
    x, y = c.x("panel") + BUS_PX / 2 + 10, panel.y + panel.h / 2
    c.want([("no grid", "label")], [(x + 20, y - c.line / 2, "left"), (x, y + c.line, "left")], "grid", "quiet")
    if values.unserved_w > 0.5:
        spots = [(x + 20, y + c.line, "left"), (x + 20, y + 2 * c.line, "left")]
        c.want([(f"{kw(values.unserved_w)} not served", "value")], spots, "panel", "over")
    lost_words(c, "panel", lost, [(x + 20, panel.y + panel.h + i * c.line, "left") for i in range(4)])
    said = "no grid" + (f"; {kw(values.unserved_w)} not served" if values.unserved_w > 0.5 else "")
    c.stations.append(Station("grid", "grid", "No grid", Rect(x + 10, y - c.line, c.width - x - 14, 2 * c.line), said))


def _generator(c: Canvas, graph: PlanGraph, watts: float, scale: float, *, bus_x: float, y_from: float, bottom: float) -> None:
    """A generator below the bus it feeds; it runs in an outage alone."""
    runs = watts > 0.5
    figure = f"{kw(watts)} of {show(graph.generator_va, 'apparent_va')}" if runs else show(graph.generator_va, "apparent_va")
    texts = [("generator", "small"), (figure, "value")]
    w = max(c.measure(text, role)[0] for text, role in texts) + 14
    h = sum(c.measure(text, role)[1] for text, role in texts) + 8
    box = Rect(min(bus_x + 24, c.width - w - 4), bottom - h, w, h)
    y = box.y + h / 2
    c.bar(Bar("generator", Rect(bus_x - 1, min(y_from, y - 4), 2, max(4.0, y - y_from)), dead=not runs))
    parts: Parts = (("grid", watts),) if runs else ()
    band = Band(x0=bus_x, y0=y, x1=box.x, y1=y, parts=parts, px_per_w=scale, dead=not runs, towards_left=True)
    c.band(band, max(HAIRLINE_PX, graph.generator_va))
    c.box(Box("generator", box, None, dead=not runs), texts)
    said = f"{graph.generator}: gives {kw(watts)}" if runs else f"{graph.generator}: it stands still"
    c.stations.append(Station("generator", "generator", graph.generator, box, said))


def _through_y(c: Canvas, graph: PlanGraph, y_main: float, scale: float) -> float:
    """Return where the way through the transfer device lies: on the main line, or lower where its gate would reach the headings."""
    finite = graph.transfer_w if math.isfinite(graph.transfer_w) else graph.service_w
    return max(y_main, c.measure("X", "head")[1] + finite * scale / 2 + POST_PX + 6)


def _grid(
    c: Canvas, graph: PlanGraph, values: RelayValues, y: float, thick: float, scale: float, lost: Mapping[str, float], *,
    grid_up: bool,
) -> None:  # fmt: skip
    x_panel, x_gate = c.x("panel") + BUS_PX / 2, c.x("grid")
    outwards = values.export_w > values.import_w
    parts: Parts = () if not grid_up else values.export if outwards else (("grid", values.import_w),)
    c.band(
        Band(x0=x_panel, y0=y, x1=x_gate, y1=y, parts=parts, px_per_w=scale, dead=not grid_up, towards_left=not outwards),
        thick / scale,
    )
    c.band(
        Band(x0=x_gate, y0=y, x1=c.width - 4, y1=y, parts=parts, px_per_w=scale, dead=not grid_up, towards_left=not outwards),
        thick / scale,
    )
    if outwards and not math.isinf(graph.export_w):
        limit, word = graph.export_w, "export"
    elif math.isinf(graph.import_w):
        limit, word = graph.service_w, "service"
    else:
        limit, word = min(graph.service_w, graph.import_w), "import"
    flow = total_of(parts)
    line = fullest(values.meter_lines, graph.service_a * graph.line_w_per_a) if grid_up else None
    state = "open" if not grid_up else "full" if line else state_of(flow, limit)
    c.gate(
        Gate(
            station="grid",
            x=x_gate,
            y=y,
            opening=limit * scale,
            state=state,
            dead=not grid_up,
            spill=values.held_w * scale if grid_up else 0.0,
        )
    )
    text = f"{graph.service_a:g} A" if word == "service" else kw(limit)
    edge = limit * scale / 2 + POST_PX + 3
    tone = "over" if state == "full" else "ink"
    spots = [(x_gate, y - edge - 2 * c.line, "centre"), (c.width - 2, y - edge - 2 * c.line, "right"), (x_gate, y + edge, "centre")]
    c.want([(word, "label"), (text, "value")], spots, "grid", tone, dead=not grid_up, short=text)
    words = "grid is down" if not grid_up else f"{kw(flow)} {'out' if outwards else 'in'}" if flow > 0.5 else "nothing flows"
    other = values.import_w if outwards else values.export_w
    words += f", {kw(other)} {'in' if outwards else 'out'}" if grid_up and flow > 0.5 and other > 0.5 else ""
    words += ", above the limit" if grid_up and flow > 1.001 * limit else ""
    on_line = f"{line_words(line, graph.line_w_per_a)} of {graph.service_a:g} A" if line else ""
    low = [(c.width - 2, y + edge + i * c.line, "right") for i in range(4)]
    if on_line:
        c.want([(on_line, "value")], low, "grid", "over", short=line_words(line, graph.line_w_per_a) if line else "")
    c.want([(words, "value")], [*low, (c.width - 2, y - edge - 4 * c.line, "right")], "grid", "grid" if grid_up else "ink")
    if grid_up:
        lost_words(
            c, "grid", lost, [(x, y + dy, align) for x, dy, align in [(c.width - 2, edge + i * c.line, "right") for i in range(5)]]
        )
    rect = Rect(x_gate - 20, y - edge, c.width - x_gate + 16, 2 * edge)
    said = said_of(word, flow, limit) + (f"; {on_line}" if on_line else "") if grid_up else words
    c.stations.append(Station("grid", "grid", "Grid connection", rect, said))


def _backup_bus(
    c: Canvas, graph: PlanGraph, values: RelayValues, lanes: list[float], lines: tuple[float, float], half: float, scale: float,
    lost: Mapping[str, float], *, grid_up: bool,
) -> None:  # fmt: skip
    """Lay out the backup side; `lines` are the heights of the main line and of the way through the transfer device."""
    y_main, y = lines
    dead = not grid_up and (not graph.forming or values.dark)
    x_bus, x_gate, x_panel = c.x("backup"), c.x("transfer"), c.x("panel")
    y_low = max([y_main, *lanes])
    bus = Rect(x_bus - BUS_PX / 2, y_main - half, BUS_PX, y_low - y_main + 2 * half)
    c.bar(Bar("backup", bus, dead))
    _loads(c, graph.backup_loads, values.backup_load_w, values.load_parts, "backup", bus.y, scale, dead=dead)
    flow = abs(values.transfer_w) if grid_up else 0.0
    inwards = values.transfer_w > 0
    hue = "grid" if inwards and values.import_w > 0.5 else "sun" if values.pv_flows else "battery"
    parts: Parts = ((hue, flow),) if flow > 0.5 else ()
    limit = graph.transfer_w
    finite = limit if math.isfinite(limit) else graph.service_w
    most = min(finite, sum(n.ac_rated_w for n in graph.nodes if n.side == "backup") or finite)
    c.band(
        Band(x0=x_bus + BUS_PX / 2, y0=y, x1=x_gate, y1=y, parts=parts, px_per_w=scale, dead=not grid_up, towards_left=inwards),
        most,
    )
    c.band(
        Band(x0=x_gate, y0=y, x1=x_panel - BUS_PX / 2, y1=y, parts=parts, px_per_w=scale, dead=not grid_up, towards_left=inwards),
        most,
    )
    line = fullest(values.device_lines, (graph.transfer_a or math.inf) * graph.line_w_per_a) if grid_up else None
    state = "open" if not grid_up else "full" if line else state_of(flow, limit)
    c.gate(Gate(station="transfer", x=x_gate, y=y, opening=finite * scale, state=state, dead=not grid_up))
    text = "no limit known" if graph.transfer_a is None else f"{graph.transfer_a:g} A"
    edge = finite * scale / 2 + POST_PX + 3
    c.want(
        [("passes through" if grid_up else "open", "label"), (text, "value")],
        [(x_gate, y - edge - 2 * c.line, "centre"), (x_gate, y + edge, "centre"), (x_gate + 12, y - edge - c.line, "left")],
        "transfer", "over" if state == "full" else "ink", dead=not grid_up, short=text,
    )  # fmt: skip
    on_line = f"{line_words(line, graph.line_w_per_a)} of {text}" if line else ""
    if line:
        spots = [(x_gate, y + edge + i * c.line, "centre") for i in range(3)]
        c.want([(on_line, "value")], spots, "transfer", "over", short=line_words(line, graph.line_w_per_a))
    if grid_up:
        lost_words(c, "transfer", lost, [(x_gate, y + edge, "centre"), (x_gate, y + edge + c.line, "centre")])
    c.stations.append(Station("backup", "loads", "Backup side", Rect(bus.x - 14, bus.y, 36, bus.h), "backup bus"))
    rect = Rect(x_gate - 20, y - edge, 40, 2 * edge)
    said = (
        said_of("transfer device", flow, limit) + (f"; {on_line}" if on_line else "")
        if grid_up
        else "transfer device: open, nothing passes"
    )
    c.stations.append(Station("transfer", "transfer", "Transfer device", rect, said))


def _loads(c: Canvas, text: str, watts: float, parts: Parts, column: str, y_bar: float, scale: float, *, dead: bool) -> None:
    """The branch from a bus to its loads, above the bus."""
    if not text:
        return
    x = c.x(column)
    total = total_of(parts) or 1.0
    shown: Parts = () if dead else tuple((name, watts * share / total) for name, share in parts)
    thick = max(HAIRLINE_PX, watts * scale)
    y_end = max(y_bar - 0.6 * c.line, 3.4 * c.line)
    c.band(
        Band(x0=x + BUS_PX / 2, y0=y_bar + thick / 2, x1=x + 34, y1=y_end + thick / 2, parts=shown, px_per_w=scale, dead=dead), 0.0
    )
    words = "dark" if dead else kw(watts)
    c.want(
        [(text, "label"), (words, "value")],
        [*((x, y_end - 2 * c.line - 3, align) for align in ("centre", "left", "right")), (x + 38, y_end - c.line, "left")],
        column, "house" if not dead else "ink", dead=dead, short=words,
    )  # fmt: skip
