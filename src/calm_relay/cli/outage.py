"""The commands about outages: drill, ride-through and starts."""

from __future__ import annotations

import argparse
import csv
import re
from contextlib import suppress
from datetime import date
from pathlib import Path

from calm_relay.cli.shared import chosen_plans, open_job, print_json
from calm_relay.decision.outages import drill_of, ride_through_of
from calm_relay.decision.reach import reach
from calm_relay.errors import BadInput, Fault, NotFeasible
from calm_relay.job.models import Job, Plan
from calm_relay.report.head import CAUTION, head_of, title_text
from calm_relay.report.outage import drill_text, ride_data, ride_text
from calm_relay.rules.checks_motor import start_rows
from calm_relay.rules.registry import CheckContext
from calm_relay.rules.runner import run_checks
from calm_relay.study import Study
from calm_relay.units import format_quantity as show
from calm_relay.year.drill import Drill
from calm_relay.year.pv_island import island_words, pv_island

_START = re.compile(r"^(\d{1,2})-(\d{1,2})(?:[T ](\d{1,2})(?::00)?)?$")
STARTS = ("backup.motor-start", "backup.start-from-battery")


def start_hour_of(text: str) -> int:
    """Return the hour of the year of '07-11T17' (month, day, hour of local standard time) or of a plain number; raises BadInput."""
    if text.isdigit() and int(text) < 8760:
        return int(text)
    found = _START.match(text.strip())
    if found and (hour := int(found[3] or 0)) < 24:
        with suppress(ValueError):
            return 24 * (date(2025, int(found[1]), int(found[2])).timetuple().tm_yday - 1) + hour
    raise BadInput(
        [Fault("", "--start", f"'{text}' is no hour of the year", "write month, day and hour as 07-11T17, or 0 to 8759")]
    )


def _one(options: argparse.Namespace, job: Job) -> list[Plan]:
    plans = chosen_plans(job, options, without_today=True)
    if not plans:
        raise BadInput([Fault(options.job, "--plan", "the job has no candidate plan", "draft one, or name Today")])
    return plans


def drill_command(options: argparse.Namespace) -> int:
    """Run `drill`."""
    opened = open_job(options.job)
    job, study = opened.job, Study(opened.store)
    start = start_hour_of(options.start)
    rows: list[tuple[Plan, Drill | None, str]] = []
    plans = _one(options, job)
    if options.csv and len(plans) != 1:
        raise BadInput([Fault(options.job, "--csv", "a minute-by-minute file holds one plan", "give one --plan")])
    for plan in plans:
        try:
            made = drill_of(
                study, job, plan, start_hour=start, hours=options.hours, charge_frac=options.charge, serving=options.serve,
                shedding=options.shed,
            )  # fmt: skip
        except NotFeasible as error:
            if options.plan:
                raise
            rows.append((plan, None, error.reason))
            continue
        rows.append((plan, made, ""))
        if options.csv:
            _write(Path(options.csv), made)
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


def _write(path: Path, made: Drill) -> None:
    names = ("asked_w", "served_w", "shed_w", "pv_used_w", "pv_throttled_w", "charge_frac")
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
        if options.reach:
            more = reach(study, job, plan)
            row["reach"] = {"modules_now": more.modules_now, "share_by_modules": [list(r) for r in more.rows], "words": more.words}
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
            island = pv_island(job, plan, job.cards(), options.curve)
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
