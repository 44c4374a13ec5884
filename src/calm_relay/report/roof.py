"""What Site & roof shows, as plain data and as text: place and sky, faces, strings, proposals, oversizing."""

from __future__ import annotations

import math
from collections.abc import Collection, Iterable, Mapping
from dataclasses import asdict
from typing import Any

from calm_relay.decision.directions import fit_words
from calm_relay.decision.gains import clip_rows, inverters_with_strings, ratio_rows
from calm_relay.decision.oversizing import more_modules, now_or_later
from calm_relay.decision.roofs import direction_map, face_yield, paths, string_years
from calm_relay.decision.words import clipped_amount, weather_guessed, weather_words
from calm_relay.job.models import Job, Plan
from calm_relay.library.cards import ModuleCard
from calm_relay.plant.resolve import plant_of
from calm_relay.pv.ladder import string_ladders, tracker_amps
from calm_relay.pv.planner import Option
from calm_relay.pv.roof import Mode
from calm_relay.pv.shade import sky_view_frac
from calm_relay.pv.when import string_year_words
from calm_relay.study import Study
from calm_relay.units import format_quantity as show
from calm_relay.weather.files import WeatherRead
from calm_relay.weather.plausible import night_share_frac, row_zenith_deg
from calm_relay.year.pictures import duration

CURVE_POINTS = 200  # of a duration curve, printed


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
        "at_night_frac": _at_night(read),
        "notes": list(read.notes),
    }


def _at_night(read: WeatherRead) -> float | None:
    """Return the share of sun that falls at night at the file's own place; None where it names none."""
    if read.latitude_deg is None or read.longitude_deg is None or math.isnan(read.year.utc_offset_h):
        return None
    ghi = read.year.ghi_w_per_m2.reshape(8760, -1).mean(axis=1)
    where = (read.latitude_deg, read.longitude_deg, read.altitude_m or 0.0)
    return night_share_frac(ghi, row_zenith_deg(len(ghi), read.year.utc_offset_h, *where))


def weather_text(data: dict[str, Any]) -> list[str]:
    """Return a weather file as lines."""
    place = "no place named" if data["latitude_deg"] is None else f"{data['latitude_deg']:g}°, {data['longitude_deg']:g}°"
    return [
        f"{data['file']}: {data['format']}, {data['years'] or 'year not named'}, {place}",
        f"  {data['labels']}",
        *(f"  {note}" for note in data["notes"]),
        f"  sun on the flat {data['ghi_annual_kwh_per_m2']:.0f} kWh/m² a year; by month "
        + " ".join(f"{kwh:.0f}" for kwh in data["ghi_monthly_kwh_per_m2"]),
        *([] if data["at_night_frac"] is None else [f"  {data['at_night_frac'] * 100:.1f} % of it while the sun is down"]),
        f"  air {data['air_min_c']:.1f} to {data['air_max_c']:.1f} °C, mean {data['air_mean_c']:.1f} °C",
    ]


def site_data(study: Study, job: Job) -> dict[str, Any]:
    """Return place, weather in use and the sun's ways. [kWh/m²], [°C], [°]"""
    sky = study.sky_facts(job)
    return {
        "place": job.site.place.model_dump(),
        "weather": weather_words(job),
        "weather_is_a_guess": weather_guessed(job),
        "record_low_c": job.site.record_low_c,
        "low_method": job.site.low_method,
        "design_high_c": job.site.design_high_c,
        "hot_cell_c": job.site.hot_cell_c,
        "cold_voltage_by": job.site.cold_voltage_by,
        **asdict(sky),
        "ghi_annual_kwh_per_m2": sum(sky.ghi_monthly_kwh_per_m2),
        "of_clear_sky_frac": sky.of_clear_frac,
        "sun_paths": [asdict(path) for path in paths(study, job)],
    }


def site_text(data: dict[str, Any]) -> list[str]:
    """Return place and sky as lines."""
    place = data["place"]
    months = " ".join(f"{kwh:.0f}" for kwh in data["ghi_monthly_kwh_per_m2"])
    noon = ", ".join(f"{path['name']} {max(path['elevation_deg'], default=0.0):.0f}°" for path in data["sun_paths"])
    return [
        f"{place['name']}: {place['latitude_deg']:g}°, {place['longitude_deg']:g}°, {place['altitude_m']:g} m, "
        f"{place['time_zone']}",
        f"  weather is {data['weather']}",
        f"  sun on the flat {data['ghi_annual_kwh_per_m2']:.0f} kWh/m² a year, {data['of_clear_sky_frac'] * 100:.0f} % of a clear "
        f"sky; by month {months}",
        *(
            [f"  {data['unplaced_kwh_per_m2']:.0f} kWh/m² of the file fit no step under this sky and are left out"]
            if data["unplaced_kwh_per_m2"] >= 1
            else []
        ),
        f"  air {data['air_min_c']:.1f} to {data['air_max_c']:.1f} °C in the year used",
        f"  the sun at its highest: {noon}",
    ]


def faces_data(study: Study, job: Job, *, directions: bool = False) -> list[dict[str, Any]]:
    """Return what reaches the cells of each face [kWh/m²] and what a kilowatt of modules gives there. [kWh/kWp]"""
    rows = []
    for face in job.faces:
        light = [wh / 1000 for wh in study.face_months(job, face.id)]
        made = face_yield(study, job, face.id)
        row: dict[str, Any] = {
            "face": face.id,
            "name": face.name,
            "tilt_deg": face.tilt_deg,
            "azimuth_deg": face.azimuth_deg,
            "light_annual_kwh_per_m2": sum(light),
            "light_monthly_kwh_per_m2": light,
            "module": made.module,
            "yield_annual_kwh_per_kwp": made.year_kwh_per_kwp,
            "yield_monthly_kwh_per_kwp": list(made.months_kwh_per_kwp),
            "sky_view_frac": sky_view_frac(face.horizon, face.tilt_deg, face.azimuth_deg),
            "horizon_points": len(face.horizon),
            "shade_table": face.shade_table is not None,
            "fits": fit_words(job, face),
        }
        if directions:
            found = direction_map(study, job, face.id)
            tilt, azimuth, value = found.best
            row["directions"] = {**asdict(found), "best": {"tilt_deg": tilt, "azimuth_deg": azimuth, "kwh_per_kwp": value}}
        rows.append(row)
    return rows


def faces_text(rows: Iterable[dict[str, Any]]) -> list[str]:
    """Return the faces as lines."""
    out = []
    for row in rows:
        months = " ".join(f"{kwh:.0f}" for kwh in row["light_monthly_kwh_per_m2"])
        out.append(
            f"{row['name']}: {row['light_annual_kwh_per_m2']:.0f} kWh/m² a year reach the cells, after shade; by month {months}"
        )
        out.append(f"  {row['yield_annual_kwh_per_kwp']:.0f} kWh/kWp a year with {row['module']}")
        if row["fits"]:
            out.append(f"  {row['fits']}")
        if "directions" in row:
            best = row["directions"]["best"]
            out.append(
                f"  free of shade, best of all: tilt {best['tilt_deg']:g}°, azimuth {best['azimuth_deg']:g}°, "
                f"{best['kwh_per_kwp']:.0f} kWh/kWp"
            )
    return out


def strings_data(job: Job, plan: Plan, study: Study | None = None) -> dict[str, Any]:
    """Return volts of every string and amps of every tracker of a plan; with a study, when the year comes near them. [V], [A]"""
    data: dict[str, Any] = {
        "plan": plan.id,
        "letter": plan.letter,
        "strings": [vars(ladder) for ladder in string_ladders(job, plan)],
        "trackers": [vars(amps) for amps in tracker_amps(job, plan)],
    }
    if study is not None:
        data["year"] = [{**asdict(s), "words": string_year_words(s)} for s in string_years(study, job, plan)]
    return data


def strings_text(job: Job, plan: Plan, study: Study | None = None) -> list[str]:
    """Return the ladders as lines."""
    out = [f"{plan.letter}  {plan.name}"]
    years = {(s.node_id, s.string_id): s for s in string_years(study, job, plan)} if study is not None else {}
    for x in string_ladders(job, plan):
        cold = "cold not known" if x.cold_voc_v is None else f"cold {x.cold_voc_v:.0f} V of {x.ceiling_v:.0f} V ({x.ceiling})"
        hot = (
            "hot not known"
            if x.hot_vmp_v is None
            else f"hot {x.hot_vmp_v:.0f} V, tracker {x.mppt_min_v:.0f} to {x.mppt_max_v:.0f} V"
        )
        out.append(f"  {x.node}, tracker {x.tracker}, {x.modules} in series on {x.face}: {cold}; {hot}")
        if (x.node_id, x.string_id) in years:
            out.append(f"    in the simulated year: {string_year_words(years[x.node_id, x.string_id])}")
    for a in tracker_amps(job, plan):
        short = "no rating on the card" if a.short_circuit_limit_a is None else f"of {a.short_circuit_limit_a:g} A"
        out.append(
            f"  {a.node}, tracker {a.tracker}: working {a.working_a:.1f} A of {a.working_limit_a:g} A; {a.factor:g} × Isc "
            f"{a.short_circuit_a:.1f} A {short}"
        )
    return out


def proposal_data(
    study: Study,
    job: Job,
    plan: Plan,
    node_id: str,
    module: ModuleCard,
    mode: Mode = "anew",
    optimizer: str = "",
    keep: Collection[str] = (),
) -> dict[str, Any]:
    """Return the string planner's layouts for an inverter, best first, and why others are not among them."""
    made = study.propose_strings(job, plan, node_id, module, mode=mode, optimizer=optimizer, keep=keep)
    return {
        "plan": plan.id,
        "node": node_id,
        "module": module.id,
        "mode": mode,
        "kept": sorted(keep),
        "layouts": [
            {
                "modules": lay.modules,
                "ac_wh": lay.ac_wh,
                "dc_wh": lay.dc_wh,
                "margin_frac": lay.margin_frac,
                "strings": [
                    {
                        "tracker": o.tracker,
                        "face": o.face,
                        "modules_per_string": o.modules,
                        "parallel_strings": o.strings,
                        "fuse_a": o.fuse_a,
                    }
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
    return ", ".join(
        f"tracker {o.tracker}: {f'{o.strings} strings of ' if o.strings > 1 else ''}{o.modules} on {faces[o.face]}"
        + (f", each with a fuse of {o.fuse_a:g} A" if o.fuse_a is not None else "")
        for o in options
    )


def oversizing_data(study: Study, job: Job, plan: Plan) -> dict[str, Any]:
    """Return ratios by limit, clipping by tracker and inverter, the next module's gain, and the duration curve of each inverter."""
    made = study.flow(job, plan)
    nodes = inverters_with_strings(job, plan)
    curves = []
    for node in nodes:
        limit = plant_of(job, plan).station(node.id).unit.passes_dc_w
        curve = duration(made, node.id, limit)
        step = max(1, len(curve.hours) // CURVE_POINTS)
        names = ("hours", "offered_w", "caught_w", "lost_w")
        curves.append({"node": node.id, "limit_dc_w": limit, **{n: getattr(curve, n)[::step].tolist() for n in names}})
    gains = [more_modules(study, job, plan, node.id, 1) for node in nodes]
    later = None
    if plan.later is not None and nodes:
        both = now_or_later(study, job, plan, nodes[-1].id, plan.later)
        later = {**asdict(both), "words": both.words}
    return {
        "plan": plan.id,
        "letter": plan.letter,
        "ratios": [vars(row) for row in ratio_rows(job, plan)],
        "clipped": [{**vars(row), "year_wh": row.year_wh} for row in clip_rows(study.facts(job, plan), plan)],
        "clipping_is": clipped_amount(job),
        "next_module": [{**asdict(gain), "used_wh_per_module": gain.used_wh_per_module} for gain in gains],
        "now_or_later": later,
        "duration": curves,
    }


def oversizing_text(data: dict[str, Any], currency: str) -> list[str]:
    """Return oversizing as lines."""
    out = [data["letter"]]
    for row in data["ratios"]:
        limit = "no limit named" if row["limit"] is None else f"limit {row['limit']:g}"
        out.append(
            f"  {row['subject']}: {row['ratio']:.2f} against {row['limit_name']}, {limit}"
            + ("" if row["in_force"] else " (not in force)")
        )
    for row in data["clipped"]:
        out.append(
            f"  {row['subject']}: {data['clipping_is']} {show(row['year_wh'], 'energy_wh', 0)} clipped by its {row['kind']}, "
            f"{row['hours_h']:.0f} h"
        )
    for row in data["next_module"]:
        out.append(
            f"  the next module at {row['node']}: {show(row['used_wh'], 'energy_wh', 0)} a year used of "
            f"{show(row['offered_wh'], 'energy_wh', 0)} offered, {currency} {show(row['saving'], 'money')} a year"
        )
    if data["now_or_later"] is not None:
        out.append(f"  {data['now_or_later']['more']['modules']} modules: {data['now_or_later']['words']}")
    return out
