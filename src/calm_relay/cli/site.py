"""The commands of Site & roof: places, weather, shade, faces, strings, oversizing."""

from __future__ import annotations

import argparse
from dataclasses import asdict

from calm_relay.cli.shared import chosen_plans, open_job, print_json
from calm_relay.decision.words import guess_words
from calm_relay.equipment.shelf import read_shelf
from calm_relay.errors import BadInput, Fault
from calm_relay.job.container import OpenedJob, save_job
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.models import Plan
from calm_relay.job.parts import with_cards
from calm_relay.library.book import book_of
from calm_relay.places import ATTRIBUTION, find_towns
from calm_relay.pv.shade_files import read_shade
from calm_relay.report.head import head_of
from calm_relay.report.roof import (
    faces_data,
    faces_text,
    oversizing_data,
    oversizing_text,
    proposal_data,
    site_data,
    site_text,
    strings_data,
    strings_text,
    weather_data,
    weather_text,
)
from calm_relay.study import Study
from calm_relay.units import format_quantity as show
from calm_relay.weather.files import read_weather
from calm_relay.weather.into_job import distance_words, with_weather


def places_command(options: argparse.Namespace) -> int:
    """Run `places`."""
    found = find_towns(options.text)
    if options.json:
        print_json({"places": [asdict(town) for town in found], "attribution": ATTRIBUTION})
        return 0
    for town in found:
        print(f"{town.words}: {town.latitude_deg:g}°, {town.longitude_deg:g}°, {town.time_zone}, {town.population} people")
    print(ATTRIBUTION if found else f"no town of the list is called '{options.text}'; give coordinates instead")
    return 0


def site_command(options: argparse.Namespace) -> int:
    """Run `site`."""
    opened = open_job(options.job)
    data = site_data(Study(opened.store), opened.job)
    if options.json:
        print_json({**head_of(opened.job), **data})
    else:
        print("\n".join(site_text(data)))
    return 0


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
    changed = with_weather(job, read, opened.store, offset, job.rules().value("assumed_margin_k"))
    place = job.site.place
    save_job(options.out, changed, opened.store)
    print(
        f"{read.format}, {distance_words(read, place.latitude_deg, place.longitude_deg, place.altitude_m)}; saved as {options.out}"
    )
    return 0


def set_shade_command(options: argparse.Namespace) -> int:
    """Run `set-shade`."""
    opened = open_job(options.job)
    job = opened.job
    faces = [face.id for face in job.faces]
    if options.face not in faces:
        problem = f"there is no roof face '{options.face}'"
        raise BadInput([Fault(options.job, "--face", problem, f"use one of: {', '.join(faces) or 'none'}")])
    read = read_shade(options.file)
    edits = [Edit(f"faces[{options.face}].{name}", value) for name, value in read.items()]
    save_job(options.out, apply_edits(job, edits), opened.store)
    print(f"{' and '.join(read).replace('_', ' ')} of {job.face(options.face).name}; saved as {options.out}")
    return 0


def strings_command(options: argparse.Namespace) -> int:
    """Run `strings`."""
    opened = open_job(options.job)
    job = opened.job
    plans = chosen_plans(job, options)
    if options.propose:
        return _propose(opened, plans, options)
    study = Study(opened.store)
    if options.json:
        print_json({**head_of(job), "plans": [strings_data(job, plan, study) for plan in plans]})
    else:
        print("\n".join([*(line for plan in plans for line in strings_text(job, plan, study)), guess_words(job)]).rstrip())
    return 0


def _propose(opened: OpenedJob, plans: list[Plan], options: argparse.Namespace) -> int:
    job = opened.job
    if len(plans) != 1:
        raise BadInput([Fault(options.job, "--plan", "strings are proposed for one plan", "give one --plan")])
    nodes = [node.id for node in plans[0].nodes]
    if options.propose not in nodes:
        problem = f"there is no inverter '{options.propose}'"
        raise BadInput([Fault(options.job, "--propose", problem, f"use one of: {', '.join(nodes) or 'none'}")])
    known = book_of(tuple(read_shelf().book().values()), job.library)
    modules = known.modules()
    if options.module not in modules:
        raise BadInput(
            [Fault(options.job, "--module", f"there is no module '{options.module}'", f"use one of: {', '.join(modules)}")]
        )
    optimizers = known.optimizers()
    if options.optimizer and options.optimizer not in optimizers:
        problem = f"there is no optimizer '{options.optimizer}'"
        raise BadInput([Fault(options.job, "--optimizer", problem, f"use one of: {', '.join(optimizers) or 'none'}")])
    job = with_cards(job, [optimizers[options.optimizer]] if options.optimizer else [])
    study = Study(opened.store)
    there = [g.id for g in next(node for node in plans[0].nodes if node.id == options.propose).strings]
    wrong = next((name for name in options.keep if name not in there), None)
    if wrong is not None or (options.keep and options.mode != "rewire"):
        problem = "it goes with --mode rewire" if wrong is None else f"there is no string '{wrong}' on this inverter"
        raise BadInput([Fault(options.job, "--keep", problem, f"strings that may stay: {', '.join(there) or 'none'}")])
    module = modules[options.module]
    data = proposal_data(study, job, plans[0], options.propose, module, options.mode, options.optimizer, options.keep)
    if options.json:
        print_json({**head_of(job), **data})
        return 0
    for row in data["layouts"]:
        words = ", ".join(
            f"tracker {g['tracker']}: {g['parallel_strings']} × {g['modules_per_string']} on {g['face']}" for g in row["strings"]
        )
        energy = show(row["ac_wh"], "energy_wh", 0)
        print(f"{row['modules']:3} modules {energy:>10} AC, margin {row['margin_frac'] * 100:3.0f} %: {words}")
    print("\n".join(data["why"]))
    return 0


def faces_command(options: argparse.Namespace) -> int:
    """Run `faces`."""
    opened = open_job(options.job)
    rows = faces_data(Study(opened.store), opened.job, directions=options.directions)
    if options.json:
        print_json({**head_of(opened.job), "faces": rows})
    else:
        print("\n".join([*faces_text(rows), guess_words(opened.job)]).rstrip())
    return 0


def oversizing_command(options: argparse.Namespace) -> int:
    """Run `oversizing`."""
    opened = open_job(options.job)
    job, study = opened.job, Study(opened.store)
    rows = [oversizing_data(study, job, plan) for plan in chosen_plans(job, options)]
    if options.json:
        print_json({**head_of(job), "currency": job.tariff.currency, "plans": rows})
    else:
        lines = [line for row in rows for line in oversizing_text(row, job.tariff.currency)]
        print("\n".join([*lines, guess_words(job)]).rstrip())
    return 0
