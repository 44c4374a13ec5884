"""Plans side by side: one row of figures each, gates first."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any

from calm_relay.job.models import Job, Plan
from calm_relay.money.costing import PlanCosts, plan_costs
from calm_relay.money.counted import new_boxes
from calm_relay.packs.pack import Pack
from calm_relay.plant.offgrid import plan_continuous_va
from calm_relay.plant.resolve import plant_of
from calm_relay.rules.checks_network import network_sum_w
from calm_relay.rules.registry import CheckContext, Finding
from calm_relay.tariff.growth import payback_years

if TYPE_CHECKING:
    from calm_relay.decision.twenty import TwentyYears
    from calm_relay.tariff.bill import Bill
    from calm_relay.year.facts import YearFacts


@dataclass(frozen=True)
class PlanRow:
    """One plan's figures. Energies in Wh a year, powers in W or VA, money in the job's currency.

    `payback_years` is simple (definitions D19): prices grow, nothing is discounted; None where the cost is not known or the savings
    do not reach it. With the twenty years at hand ageing is in it, and `npv`, `irr_frac` and `discounted_payback_years` are known.
    `cost_note` says why there is no cost, or what of it nobody priced: it is `cost_at_least` then, and so is what rests on it.
    `lit`: something forms the grid in an outage.
    `gate` says in words what keeps the plan from being recommended, or is empty.
    """

    plan_id: str
    letter: str
    name: str
    over: int
    tight: int
    not_known: int
    within: int
    gate: str
    bill: float
    saving: float
    cost: float | None
    cost_note: str
    payback_years: float | None
    cost_at_least: bool
    npv: float | None
    irr_frac: float | None
    discounted_payback_years: float | None
    per_usable_kwh: float | None
    self_sufficiency_frac: float
    own_use_frac: float
    import_wh: float
    export_wh: float
    clipped_wh: float
    caught_wh: float
    held_by_cap_wh: float
    unserved_wh: float
    exceeded_hours_h: float
    usable_wh: float
    full_cycles: float
    evening_hours_over_h: float | None
    offgrid_va: float | None
    lit: bool
    network_sum_w: float
    boxes: int
    warranty_years: float | None

    def as_dict(self) -> dict[str, Any]:
        """Return the row as plain data."""
        return asdict(self)


def counts(findings: Sequence[Finding]) -> Counter[str]:
    """Return how many findings stand at each verdict; waived ones count as 'waived'."""
    return Counter("waived" if f.waived and f.verdict == "over" else f.verdict for f in findings)


def gate_reason(findings: Sequence[Finding], pack: Pack) -> str:
    """Return what keeps a plan from being recommended: an unwaived 'over', or what the pack says must be known and is not."""
    over = [f for f in findings if f.verdict == "over" and not f.waived]
    if over:
        return f"{over[0].title} is {over[0].word}" + (f", and {len(over) - 1} more" if len(over) > 1 else "")
    missing = [f for f in findings if f.verdict == "not known" and f.check in pack.items("must_be_known")]
    return f"{missing[0].title} is not known" if missing else ""


def _passed_h(facts: YearFacts) -> float:
    """Return the hours of the limit passed longest: caps and devices of the whole plan, fuse and device of each line.

    A peak target is a wish, and no limit; what is not served has a row of its own. [h]
    """
    lines = [h for row in facts.amps for h in (row.fuse_hours_h, row.device_hours_h or 0.0)]
    return max([*(e.hours_h for key, e in facts.exceeded.items() if key not in ("peak", "unserved")), *lines], default=0.0)


def compare_plans(
    job: Job,
    results: Sequence[tuple[Plan, YearFacts, Bill, Sequence[Finding]]],
    twenty: Mapping[str, TwentyYears] | None = None,
) -> tuple[PlanRow, ...]:
    """Return one row a plan, in the job's order; savings are against the first plan, which is today's system.

    `twenty` are the plans' twenty years by id, where they are known.
    """
    cards = job.cards()
    rows = []
    today = results[0][2].total
    for plan, facts, bill, findings in results:
        tally = counts(findings)
        context = CheckContext(job, plan, cards, facts)
        offgrid = plan_continuous_va(plant_of(job, plan)) if plan.has_backup_side else None
        costs = plan_costs(job, plan)
        years = (twenty or {}).get(plan.id)
        worth = None if years is None else years.worth
        saving = today - bill.total
        rows.append(
            PlanRow(
                plan_id=plan.id,
                letter=plan.letter,
                name=plan.name,
                over=tally["over"],
                tight=tally["tight"],
                not_known=tally["not known"],
                within=tally["within"],
                gate=gate_reason(findings, context.pack),
                bill=bill.total,
                saving=saving,
                cost=costs.total,
                cost_note=_cost_note(costs),
                payback_years=worth.payback_years
                if worth
                else _plain_payback(costs, results[0][2], bill, job, known=years is not None),
                cost_at_least=bool(costs.missing) and costs.total is not None,
                npv=None if worth is None else worth.npv,
                irr_frac=None if worth is None else worth.irr_frac,
                discounted_payback_years=None if worth is None else worth.discounted_payback_years,
                per_usable_kwh=costs.per_usable_kwh,
                self_sufficiency_frac=facts.self_sufficiency_frac,
                own_use_frac=facts.own_use_frac,
                import_wh=facts.system_wh["import_w"],
                export_wh=facts.system_wh["export_w"],
                clipped_wh=facts.clipped_wh,
                caught_wh=facts.caught_wh,
                held_by_cap_wh=facts.held_by_cap_wh,
                unserved_wh=facts.system_wh["unserved_w"],
                exceeded_hours_h=_passed_h(facts),
                usable_wh=facts.usable_wh,
                full_cycles=facts.full_cycles,
                evening_hours_over_h=None if facts.evening is None else facts.evening.hours_over_h,
                offgrid_va=offgrid,
                lit=plan.has_backup_side and bool(plant_of(job, plan).forming),
                network_sum_w=network_sum_w(context)[0],
                boxes=_boxes(plan),
                warranty_years=_shortest_warranty(job, plan),
            )
        )
    return tuple(rows)


def _cost_note(costs: PlanCosts) -> str:
    if costs.stale:
        return "made for other equipment"
    if costs.total is None:
        return "not entered"
    return f"without a price: {', '.join(costs.missing)}" if costs.missing else ""


def _plain_payback(costs: PlanCosts, today: Bill, bill: Bill, job: Job, *, known: bool) -> float | None:
    """Return the payback while the twenty years are not known: nothing ages in it."""
    return None if known or not costs.total or costs.total < 0 else payback_years(costs.total, today, bill, job.tariff)


def _boxes(plan: Plan) -> int:
    """Return how many kinds of boxes hang there: inverters, banks and what stands on them, the generator. [number]"""
    on_banks = sum(
        (n.battery is not None) + (n.controllers if n.controller else 0) + (n.timer_charger is not None) for n in plan.nodes
    )
    return len(plan.nodes) + on_banks + (plan.generator is not None)


def _shortest_warranty(job: Job, plan: Plan) -> float | None:
    """Return the shortest warranty among equipment that today's system does not have. [years]"""
    known = [years for card in new_boxes(job, plan, job.cards()) if (years := card.warranty_years) is not None]
    return min(known, default=None)
