"""The string ladder: where a string's voltage stands, cold and hot, against everything that limits it."""

from __future__ import annotations

from dataclasses import dataclass

from calm_relay.job.models import Job, Plan
from calm_relay.library.cards import HybridCard, ModuleCard, ModuleInverterCard, PvInverterCard
from calm_relay.pv.voltage import beta_vmp_per_c, cell_rise_k, cold_voc_v, hot_vmp_v


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
    mppt_min_v: float
    mppt_max_v: float
    start_v: float | None
    ceiling_v: float
    ceiling: str


def string_ladders(job: Job, plan: Plan) -> tuple[Ladder, ...]:
    """Return a ladder for every string group of a plan, in the plan's order."""
    cards = job.cards()
    low, high = job.site.record_low_c, job.site.design_high_c
    out = []
    for node in plan.nodes:
        card = cards[node.card]
        if not isinstance(card, PvInverterCard | HybridCard | ModuleInverterCard):
            continue
        for group in node.strings:
            module = cards[group.module]
            if not isinstance(module, ModuleCard):
                continue
            tracker, face, n = card.trackers[group.tracker - 1], job.face(group.face), group.modules_per_string
            hot = None if high is None else high + cell_rise_k(1000.0, module.efficiency_frac, face.mounting)
            by_module = module.system_voltage_max_v < card.dc_voltage_max_v
            out.append(
                Ladder(
                    node.id,
                    node.name,
                    group.tracker,
                    group.id,
                    n,
                    face.name,
                    None if low is None else cold_voc_v(module, n, low),
                    None if low is None else n * module.vmp_stc_v * (1.0 + beta_vmp_per_c(module) * (low - 25.0)),
                    None if hot is None else hot_vmp_v(module, n, hot),
                    tracker.mppt_min_v,
                    tracker.mppt_max_v,
                    tracker.start_v,
                    min(card.dc_voltage_max_v, module.system_voltage_max_v),
                    "module's system voltage" if by_module else "inverter input",
                )
            )
    return tuple(out)
