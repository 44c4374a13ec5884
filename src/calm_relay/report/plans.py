"""A plan's year, the comparison, what limits cost and how far the work has come: plain data and text."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from calm_relay.decision.compare import PlanRow, compare_plans
from calm_relay.decision.limits import limit_costs
from calm_relay.decision.marks import work_order
from calm_relay.decision.raising import raise_each
from calm_relay.decision.twenty import twenty_years
from calm_relay.decision.words import because, compare_lines, compare_text
from calm_relay.job.models import Job, Plan
from calm_relay.job.tariff_models import Tariff
from calm_relay.plant.resolve import plant_of
from calm_relay.report.head import CAUTION, title_text
from calm_relay.report.house import bill_data
from calm_relay.study import PlanResult, Study
from calm_relay.units import format_quantity as show
from calm_relay.year.pictures import duration, most_clipped_node, ribbon


def _energies(sums: dict[str, float]) -> dict[str, float]:
    return {f"{name[:-2]}_wh" if name.endswith("_w") else f"{name}_change": value for name, value in sums.items()}


def plan_data(result: PlanResult, tariff: Tariff) -> dict[str, Any]:
    """Return one plan's year as plain data, energies in Wh."""
    f, bill = result.facts, result.bill
    return {
        "energies": _energies(f.system_wh),
        "nodes": {node: _energies(sums) for node, sums in f.nodes_wh.items()},
        "pv_only": {node: {k.replace("_w", "_wh"): v for k, v in sums.items()} for node, sums in f.pv_only_wh.items()},
        "tracker_lost_wh": f.tracker_lost_wh,
        "clipped_wh": f.clipped_wh,
        "caught_wh": f.caught_wh,
        "held_by_cap_wh": f.held_by_cap_wh,
        "self_sufficiency_frac": f.self_sufficiency_frac,
        "own_use_frac": f.own_use_frac,
        "usable_wh": f.usable_wh,
        "full_cycles": f.full_cycles,
        "limits": {name: {"hours_h": use.hours_h, "held_wh": use.held_wh} for name, use in f.limits.items()},
        "exceeded": {name: vars(e) for name, e in f.exceeded.items()},
        "line_amps": [vars(row) for row in f.amps],
        "evening": None
        if f.evening is None
        else {
            "limit_w": f.evening.limit_w,
            "weakest": f.evening.weakest,
            "peak_w": f.evening.peak_w,
            "hours_over_h": f.evening.hours_over_h,
            "over_wh": f.evening.over_wh,
        },
        "fill": {node: {s: vars(x) for s, x in seasons.items()} for node, seasons in f.fill.items()},
        "battery_months": {node: [vars(month) for month in months] for node, months in f.battery_months.items()},
        "months": {f"{name[:-2]}_wh": values for name, values in f.by_month_wh.items()},
        "runs": f.runs,
        "steady": f.steady,
        "assumed": sorted(f.assumed),
        "bill": bill_data(bill, tariff),
    }


def comparison(study: Study, job: Job, plans: Sequence[Plan]) -> tuple[PlanRow, ...]:
    """Return the comparison of plans; today's system is always computed, since savings are against it."""
    asked = list(plans) if plans and plans[0].id == job.plans[0].id else [job.plans[0], *plans]
    results = [(plan, study.plan_result(job, plan)) for plan in asked]
    years = {row.plan_id: row for row in twenty_years(study, job, results)}
    rows = compare_plans(job, [(p, r.facts, r.bill, r.findings) for p, r in results], years)
    wanted = {plan.id for plan in plans}
    return tuple(row for row in rows if row.plan_id in wanted)


def because_text(job: Job, rows: Sequence[PlanRow]) -> list[str]:
    """Return what the figures say; nothing where today's system or all plans but it were left out."""
    whole = len(rows) > 1 and rows[0].plan_id == job.plans[0].id
    return because(rows, job.tariff.currency) if whole else []


def comparison_text(job: Job, rows: Sequence[PlanRow]) -> list[str]:
    """Return plans side by side as lines."""
    out = [*title_text(job), f"{'':32}" + "".join(f"{row.letter:>14}" for row in rows)]
    out += [
        f"{text:32}" + "".join(f"{compare_text(row, field, kind):>14}" for row in rows) for field, text, kind in compare_lines(job)
    ]
    out.append(f"{'Over / tight / not known':32}" + "".join(f"{f'{r.over} / {r.tight} / {r.not_known}':>14}" for r in rows))
    for row in rows:
        out.append(f"{row.letter:6} {row.name}" + (f": not to be recommended, {row.gate}" if row.gate else ""))
    return [*out, "", *because_text(job, rows), "", f"Money in {job.tariff.currency}. {CAUTION}"]


def limits_data(study: Study, job: Job, plan: Plan) -> dict[str, Any]:
    """Return what limits cost in the year, what raising one gains, the year's flows and the clipping of one inverter."""
    facts = study.facts(job, plan)
    node = next((n for n in plan.nodes if n.id == most_clipped_node(facts)), None)
    clipping = None
    if node is not None:
        limit = plant_of(job, plan).station(node.id).unit.passes_dc_w
        curve = duration(study.flow(job, plan), node.id, limit)
        above = curve.offered_w > limit
        hours = float(np.count_nonzero(above)) * (study.step_s / 3600)
        clipping = {"node": node.id, "limit_dc_w": limit, "hours_above_h": hours, "most_dc_w": float(curve.offered_w.max())}
    return {
        "plan": plan.id,
        "letter": plan.letter,
        "limits": [vars(row) for row in limit_costs(plan, facts)],
        "raised": [gain.as_dict() for gain in raise_each(study, job, plan)],
        "flows": [{"from": a, "to": b, "year_wh": wh} for a, b, wh in ribbon(facts).flows],
        "clipping": clipping,
    }


def limits_text(data: dict[str, Any], currency: str) -> list[str]:
    """Return limits and gains as lines."""
    out = [data["letter"]]
    for row in data["limits"]:
        out.append(f"  {row['text']}: {row['hours_h']:.0f} h at it, {show(row['held_wh'], 'energy_wh', 0)} held back")
    for row in data["raised"]:
        out.append(f"  if {row['text']}: {currency} {show(row['saving'], 'money')} a year saved")
    for row in data["flows"]:
        out.append(f"  {row['from']} to {row['to']}: {show(row['year_wh'], 'energy_wh', 0)}")
    return out


def order_data(study: Study, job: Job) -> list[dict[str, Any]]:
    """Return the work order with its marks."""
    findings = {plan.id: study.plan_result(job, plan).findings for plan in job.plans}
    return [vars(mark) for mark in work_order(job, findings)]
