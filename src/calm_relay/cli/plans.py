"""The commands about plans: check, simulate, compare, limits, order, draft, remedy; and new and demo jobs."""

from __future__ import annotations

import argparse
import csv
from collections.abc import Callable
from pathlib import Path
from typing import Any

from calm_relay.cli.shared import chosen_plans, open_job, print_json
from calm_relay.decision.patterns import draft_plan
from calm_relay.decision.words import clipping_words, weather_words
from calm_relay.decision.worth import worth_of
from calm_relay.demo import made_job
from calm_relay.equipment.find import find_cards
from calm_relay.errors import BadInput, Fault
from calm_relay.job.container import save_job
from calm_relay.job.edits import apply_edits
from calm_relay.job.models import Job, Plan
from calm_relay.job.series import SeriesStore
from calm_relay.job.template import new_job
from calm_relay.plant.resolve import plant_of
from calm_relay.report.chains import chains_data, chains_text
from calm_relay.report.controls import controls_data, controls_text
from calm_relay.report.head import head_of, title_text
from calm_relay.report.plans import because_text, comparison, comparison_text, limits_data, limits_text, order_data, plan_data
from calm_relay.report.when import boxes_data, boxes_text, figures_data, figures_text, when_data, when_text
from calm_relay.rules.picking import plan_of, ranked
from calm_relay.simulation.ageing import YEARS
from calm_relay.simulation.columns import ENERGY_COLUMNS, NODE, SYSTEM
from calm_relay.study import Study
from calm_relay.units import format_quantity as show
from calm_relay.year.ageing import aged_plan, battery_ageing


def simulate_command(options: argparse.Namespace) -> int:
    """Run `simulate`."""
    opened = open_job(options.job)
    job, study = opened.job, Study(opened.store, step_s=60 * options.step_min)
    plans = chosen_plans(job, options)
    if options.battery_year != 1:
        plans = [_in_year(study, job, plan, options.battery_year) for plan in plans]
    if options.csv:
        if len(plans) != 1:
            raise BadInput([Fault(options.job, "--csv", "a step-by-step file holds one plan", "give one --plan")])
        _write_series(Path(options.csv), study, job, plans[0])
    results = [(plan, study.plan_result(job, plan)) for plan in plans]
    if options.json:
        rows = [
            {
                "plan": p.id,
                "letter": p.letter,
                "name": p.name,
                **plan_data(r, job.tariff),
                "worst_open_balance_frac": study.worst_open_balance(job, p),
            }
            for p, r in results
        ]
        print_json({**head_of(job), "step_s": study.step_s, "weather": weather_words(job), "plans": rows})
        return 0
    print("\n".join(title_text(job)))
    for plan, result in results:
        f = result.facts
        print(f"\n{plan.letter}  {plan.name}  (run {f.runs} time(s), {'steady' if f.steady else 'not steady'})")
        for name in (
            "load_w", "own_draw_w", "import_w", "export_w", "pv_ac_w", "pv_to_house_w", "pv_to_battery_w", "pv_to_grid_w",
            "battery_to_house_w", "grid_to_house_w", "grid_to_battery_w",
        ):  # fmt: skip
            print(f"  {name[:-2].replace('_', ' '):24}{show(f.system_wh[name], 'energy_wh', 0):>12}")
        for text, value in (
            ("clipped", f.clipped_wh),
            ("caught", f.caught_wh),
            ("held by the export cap", f.held_by_cap_wh),
            *(
                (("held for want of a grid", f.lost_wh("island")), ("not served", f.system_wh["unserved_w"]))
                if plan.off_grid
                else ()
            ),
        ):
            print(f"  {text:24}{show(value, 'energy_wh', 0):>12}")
        print(f"  {'self-sufficiency':24}{show(f.self_sufficiency_frac, 'fraction'):>12}")
        print(f"  {'own use':24}{show(f.own_use_frac, 'fraction'):>12}")
        print(f"  {'bill':24}{job.tariff.currency + ' ' + show(result.bill.total, 'money'):>12}")
    print(f"\nWeather is {weather_words(job)}; {clipping_words(job, 60 * options.step_min)}.")
    return 0


def _in_year(study: Study, job: Job, plan: Plan, year: int) -> Plan:
    """Return a plan with its batteries as old as they are when a year begins."""
    if not 1 <= year <= YEARS + 1:
        raise BadInput([Fault("", "--battery-year", f"{year} is outside its range", f"use 1 to {YEARS + 1}")])
    return aged_plan(plan, battery_ageing(plant_of(job, plan), job.rules(), study.facts(job, plan)), year)


def _print_each(
    options: argparse.Namespace,
    data_of: Callable[[Study, Job, Plan], dict[str, Any]],
    text_of: Callable[[dict[str, Any], dict[str, str]], list[str]],
) -> Job:
    """Print what a report says of each plan, as JSON or as lines that call inverters by their names; returns the job."""
    opened = open_job(options.job)
    job, study = opened.job, Study(opened.store)
    rows = [(plan, data_of(study, job, plan)) for plan in chosen_plans(job, options)]
    if options.json:
        print_json({**head_of(job), "weather": weather_words(job), "plans": [data for _, data in rows]})
        return job
    print("\n".join(title_text(job)))
    for plan, data in rows:
        print("\n" + "\n".join(text_of(data, {node.id: node.name for node in plan.nodes})))
    return job


def when_command(options: argparse.Namespace) -> int:
    """Run `when`."""
    job = _print_each(options, lambda study, job, plan: when_data(study, job, plan, options.by), when_text)
    if not options.json:
        print(f"\nWeather is {weather_words(job)}.")
    return 0


def controls_command(options: argparse.Namespace) -> int:
    """Run `controls`."""
    _print_each(options, controls_data, controls_text)
    return 0


def figures_command(options: argparse.Namespace) -> int:
    """Run `figures`."""
    _print_each(options, figures_data, figures_text)
    return 0


def boxes_command(options: argparse.Namespace) -> int:
    """Run `boxes`."""
    _print_each(options, boxes_data, boxes_text)
    return 0


def ageing_command(options: argparse.Namespace) -> int:
    """Run `ageing`."""
    opened = open_job(options.job)
    job, study = opened.job, Study(opened.store)
    found = {
        plan.letter: battery_ageing(plant_of(job, plan), job.rules(), study.facts(job, plan)) for plan in chosen_plans(job, options)
    }
    if options.json:
        print_json({"plans": {letter: [row.as_dict() for row in rows] for letter, rows in found.items()}})
        return 0
    for letter, rows in found.items():
        for row in rows:
            print(f"{letter}  {row.name}: {row.words}\n   {row.source}")
        if not rows:
            print(f"{letter}  no battery in this plan")
    return 0


def _write_series(path: Path, study: Study, job: Job, plan: Plan) -> None:
    made = study.flow(job, plan)
    flow = made.flow
    calendar = study.calendar(job)
    names = ["step", *SYSTEM]
    for node in flow.node_ids:
        names += [f"{node}.{name}" for name in NODE if name not in ENERGY_COLUMNS] + [f"{node}.{n}" for n in ENERGY_COLUMNS]
    try:
        with path.open("w", newline="", encoding="utf-8") as out:
            writer = csv.writer(out)
            writer.writerow(["clock", *names])
            for t in range(calendar.steps):
                row = [calendar.label(t), t, *(f"{v:.6g}" for v in flow.system[t])]
                for k in range(len(flow.node_ids)):
                    row += [f"{v:.6g}" for v in flow.nodes[t, k]]
                writer.writerow(row)
    except OSError as error:
        raise BadInput([Fault(str(path), "", f"it cannot be written ({error.strerror})", "check the folder")]) from error


def compare_command(options: argparse.Namespace) -> int:
    """Run `compare`."""
    opened = open_job(options.job)
    rows = comparison(Study(opened.store), opened.job, chosen_plans(opened.job, options))
    if options.json:
        print_json(
            {
                **head_of(opened.job),
                "currency": opened.job.tariff.currency,
                "plans": [row.as_dict() for row in rows],
                "because": because_text(opened.job, rows),
            }
        )
    else:
        print("\n".join(comparison_text(opened.job, rows)))
    return 0


def schema_command(_: argparse.Namespace) -> int:
    """Run `schema`."""
    print_json(Job.model_json_schema())
    return 0


def remedy_command(options: argparse.Namespace) -> int:
    """Run `remedy`."""
    opened = open_job(options.job)
    job = opened.job
    plans = chosen_plans(job, options, without_today=True)
    if len(plans) != 1:
        raise BadInput([Fault(options.job, "--plan", "a remedy belongs to one plan", "give one --plan")])
    result = Study(opened.store).plan_result(job, plans[0])
    remedies = [r for f in result.findings if f.check == options.check for r in f.remedies if r.edits]
    if not 1 <= options.number <= len(remedies):
        problem = f"'{options.check}' has {len(remedies)} remedies that can be applied in plan {plans[0].letter}"
        raise BadInput([Fault(options.job, "--number", problem, "see 'check' for what is over")])
    chosen = remedies[options.number - 1]
    save_job(options.out, apply_edits(job, chosen.edits), opened.store)
    print(f"applied: {chosen.text}; saved as {options.out}")
    return 0


def demo_job_command(options: argparse.Namespace) -> int:
    """Run `demo-job`."""
    store = SeriesStore()
    save_job(options.out, made_job(options.which, store), store)
    print(f"saved as {options.out}")
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
        print("\n".join(f"{row['title']:18}{row['state']:12}{row['why']}" for row in rows))
    return 0


def chains_command(options: argparse.Namespace) -> int:
    """Run `chains`."""
    if not 0 < options.power_kw <= 1000:
        raise BadInput([Fault("", "--power-kw", f"{options.power_kw:g} is outside its range", "use more than 0, at most 1000")])
    job, watts = open_job(options.job).job, 1000.0 * options.power_kw
    plans = chosen_plans(job, options)
    if options.json:
        print_json({"plans": {plan.letter: chains_data(job, plan, watts) for plan in plans}})
        return 0
    for plan in plans:
        print(f"{plan.letter}  {plan.name}")
        print("\n".join(f"  {line}" for line in chains_text(job, plan, watts)))
    return 0


def pick_command(options: argparse.Namespace) -> int:
    """Run `pick`."""
    opened = open_job(options.job)
    job, study = opened.job, Study(opened.store)
    known = study.known.book()
    offers = ranked(job, options.path, known)
    if options.simulate and not options.path.endswith("[+]"):
        worth = worth_of(study, job, plan_of(options.path), offers)
        offers = ranked(job, options.path, known, worth=worth)
    wanted = {card.id for card in find_cards([offer.card for offer in offers], options.find)}
    offers = tuple(offer for offer in offers if offer.card.id in wanted)
    if options.json:
        print_json({"path": options.path, "offers": [offer.as_dict() for offer in offers]})
        return 0
    for offer in offers:
        count = "" if offer.modules is None else f"{offer.modules} × "
        worth_words = "" if offer.worth is None else f"  {offer.worth:+.0f} a year"
        mark = "now " if offer.now else "fits" if offer.fits else "no  "
        print(
            f"{mark}  {offer.card.id:28} {count}{offer.card.name}{worth_words}\n        {offer.why or 'nothing stands against it'}"
        )
    return 0


def draft_command(options: argparse.Namespace) -> int:
    """Run `draft`."""
    opened = open_job(options.job)
    study = Study(opened.store)
    job, made = draft_plan(opened.job, options.pattern, study.day_wh(opened.job), study.known.book())
    save_job(options.out, job, opened.store)
    print(f"drafted plan {job.plan(made).letter}, {job.plan(made).name}; saved as {options.out}")
    return 0


def new_job_command(options: argparse.Namespace) -> int:
    """Run `new-job`."""
    if not -80 <= options.latitude <= 80:
        raise BadInput([Fault("", "--latitude", f"{options.latitude:g} is outside its range", "use −80 to 80")])
    save_job(options.out, new_job(latitude_deg=options.latitude), SeriesStore())
    print(f"saved as {options.out}")
    return 0
