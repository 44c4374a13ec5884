"""The commands that print what pages show, read weather, and draft plans."""

from __future__ import annotations

import argparse

from calm_relay.cli_pages import (
    faces_data,
    limits_data,
    limits_text,
    load_data,
    load_text,
    order_data,
    proposal_data,
    strings_data,
    strings_text,
    weather_data,
    weather_text,
)
from calm_relay.cli_shared import chosen_plans, head_of, open_job, print_json
from calm_relay.decision.patterns import draft_plan
from calm_relay.errors import BadInput, Fault
from calm_relay.job.container import OpenedJob, save_job
from calm_relay.job.models import Plan
from calm_relay.job.series import SeriesStore
from calm_relay.job.template import new_job
from calm_relay.library.cards import ModuleCard
from calm_relay.library.shipped import shipped_cards
from calm_relay.study import Study
from calm_relay.units import format_quantity as show
from calm_relay.weather.files import distance_words, read_weather, with_weather


def weather_command(options: argparse.Namespace) -> int:
    """Run `weather`."""
    read = read_weather(options.file)
    data = weather_data(read)
    if options.json:
        print_json(data)
    else:
        print("\n".join(weather_text(data)))
    return 0


def set_weather_command(options: argparse.Namespace) -> int:
    """Run `set-weather`."""
    opened = open_job(options.job)
    job, read = opened.job, read_weather(options.file)
    offset = Study(opened.store).calendar(job).utc_offset_h
    changed = with_weather(job, read, opened.store, offset)
    place = job.site.place
    save_job(options.out, changed, opened.store)
    print(
        f"{read.format}, {distance_words(read, place.latitude_deg, place.longitude_deg, place.altitude_m)}; saved as {options.out}"
    )
    return 0


def strings_command(options: argparse.Namespace) -> int:
    """Run `strings`."""
    opened = open_job(options.job)
    job = opened.job
    plans = chosen_plans(job, options)
    if options.propose:
        return _propose(opened, plans, options)
    if options.json:
        print_json({**head_of(job), "plans": [strings_data(job, plan) for plan in plans]})
    else:
        print("\n".join(line for plan in plans for line in strings_text(job, plan)))
    return 0


def _propose(opened: OpenedJob, plans: list[Plan], options: argparse.Namespace) -> int:
    job = opened.job
    if len(plans) != 1:
        raise BadInput([Fault(options.job, "--plan", "strings are proposed for one plan", "give one --plan")])
    nodes = [node.id for node in plans[0].nodes]
    if options.propose not in nodes:
        problem = f"there is no inverter '{options.propose}'"
        raise BadInput([Fault(options.job, "--propose", problem, f"use one of: {', '.join(nodes) or 'none'}")])
    modules = {c.id: c for c in (*shipped_cards(), *job.library) if isinstance(c, ModuleCard)}
    if options.module not in modules:
        raise BadInput(
            [Fault(options.job, "--module", f"there is no module '{options.module}'", f"use one of: {', '.join(modules)}")]
        )
    data = proposal_data(Study(opened.store), job, plans[0], options.propose, modules[options.module])
    if options.json:
        print_json({**head_of(job), **data})
        return 0
    for row in data["layouts"]:
        words = ", ".join(
            f"T{g['tracker']} {g['parallel_strings']} × {g['modules_per_string']} on {g['face']}" for g in row["strings"]
        )
        energy = show(row["ac_wh"], "energy_wh", 0)
        print(f"{row['modules']:3} modules {energy:>10} AC, margin {row['margin_frac'] * 100:3.0f} %: {words}")
    print("\n".join(data["why"]))
    return 0


def faces_command(options: argparse.Namespace) -> int:
    """Run `faces`."""
    opened = open_job(options.job)
    rows = faces_data(Study(opened.store), opened.job)
    if options.json:
        print_json({**head_of(opened.job), "faces": rows})
        return 0
    for row in rows:
        months = " ".join(f"{kwh:.0f}" for kwh in row["light_monthly_kwh_per_m2"])
        print(f"{row['name']}: {row['light_annual_kwh_per_m2']:.0f} kWh/m² a year reach the cells, after shade; by month {months}")
    return 0


def load_command(options: argparse.Namespace) -> int:
    """Run `load`."""
    opened = open_job(options.job)
    data = load_data(Study(opened.store), opened.job)
    if options.json:
        print_json({**head_of(opened.job), **data})
    else:
        print("\n".join([opened.job.name, *load_text(data)]))
    return 0


def limits_command(options: argparse.Namespace) -> int:
    """Run `limits`."""
    opened = open_job(options.job)
    job, study = opened.job, Study(opened.store)
    rows = [limits_data(study, job, plan) for plan in chosen_plans(job, options)]
    if options.json:
        print_json({**head_of(job), "currency": job.tariff.currency, "plans": rows})
    else:
        print("\n".join(line for row in rows for line in limits_text(row, job.tariff.currency)))
    return 0


def order_command(options: argparse.Namespace) -> int:
    """Run `order`."""
    opened = open_job(options.job)
    rows = order_data(Study(opened.store), opened.job)
    if options.json:
        print_json({**head_of(opened.job), "pages": rows})
    else:
        print("\n".join(f"{row['title']:14}{row['state']:12}{row['why']}" for row in rows))
    return 0


def draft_command(options: argparse.Namespace) -> int:
    """Run `draft`."""
    opened = open_job(options.job)
    job, made = draft_plan(opened.job, options.pattern)
    save_job(options.out, job, opened.store)
    print(f"drafted plan {job.plan(made).letter}, {job.plan(made).name}; saved as {options.out}")
    return 0


def new_job_command(options: argparse.Namespace) -> int:
    """Run `new-job`."""
    if not -66 <= options.latitude <= 66:
        raise BadInput([Fault("", "--latitude", f"{options.latitude:g} is outside its range", "use −66 to 66")])
    save_job(options.out, new_job(latitude_deg=options.latitude), SeriesStore())
    print(f"saved as {options.out}")
    return 0
