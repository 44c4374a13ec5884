"""The commands that build a plan: what it is made of, what can be added, adding and taking out."""

from __future__ import annotations

import argparse
import math
from typing import Any

from calm_relay.cli.shared import chosen_plans, open_job, print_json
from calm_relay.decision.building import building_steps, step_of, take_step, wanted_wh
from calm_relay.decision.changing import change_pattern
from calm_relay.decision.second import adds_words
from calm_relay.decision.start_list import start
from calm_relay.errors import BadInput, Fault
from calm_relay.job.container import save_job
from calm_relay.job.models import Job, Plan
from calm_relay.plant.resolve import plant_of
from calm_relay.relay.graph import plan_graph, summary
from calm_relay.relay.stations import assumed_by_station, how_words, station_names, worst_moment
from calm_relay.report.chains import battery_chains
from calm_relay.rules.picking import Offer, ranked
from calm_relay.simulation.failures import failures
from calm_relay.study import Study
from calm_relay.units import format_quantity as show


def _watts(watts: float) -> float | None:
    return None if math.isinf(watts) else watts


def plan_data(job: Job, plan: Plan) -> dict[str, Any]:
    """Return a plan as plain data: inverters with strings and bank, limits at meter and device, chains, steps that build it."""
    graph, of_plan = plan_graph(plant_of(job, plan), job.house, job.faces), {node.id: node for node in plan.nodes}
    limits = {
        "service_w": None if graph.off_grid else graph.service_w,
        "transfer_w": _watts(graph.transfer_w) if graph.has_transfer else None,
        "export_w": _watts(graph.export_w),
        "import_w": _watts(graph.import_w),
    }
    return {
        "plan": plan.id, "letter": plan.letter, "name": plan.name, "summary": summary(graph),
        "has_transfer": graph.has_transfer, "limits": limits,
        "off_grid": plan.off_grid, "generator": None if plan.generator is None else plan.generator.model_dump(),
        "nodes": [
            {
                "id": node.id, "name": node.name, "kind": node.kind, "side": node.side, "count": node.count,
                "ac_rated_w": node.ac_rated_w, "offgrid_va": node.offgrid_va,
                **{name: getattr(of_plan[node.id], name) for name in ("controller", "controllers", "timer_charger", "dc_car")},
                "trackers": [{"number": t.number, "faces": t.face_names, "strings": t.strings_text, "stc_w": t.stc_w}
                             for t in node.trackers],
                "battery": None if node.battery is None else {
                    "modules": node.battery.text, "usable_wh": node.battery.usable_wh, "charge_w": node.battery.charge_w,
                    "discharge_w": node.battery.discharge_w,
                },
            }
            for node in graph.nodes
        ],
        "chains": [
            {"node": row.node, "charge": row.charge.words, "discharge": row.discharge.words, "growth": row.growth}
            for row in battery_chains(job, plan)
        ],
        "adds": adds_words(job, plan),
        "failures": [row.words for row in failures(plant_of(job, plan))],
        "steps": [
            {"key": s.key, "text": s.text, "choose_card_for": s.path or None, "refused": s.refused or None}
            for s in building_steps(job, plan)
        ],
    }  # fmt: skip


def plan_command(options: argparse.Namespace) -> int:
    """Run `plan`."""
    job = open_job(options.job).job
    plans = chosen_plans(job, options)
    if options.json:
        print_json({"plans": [plan_data(job, plan) for plan in plans]})
        return 0
    for plan in plans:
        data = plan_data(job, plan)
        adds = f". {data['adds']}" if data["adds"] else ""
        print(f"{plan.letter}  {plan.name}: {data['summary']}{adds}")
        for row in data["failures"]:
            print(f"  {row}")
        limits = {name.removesuffix("_w"): watts for name, watts in data["limits"].items() if watts is not None}
        print("  limits: " + ", ".join(f"{name} {show(watts, 'power_w', 1)}" for name, watts in limits.items()))
        for row in data["chains"]:
            print(f"  {row['node']}: into the battery: {row['charge']} Out of it: {row['discharge']}")
        for step in data["steps"]:
            card = f" (card for {step['choose_card_for']})" if step["choose_card_for"] else ""
            print(f"  {step['key']:24} {step['text'].rstrip('…')}{card}{': no, ' + step['refused'] if step['refused'] else ''}")
    return 0


def stations_command(options: argparse.Namespace) -> int:
    """Run `stations`: what each station of the relay line rests on, and where the year stands worst there."""
    opened = open_job(options.job)
    job, study = opened.job, Study(opened.store)
    calendar = study.calendar(job)
    found: dict[str, list[dict[str, Any]]] = {}
    for plan in chosen_plans(job, options):
        made = study.flow(job, plan)
        assumed = assumed_by_station(made.flow.assumed)
        rows: list[dict[str, Any]] = []
        for station, name in station_names(plan_graph(plant_of(job, plan), job.house, job.faces)):
            worst = worst_moment(made, station)
            limit = how_words(plant_of(job, plan), job.site.export_limit_w, station)
            rows.append(
                {
                    "id": station, "name": name, "limit": limit, "assumed": list(assumed.get(station, ())),
                    "worst": None if worst is None else {"at": calendar.label(worst.step), "what": worst.words},
                }
            )  # fmt: skip
        found[plan.letter] = rows
    if options.json:
        print_json({"plans": found})
        return 0
    for letter, rows in found.items():
        for row in rows:
            moment = "" if row["worst"] is None else f" Worst: {row['worst']['at']}, {row['worst']['what']}."
            assumed_words = "".join(f" Assumed: {line}." for line in row["assumed"])
            print(f"{letter}  {row['name']}: {row['limit'] or 'no limit of its own'}.{moment}{assumed_words}")
    return 0


def _one_plan(options: argparse.Namespace, job: Job, what: str) -> Plan:
    """Return the plan that was named; raises BadInput where none or several are."""
    plans = chosen_plans(job, options)
    if not options.plan or len(plans) != 1:
        raise BadInput([Fault(options.job, "--plan", what, "name it with --plan")])
    return plans[0]


def add_command(options: argparse.Namespace) -> int:
    """Run `add` and `remove`: one step that builds a plan."""
    opened = open_job(options.job)
    plan, job = _one_plan(options, opened.job, "a step builds one plan"), opened.job
    step = step_of(job, plan, options.step)
    offer = _offer(opened.store, job, step.path, options.card) if step.path else None
    card, modules = (None, None) if offer is None else (offer.card, options.modules or offer.modules)
    changed, _ = take_step(job, plan.id, step.key, card, modules)
    save_job(options.out, changed, opened.store)
    words = step.text.rstrip("…") if card is None else f"{step.text.rstrip('…')}: {modules or 1} × {card.name}"
    warning = "" if offer is None or offer.fits else f" It does not fit: {offer.why}."
    print(f"{plan.letter}: {words}.{warning} Saved as {options.out}")
    return 0


def change_command(options: argparse.Namespace) -> int:
    """Run `change`: another pattern for a plan in place."""
    opened = open_job(options.job)
    plan = _one_plan(options, opened.job, "one plan is changed")
    study = Study(opened.store)
    job, lost = change_pattern(opened.job, plan.id, options.pattern, study.day_wh(opened.job), study.known.book())
    save_job(options.out, job, opened.store)
    print(f"{plan.letter}: {summary(plan_graph(plant_of(job, job.plan(plan.id)), job.house, job.faces))}")
    for line in lost:
        print(f"  dropped: {line}")
    print(f"Saved as {options.out}")
    return 0


def start_command(options: argparse.Namespace) -> int:
    """Run `start`: what stands today, and what it should become."""
    opened = open_job(options.job)
    study = Study(opened.store)
    job, plan_id = start(opened.job, options.stands, options.becomes, study.day_wh(opened.job), study.known.book())
    save_job(options.out, job, opened.store)
    made = job.plan(plan_id)
    print(f"Today: {summary(plan_graph(plant_of(job, job.plans[0]), job.house, job.faces))}")
    print(f"{made.letter}  {made.name}: {summary(plan_graph(plant_of(job, made), job.house, job.faces))}. {made.note}".rstrip())
    print(f"Saved as {options.out}")
    return 0


def _offer(store: Any, job: Job, path: str, card_id: str) -> Offer:
    """Return the card asked for at a place as it is offered there; raises BadInput without one that is at hand."""
    study = Study(store)
    known = study.known.book()
    offers = {offer.card.id: offer for offer in ranked(job, path, known, wanted_wh=wanted_wh(job, study.day_wh(job), known))}
    if card_id not in offers:
        fitting = ", ".join([offer.card.id for offer in offers.values() if offer.fits][:8]) or "none fits"
        problem = f"there is no card '{card_id}' for it" if card_id else "it needs a card"
        raise BadInput([Fault("", "--card", problem, f"use one of: {fitting}; 'pick' lists all")])
    if not offers[card_id].edits:
        raise BadInput([Fault("", "--card", f"{card_id} cannot be put there: {offers[card_id].why}", "choose another card")])
    return offers[card_id]
