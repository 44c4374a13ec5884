"""What the pages show, as plain data and as text: strings, house, limits and work order. Used by the command line."""

from __future__ import annotations

from typing import Any

import numpy as np

from calm_relay.decision.limits import limit_costs
from calm_relay.decision.marks import work_order
from calm_relay.decision.pictures import duration, evening_stack, most_clipped_node, ribbon
from calm_relay.decision.raising import raise_each
from calm_relay.job.models import Job, Plan
from calm_relay.simulation.pack import inverter_pass_w
from calm_relay.study import Study
from calm_relay.units import format_quantity as show


def load_data(study: Study, job: Job) -> dict[str, Any]:
    """Return the house by part: energy of the year and of each month [Wh], and the highest evening. [W]"""
    year, calendar = study.house(job), study.calendar(job)
    names = {a.id: a.name for a in job.house.appliances}
    parts = [("background", "Everything else", year.background_w)]
    parts += [(i, names[i], watts) for i, watts in year.appliance_w.items()]
    stack = evening_stack(job.house, year, calendar)

    return {
        "parts": [
            {
                "id": i,
                "name": name,
                "year_wh": float(watts.sum()) * calendar.step_h,
                "peak_w": float(watts.max()),
                "months_wh": list(calendar.by_month_wh(watts)),
            }
            for i, name, watts in parts
        ],
        "year_wh": float(year.total_w().sum()) * calendar.step_h,
        "peak_w": float(year.total_w().max()),
        "highest_evening": {
            "day": calendar.label(stack.day * calendar.steps_per_day).rpartition(" ")[0],
            "peak_w": float(stack.total_w.max()),
            "parts": [{"name": name, "peak_w": float(watts.max())} for name, watts in stack.parts],
        },
    }


def load_text(data: dict[str, Any]) -> list[str]:
    """Return the house as lines."""
    out = [
        f"  {row['name']:28}{show(row['year_wh'], 'energy_wh', 0):>12}   up to {show(row['peak_w'], 'power_w')}"
        for row in data["parts"]
    ]
    evening = data["highest_evening"]
    out.append(f"  {'all':28}{show(data['year_wh'], 'energy_wh', 0):>12}   up to {show(data['peak_w'], 'power_w')}")
    out.append(f"  highest evening: {evening['day']}, {show(evening['peak_w'], 'power_w')}")
    return out


def limits_data(study: Study, job: Job, plan: Plan) -> dict[str, Any]:
    """Return what limits cost in the year, what raising one gains, the year's flows and the clipping of one inverter."""
    facts = study.facts(job, plan)
    node = next((n for n in plan.nodes if n.id == most_clipped_node(facts)), None)
    clipping = None
    if node is not None:
        limit = inverter_pass_w(node, job.cards())
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
