"""The commands about outages: drill, ride-through and starts."""

from __future__ import annotations

import argparse
import csv
from pathlib import Path

from calm_relay.cli.shared import chosen_plans, open_job, print_json
from calm_relay.decision.outage_starts import named_case, start_of, with_what
from calm_relay.decision.outages import drill_of, helped_ride, ride_through_of, school_drills
from calm_relay.decision.reach import reach
from calm_relay.decision.staying import staying
from calm_relay.errors import BadInput, Fault, NotFeasible
from calm_relay.job.models import Job, Plan
from calm_relay.plant.resolve import plant_of
from calm_relay.report.head import CAUTION, head_of, title_text
from calm_relay.report.outage import drill_text, helped_data, helps, ride_data, ride_text
from calm_relay.rules.checks_motor import start_rows
from calm_relay.rules.registry import CheckContext
from calm_relay.rules.runner import run_checks
from calm_relay.study import Study
from calm_relay.units import format_quantity as show
from calm_relay.year.drill import Case, Drill
from calm_relay.year.pv_island import island_words, pv_island

USUAL_START = "07-01T17"
STARTS = ("backup.motor-start", "backup.start-from-battery")


def _one(options: argparse.Namespace, job: Job) -> list[Plan]:
    plans = chosen_plans(job, options, without_today=True)
    if not plans:
        raise BadInput([Fault(options.job, "--plan", "the job has no candidate plan", "draft one, or name Today")])
    return plans


def _case(study: Study, job: Job, options: argparse.Namespace) -> Case:
    """Return the outage that is asked for: a named one, or one by its start; what is typed beside a name goes before it."""
    known = {load.id for load in job.house.counted}
    unknown = [i for i in options.together if i not in known]
    if unknown:
        raise BadInput([Fault("", "--together", f"'{unknown[0]}' is no load of this house", f"use {', '.join(sorted(known))}")])
    if options.outage:
        case = named_case(study, job, options.outage)
        case = with_what(
            case, start_hour=None if options.start is None else start_of(study, job, options.start), hours=options.hours
        )
    else:
        case = Case(start_of(study, job, options.start or USUAL_START), 24.0 if options.hours is None else options.hours)
    return with_what(
        case, charge_frac=options.charge, serving=options.serve, shedding=options.shed, sun_frac=options.sun,
        picked=tuple(options.together), diversity=options.diversity,
    )  # fmt: skip


def drill_command(options: argparse.Namespace) -> int:
    """Run `drill`."""
    opened = open_job(options.job)
    job, study = opened.job, Study(opened.store)
    case = _case(study, job, options)
    rows: list[tuple[Plan, Drill | None, str]] = []
    plans = _one(options, job)
    if options.csv and len(plans) != 1:
        raise BadInput([Fault(options.job, "--csv", "a minute-by-minute file holds one plan", "give one --plan")])
    for plan in plans:
        try:
            made = drill_of(study, job, plan, case, by_means=options.by_means)
        except NotFeasible as error:
            if options.plan:
                raise
            rows.append((plan, None, error.reason))
            continue
        rows.append((plan, made, ""))
        if options.csv:
            _write(Path(options.csv), made)
    if options.schools:
        return _schools(job, study, [plan for plan, made, _ in rows if made is not None], case, as_json=options.json)
    if options.json:
        plans_data = [
            {"plan": p.id, "letter": p.letter, **({"dark": why} if made is None else made.as_dict())} for p, made, why in rows
        ]
        print_json({**head_of(job), "plans": plans_data})
        return 0
    print("\n".join(title_text(job)))
    for plan, found, why in rows:
        print("\n" + (why if found is None else "\n".join(drill_text(plan, found))))
    print(f"\n{CAUTION} No life-support equipment on a home battery alone.")
    return 0


def _schools(job: Job, study: Study, plans: list[Plan], case: Case, *, as_json: bool) -> int:
    found = [(plan, school_drills(study, job, plan, case)) for plan in plans]
    if as_json:
        data = [
            {
                "plan": p.id, "letter": p.letter,
                "schools": [{"name": s.name, **({"dark": s.why} if s.drill is None else s.drill.as_dict())} for s in made],
            }
            for p, made in found
        ]  # fmt: skip
        print_json({**head_of(job), "plans": data})
        return 0
    print("\n".join(title_text(job)))
    for plan, made in found:
        print(f"\n{plan.letter}  {plan.name}")
        print("\n".join(f"   {s.name}: {s.why if s.drill is None else s.drill.first_words}" for s in made))
    print(f"\n{CAUTION} No life-support equipment on a home battery alone.")
    return 0


def stays_command(options: argparse.Namespace) -> int:
    """Run `stays`: each load with what it asks for in an outage, and what all together ask of a plan."""
    opened = open_job(options.job)
    job, study = opened.job, Study(opened.store)
    if not 0 <= options.diversity <= 1:
        raise BadInput([Fault("", "--diversity", f"{options.diversity:g} is no share", "use 0 to 1")])
    found = [(plan, staying(study, job, plan, options.diversity)) for plan in _one(options, job)]
    if options.json:
        print_json({**head_of(job), "plans": [{"plan": p.id, "letter": p.letter, **s.as_dict()} for p, s in found]})
        return 0
    print("\n".join(title_text(job)))
    for plan, stay in found:
        print(f"\n{plan.letter}  {plan.name}")
        sums = stay.running_sums_va
        for row in stay.rows:
            marks = [
                w for on, w in ((row.essential, "must stay on"), (row.sheddable, "may be shed"), (bool(row.off), row.off)) if on
            ]
            where = f"behind the device, up to here {show(sums[row.id], 'apparent_va')}" if row.backed_up else "not backed up"
            print(f"   {row.name}: {show(row.running_va, 'apparent_va')}, {where}{'; ' if marks else ''}{', '.join(marks)}")
        print("\n".join(f"   {line}" for line in stay.words))
    return 0


def _write(path: Path, made: Drill) -> None:
    names = ("asked_w", "served_w", "shed_w", "waiting_w", "pv_used_w", "pv_throttled_w", "generator_w", "charge_frac")
    try:
        with path.open("w", newline="", encoding="utf-8") as out:
            writer = csv.writer(out)
            writer.writerow(["minute", *names])
            columns = [getattr(made, name) for name in names]
            for m in range(len(columns[0])):
                writer.writerow([m, *(f"{column[m]:.6g}" for column in columns)])
    except OSError as error:
        raise BadInput([Fault(str(path), "", f"it cannot be written ({error.strerror})", "check the folder")]) from error


def ride_through_command(options: argparse.Namespace) -> int:
    """Run `ride-through`."""
    opened = open_job(options.job)
    job, study = opened.job, Study(opened.store)
    data, text = [], []
    for plan in _one(options, job):
        try:
            found = ride_through_of(study, job, plan)
        except NotFeasible as error:
            if options.plan:
                raise
            data.append({"plan": plan.id, "letter": plan.letter, "dark": error.reason})
            text.append(f"\n{error.reason}")
            continue
        row, lines = ride_data(study, job, plan, found), ride_text(study, job, plan, found)
        if options.helped and not helps(job, plan):
            lines.append(f"   plan {plan.letter} has neither a generator with automatic start nor loads that go off by charge")
        elif options.helped:
            row["helped"] = helped_data(study, job, plan, found["backed_up"], helped_ride(study, job, plan))
            lines += [f"   {line}" for line in row["helped"]["words"]]
        if options.reach:
            more = reach(study, job, plan)
            row["reach"] = {
                "modules_now": more.modules_now, "share_by_modules": [list(r) for r in more.rows],
                "share_by_reserve": [list(r) for r in more.by_reserve], "share_by_more_wp": [list(r) for r in more.by_more_wp],
                "share_by_left_out": [[list(names), share] for names, share in more.by_left_out], "words": more.words,
            }  # fmt: skip
            lines += [f"   {line}" for line in more.words]
        data.append(row)
        text.append("\n" + "\n".join(lines))
    if options.json:
        print_json({**head_of(job), "plans": data})
    else:
        print("\n".join([*title_text(job), *text, "", CAUTION]))
    return 0


def starts_command(options: argparse.Namespace) -> int:
    """Run `starts`: the largest motor start of each plan against the inverters' peak and the battery's limit."""
    job = open_job(options.job).job
    rows = []
    for plan in _one(options, job):
        context = CheckContext(job, plan, job.cards(), None, advise=False)
        rows.append((plan, start_rows(context), [f for f in run_checks(context, {"plan"}) if f.check in STARTS]))
    if options.json:
        print_json(
            {
                "plans": [
                    {
                        "plan": p.id, "letter": p.letter, "rows": [{**vars(row), "within": row.within} for row in bars],
                        "starts": [f.as_dict() for f in found],
                    }
                    for p, bars, found in rows
                ]
            }
        )  # fmt: skip
        return 0
    for plan, bars, found in rows:
        print(f"{plan.letter}  {plan.name}")
        for row in bars:
            line = f", {row.line}" if row.line else ""
            verdict = "within" if row.within else "over"
            figure = f"{show(row.value, row.quantity)} of {show(row.limit, row.quantity)}"
            print(f"   {verdict:7}{row.name}{line}, {row.way}: {figure}, {row.of}")
        for f in found:
            print(f"   {f.word:9} {f.title}: {f.subject}. {f.arithmetic}")
        if not found:
            print("   nothing with a motor is backed up, or nothing forms a grid")
    return 0


def frequency_command(options: argparse.Namespace) -> int:
    """Run `frequency`: what AC-coupled PV does with the grid gone, by its curve."""
    job = open_job(options.job).job
    if not 0 <= options.load_kw <= 1000:
        raise BadInput([Fault("", "--load-kw", f"{options.load_kw:g} is outside its range", "use 0 to 1000")])
    rows = []
    for plan in _one(options, job):
        try:
            island = pv_island(plant_of(job, plan), job.rules(), options.curve)
        except NotFeasible as error:
            if options.plan:
                raise
            rows.append((plan, [error.reason]))
            continue
        said = ["no AC-coupled PV stands behind the transfer device"]
        rows.append((plan, said if island is None else island_words(island, 1000.0 * options.load_kw)))
    if options.json:
        print_json({"plans": [{"plan": plan.id, "letter": plan.letter, "words": words} for plan, words in rows]})
        return 0
    for plan, words in rows:
        print(f"{plan.letter}  {plan.name}")
        print("\n".join(f"   {line}" for line in words))
    return 0
