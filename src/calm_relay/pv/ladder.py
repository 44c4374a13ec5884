"""The string ladder: where a string's volts and a tracker's amps stand against everything that limits them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from calm_relay.job.models import Job, Node, Plan, StringGroup
from calm_relay.library.cards import Card, ModuleCard, OptimizerCard, Tracker, WithTrackers
from calm_relay.pv.voltage import beta_vmp_per_c, cell_rise_k, cold_voc_v, hot_vmp_v, short_circuit_a, start_voltage_v, working_a

SHORT_CIRCUIT_FACTOR = 1.25  # IEC 62548-1 and NEC 690.8, from memory


@dataclass(frozen=True)
class Ladder:
    """Voltages of one string of a tracker and its limits; None where a temperature or a figure is not known. [V]"""

    node_id: str
    node: str
    tracker: int
    string_id: str
    modules: int
    face: str
    cold_voc_v: float | None
    cold_vmp_v: float | None
    hot_vmp_v: float | None
    hot_voc_v: float | None
    mppt_min_v: float
    mppt_max_v: float
    start_v: float | None
    ceiling_v: float
    ceiling: str


def string_ladders(job: Job, plan: Plan) -> tuple[Ladder, ...]:
    """Return a ladder for every string group of a plan, in the plan's order."""
    cards = job.cards()
    out = []
    for node, card in _with_trackers(plan, cards):
        for group in node.strings:
            module = cards[group.module]
            if not isinstance(module, ModuleCard):
                continue
            tracker = card.trackers[group.tracker - 1]
            ceilings = [("inverter input", card.dc_voltage_max_v), ("module's system voltage", module.system_voltage_max_v)]
            if job.site.dc_ceiling_v is not None:
                ceilings.append(("local ceiling", job.site.dc_ceiling_v))
            name, volts = min(ceilings, key=lambda row: row[1])
            out.append(
                Ladder(
                    node.id, node.name, group.tracker, group.id, group.modules_per_string, job.face(group.face).name,
                    *_volts(job, cards, group, module), tracker.mppt_min_v, tracker.mppt_max_v, tracker.start_v, volts, name,
                )
            )  # fmt: skip
    return tuple(out)


def _with_trackers(plan: Plan, cards: dict[str, Card]) -> Iterator[tuple[Node, WithTrackers]]:
    """Yield the inverters of a plan whose strings hang on trackers of their own, with their cards."""
    for node in plan.nodes:
        card = cards[node.card]
        if isinstance(card, WithTrackers):
            yield node, card


def _volts(
    job: Job, cards: dict[str, Card], group: StringGroup, module: ModuleCard
) -> tuple[float | None, float | None, float | None, float | None]:
    """Return cold open, cold working, hot working and hot open volts of a group's string."""
    low, high, n = job.site.record_low_c, job.site.design_high_c, group.modules_per_string
    optimizer = cards.get(group.optimizer or "")
    if isinstance(optimizer, OptimizerCard) and optimizer.string_voltage_v is not None:
        held = optimizer.string_voltage_v
        return held, held, held, held
    hot = None if high is None else high + cell_rise_k(1000.0, module.efficiency_frac, job.face(group.face).mounting)
    return (
        None if low is None else cold_voc_v(module, n, low),
        None if low is None else n * module.vmp_stc_v * (1.0 + beta_vmp_per_c(module) * (low - 25.0)),
        None if hot is None else hot_vmp_v(module, n, hot),
        None if hot is None else start_voltage_v(module, n, hot),
    )


@dataclass(frozen=True)
class TrackerAmps:
    """Currents of one tracker against its limits: working current at STC, and 1.25 times the short-circuit current. [A]"""

    node_id: str
    node: str
    tracker: int
    strings: int
    working_a: float
    working_limit_a: float
    short_circuit_a: float
    short_circuit_limit_a: float | None


def tracker_amps(job: Job, plan: Plan) -> tuple[TrackerAmps, ...]:
    """Return the currents of every tracker of a plan that has strings; light on the rear is counted in."""
    cards = job.cards()
    out = []
    for node, card in _with_trackers(plan, cards):
        for number in sorted({g.tracker for g in node.strings}):
            tracker: Tracker = card.trackers[number - 1]
            working = short = 0.0
            strings = 0
            for group in node.strings:
                module, optimizer = cards[group.module], cards.get(group.optimizer or "")
                if group.tracker != number or not isinstance(module, ModuleCard):
                    continue
                face, strings = job.face(group.face), strings + group.parallel_strings
                if isinstance(optimizer, OptimizerCard) and optimizer.string_voltage_v is not None:
                    each = group.modules_per_string * module.power_stc_w / optimizer.string_voltage_v
                    working += group.parallel_strings * min(each, optimizer.output_current_max_a)
                    short += group.parallel_strings * optimizer.output_current_max_a / SHORT_CIRCUIT_FACTOR
                    continue
                working += group.parallel_strings * working_a(module, face)
                short += group.parallel_strings * short_circuit_a(module, face)
            out.append(
                TrackerAmps(
                    node.id, node.name, number, strings, working, tracker.working_current_a, SHORT_CIRCUIT_FACTOR * short,
                    tracker.short_circuit_current_a,
                )
            )  # fmt: skip
    return tuple(out)
