"""Checks of what the network asks beside counting: limiter and sensor, plugs, approvals, frequency, phases at the meter."""

from __future__ import annotations

from collections.abc import Iterator

from calm_relay.job.edits import Edit
from calm_relay.job.models import Node
from calm_relay.library.cards import FrequencyRecord, InverterCard
from calm_relay.plant.rows import inverter_rows
from calm_relay.pv.roof import array_stc_w
from calm_relay.rules.checks_battery import swap_card, swap_edits
from calm_relay.rules.checks_board import added_nodes
from calm_relay.rules.registry import COUNTS, YES_NO, CheckContext, Finding, Remedy, check, declared, finding, unknown
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show

OF_OTHER_HZ = 5.0  # further from the supply's own it is made for another
BIAS_LEAST_W = 20.0  # below it a meter's own error lets energy out; common practice


@check(
    "network.set-point", "Set-point under an export cap of nothing", page="plans", needs={"grid", "plan"}, short="Set-point",
    source="what is drawn on purpose so that nothing leaks out while loads jump; 20 W at least, common practice",
)  # fmt: skip
def set_point(c: CheckContext) -> Iterator[Finding]:
    """The set-point drawn from the grid where nothing may be exported, and how fast an export is cut."""
    cap = c.plant.caps.export_w
    if cap is None or cap > 0 or not c.plan.nodes:
        return
    bias, response = c.plan.controls.meter_bias_w, c.plan.controls.export_response_s
    if response is None:
        yield unknown(c, "network.set-point", "limiter", "seconds until an export is cut: see the inverter's manual")
    after = "" if response is None else f"; an export is cut within {response:g} s"
    line = f"{bias:g} W drawn on purpose, at least {BIAS_LEAST_W:g} W{after}"
    yield finding(
        c, "network.set-point", "set-point", "power_w", bias, BIAS_LEAST_W, "least", line, soft=True,
        remedies=[Remedy(f"a set-point of {50:g} W", (Edit(c.path("controls.meter_bias_w"), 50.0),))],
    )  # fmt: skip


@check(
    "network.sensor", "Sensor sees all loads", page="plans", needs={"grid", "plan"}, short="Sensor",
    source="what lies upstream of the sensor is neither served nor kept from being exported; common practice",
)  # fmt: skip
def sensor(c: CheckContext) -> Iterator[Finding]:
    """Whether the controller's sensor stands where it sees the whole house and every inverter."""
    if not any(True for _ in c.plant.banked):
        return
    listed = c.plan.backed_up
    unseen = [] if listed is None else [a.name for a in c.job.house.counted if a.id not in listed]
    others = [s.name for s in c.plant.pv_only if s.side == "grid" and s.strings]
    blind = c.plan.controls.sensor == "device" and bool(unseen or others)
    where = "at the transfer device" if c.plan.controls.sensor == "device" else "at the meter"
    parts = [count_words(len(unseen), "load")] if unseen else []
    parts += others
    said = f"it does not see {', '.join(parts)}" if blind else "0 loads are hidden from it"
    line = f"it stands {where}: {said}"
    yield finding(
        c, "network.sensor", "sensor", YES_NO, float(not blind), 1.0, "least", line, soft=True, tight=COUNTS,
        remedies=[Remedy("a sensor at the meter", (Edit(c.path("controls.sensor"), "meter"),))],
    )  # fmt: skip


@check(
    "network.plug-in", "Plug-in inverters", page="tariff", needs={"grid", "plan"}, short="Plug-in",
    source="output of all inverters on a plug against what may be connected so; the pack",
)  # fmt: skip
def plug_in(c: CheckContext) -> Iterator[Finding]:
    """The output of all inverters that are connected by a plug, against the pack's limit."""
    rows = [(node, c.cards.inverter(node.card)) for node in c.plan.nodes if node.plugged_in]
    if not rows:
        return
    limit = c.pack.get("plug_in_most_w")
    total = sum(card.ac_rated_w * node.count for node, card in rows)
    words = " + ".join(f"{node.name} {card.ac_rated_w * node.count:g} W" for node, card in rows)
    if limit is None:
        yield unknown(c, "network.plug-in", "plug", f"what may be connected by a plug here ({words}): ask the operator")
        return
    edits = tuple(Edit(c.path(f"nodes[{node.id}].plugged_in"), value=False) for node, _ in rows)
    yield finding(
        c, "network.plug-in", "plug", "power_w", total, limit, "most", f"{words} = {total:g} W of {limit:g} W", tight=COUNTS,
        remedies=[Remedy("wired to the board, as other inverters are", edits)], source=c.pack.source("plug_in_most_w"),
    )  # fmt: skip


@check(
    "network.approval", "Transfer device agreed with the operator", page="tariff", needs={"grid", "plan"}, short="Approval",
    source="a device between meter and house is agreed before work begins; the pack's list",
)  # fmt: skip
def approval(c: CheckContext) -> Iterator[Finding]:
    """Whether the operator agreed to the transfer device, where the pack asks for it."""
    if c.plan.transfer is None or "transfer" not in c.pack.items("approvals"):
        return
    name, said = c.cards.transfer(c.plan.transfer.card).name, c.job.site.network.transfer_approved
    yield declared(
        c, "network.approval", name, said, "whether the operator agrees to a device at the meter: ask before work begins",
        f"{int(said == 'yes')} of 1 agreed, as declared",
        Remedy("the operator's word, then declare it", (Edit("site.network.transfer_approved", "yes"),)),
        source=c.pack.list_["approvals"][1],
    )  # fmt: skip


def _records(c: CheckContext) -> Iterator[tuple[Node, InverterCard, FrequencyRecord | None]]:
    """Yield the inverters that a plan adds, with what their cards say of frequency."""
    for node in added_nodes(c):
        card = c.cards.inverter(node.card)
        yield node, card, card.frequency


@check(
    "network.frequency-response", "Power falls with rising frequency", page="tariff", needs={"grid", "plan"},
    short="Frequency response", source="added inverters answer to a raised frequency by their power; the pack's curve",
)  # fmt: skip
def frequency_response(c: CheckContext) -> Iterator[Finding]:
    """Whether each added inverter falls back with rising frequency, as the pack's network asks."""
    wanted = str(c.pack.items("response_to_frequency")[0])
    curve, _ = c.pack.curve(wanted)
    for node, card, record in _records(c):
        if record is None:
            yield unknown(c, "network.frequency-response", node.name, f"what {card.name} does when the frequency rises: its papers")
            continue
        start, nominal = record.start_hz, c.pack.value("supply_frequency_hz")
        good = record.droop_frac is not None and start is not None and abs(start - nominal) < OF_OTHER_HZ
        begins = "it only trips" if record.droop_frac is None or start is None else f"it falls back from {start:g} Hz"
        line = f"{begins}; the network's curve begins at {curve.get('start_hz', 0.0):g} Hz"
        best = swap_card(c, node, lambda k: k.frequency is not None and k.frequency.droop_frac is not None, lambda k: k.ac_rated_w)
        remedies = [Remedy(f"{best.name} instead", swap_edits(c, node, best))] if best is not None and best.id != node.card else []
        yield finding(
            c, "network.frequency-response", node.name, YES_NO, float(good), 1.0, "least", line, tight=COUNTS,
            remedies=[*remedies, Remedy("an inverter that answers to frequency")],
            source=c.pack.list_["response_to_frequency"][1],
        )  # fmt: skip


@check(
    "network.return-ramp", "Ramp after an interruption", page="tariff", needs={"grid", "plan"}, short="Return ramp",
    source="how fast an added inverter comes back, as a share of its rating a minute; the card against the pack",
)  # fmt: skip
def return_ramp(c: CheckContext) -> Iterator[Finding]:
    """How fast each added inverter comes back after an interruption, against the pack's limit."""
    limit = c.pack.value("return_ramp_most_frac_per_min")
    for node, card, record in _records(c):
        ramp = None if record is None else record.return_ramp_frac_per_min
        if ramp is None:
            yield unknown(c, "network.return-ramp", node.name, f"how fast {card.name} comes back: its papers")
            continue
        line = f"{ramp * 100:.3g} % of its rating a minute, at most {limit * 100:.3g} %"
        yield finding(
            c, "network.return-ramp", node.name, "fraction", ramp, limit, "most", line, soft=True, tight=COUNTS,
            remedies=[Remedy("its setting for this network, at commissioning")],
            source=c.pack.source("return_ramp_most_frac_per_min"),
        )  # fmt: skip


@check(
    "network.dynamic-cap", "Export that can be lowered at any time", page="tariff", needs={"grid", "plan"}, short="Dynamic cap",
    source="what nobody can throttle against the least that the network may lower the export to; as typed",
)  # fmt: skip
def dynamic_cap(c: CheckContext) -> Iterator[Finding]:
    """What cannot be throttled, against the least to which the network may lower the export."""
    limit = c.job.site.network.dynamic_least_w
    if limit is None or not c.plan.nodes:
        return
    free = [(node, card) for node, card in inverter_rows(c.plan, c.cards) if not card.controllable and node.strings]
    total = sum(min(card.ac_rated_w * node.count, array_stc_w(node, c.cards)) for node, card in free)
    words = " + ".join(f"{node.name} {show(card.ac_rated_w * node.count, 'power_w', 1)}" for node, card in free) or "nothing"
    line = f"{words} cannot be throttled; the network may lower the export to {show(limit, 'power_w', 1)}"
    remedies = []
    if len(free) == 1:
        best = swap_card(c, free[0][0], lambda k: k.controllable, lambda k: abs(k.ac_rated_w - free[0][1].ac_rated_w))
        if best is not None:
            remedies = [Remedy(f"{best.name} instead", swap_edits(c, free[0][0], best))]
    yield finding(
        c, "network.dynamic-cap", "site", "power_w", total, limit, "most", line, tight=COUNTS,
        remedies=[*remedies, Remedy("inverters that can be throttled")], source=c.job.site.network.source,
    )  # fmt: skip


@check(
    "network.usual-export", "Export that is usual here", page="tariff", needs={"grid", "plan"}, short="Usual export",
    source="the export limit in force against what networks of the place usually grant; the pack, the operator decides",
)  # fmt: skip
def usual_export(c: CheckContext) -> Iterator[Finding]:
    """The export limit against what the pack calls usual: more is to be asked for."""
    each, share = c.pack.get("export_usual_w"), c.pack.get("export_share_usual_frac")
    array = sum(array_stc_w(node, c.cards) for node in c.plan.nodes)
    if (each is None and share is None) or array <= 0:
        return
    lines = c.plant.lines.count
    usual = (each or 0.0) * lines if each is not None else (share or 0.0) * array
    by = (
        f"{show(each, 'power_w', 1)} a phase × {lines}" if each is not None
        else f"{(share or 0.0) * 100:g} % of {show(array, 'power_w', 2)}p"
    )  # fmt: skip
    source = c.pack.source("export_usual_w") if each is not None else c.pack.source("export_share_usual_frac")
    cap = c.plant.caps.export_w
    if cap is None:
        words = f"the export limit: ask the operator; usual is {by} = {show(usual, 'power_w', 2)}"
        yield unknown(c, "network.usual-export", "meter", words, source)
        return
    line = f"{show(cap, 'power_w', 2)} in force; usual is {by} = {show(usual, 'power_w', 2)}"
    edits = (Edit("site.export_limit_w", round(usual, 1)),)
    yield finding(
        c, "network.usual-export", "meter", "power_w", cap, usual, "most", line, soft=True, tight=COUNTS, source=source,
        remedies=[Remedy(f"{show(usual, 'power_w', 2)}, or the operator's word for more", edits)],
    )  # fmt: skip


@check(
    "network.netting", "Phases summed at the meter", page="tariff", needs={"grid", "plan", "year"}, short="Netting",
    source="simulated year: what is bought on one phase while another sells, where each phase is counted by itself",
)  # fmt: skip
def netting(c: CheckContext) -> Iterator[Finding]:
    """What is bought on one phase while another sells, as a share of all that is bought."""
    assert c.facts is not None
    if c.job.site.supply.kind != "three_phase" or len(c.facts.lines) != 3:
        return
    net, each = c.facts.system_wh["import_w"], sum(line.import_wh for line in c.facts.lines)
    if c.job.tariff.netting == "summed":
        yield finding(c, "network.netting", "meter", YES_NO, 1.0, 1.0, "least", "the meter sums 3 phases, as typed", tight=COUNTS)
        return
    more = max(0.0, each - net)
    parts = f"{show(each, 'energy_wh', 0)} bought phase by phase, {show(net, 'energy_wh', 0)} of the sum"
    line = f"{parts}: {show(more, 'energy_wh', 0)} more"
    yield finding(
        c, "network.netting", "meter", "energy_wh", more, 0.0, "most", line, soft=True, tight=COUNTS,
        cost=f"{more / 1000:.0f} kWh a year", remedies=[Remedy("three-phase inverters, or a meter that sums the phases")],
    )  # fmt: skip
