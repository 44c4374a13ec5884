"""Like inverters in one row, where a plan has more than can be read: same card, same side, no battery."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from calm_relay.relay.graph import NodeStation, PlanGraph, TrackerStation
from calm_relay.relay.values import NodeValues, Parts, RelayValues
from calm_relay.units import count_words

MOST_ROWS = 6  # that stand by themselves
FACES_SHOWN = 2


def groups_of(graph: PlanGraph) -> list[list[NodeStation]]:
    """Return the rows of a plan's picture: each inverter by itself, or like ones without a battery together where many stand."""
    if len(graph.nodes) <= MOST_ROWS:
        return [[node] for node in graph.nodes]
    rows: dict[object, list[NodeStation]] = {}
    for node in graph.nodes:
        key = node.id if node.battery is not None else (node.kind, node.side, node.each_w, bool(node.trackers))
        rows.setdefault(key, []).append(node)
    return list(rows.values())


def folded(
    graph: PlanGraph, values: RelayValues, lost_wh: Mapping[str, float]
) -> tuple[PlanGraph, RelayValues, dict[str, float], dict[str, int]]:
    """Return a plan with like inverters in one row each, its flows and its losses added up, and how many stand in a row.

    A row goes by the id of its first inverter.
    """
    rows = groups_of(graph)
    if len(rows) == len(graph.nodes):
        return graph, values, dict(lost_wh), {}
    nodes, flows, lost = [], dict(values.nodes), dict(lost_wh)
    counts = {}
    for row in rows:
        first = row[0]
        if len(row) == 1:
            nodes.append(first)
            continue
        counts[first.id] = len(row)
        nodes.append(_one(row))
        flows[first.id] = _sum([values.nodes.get(node.id, NodeValues()) for node in row])
        lost[f"inverter:{first.id}"] = sum(lost_wh.get(f"inverter:{node.id}", 0.0) for node in row)
    return replace(graph, nodes=tuple(nodes)), replace(values, nodes=flows), lost, counts


def _one(row: list[NodeStation]) -> NodeStation:
    """Return like inverters as one row: their ratings and strings added up."""
    first = row[0]
    trackers = [t for node in row for t in node.trackers]
    merged: tuple[TrackerStation, ...] = ()
    if trackers:
        faces = list(dict.fromkeys(t.face_names for t in trackers))
        names = " + ".join(faces) if len(faces) <= FACES_SHOWN else count_words(len(faces), "face")
        merged = (
            TrackerStation(
                id=trackers[0].id, number=1, face_names=names, strings_text=count_words(len(trackers), trackers[0].word),
                string_ids=tuple(i for t in trackers for i in t.string_ids), stc_w=sum(t.stc_w for t in trackers),
                limit_w=sum(t.limit_w for t in trackers), word=trackers[0].word,
            ),
        )  # fmt: skip
    return replace(
        first,
        name=first.kind.replace("pv_", "PV ").replace("_", " "),
        count=sum(node.count for node in row),
        ac_rated_w=sum(node.ac_rated_w for node in row),
        trackers=merged,
    )


def _sum(parts: list[NodeValues]) -> NodeValues:
    """Return the flows of like inverters added up. [W]"""
    pv = sum(v.pv_w for v in parts)
    return NodeValues(pv_w=pv, trackers_w=(pv,), out=_parts([v.out for v in parts]), spill_w=sum(v.spill_w for v in parts))


def _parts(rows: list[Parts]) -> Parts:
    total: dict[str, float] = {}
    for row in rows:
        for origin, watts in row:
            total[origin] = total.get(origin, 0.0) + watts
    return tuple(total.items())
