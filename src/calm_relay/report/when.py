"""When in the year energy flows, as plain data and as a table: by month, hour of the clock or period of the tariff; and by box."""

from __future__ import annotations

from typing import Any

from calm_relay.job.control_models import GRID_CHARGING
from calm_relay.job.models import Job, Plan
from calm_relay.plant.resolve import plant_of
from calm_relay.simulation.failures import failures
from calm_relay.study import Study
from calm_relay.units import format_quantity as show
from calm_relay.year.arithmetic import year_figures
from calm_relay.year.boxes import box_uses, path_trips, trip_words
from calm_relay.year.charge import charge_bands, window_words, window_year
from calm_relay.year.when import FLOWS, By

_HEADS = {
    "load_w": "house", "pv_ac_w": "PV at AC", "pv_to_house_w": "PV→house", "battery_to_house_w": "batt.→house",
    "grid_to_house_w": "grid→house", "import_w": "import", "grid_to_battery_w": "grid→batt.", "export_w": "export",
    "unserved_w": "not served",
}  # fmt: skip


def when_data(study: Study, job: Job, plan: Plan, by: By) -> dict[str, Any]:
    """Return a plan's year in parts as plain data, energies in Wh; by month also how each battery fills and empties."""
    parts = study.year_parts(job, plan, by)
    out: dict[str, Any] = {
        "plan": plan.id,
        "letter": plan.letter,
        "name": plan.name,
        "by": by,
        "parts": [
            {"name": p.name, "hours_h": p.hours_h, **{f"{column[:-2]}_wh": wh for column, wh in p.energy_wh.items()}} for p in parts
        ],
    }
    if by == "month":
        months = study.facts(job, plan).battery_months
        out["batteries"] = {node: [vars(row) for row in rows] for node, rows in months.items()}
        made = study.flow(job, plan)
        out["charge"] = {node: [vars(band) for band in charge_bands(made.flow, made.packed, node)] for node in months}
        out["windows"] = _windows(study, job, plan, tuple(months))
    return out


def when_text(data: dict[str, Any], node_names: dict[str, str]) -> list[str]:
    """Return the table of `when_data` as lines: kWh of each part, and the sum of all."""
    parts = data["parts"]
    wide = max(12, *(len(p["name"]) + 1 for p in parts))
    lines = [f"{data['letter']}  {data['name']}: kWh by {data['by']}"]
    shown = [name for name in FLOWS if name != "unserved_w" or any(p["unserved_wh"] for p in parts)]
    lines.append(" " * wide + f"{'hours':>8}" + "".join(f"{_HEADS[name]:>13}" for name in shown))
    for p in (*parts, _sum(parts)):
        figures = "".join(f"{round(p[f'{name[:-2]}_wh'] / 1000.0, 1) + 0.0:13.1f}" for name in shown)
        lines.append(f"{p['name']:{wide}}{p['hours_h']:8.0f}{figures}")
    for node, rows in data.get("batteries", {}).items():
        lines += ["", f"   {node_names.get(node, node)}: days full, days down to what is kept; lowest, mean and highest charge"]
        for part, row in zip(parts, rows, strict=True):
            charge = ", ".join(show(row[f"{name}_frac"], "fraction") for name in ("lowest", "mean", "highest"))
            lines.append(f"   {part['name']:{wide - 3}}{row['filled_days']:3} of {row['days']}, {row['emptied_days']:3}; {charge}")
        lines.append("   a tenth of the time below, median, nine tenths below:")
        for part, band in zip(parts, data["charge"][node], strict=True):
            words = ", ".join(show(band[f"{name}_frac"], "fraction") for name in ("tenth", "median", "nine_tenths"))
            lines.append(f"   {part['name']:{wide - 3}}{words}")
    for window in data.get("windows", []):
        lines += ["", f"   {node_names.get(window['node'], window['node'])}, {window['title']}: {window['words']}"]
    return lines


def _windows(study: Study, job: Job, plan: Plan, nodes: tuple[str, ...]) -> list[dict[str, Any]]:
    """Return every charge slot with how it fills each battery it holds for."""
    made, calendar = study.flow(job, plan), study.calendar(job)
    out = []
    for index, slot in enumerate(plan.controls.slots):
        if slot.kind not in GRID_CHARGING:
            continue
        for node in (n for n in nodes if slot.holds_for(n)):
            found = window_year(plant_of(job, plan), calendar, made, index, node)
            if found is not None:
                days = {
                    "days": len(found.day),
                    "filled_days": found.filled_days,
                    "needed_h": found.needed_h,
                    "open_h": found.open_h,
                }
                out.append({"slot": index, "title": slot.title, "node": node, **days, "words": window_words(found)})
    return out


def _sum(parts: list[dict[str, Any]]) -> dict[str, Any]:
    keys = [key for key in parts[0] if key != "name"]
    return {"name": "year", **{key: sum(p[key] for p in parts) for key in keys}}


def figures_data(study: Study, job: Job, plan: Plan) -> dict[str, Any]:
    """Return every figure of a plan's year with its arithmetic, as plain data; energies in Wh, fractions 0 to 1."""
    rows = [{**vars(f), "words": f.words} for f in year_figures(study.facts(job, plan), plan)]
    return {"plan": plan.id, "letter": plan.letter, "name": plan.name, "figures": rows}


def figures_text(data: dict[str, Any], _: dict[str, str]) -> list[str]:
    """Return `figures_data` as lines."""
    lines = [f"{data['letter']}  {data['name']}: the figures of the year and how they come about"]
    return [*lines, *(f"   {row['name']} {row['words']} = {row['arithmetic']}" for row in data["figures"])]


def boxes_data(study: Study, job: Job, plan: Plan) -> dict[str, Any]:
    """Return what each inverter of a plan takes for itself in its year, as plain data in Wh."""
    rows = [{**vars(use), "standby_wh": use.standby_wh, "total_wh": use.total_wh} for use in box_uses(study.facts(job, plan))]
    trips = [{**vars(t), "words": trip_words(t)} for t in path_trips(study.facts(job, plan))]
    stops = [{**vars(f), "words": f.words} for f in failures(plant_of(job, plan))]
    return {"plan": plan.id, "letter": plan.letter, "name": plan.name, "boxes": rows, "round_trips": trips, "failures": stops}


def boxes_text(data: dict[str, Any], node_names: dict[str, str]) -> list[str]:
    """Return `boxes_data` as lines, kWh a year."""
    lines = [f"{data['letter']}  {data['name']}: kWh a year that boxes take for themselves"]
    lines += [] if data["boxes"] else ["   there is no inverter in this plan"]
    for row in data["boxes"]:
        kwh = {key: show(value, "energy_wh") for key, value in row.items() if key != "node_id"}
        parts = [f"inverting {kwh['inverter_loss_wh']}"]
        parts += [f"charging {kwh['charger_loss_wh']}"] if row["charger_loss_wh"] else []
        parts += [f"in the cells {kwh['cell_loss_wh']}"] if row["cell_loss_wh"] else []
        payers = (("PV", "standby_from_pv_wh"), ("the battery", "standby_from_battery_wh"), ("the AC bus", "standby_from_ac_wh"))
        paid = ", ".join(f"{name} {kwh[key]}" for name, key in payers if row[key])
        standby = f"standby {kwh['standby_wh']}" + (f" (paid by {paid})" if paid else "")
        name = node_names.get(row["node_id"], row["node_id"])
        lines.append(f"   {name}: {kwh['total_wh']}: {', '.join(parts)}, {standby}")
    for row in data["round_trips"]:
        lines.append(f"   Back from the battery of {node_names.get(row['node_id'], row['node_id'])}: {row['words']}")
    lines += [f"   {row['words']}" for row in data["failures"]]
    return lines
