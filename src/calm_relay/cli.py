"""The command line: everything a screen shows, as text or ``--json``. Figures in JSON are in the unit their key names."""

from __future__ import annotations

import argparse
import csv
import sys
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from calm_relay import __version__
from calm_relay import cli_house as house
from calm_relay import cli_more as more
from calm_relay import cli_site as site
from calm_relay.cli_house import bill_data
from calm_relay.cli_shared import CAUTION, chosen_plans, head_of, open_job, print_json
from calm_relay.decision.compare import PlanRow, compare_plans, counts
from calm_relay.decision.patterns import PATTERNS
from calm_relay.decision.words import COMPARE_LINES, because, compare_text, guess_words, weather_words
from calm_relay.demo import DEMOS, made_job
from calm_relay.errors import BadInput, CalmRelayError, Fault
from calm_relay.job.container import save_job
from calm_relay.job.models import Job, Plan
from calm_relay.job.series import SeriesStore
from calm_relay.job.tariff_models import Tariff
from calm_relay.pv.roof import MODES
from calm_relay.rules.edits import apply_edits
from calm_relay.simulation.columns import ENERGY_COLUMNS, NODE, SYSTEM
from calm_relay.study import PlanResult, Study
from calm_relay.units import format_quantity as show


def main(argv: Sequence[str] | None = None) -> int:
    """Run one command; returns 0, 1 (`check` only: something is over) or 2 (bad input)."""
    parser = _parser()
    options = parser.parse_args(argv)
    try:
        status: int = options.run(options)
    except BadInput as error:
        return _report(error.faults, as_json=getattr(options, "json", False))
    except CalmRelayError as error:
        return _report([Fault("", "", str(error), "see the message")], as_json=getattr(options, "json", False))
    except BrokenPipeError:
        return 0
    return status


def _report(faults: Sequence[Fault], *, as_json: bool) -> int:
    if as_json:
        print_json({"faults": [fault.as_dict() for fault in faults]})
    for fault in faults:
        print(fault.line(), file=sys.stderr)
    return 2


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        prog="calm-relay", description="Plans how batteries join a photovoltaic system.", epilog=CAUTION
    )
    parser.add_argument("--version", action="version", version=f"calm-relay {__version__}")
    commands = parser.add_subparsers(dest="command", required=True)

    def command(name: str, text: str, run: Any, *, job: bool = True, json_out: bool = True) -> argparse.ArgumentParser:
        sub = commands.add_parser(name, help=text, description=text)
        if job:
            sub.add_argument("job", help="a job file, or 'demo' or 'demo-kvist' for the shipped ones")
            sub.add_argument("--plan", action="append", metavar="PLAN", help="a plan's id or letter; may be given again")
        if json_out:
            sub.add_argument("--json", action="store_true", help="print JSON")
        sub.set_defaults(run=run)
        return sub

    command("check", "every check with verdict, arithmetic, remedy and source; exit 1 when one is over", _check)
    simulate = command("simulate", "a year of each plan: energies, losses by name, limits, bill", _simulate)
    simulate.add_argument("--step-min", type=int, default=5, choices=(1, 5, 15), help="length of a step in minutes")
    simulate.add_argument("--csv", metavar="FILE", help="write one plan's year step by step (give one --plan)")
    command("compare", "all plans side by side", _compare)
    _roof_commands(command)
    meter = command("meter", "what a meter file holds: channels, months, and what was guessed", house.meter_command, job=False)
    meter.add_argument("file", help="interval CSV, Green Button XML or NEM12")
    meter.add_argument("--job", help="a job whose time zone the stamps are in")
    meter.add_argument("--zone", default="UTC", help="the time zone, without a job")
    meter.add_argument("--year", type=int, help="this calendar year of the file; its latest 365 days otherwise")
    put = command("set-load", "make a meter file the house of a job and save it", house.set_load_command, json_out=False)
    put.add_argument("--file", required=True, help="the meter file")
    put.add_argument("--year", type=int, help="this calendar year of the file; its latest 365 days otherwise")
    put.add_argument("--out", required=True, help="where to save the changed job (*.crjob)")
    prices = command("set-tariff", "put an open JSON tariff into a job and save it", house.set_tariff_command, json_out=False)
    prices.add_argument("--file", required=True, help="the tariff, see docs/tariff.md")
    prices.add_argument("--out", required=True, help="where to save the changed job")
    hours = command("set-prices", "pay by the hour, with prices of a CSV, and save", house.set_prices_command, json_out=False)
    hours.add_argument("--file", required=True, help="prices by the hour or shorter, see docs/tariff.md")
    ways = ("import", "export", "both")
    hours.add_argument("--for", dest="way", choices=ways, default="import", help="what they pay; import otherwise")
    hours.add_argument("--out", required=True, help="where to save the changed job (*.crjob)")
    pump = command("add-heat-pump", "add a heat pump in place of a boiler and save", house.add_heat_pump_command, json_out=False)
    pump.add_argument("--fuel-kwh", required=True, type=float, help="fuel of a year")
    pump.add_argument("--boiler", default=0.9, type=float, help="what the boiler made of it, as a fraction; 0.9 otherwise")
    pump.add_argument("--cop", default=3.2, type=float, help="seasonal coefficient of performance; 3.2 otherwise")
    pump.add_argument("--power-kw", default=2.5, type=float, help="electric power while it runs; 2.5 otherwise")
    pump.add_argument("--out", required=True, help="where to save the changed job")
    car = command("add-car", "add a car charged at home and save", house.add_car_command, json_out=False)
    car.add_argument("--day-kwh", required=True, type=float, help="energy into the car a day")
    car.add_argument("--power-kw", default=7.0, type=float, help="the charger's power; 7 otherwise")
    car.add_argument("--start", default="23:00", help="from this clock time; 23:00 otherwise")
    car.add_argument("--end", default="06:00", help="until this clock time; 06:00 otherwise")
    car.add_argument("--coupling", default="ac", choices=("ac", "dc"), help="the car's own charger, or a DC charger on the wall")
    car.add_argument("--on-surplus", action="store_true", help="PV surplus first, after the house battery, from 6 A upwards")
    car.add_argument("--out", required=True, help="where to save the changed job")
    command("load", "what the house draws, by part and month, and its highest evening", house.load_command)
    command("bill", "the year's bill without a system, today and of each plan, line by line", house.bill_command)
    command("limits", "what limits cost in the year, what raising one gains, and where energy went", more.limits_command)
    command("order", "how far each page of the work has come", more.order_command)
    command("schema", "the job file's JSON Schema", _schema, job=False, json_out=False)
    remedy = command("remedy", "apply a check's remedy and save the job under another name", _remedy, json_out=False)
    remedy.add_argument("--check", required=True, help="the check's id, as 'check' prints it")
    remedy.add_argument("--number", type=int, default=1, help="which remedy, from 1")
    remedy.add_argument("--out", required=True, help="where to save the changed job")
    draft = command("draft", "draft a candidate plan from today's system and save the job", more.draft_command, json_out=False)
    draft.add_argument("--pattern", required=True, choices=[key for key, _, _ in PATTERNS])
    draft.add_argument("--out", required=True, help="where to save the changed job")
    new = command(
        "new-job", "write an empty job, every value assumed and marked so", more.new_job_command, job=False, json_out=False
    )
    new.add_argument("out", help="where to save it (*.json or *.crjob)")
    new.add_argument("--latitude", type=float, default=45.0, help="degrees, south negative")
    demo = command("demo-job", "write the made-up demo job", _demo_job, job=False, json_out=False)
    demo.add_argument("out", help="where to save it (*.json or *.crjob)")
    demo.add_argument("--which", choices=sorted(DEMOS), default="demo", help="the boat shed (demo) or the pottery (demo-kvist)")
    return parser


def _roof_commands(command: Callable[..., argparse.ArgumentParser]) -> None:
    """Add the commands of Site & roof."""
    places = command("places", "towns of the shipped list by name, with coordinates and time zone", site.places_command, job=False)
    places.add_argument("text", help="how the name begins, e.g. 'nelson, new zealand'")
    command("site", "place, weather in use against a clear sky, and the sun's ways", site.site_command)
    weather = command("weather", "what a weather file holds: source, labels, irradiation by month", site.weather_command, job=False)
    weather.add_argument("file", help="an EPW, TMY3, PVGIS (CSV or JSON) or plain CSV file")
    put = command("set-weather", "put a weather file into a job and save it", site.set_weather_command, json_out=False)
    put.add_argument("--file", required=True, help="the weather file")
    put.add_argument("--out", required=True, help="where to save the changed job (*.crjob)")
    shade = command(
        "set-shade", "put a horizon or a table of shade on a roof face and save the job", site.set_shade_command, json_out=False
    )
    shade.add_argument("--face", required=True, help="the face's id")
    shade.add_argument("--file", required=True, help="two columns (azimuth, elevation) or 12 rows of 24 (months × hours)")
    shade.add_argument("--out", required=True, help="where to save the changed job")
    faces = command("faces", "what reaches the cells of each roof face, and what a kilowatt gives there", site.faces_command)
    faces.add_argument("--directions", action="store_true", help="also the yield of every other tilt and direction")
    strings = command(
        "strings", "cold and hot volts of every string, amps of every tracker, when in the year", site.strings_command
    )
    strings.add_argument("--propose", metavar="NODE", help="rank every layout of strings for this inverter of one plan")
    strings.add_argument("--module", default="module-430", help="the module card to plan with")
    strings.add_argument("--mode", default="anew", choices=[key for key, _ in MODES], help="all anew, keep and add, or rewire")
    strings.add_argument("--optimizer", default="", help="an optimizer card on every module")
    command(
        "oversizing", "ratios by limit, clipping by tracker and inverter, the next module, now or later", site.oversizing_command
    )


def _check(options: argparse.Namespace) -> int:
    opened = open_job(options.job)
    job, study = opened.job, Study(opened.store)
    asked = {plan.id for plan in chosen_plans(job, options, without_today=True)}
    rows, over = [], 0
    for plan in chosen_plans(job, options):
        result = study.plan_result(job, plan)
        rows.append((plan, result))
        if plan.id in asked:
            over += counts(result.findings)["over"]
    if options.json:
        plans = [{"plan": p.id, "letter": p.letter, "name": p.name, "findings": [f.as_dict() for f in r.findings]} for p, r in rows]
        print_json({**head_of(job), "plans": plans})
        return 1 if over else 0
    _title(job)
    for plan, result in rows:
        print(f"\n{plan.letter}  {plan.name}")
        for f in result.findings:
            margin = "" if f.margin is None else f"  margin {f.margin * 100:.0f} %"
            waived = f"  waived: {f.waived}" if f.waived else ""
            print(f"  {f.verdict:9} {f.title}: {f.subject}{margin}{waived}")
            print(f"            {f.arithmetic}")
            for remedy in f.remedies:
                print(f"            remedy: {remedy.text}")
            print(f"            source: {f.source} [{f.check}]")
    print(f"\n{CAUTION}")
    return 1 if over else 0


def _title(job: Job) -> None:
    print(job.name + (" (made-up)" if job.made_up else ""))
    if guess_words(job):
        print(guess_words(job))


def _energies(sums: dict[str, float]) -> dict[str, float]:
    return {f"{name[:-2]}_wh" if name.endswith("_w") else f"{name}_change": value for name, value in sums.items()}


def plan_data(result: PlanResult, tariff: Tariff) -> dict[str, Any]:
    """Return one plan's year as plain data, energies in Wh."""
    f, bill = result.facts, result.bill
    return {
        "energies": _energies(f.system_wh),
        "nodes": {node: _energies(sums) for node, sums in f.nodes_wh.items()},
        "pv_only": {node: {k.replace("_w", "_wh"): v for k, v in sums.items()} for node, sums in f.pv_only_wh.items()},
        "tracker_lost_wh": f.tracker_lost_wh,
        "clipped_wh": f.clipped_wh,
        "caught_wh": f.caught_wh,
        "held_by_cap_wh": f.held_by_cap_wh,
        "self_sufficiency_frac": f.self_sufficiency_frac,
        "own_use_frac": f.own_use_frac,
        "usable_wh": f.usable_wh,
        "full_cycles": f.full_cycles,
        "limits": {name: {"hours_h": use.hours_h, "held_wh": use.held_wh} for name, use in f.limits.items()},
        "evening": None
        if f.evening is None
        else {
            "limit_w": f.evening.limit_w,
            "weakest": f.evening.weakest,
            "peak_w": f.evening.peak_w,
            "hours_over_h": f.evening.hours_over_h,
            "over_wh": f.evening.over_wh,
        },
        "fill": {node: {s: vars(x) for s, x in seasons.items()} for node, seasons in f.fill.items()},
        "months": {f"{name[:-2]}_wh": values for name, values in f.by_month_wh.items()},
        "runs": f.runs,
        "steady": f.steady,
        "assumed": sorted(f.assumed),
        "bill": bill_data(bill, tariff),
    }


def _simulate(options: argparse.Namespace) -> int:
    opened = open_job(options.job)
    job, study = opened.job, Study(opened.store, step_s=60 * options.step_min)
    plans = chosen_plans(job, options)
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
    _title(job)
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
        ):
            print(f"  {text:24}{show(value, 'energy_wh', 0):>12}")
        print(f"  {'self-sufficiency':24}{show(f.self_sufficiency_frac, 'fraction'):>12}")
        print(f"  {'own use':24}{show(f.own_use_frac, 'fraction'):>12}")
        print(f"  {'bill':24}{job.tariff.currency + ' ' + show(result.bill.total, 'money'):>12}")
    print(f"\nWeather is {weather_words(job)}; clipping at {options.step_min} min is a lower bound.")
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


def comparison(study: Study, job: Job, plans: Sequence[Plan]) -> tuple[PlanRow, ...]:
    """Return the comparison of plans; today's system is always computed, since savings are against it."""
    asked = list(plans) if plans and plans[0].id == job.plans[0].id else [job.plans[0], *plans]
    results = [study.plan_result(job, plan) for plan in asked]
    rows = compare_plans(job, [(p, r.facts, r.bill, r.findings) for p, r in zip(asked, results, strict=True)])
    wanted = {plan.id for plan in plans}
    return tuple(row for row in rows if row.plan_id in wanted)


def _because(job: Job, rows: Sequence[PlanRow]) -> list[str]:
    """Return what the figures say; nothing where today's system or all plans but it were left out."""
    whole = len(rows) > 1 and rows[0].plan_id == job.plans[0].id
    return because(rows, job.tariff.currency) if whole else []


def print_comparison(job: Job, rows: Sequence[PlanRow]) -> None:
    """Print plans side by side."""
    _title(job)
    print(f"{'':32}" + "".join(f"{row.letter:>14}" for row in rows))
    for field, text, kind in COMPARE_LINES:
        print(f"{text:32}" + "".join(f"{compare_text(row, field, kind):>14}" for row in rows))
    print(f"{'Over / tight / not known':32}" + "".join(f"{f'{r.over} / {r.tight} / {r.not_known}':>14}" for r in rows))
    for row in rows:
        print(f"{row.letter:6} {row.name}" + (f": not to be recommended, {row.gate}" if row.gate else ""))
    print("\n".join(["", *_because(job, rows), ""]))
    print(f"Money in {job.tariff.currency}. {CAUTION}")


def _compare(options: argparse.Namespace) -> int:
    opened = open_job(options.job)
    rows = comparison(Study(opened.store), opened.job, chosen_plans(opened.job, options))
    if options.json:
        print_json(
            {
                **head_of(opened.job),
                "currency": opened.job.tariff.currency,
                "plans": [row.as_dict() for row in rows],
                "because": _because(opened.job, rows),
            }
        )
    else:
        print_comparison(opened.job, rows)
    return 0


def _schema(_: argparse.Namespace) -> int:
    print_json(Job.model_json_schema())
    return 0


def _remedy(options: argparse.Namespace) -> int:
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


def _demo_job(options: argparse.Namespace) -> int:
    store = SeriesStore()
    save_job(options.out, made_job(options.which, store), store)
    print(f"saved as {options.out}")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
