"""The house and its prices as plain data and as text: the load by part, phases, what a meter file holds, a bill."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

import numpy as np

from calm_relay.calendar import year_calendar
from calm_relay.decision.house_sums import quick_sums
from calm_relay.job.models import Job, Plan
from calm_relay.job.tariff_models import Tariff
from calm_relay.load.meter import MeterYear
from calm_relay.load.shortfall import shortfalls
from calm_relay.plant.resolve import plant_of
from calm_relay.study import Study
from calm_relay.tariff.bill import Bill
from calm_relay.tariff.growth import GROWTH_YEARS, yearly_totals
from calm_relay.units import format_quantity as show
from calm_relay.units import hours_a_year
from calm_relay.year.house_pictures import load_curve, season_days
from calm_relay.year.pictures import evening_stack


def load_data(study: Study, job: Job, plans: Sequence[Plan]) -> dict[str, Any]:
    """Return the house by part: energy of the year and of each month [Wh], the highest evening [W], peaks, mean days.

    For each plan: quick sums, hours above what carries the house, and phases or legs.
    """
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
        "shown_year": job.house.shown_year,
        "to_come": [{"id": a.id, "name": a.name, "from_year": a.from_year} for a in job.house.later],
        "drawn_less": [{**vars(row), "words": row.words} for row in shortfalls(job.house, year, calendar)],
        "metered_every_s": job.house.coarse_step_s,
        "peaks": {**vars(peaks := study.peaks(job)), "ratio": peaks.ratio},
        "season_days_w": {
            season: [float(w) for w in day] for season, day in season_days(job.site.place.latitude_deg, year, calendar)
        },
        "plans": [_plan_load(study, job, plan) for plan in plans],
    }


def _plan_load(study: Study, job: Job, plan: Plan) -> dict[str, Any]:
    """Return what a plan is to the house: quick sums, hours above its levels, lines."""
    calendar, facts = study.calendar(job), study.facts(job, plan)
    year = study.house(job)
    total = year.total_w()
    levels = load_curve(plant_of(job, plan), year, calendar).levels
    return {
        "plan": plan.id,
        "letter": plan.letter,
        "sums": [s.as_dict() for s in quick_sums(job, plan, year, calendar, study.sun_up(job), facts)],
        "levels": [
            {"name": name, "power_w": watts, "hours_above_h": float(np.count_nonzero(total > watts)) * calendar.step_h}
            for watts, name, _ in levels
        ],
        "lines": [asdict(row) for row in facts.lines],
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
    peaks = data["peaks"]
    out.append(f"  highest minute {show(peaks['minute_w'], 'power_w')}, {peaks['ratio']:.2f} times the highest hour")
    if data["metered_every_s"]:
        out.append(f"  peaks are lower bounds: what was metered every {data['metered_every_s'] // 60} min hides shorter ones")
    out += [f"  {row['name']}: {row['words']}" for row in data["drawn_less"]]
    if data["to_come"]:
        shown = data["shown_year"] or "today"
        out += [f"  from {row['from_year']}: {row['name']} (the house shown is that of {shown})" for row in data["to_come"]]
    for plan in data["plans"]:
        out.append(plan["letter"])
        out += [
            f"  {hours_a_year(row['hours_above_h'])} above {show(row['power_w'], 'power_w')}: {row['name']}"
            for row in plan["levels"]
        ]
        out += [line for row in plan["lines"] for line in line_text(row)]
        for row, after in zip(plan["sums"], [*plan["sums"][1:], {"parts": ""}], strict=True):
            out.append(f"  {row['name']}: {row['arithmetic']}")
            if row["parts"] and row["parts"] != after["parts"]:
                out.append(f"      {row['parts']}")
    return out


def line_text(row: dict[str, Any]) -> list[str]:
    """Return a phase or leg as lines."""
    out = [
        f"  {row['name']}: house {show(row['energy_wh'], 'energy_wh', 0)}, up to {show(row['peak_w'], 'power_w')}; "
        f"at the meter {show(row['import_wh'], 'energy_wh', 0)} in, {show(row['export_wh'], 'energy_wh', 0)} out"
    ]
    if row["limit_va"] is not None:
        out.append(
            f"    backed up to {show(row['backed_peak_va'], 'apparent_va')}, {show(row['limit_va'], 'apparent_va')} is made there "
            f"with the grid gone: {hours_a_year(row['over_h'])} above"
        )
    return out


def meter_data(meter: MeterYear) -> dict[str, Any]:
    """Return what a meter file holds, energies in Wh."""
    months = year_calendar(meter.year, "UTC", meter.interval_s)
    return {
        "file": meter.file,
        "format": meter.format,
        "year": meter.year,
        "whole_years": list(meter.years),
        "interval_s": meter.interval_s,
        "channels": {
            name: {"year_wh": meter.year_wh(name), "months_wh": list(months.by_month_wh(watts)), "peak_w": float(watts.max())}
            for name, watts in meter.power_w.items()
        },
        "guesses": [{"what": what, "found": found} for what, found in meter.guesses],
        "filled_intervals": int(meter.filled.sum()),
        "leap_day_wh": meter.leap_day_wh,
        "notes": list(meter.notes),
    }


def meter_text(data: dict[str, Any]) -> list[str]:
    """Return a meter file as lines."""
    out = [f"{data['file']}: {data['format']}, {data['year']}, every {data['interval_s'] // 60} min"]
    if len(data["whole_years"]) > 1:
        out.append(f"  it holds the years {', '.join(str(y) for y in data['whole_years'])}")
    out += [f"  {row['what']}: {row['found']}" for row in data["guesses"]]
    for name, row in data["channels"].items():
        months = " ".join(f"{wh / 1000:.0f}" for wh in row["months_wh"])
        out.append(f"  {name} {row['year_wh'] / 1000:.0f} kWh, up to {show(row['peak_w'], 'power_w')}; by month {months}")
    return [*out, *(f"  {note}" for note in data["notes"])]


def bill_data(bill: Bill, tariff: Tariff) -> dict[str, Any]:
    """Return a year's bill and what later years cost; energies in Wh, money in the job's currency."""
    return {
        "total": bill.total,
        "totals_by_year": list(yearly_totals(bill, tariff, GROWTH_YEARS)),
        "by_month": list(bill.by_month),
        "lines": [{**asdict(line), "amount": line.amount} for line in bill.lines],
        "import_wh": bill.import_wh,
        "import_cheap_wh": bill.import_cheap_wh,
        "export_wh": bill.export_wh,
        "import_cost": bill.import_cost,
        "cheap_cost": bill.cheap_cost,
        "export_credit": bill.export_credit,
        "standing_cost": bill.standing_cost,
    }
