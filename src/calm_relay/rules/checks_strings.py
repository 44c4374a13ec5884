"""Checks of strings and of the array against its inverter: cold and hot voltage, short circuit, DC-to-AC ratio."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from calm_relay.job.edits import Edit
from calm_relay.job.models import Node, StringGroup
from calm_relay.library.cards import ModuleCard, OptimizerCard, Tracker
from calm_relay.plant import rows
from calm_relay.plant.unit import Unit
from calm_relay.pv import limits
from calm_relay.pv.limits import StringAmps, StringVolts
from calm_relay.pv.roof import array_stc_w as node_stc_w
from calm_relay.pv.voltage import beta_vmp_per_c, cold_voc_v
from calm_relay.rules.registry import CheckContext, Finding, Remedy, check, finding, unknown
from calm_relay.units import format_quantity as show


def string_rows(c: CheckContext) -> Iterator[tuple[Node, Unit, StringGroup, ModuleCard]]:
    """Yield every string group with its node, the node's card and its module card."""
    yield from rows.string_rows(c.plan, c.cards)


def optimizer_of(c: CheckContext, group: StringGroup) -> OptimizerCard | None:
    """Return the optimizer on a group's modules, if any."""
    return c.cards.optimizer(group.optimizer)


def voltage_rows(c: CheckContext) -> Iterator[tuple[Node, Unit, StringGroup, ModuleCard]]:
    """Yield the string groups whose volts are the sum of their modules' volts; optimizers with a fixed string voltage are not."""
    for row in string_rows(c):
        optimizer = optimizer_of(c, row[2])
        if optimizer is None or optimizer.string_voltage_v is None:
            yield row


def amps_of(c: CheckContext, group: StringGroup, module: ModuleCard) -> StringAmps:
    """Return the currents of one string of a group."""
    return limits.string_amps(group, module, c.job.face(group.face), optimizer_of(c, group), limits.extremes_of(c.job.site))


def volts_of(c: CheckContext, group: StringGroup, module: ModuleCard) -> StringVolts:
    """Return the volts of a group's string at the site's extremes."""
    site, face = c.job.site, c.job.face(group.face)
    return limits.string_volts(c.pack, module, group.modules_per_string, limits.extremes_of(site), face.mounting)


def array_stc_w(c: CheckContext, node: Node) -> float:
    """Return the STC power of a node's strings; of module-level inverters, of all units. [W]"""
    return node_stc_w(node, c.cards)


def string_subject(node: Node, group: StringGroup) -> str:
    """Return the subject of a finding about a string."""
    shared = sum(other.tracker == group.tracker for other in node.strings) > 1
    return f"{node.name}, tracker {group.tracker}" + (f", string {group.id}" if shared else "")


def count_path(c: CheckContext, node: Node, group: StringGroup, field: str = "modules_per_string") -> str:
    """Return the path of a string's field."""
    return c.path(f"nodes[{node.id}].strings[{group.id}].{field}")


@check(
    "string.cold-voc",
    "Cold string voltage",
    page="site",
    needs={"plan"},
    short="Cold voltage",
    source="string voltage by the module's coefficient; NEC 690.7, from memory",
)
def cold_voc(c: CheckContext) -> Iterator[Finding]:
    """Open-circuit voltage at the record low against the least of inverter input and module system voltage."""
    low = c.job.site.record_low_c
    for node, card, group, module in voltage_rows(c):
        subject = string_subject(node, group)
        if low is None:
            yield unknown(c, "string.cold-voc", subject, "type the site's record low temperature")
            continue
        volts = volts_of(c, group, module).cold_open_v
        if volts is None:
            coldest = c.pack.rows("cold_voc")[-1][0]
            yield unknown(c, "string.cold-voc", subject, f"the table ends at {coldest:g} °C: enter the module's Voc coefficient")
            continue
        limit, _ = limits.ceiling_v(card.dc_voltage_max_v, module, c.job.site.dc_ceiling_v)
        each = volts / group.modules_per_string
        most = int(limit / each + 1e-9)
        by_card = cold_voc_v(module, group.modules_per_string, low, ()) if module.beta_voc_per_c is not None else None
        if module.beta_voc_per_c is not None and by_card is not None and abs(volts - by_card) <= 1e-6:
            how = f"(1 + ({module.beta_voc_per_c * 100:.2f} %/°C)·({low:g} − 25))"
            source = "the module card's Voc coefficient; record low as typed"
        else:
            how, source = f"{each / module.voc_stc_v:.2f}", c.pack.table["cold_voc"][1]
        line = f"{group.modules_per_string} × {module.voc_stc_v:g} V × {how} = {volts:.0f} V of {limit:.0f} V"
        remedies = []
        if most >= 1:
            edit = Edit(count_path(c, node, group), most)
            remedies.append(Remedy(f"{most} modules instead of {group.modules_per_string}", (edit,)))
        yield finding(c, "string.cold-voc", subject, "voltage_v", volts, limit, "most", line, remedies=remedies, source=source)


@check(
    "string.hot-vmp",
    "Hot string voltage",
    page="site",
    needs={"plan"},
    short="Hot voltage",
    source="working voltage by γ − α; cell rise 0.9·(1 − η)·1000/u, common practice",
)
def hot_vmp(c: CheckContext) -> Iterator[Finding]:
    """Working voltage at the design high against the tracker's minimum with a margin for ageing."""
    margin = c.pack.value("hot_voltage_margin_frac")
    for node, card, group, module in voltage_rows(c):
        subject = string_subject(node, group)
        at = volts_of(c, group, module)
        if at.hot_working_v is None or at.hot_cell_c is None:
            yield unknown(c, "string.hot-vmp", subject, "type the site's design high temperature")
            continue
        tracker = card.trackers[group.tracker - 1]
        volts, cell = at.hot_working_v, at.hot_cell_c
        limit = limits.least_working_v(c.pack, tracker)
        each = volts / group.modules_per_string
        least = int(-(-limit // each))
        line = (
            f"{group.modules_per_string} × {module.vmp_stc_v:g} V × (1 + ({beta_vmp_per_c(module) * 100:.2f} %/°C)·"
            f"({cell:.0f} − 25)) = {volts:.0f} V, at least {tracker.mppt_min_v:g} V + {margin * 100:g} % for ageing"
        )
        edit = Edit(count_path(c, node, group), least)
        remedies = [Remedy(f"{least} modules instead of {group.modules_per_string}", (edit,))] if least <= 60 else []
        yield finding(c, "string.hot-vmp", subject, "voltage_v", volts, limit, "least", line, remedies=remedies)


@check(
    "tracker.short-circuit",
    "Tracker short-circuit current",
    page="site",
    needs={"plan"},
    short="Short-circuit current",
    source="n·Isc·1.25 against the input's rating; IEC 62548-1, from memory",
)
def short_circuit(c: CheckContext) -> Iterator[Finding]:
    """1.25 × Isc of all strings on a tracker against its short-circuit rating: exceeding it fails, unlike working current."""
    factor = c.pack.value("short_circuit_factor")
    trackers: dict[tuple[str, int], list[tuple[Node, Tracker, StringGroup, ModuleCard]]] = defaultdict(list)
    for node, card, group, module in string_rows(c):
        trackers[node.id, group.tracker].append((node, card.trackers[group.tracker - 1], group, module))
    for (_, number), joined in trackers.items():
        node, tracker = joined[0][0], joined[0][1]
        subject = f"{node.name}, tracker {number}"
        if tracker.short_circuit_current_a is None:
            yield unknown(c, "tracker.short-circuit", subject, "the card gives no short-circuit rating: see the data sheet")
            continue
        each = [amps_of(c, group, module) for _, _, group, module in joined]
        amps = limits.tracker_short_circuit_a(c.pack, each)
        limit = tracker.short_circuit_current_a
        parts = " + ".join(f"{s.strings} × {s.short_circuit_a:.4g} A" for s in each if not s.limited)
        held = " + ".join(f"{s.strings} × {s.short_circuit_a:.4g} A of optimizers" for s in each if s.limited)
        line = (
            " + ".join(([f"({parts}) × {factor:g}"] if parts else []) + ([held] if held else []))
            + f" = {amps:.1f} A of {limit:g} A"
        )
        yield finding(
            c, "tracker.short-circuit", subject, "current_a", amps, limit, "most", line,
            remedies=_fewer_strings(c, joined, factor, amps, limit),
        )  # fmt: skip


def to_free_tracker(c: CheckContext, node: Node, group: StringGroup) -> list[Remedy]:
    """Return the remedy that puts a string on its inverter's first free tracker, if there is one apart from the others."""
    card, used = c.plant.station(node.id).unit, {g.tracker for g in node.strings}
    free = next((n for n in range(1, len(card.trackers) + 1) if n not in used), None)
    if free is None or card.trackers_paralleled:
        return []
    return [Remedy(f"string {group.id} on tracker {free}, which is free", (Edit(count_path(c, node, group, "tracker"), free),))]


def _fewer_strings(
    c: CheckContext, joined: list[tuple[Node, Tracker, StringGroup, ModuleCard]], factor: float, amps: float, limit: float
) -> list[Remedy]:
    """Return the remedy that leaves fewer strings in parallel on the group with the most of them."""
    node, _, group, module = max(joined, key=lambda row: row[2].parallel_strings)
    each = amps_of(c, group, module).design_a(factor)
    others = amps - group.parallel_strings * each
    most = int((limit - others) / each + 1e-9)
    if most >= 1:
        edit = Edit(count_path(c, node, group, "parallel_strings"), most)
        return [Remedy(f"{most} string(s) in parallel instead of {group.parallel_strings} on this tracker", (edit,))]
    if len(joined) > 1:
        return to_free_tracker(c, node, group) or [Remedy(f"string {group.id} off this tracker: none of this inverter is free")]
    return [Remedy("a module of lower current, or an inverter whose input carries it")]


@check(
    "array.dc-ac-ratio", "DC-to-AC ratio", page="site", needs={"plan"}, source="the inverter card's limit, with or without battery"
)
def dc_ac_ratio(c: CheckContext) -> Iterator[Finding]:
    """Σ STC watts over rated AC watts (definitions D12) per inverter, against the card's limit with and without battery."""
    for node, card in rows.inverter_rows(c.plan, c.cards):
        if not node.strings or node.controller is not None:  # charge controllers: their own limits say what an array may be
            continue
        rated = card.ac_rated_w * card.unit_count(node.count)
        array = array_stc_w(c, node)
        battery = node.battery is not None
        limit = card.ratio_limit(battery)
        word = "with battery" if battery else "without battery"
        if limit is None:
            yield unknown(c, "array.dc-ac-ratio", node.name, f"the card gives no oversizing limit {word}: see the data sheet")
            continue
        value = array / rated
        line = f"{array / 1000:.2f} kWp / {rated / 1000:.2f} kW = {value:.2f}, the card allows {limit:g} {word}"
        yield finding(
            c, "array.dc-ac-ratio", node.name, "ratio", value, limit, "most", line,
            remedies=smaller_array(c, node, array, limit * rated), cost=c.cost(f"ac_limit:{node.id}"),
        )  # fmt: skip


@check(
    "string.system-voltage", "Module system voltage", page="site", needs={"plan"},
    short="System voltage",
    source="the module card's maximum system voltage; cold voltage as for the inverter input",
)  # fmt: skip
def system_voltage(c: CheckContext) -> Iterator[Finding]:
    """Open-circuit voltage at the record low against what the modules' insulation is rated for."""
    low = c.job.site.record_low_c
    for node, _, group, module in voltage_rows(c):
        volts = volts_of(c, group, module).cold_open_v
        if volts is None:
            yield unknown(
                c, "string.system-voltage", string_subject(node, group), "record low temperature, or the module's Voc coefficient"
            )
            continue
        limit = module.system_voltage_max_v
        if limit is None:
            what = "the module's maximum system voltage: see the data sheet"
            yield unknown(c, "string.system-voltage", string_subject(node, group), what)
            continue
        most = int(limit / (volts / group.modules_per_string) + 1e-9)
        line = f"{group.modules_per_string} modules at {low:g} °C = {volts:.0f} V, the module allows {limit:.0f} V"
        remedy = Remedy(f"{most} modules instead of {group.modules_per_string}", (Edit(count_path(c, node, group), max(1, most)),))
        yield finding(
            c, "string.system-voltage", string_subject(node, group), "voltage_v", volts, limit, "most", line, remedies=[remedy]
        )


def smaller_array(c: CheckContext, node: Node, array_w: float, allowed_w: float) -> list[Remedy]:
    """Shorten strings, or leave parallel strings out, largest group first, until the array fits."""
    edits, words, excess = [], [], array_w - allowed_w
    mine = [(g, m) for n, _, g, m in string_rows(c) if n.id == node.id]
    for group, module in sorted(mine, key=lambda row: -row[0].modules_per_string * row[1].power_stc_w):
        if excess <= 1e-6:
            break
        each = module.power_stc_w * group.parallel_strings
        fewer = min(int(-(-excess // each)), group.modules_per_string - 1)
        if fewer > 0:
            left = group.modules_per_string - fewer
            edits.append(Edit(count_path(c, node, group), left))
            words.append(f"{left} modules instead of {group.modules_per_string} in string {group.id}")
            excess -= fewer * each
    text = "; ".join(words) or f"an array of at most {show(allowed_w, 'power_w')}"
    return [Remedy(text, tuple(edits) if excess <= 1e-6 else ())]
