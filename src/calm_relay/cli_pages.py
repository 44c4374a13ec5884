"""What the pages show, as plain data and as text: strings, house, limits and work order. Used by the command line."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from typing import Any

import numpy as np

from calm_relay.decision.limits import limit_costs
from calm_relay.decision.marks import work_order
from calm_relay.decision.pictures import duration, evening_stack, most_clipped_node, ribbon
from calm_relay.decision.raising import raise_each
from calm_relay.job.models import Job, Plan
from calm_relay.library.cards import ModuleCard
from calm_relay.pv.ladder import string_ladders
from calm_relay.pv.planner import Option
from calm_relay.simulation.pack import inverter_pass_w
from calm_relay.study import Study
from calm_relay.units import format_quantity as show
from calm_relay.weather.files import WeatherRead


def weather_data(read: WeatherRead) -> dict[str, Any]:
    """Return what a weather file holds; irradiation in kWh/m², temperatures in °C."""
    year, months = read.year, read.monthly_kwh_per_m2()
    return {
        "file": read.name,
        "format": read.format,
        "labels": read.labels,
        "years": read.years,
        "latitude_deg": read.latitude_deg,
        "longitude_deg": read.longitude_deg,
        "altitude_m": read.altitude_m,
        "utc_offset_h": None if math.isnan(year.utc_offset_h) else year.utc_offset_h,
        "rows": len(year.ghi_w_per_m2),
        "ghi_annual_kwh_per_m2": sum(months),
        "ghi_monthly_kwh_per_m2": list(months),
        "dni_given": year.dni_w_per_m2 is not None,
        "dhi_given": year.dhi_w_per_m2 is not None,
        "air_min_c": float(year.air_c.min()),
        "air_max_c": float(year.air_c.max()),
        "air_mean_c": float(year.air_c.mean()),
        "notes": list(read.notes),
    }


def weather_text(data: dict[str, Any]) -> list[str]:
    """Return a weather file as lines."""
    place = "no place named" if data["latitude_deg"] is None else f"{data['latitude_deg']:g}°, {data['longitude_deg']:g}°"
    return [
        f"{data['file']}: {data['format']}, {data['years'] or 'year not named'}, {place}",
        f"  {data['labels']}",
        *(f"  {note}" for note in data["notes"]),
        f"  sun on the flat {data['ghi_annual_kwh_per_m2']:.0f} kWh/m² a year; by month "
        + " ".join(f"{kwh:.0f}" for kwh in data["ghi_monthly_kwh_per_m2"]),
        f"  air {data['air_min_c']:.1f} to {data['air_max_c']:.1f} °C, mean {data['air_mean_c']:.1f} °C",
    ]


def faces_data(study: Study, job: Job) -> list[dict[str, Any]]:
    """Return what reaches the cells of each face, after shade and the loss at low angles of incidence. [kWh/m²]"""
    rows = []
    for face in job.faces:
        months = [wh / 1000 for wh in study.face_months(job, face.id)]
        row = {"face": face.id, "name": face.name, "tilt_deg": face.tilt_deg, "azimuth_deg": face.azimuth_deg}
        rows.append({**row, "light_annual_kwh_per_m2": sum(months), "light_monthly_kwh_per_m2": months})
    return rows


def strings_data(job: Job, plan: Plan) -> dict[str, Any]:
    """Return the string ladders of a plan. [V]"""
    return {"plan": plan.id, "letter": plan.letter, "strings": [vars(ladder) for ladder in string_ladders(job, plan)]}


def strings_text(job: Job, plan: Plan) -> list[str]:
    """Return the ladders as lines."""
    out = [f"{plan.letter}  {plan.name}"]
    for x in string_ladders(job, plan):
        cold = "cold not known" if x.cold_voc_v is None else f"cold {x.cold_voc_v:.0f} V of {x.ceiling_v:.0f} V ({x.ceiling})"
        hot = (
            "hot not known"
            if x.hot_vmp_v is None
            else f"hot {x.hot_vmp_v:.0f} V, tracker {x.mppt_min_v:.0f} to {x.mppt_max_v:.0f} V"
        )
        out.append(f"  {x.node}, tracker {x.tracker}, {x.modules} in series on {x.face}: {cold}; {hot}")
    return out


def proposal_data(study: Study, job: Job, plan: Plan, node_id: str, module: ModuleCard) -> dict[str, Any]:
    """Return the string planner's layouts for an inverter, best first, and why others are not among them."""
    made = study.propose_strings(job, plan, node_id, module)
    return {
        "plan": plan.id,
        "node": node_id,
        "module": module.id,
        "layouts": [
            {
                "modules": lay.modules,
                "ac_wh": lay.ac_wh,
                "dc_wh": lay.dc_wh,
                "margin_frac": lay.margin_frac,
                "strings": [
                    {"tracker": o.tracker, "face": o.face, "modules_per_string": o.modules, "parallel_strings": o.strings}
                    for o in lay.options
                ],
            }
            for lay in made.layouts
        ],
        "rejected": made.rejected,
        "why": list(made.why),
    }


def layout_words(options: Iterable[Option], faces: Mapping[str, str]) -> str:
    """Return a layout in words, e.g. ``T1 12 on South, T2 2 × 9 on East``."""
    return ", ".join(f"T{o.tracker} {f'{o.strings} × ' if o.strings > 1 else ''}{o.modules} on {faces[o.face]}" for o in options)


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
