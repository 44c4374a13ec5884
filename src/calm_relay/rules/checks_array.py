"""Further checks of strings, trackers and roof: start voltage, window, currents, fuses, likeness, room, oversizing, clipping.

Where exceeding a limit only costs energy the finding is at most 'tight': it warns and says the cost, and closes no gate.
"""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Callable, Iterator

from calm_relay.job.edits import Edit
from calm_relay.job.models import Node, StringGroup
from calm_relay.library.cards import InverterCard, ModuleCard, Tracker
from calm_relay.plant.rows import inverter_rows
from calm_relay.plant.unit import Unit
from calm_relay.pv import limits
from calm_relay.pv.fit import face_room
from calm_relay.pv.roof import carried_w, group_stc_w
from calm_relay.rules.checks_battery import swap_card, swap_edits
from calm_relay.rules.checks_strings import (
    amps_of,
    array_stc_w,
    count_path,
    optimizer_of,
    smaller_array,
    string_rows,
    string_subject,
    to_free_tracker,
    voltage_rows,
    volts_of,
)
from calm_relay.rules.larger import less_clipped
from calm_relay.rules.registry import CheckContext, Finding, Remedy, check, finding, unknown
from calm_relay.units import format_quantity as show

Row = tuple[Node, Unit, StringGroup, ModuleCard]


def by_tracker(c: CheckContext) -> dict[tuple[str, int], list[Row]]:
    """Return the string groups of a plan by node and tracker."""
    out: dict[tuple[str, int], list[Row]] = defaultdict(list)
    for row in string_rows(c):
        out[row[0].id, row[2].tracker].append(row)
    return out


def _tracker(row: Row) -> Tracker:
    return row[1].trackers[row[2].tracker - 1]


def tracker_name(row: Row) -> str:
    """Return the subject of a finding about a tracker."""
    return f"{row[0].name}, tracker {row[2].tracker}"


@check(
    "string.start-voltage", "Start voltage on a hot day", page="site", needs={"plan"},
    short="Start voltage",
    source="hot open voltage by the module's coefficient; the card's start voltage",
)  # fmt: skip
def start_voltage(c: CheckContext) -> Iterator[Finding]:
    """Open-circuit voltage at the hot cell temperature against the voltage the tracker needs to start."""
    for node, card, group, module in voltage_rows(c):
        subject, tracker = string_subject(node, group), card.trackers[group.tracker - 1]
        at = volts_of(c, group, module)
        if at.hot_cell_c is None or at.hot_open_v is None or tracker.start_v is None:
            missing = (
                "type the site's design high temperature"
                if at.hot_cell_c is None
                else "start voltage or Voc coefficient: see the data sheet"
            )
            yield unknown(c, "string.start-voltage", subject, missing)
            continue
        volts, cell = at.hot_open_v, at.hot_cell_c
        each = volts / group.modules_per_string
        least = int(-(-tracker.start_v // each))
        line = f"{group.modules_per_string} × {each:.1f} V open at {cell:.0f} °C = {volts:.0f} V, starts at {tracker.start_v:g} V"
        edit = Edit(count_path(c, node, group), least)
        yield finding(
            c, "string.start-voltage", subject, "voltage_v", volts, tracker.start_v, "least", line,
            remedies=[Remedy(f"{least} modules instead of {group.modules_per_string}", (edit,))],
        )  # fmt: skip


@check(
    "string.cold-vmp", "Cold working voltage", page="site", needs={"plan"},
    short="Cold working volts",
    source="working voltage by γ − α; above the window the tracker walks off the maximum (common practice)",
)  # fmt: skip
def cold_vmp(c: CheckContext) -> Iterator[Finding]:
    """Working voltage at the record low against the top of the tracker's window; passing it costs energy on cold bright days."""
    low = c.job.site.record_low_c
    for node, card, group, module in voltage_rows(c):
        subject, top = string_subject(node, group), card.trackers[group.tracker - 1].mppt_max_v
        if low is None:
            yield unknown(c, "string.cold-vmp", subject, "type the site's record low temperature")
            continue
        volts = volts_of(c, group, module).cold_working_v or 0.0
        each = volts / group.modules_per_string
        most = int(top / each + 1e-9)
        line = f"{group.modules_per_string} × {each:.1f} V working at {low:g} °C = {volts:.0f} V of {top:g} V"
        edit = Edit(count_path(c, node, group), max(1, most))
        yield finding(
            c, "string.cold-vmp", subject, "voltage_v", volts, top, "most", line, soft=True,
            remedies=[Remedy(f"{most} modules instead of {group.modules_per_string}", (edit,))] if most >= 1 else [],
        )  # fmt: skip


@check(
    "tracker.working-current", "Tracker working current", page="site", needs={"plan"},
    short="Working current",
    source="n·Imp of hot cells against the input's working current; exceeding it only limits (common practice)",
)  # fmt: skip
def working_current(c: CheckContext) -> Iterator[Finding]:
    """Working current of all strings on a tracker against what it takes; above it current is cut and energy lost."""
    for rows in by_tracker(c).values():
        limit = _tracker(rows[0]).working_current_a
        each = [amps_of(c, group, module) for _, _, group, module in rows]
        amps = sum(s.strings * s.working_a for s in each)
        parts = " + ".join(f"{s.strings} × {s.working_a:.4g} A" for s in each)
        cells = sorted({round(s.cell_c) for s in each if s.cell_c is not None})
        parts += f" with cells at {' and '.join(f'{cell:g}' for cell in cells)} °C" if cells else ""
        cost = ""
        if c.facts is not None and amps > limit and c.facts.tracker_lost_wh >= 500:
            cost = f"trackers lose {show(c.facts.tracker_lost_wh, 'energy_wh', 0)} a year"
        yield finding(
            c, "tracker.working-current", tracker_name(rows[0]), "current_a", amps, limit, "most",
            f"{parts} = {amps:.1f} A of {limit:g} A", soft=True, cost=cost, remedies=_less_current(c, rows, limit),
        )  # fmt: skip


@check(
    "array.dc-power", "Power on all trackers together", page="site", needs={"plan"}, short="DC power",
    source="STC watts against what the card takes on its DC side in all; exceeding it only limits (common practice)",
)  # fmt: skip
def dc_power(c: CheckContext) -> Iterator[Finding]:
    """STC power of an inverter's strings against what all its trackers take together, where the card has such a limit."""
    for node, card in inverter_rows(c.plan, c.cards):
        limit = card.pv_dc_max_w
        if limit is None or not node.strings:
            continue
        watts = sum(group_stc_w(group, c.cards) for group in node.strings)

        def takes(other: InverterCard, watts: float = watts) -> bool:
            return other.pv_dc_max_w is None or other.pv_dc_max_w >= watts

        best = swap_card(c, node, takes, lambda other: other.ac_rated_w)
        remedies = [] if best is None or watts <= limit else [Remedy(best.name, swap_edits(c, node, best))]
        line = f"{show(watts, 'power_w')}p on an inverter that takes {show(limit, 'power_w')} DC in all"
        yield finding(
            c, "array.dc-power", node.name, "power_w", watts, limit, "most", line, soft=True,
            remedies=[*remedies, Remedy("fewer modules on it")],
        )  # fmt: skip


@check(
    "tracker.power", "Power on a tracker", page="site", needs={"plan"},
    short="Tracker power",
    source="STC watts against the input's power limit; exceeding it only limits (common practice)",
)  # fmt: skip
def tracker_power(c: CheckContext) -> Iterator[Finding]:
    """STC power of a tracker's strings against the power it takes, where the card has one."""
    for rows in by_tracker(c).values():
        limit = _tracker(rows[0]).power_max_w
        if limit is None:
            continue
        watts = sum(group_stc_w(g, c.cards) for _, _, g, _ in rows)
        line = f"{show(watts, 'power_w')}p on a tracker that takes {show(limit, 'power_w')}"
        node, _, group, module = max(rows, key=lambda row: row[2].modules_per_string)
        spare = limit - watts + group_stc_w(group, c.cards)
        fewer = int(spare / (module.power_stc_w * group.parallel_strings) + 1e-9)
        edits = (Edit(count_path(c, node, group), fewer),) if fewer >= 1 else ()
        remedy = Remedy(f"{fewer} modules instead of {group.modules_per_string} in string {group.id}", edits)
        yield finding(
            c, "tracker.power", tracker_name(rows[0]), "power_w", watts, limit, "most", line, soft=True,
            remedies=[remedy] if edits else [Remedy("an inverter whose tracker takes more")],
        )  # fmt: skip


def _less_current(c: CheckContext, rows: list[Row], limit: float) -> list[Remedy]:
    """Return fewer strings in parallel, or a string moved to a free tracker; nothing where one string is too much already."""
    node, _, group, module = max(rows, key=lambda row: row[2].parallel_strings)
    each = amps_of(c, group, module).working_a
    others = sum(g.parallel_strings * amps_of(c, g, m).working_a for _, _, g, m in rows) - group.parallel_strings * each
    most = int((limit - others) / each + 1e-9)
    if 1 <= most < group.parallel_strings:
        edit = Edit(count_path(c, node, group, "parallel_strings"), most)
        return [Remedy(f"{most} string(s) in parallel instead of {group.parallel_strings}", (edit,))]
    return to_free_tracker(c, rows[-1][0], rows[-1][2]) if len(rows) == 2 else []


def _fused(rows: list[Row]) -> bool:
    return all(group.fuse_a is not None for _, _, group, _ in rows)


@check(
    "tracker.reverse-current", "Reverse current into a faulted string", page="site", needs={"plan"},
    short="Reverse current",
    source="(n − 1)·Isc·1.25 against the series fuse rating; IEC 62548-1, from memory. Practice: fuses from the third string",
)  # fmt: skip
def reverse_current(c: CheckContext) -> Iterator[Finding]:
    """Current the other strings push into a faulted one against the module's rating; string fuses clear it."""
    factor = c.pack.value("short_circuit_factor")
    for rows in _joined(c):
        strings = sum(group.parallel_strings for _, _, group, _ in rows)
        _, card, weakest, module = min(rows, key=lambda row: row[3].series_fuse_max_a or 0.0)
        if strings < 2 or _fused(rows):
            continue
        if module.series_fuse_max_a is None:
            yield unknown(
                c, "tracker.reverse-current", tracker_name(rows[0]), "the module's maximum series fuse: see the data sheet"
            )
            continue
        each, weak = [amps_of(c, g, m) for _, _, g, m in rows], amps_of(c, weakest, module)
        others = sum(s.strings * s.short_circuit_a for s in each) - weak.short_circuit_a
        back = card.back_feed_a or 0.0
        amps = limits.reverse_current_a(c.pack, each, weak, back)
        more = f" + {back:g} A fed back" if back else ""
        line = f"{strings} strings: {others:.1f} A × {factor:g}{more} = {amps:.1f} A of {module.series_fuse_max_a:g} A"
        remedies = []
        sizes = {
            row[2].id: limits.fuse_for(c.pack, amps_of(c, row[2], row[3]).short_circuit_a, row[3].series_fuse_max_a) for row in rows
        }
        if all(sizes.values()):
            edits = tuple(Edit(count_path(c, row[0], row[2], "fuse_a"), sizes[row[2].id]) for row in rows)
            remedies.append(Remedy(f"a string fuse of {next(iter(sizes.values())):g} A, of DC type, in every string", edits))
        yield finding(
            c, "tracker.reverse-current", tracker_name(rows[0]), "current_a", amps, module.series_fuse_max_a, "most", line,
            remedies=remedies,
        )  # fmt: skip


def _joined(c: CheckContext) -> list[list[Row]]:
    """Return strings by what they are in parallel with: their tracker, or all trackers that the inverter joins inside."""
    out: dict[tuple[str, int], list[Row]] = defaultdict(list)
    for (node_id, number), rows in by_tracker(c).items():
        out[node_id, 0 if rows[0][1].trackers_paralleled else number] += rows
    return list(out.values())


@check(
    "string.fuse-size", "String fuse size", page="site", needs={"plan"},
    short="Fuse size",
    source="at least 1.5625·Isc and at most the module's rating; NEC 690.8 and 690.9, from memory",
)  # fmt: skip
def fuse_size(c: CheckContext) -> Iterator[Finding]:
    """Fuses that are fitted: large enough for the string's current, small enough for its modules."""
    factor = c.pack.value("string_fuse_factor")
    for node, _, group, module in string_rows(c):
        if group.fuse_a is None:
            continue
        subject, isc = string_subject(node, group), amps_of(c, group, module).short_circuit_a
        least, highest = limits.fuse_range_a(c.pack, isc)
        if module.series_fuse_max_a is None:
            yield unknown(c, "string.fuse-size", subject, "the module's maximum series fuse: see the data sheet")
            continue
        size = limits.fuse_for(c.pack, isc, module.series_fuse_max_a)
        remedy = (
            []
            if size is None
            else [Remedy(f"{size:g} A instead of {group.fuse_a:g} A", (Edit(count_path(c, node, group, "fuse_a"), size),))]
        )
        small = group.fuse_a < least
        limit = least if small else min(module.series_fuse_max_a, highest)
        most = f"at most {module.series_fuse_max_a:g} A and {highest:.1f} A"
        line = f"{group.fuse_a:g} A, at least {factor:g} × {isc:.4g} A = {least:.1f} A, {most}"
        yield finding(
            c, "string.fuse-size", subject, "current_a", group.fuse_a, limit, "least" if small else "most", line,
            remedies=remedy, tight="count",
        )  # fmt: skip


@check(
    "tracker.strings-alike", "Parallel strings alike", page="site", needs={"plan"},
    short="Strings alike",
    source="strings in parallel of unequal length pull each other off the maximum and feed each other; common practice",
)  # fmt: skip
def strings_alike(c: CheckContext) -> Iterator[Finding]:
    """Different string lengths on one tracker: one is allowed."""
    for rows in by_tracker(c).values():
        if sum(group.parallel_strings for _, _, group, _ in rows) < 2:
            continue
        worn = [optimizer_of(c, group) for _, _, group, _ in rows]
        if all(card is not None and card.unequal_strings for card in worn):
            continue  # these optimizers bring unequal strings to one voltage by themselves
        lengths = sorted({group.modules_per_string for _, _, group, _ in rows})
        line = (
            f"{len(lengths)} string length{'s' if len(lengths) > 1 else ''} on this tracker: {', '.join(map(str, lengths))} modules"
        )
        edits = tuple(Edit(count_path(c, row[0], row[2]), lengths[0]) for row in rows if row[2].modules_per_string != lengths[0])
        yield finding(
            c, "tracker.strings-alike", tracker_name(rows[0]), "count", len(lengths), 1, "most", line, tight="ratio-within",
            remedies=[Remedy(f"{lengths[0]} modules in every string of this tracker", edits)],
        )  # fmt: skip


@check(
    "tracker.one-face", "One face and one module type on a tracker", page="site", needs={"plan"},
    short="One face",
    source="two faces in parallel are a computed small loss, not a fault; common practice",
)  # fmt: skip
def one_face(c: CheckContext) -> Iterator[Finding]:
    """Faces and module types in parallel on one tracker: more than one of either costs some energy."""
    for rows in by_tracker(c).values():
        kinds = {(group.face, group.module) for _, _, group, _ in rows}
        if sum(group.parallel_strings for _, _, group, _ in rows) < 2:
            continue
        faces = ", ".join(dict.fromkeys(c.job.face(group.face).name for _, _, group, _ in rows))
        line = f"{len(kinds)} kind{'s' if len(kinds) > 1 else ''} of string on this tracker: {faces}"
        yield finding(
            c, "tracker.one-face", tracker_name(rows[0]), "count", len(kinds), 1, "most", line, soft=True, tight="ratio-within",
            remedies=to_free_tracker(c, rows[-1][0], rows[-1][2]) if len(kinds) == len(rows) == 2 else [],
        )  # fmt: skip


@check(
    "roof.room",
    "Room on the roof face",
    page="site",
    needs={"plan"},
    short="Roof room",
    source="the room typed for each face, or what fits its typed size",
)
def roof_room(c: CheckContext) -> Iterator[Finding]:
    """Modules a plan puts on a face against what fits there."""
    count: dict[str, int] = defaultdict(int)
    largest: dict[str, tuple[Node, StringGroup]] = {}
    for node, card, group, _ in string_rows(c):
        units = card.unit_count(node.count)
        count[group.face] += group.modules_per_string * group.parallel_strings * units
        kept = largest.get(group.face)
        if kept is None or group.modules_per_string > kept[1].modules_per_string:
            largest[group.face] = (node, group)
    for face_id, modules in count.items():
        face = c.job.face(face_id)
        node, group = largest[face_id]
        room = face_room(face, c.cards.module(group.module))
        if room is None:
            yield unknown(c, "roof.room", face.name, "how many modules fit: type the room of this face, or its size")
            continue
        left = group.modules_per_string - -(-(modules - room) // group.parallel_strings)
        remedies = []
        if left >= 1:
            remedies.append(
                Remedy(
                    f"{left} modules in string {group.id} instead of {group.modules_per_string}",
                    (Edit(count_path(c, node, group), left),),
                )
            )
        line = f"{modules} modules on a face with room for {room}"
        yield finding(c, "roof.room", face.name, "count", modules, room, "most", line, remedies=remedies, tight="ratio-within")


@check(
    "array.under-used",
    "Under-used inverter",
    page="site",
    needs={"plan"},
    source="a ratio below the pack's least: the inverter loafs; common practice",
)
def under_used(c: CheckContext) -> Iterator[Finding]:
    """DC-to-AC ratio of an inverter with strings against the least that uses it well."""
    limit = c.pack.value("dc_ac_ratio_least")
    for node, card in inverter_rows(c.plan, c.cards):
        if card.per_module or not node.strings:
            continue
        array = array_stc_w(c, node)
        ratio = array / card.ac_rated_w
        line = f"{array / 1000:.2f} kWp on {card.ac_rated_w / 1000:.2f} kW = {ratio:.2f}, at least {limit:g} uses it well"
        smaller = swap_card(c, node, _used_well(array, card, limit), lambda other: -other.ac_rated_w)
        remedies = [] if smaller is None else [Remedy(f"{smaller.name} instead", swap_edits(c, node, smaller))]
        yield finding(
            c, "array.under-used", node.name, "ratio", ratio, limit, "least", line, soft=True, tight="ratio-within",
            remedies=remedies or [Remedy("more modules, or a smaller inverter")],
        )  # fmt: skip


def _used_well(array_w: float, now: Unit, ratio_least: float) -> Callable[[InverterCard], bool]:
    """Return whether a card is smaller than the present one, takes its volts, and is used well by an array."""

    def fits(card: InverterCard) -> bool:
        if card.ac_rated_w >= now.ac_rated_w:
            return False
        most = card.dc_ac_ratio_max or math.inf
        return ratio_least <= array_w / card.ac_rated_w <= most and card.dc_voltage_max_v >= now.dc_voltage_max_v

    return fits


@check(
    "array.network-ratio", "DC-to-AC ratio against the network's or a rebate's limit", page="site", needs={"grid", "plan"},
    short="Ratio, network",
    source="typed by the user; the network operator or the rebate decides",
)  # fmt: skip
def network_ratio(c: CheckContext) -> Iterator[Finding]:
    """Σ STC watts over the AC ratings of the inverters that carry PV (definitions D12) against a typed limit, if any."""
    array, rated = carried_w(c.plan, c.cards)
    if rated <= 0:
        return
    value = array / rated
    with_strings = [node for node, card in inverter_rows(c.plan, c.cards) if node.strings and not card.per_module]
    largest = max(with_strings, key=lambda node: array_stc_w(c, node), default=None)
    limits: list[tuple[str, float, str | None]] = [(name, limit, None) for name, limit in c.job.site.network.ratio_limits()]
    paid = c.pack.get("accreditation_ratio_most")
    if paid is not None and not any(name == "rebate" for name, _, _ in limits):
        limits.append(("rebate", paid, c.pack.source("accreditation_ratio_most")))
    for name, limit, source in limits:
        line = f"{array / 1000:.2f} kWp / {rated / 1000:.2f} kW = {value:.2f} of {limit:g}, which the {name} allows"
        remedies = [Remedy(f"an array of at most {show(limit * rated, 'power_w')}p in this plan")]
        if largest is not None:
            own = array_stc_w(c, largest)
            remedies = smaller_array(c, largest, own, own - (array - limit * rated))
        soft = name == "rebate"
        line += "; above it there is no rebate" if soft and value > limit else ""
        yield finding(
            c, "array.network-ratio", name, "ratio", value, limit, "most", line, remedies=remedies, soft=soft, source=source
        )


def _why_not_caught(c: CheckContext) -> str:
    """Return why batteries caught nothing of what was clipped: there is none on the DC side, or it had no room."""
    assert c.facts is not None
    on_dc = any(row["lost_ac_limit_w"] >= 500 and c.facts.usable_wh > 0 for row in c.facts.nodes_wh.values())
    return " The battery had no room for it, or was at its charge limit." if on_dc else " No battery can catch it here."


@check(
    "array.clipped-share", "Energy clipped", page="site", needs={"plan", "year"},
    short="Energy clipped",
    source="simulated year; a share above the pack's is worth a look, common practice",
)  # fmt: skip
def clipped_share(c: CheckContext) -> Iterator[Finding]:
    """Energy the AC limits clip in a year, less what batteries caught, as a share of what the trackers offer."""
    assert c.facts is not None
    f, limit = c.facts, c.pack.value("clipped_share_most")
    offered = sum(row["pv_available_w"] for row in f.nodes_wh.values()) + sum(
        row["dc_available_w"] for row in f.pv_only_wh.values()
    )
    if offered <= 0:
        return
    share = f.clipped_wh / offered
    part = f"{show(f.clipped_wh, 'energy_wh', 0)} clipped of {show(offered, 'energy_wh', 0)} offered"
    line = f"{part} = {share * 100:.1f} %, {limit * 100:g} % is worth a look"
    caught = f" Batteries caught {show(f.caught_wh, 'energy_wh', 0)} more." if f.caught_wh >= 500 else _why_not_caught(c)
    yield finding(
        c, "array.clipped-share", "plan", "fraction", share, limit, "most", line + "." + caught, soft=True, tight="ratio-within",
        remedies=less_clipped(c, limit) if share > limit else [],
    )  # fmt: skip
