"""The command line: everything a screen shows, as text or ``--json``. Figures in JSON are in the unit their key names."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable, Sequence
from typing import Any, get_args

from calm_relay import __version__
from calm_relay.cli import building, checks, equipment, house, money, outage, plans, rules, site, values
from calm_relay.cli.shared import print_json
from calm_relay.decision.patterns import PATTERNS
from calm_relay.decision.schools import USUAL_DIVERSITY
from calm_relay.decision.start_list import STANDS
from calm_relay.demo import DEMOS
from calm_relay.equipment.columns import card_classes
from calm_relay.errors import BadInput, CalmRelayError, Fault, NotFeasible
from calm_relay.job.control_models import SlotKind
from calm_relay.job.cost_models import CostBasis, CostKind
from calm_relay.pv.roof import MODES
from calm_relay.report.head import CAUTION
from calm_relay.rules.groups import GROUPS
from calm_relay.year.outage import SERVES

JOB_HELP = f"a job file, or {', '.join(repr(name) for name in DEMOS)} for the shipped ones"


def main(argv: Sequence[str] | None = None) -> int:
    """Run one command; returns 0, 1 (`check` only: something is over) or 2 (bad input)."""
    parser = _parser()
    options = parser.parse_args(argv)
    try:
        status: int = options.run(options)
    except BadInput as error:
        return _report(error.faults, as_json=getattr(options, "json", False))
    except NotFeasible as error:
        return _report([Fault("", "", error.reason, error.remedy)], as_json=getattr(options, "json", False))
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
            sub.add_argument("job", help=JOB_HELP)
            sub.add_argument("--plan", action="append", metavar="PLAN", help="a plan's id or letter; may be given again")
        if json_out:
            sub.add_argument("--json", action="store_true", help="print JSON")
        sub.set_defaults(run=run)
        return sub

    command("measure", "what is not known of each plan: to look up or measure, by where one goes", checks.measure_command)
    command("checks", "the registry of checks: what each holds against what, and its source", checks.checks_command, job=False)
    check = command(
        "check", "every check with verdict, arithmetic, remedy and source; exit 1 when one is over", checks.check_command
    )
    check.add_argument("--group", default="", choices=("", *GROUPS), help="only the checks of one group")
    check.add_argument("--verdict", default="", help="only those with this verdict, such as over or 'not known'")
    check.add_argument("--page", metavar="FILE", help="write all checks of one plan as a page to print (give one --plan)")
    simulate = command("simulate", "a year of each plan: energies, losses by name, limits, bill", plans.simulate_command)
    simulate.add_argument("--step-min", type=int, default=5, choices=(1, 5, 15), help="length of a step in minutes")
    simulate.add_argument("--battery-year", type=int, default=1, metavar="N", help="with batteries as old as when year N begins")
    simulate.add_argument("--csv", metavar="FILE", help="write one plan's year step by step (give one --plan)")
    command("compare", "all plans side by side", plans.compare_command)
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
    command("limits", "what limits cost in the year, what raising one gains, and where energy went", plans.limits_command)
    chains = command("chains", "each battery's links from cell to bus, the weakest, growth left, ways", plans.chains_command)
    chains.add_argument("--power-kw", type=float, default=2.0, help="power arriving at the load, for the ways; 2 otherwise")
    when = command("when", "a year of each plan by month, hour of the clock or period of the tariff", plans.when_command)
    when.add_argument("--by", choices=("month", "hour", "period"), default="month", help="what the year is divided by")
    slot = command("add-slot", "add a slot by the clock to a plan's controls and save", values.add_slot_command, json_out=False)
    slot.add_argument("kind", choices=get_args(SlotKind), help="what it does")
    slot.add_argument("start", metavar="FROM", help="hour of the clock, such as 23:30")
    slot.add_argument("end", metavar="UNTIL", help="hour of the clock; past midnight is allowed")
    slot.add_argument("--power", metavar="P", help="at AC, such as 2.5kW")
    slot.add_argument("--target", metavar="T", help="charge to reach, such as 80%%")
    slot.add_argument("--floor", metavar="F", help="charge not to go below, such as 20%%")
    slot.add_argument("--days", choices=("every", "weekdays", "weekends"), default="every")
    slot.add_argument("--month", type=int, action="append", help="month it holds in; may be given again; else all")
    slot.add_argument("--node", action="append", help="inverter it holds for; may be given again; else all with a battery")
    slot.add_argument("--out", required=True, help="file to save to")
    command("plan", "what a plan is made of, its limits and chains, and every step that builds it", building.plan_command)
    for name, words in (("add", "add something to a plan and save"), ("remove", "take something out of a plan and save")):
        build = command(name, words, building.add_command, json_out=False)
        build.add_argument("step", help="the step's key as 'plan' prints it, such as battery:hyb or no-battery:hyb")
        build.add_argument("--card", default="", metavar="ID", help="the card, where one is chosen; 'pick' lists them")
        build.add_argument("--modules", type=int, metavar="N", help="modules of a battery; else what comes nearest to the need")
        build.add_argument("--out", required=True, help="file to save to")
    about = "each station of the relay line: how its limit comes about, what is assumed, its worst moment of the year"
    command("stations", about, building.stations_command)
    command("controls", "how the batteries of each plan are run: sensor, peaks, reserve, slots", plans.controls_command)
    command("figures", "every figure of the year with its arithmetic", plans.figures_command)
    command("boxes", "what each inverter takes for itself in the year: conversion, cells, standby", plans.boxes_command)
    command("ageing", "twenty years of each battery: capacity, and what ends its warranty first", plans.ageing_command)
    pick = command("pick", "cards for a place in a plan: what fits first, and why others do not", plans.pick_command)
    pick.add_argument("path", help="such as plans[hybrid-swap].nodes[hyb].card, or …battery.card, …strings[x].module, …nodes[+]")
    pick.add_argument("--find", default="", metavar="TEXT", help="by words and figures only")
    pick.add_argument("--simulate", action="store_true", help="also what a year with each card that fits would save")
    _money_commands(command)
    _outage_commands(command)
    command("packs", "the rule packs that come with the program", rules.packs_command, job=False)
    pack = command("pack", "every figure of a rule pack with its source", rules.pack_command, job=False)
    pack.add_argument("id", help="the pack, such as great-britain, or a pack file of your own")
    pack.add_argument("--against", metavar="ID", help="where it differs from another pack, by id or file")
    pack.add_argument("--whole", action="store_true", help="a file that stands on no other pack")
    pack.add_argument("--file", action="store_true", help="the pack's own file, to be copied and edited")
    in_force = command("rules", "the rules in force in a job; put your own pack or tables into it and save", rules.rules_command)
    in_force.add_argument("--pack", metavar="ID", help="a pack that comes with the program, or a pack file")
    in_force.add_argument("--tables", metavar="FILE", help="a file of conductor tables")
    in_force.add_argument("--table", metavar="ID", help="which table of conductors holds")
    in_force.add_argument("--change", metavar="NAME=FIGURE", help="a figure of the pack changed for this job; --because says why")
    in_force.add_argument("--because", metavar="TEXT", help="why these rules hold here, or why the figure is another")
    in_force.add_argument("--out", metavar="FILE", help="the name to save the job under")
    command("runs", "cables of each plan: amps, size, breaker, volts along the way", rules.runs_command)
    command("order", "how far each page of the work has come", plans.order_command)
    command("schema", "the job file's JSON Schema", plans.schema_command, job=False, json_out=False)
    remedy = command("remedy", "apply a check's remedy and save the job under another name", plans.remedy_command, json_out=False)
    remedy.add_argument("--check", required=True, help="the check's id, as 'check' prints it")
    remedy.add_argument("--number", type=int, default=1, help="which remedy, from 1")
    remedy.add_argument("--out", required=True, help="where to save the changed job")
    draft = command("draft", "draft a candidate plan from today's system and save the job", plans.draft_command, json_out=False)
    draft.add_argument("--pattern", required=True, choices=[key for key, _, _ in PATTERNS])
    draft.add_argument("--out", required=True, help="where to save the changed job")
    change = command(
        "change",
        "make a plan anew by another pattern, say what is dropped, and save the job",
        building.change_command,
        json_out=False,
    )
    change.add_argument("--to", dest="pattern", required=True, choices=[key for key, _, _ in PATTERNS], help="what it should be")
    change.add_argument("--out", required=True, help="where to save the changed job")
    begin = command(
        "start", "say what stands today and what it should become, and save the job", building.start_command, json_out=False
    )
    begin.add_argument("--from", dest="stands", required=True, choices=[row[0] for row in STANDS], help="what stands today")
    begin.add_argument("--to", dest="becomes", required=True, choices=[key for key, _, _ in PATTERNS], help="what it should become")
    begin.add_argument("--out", required=True, help="where to save the changed job")
    put = command(
        "set", "set one field of a job, as one would type it, and save the job", values.set_command, job=False, json_out=False
    )
    put.add_argument("job", help=JOB_HELP)
    put.add_argument("path", help="the field's path, such as site.supply.service_a or plans[hybrid-swap].name")
    put.add_argument("value", help="with its unit where it has one, such as '6.3 kW'; 'none' where it may be open")
    put.add_argument("--out", required=True, help="where to save the changed job")
    put.add_argument("--sure", action="store_true", help="take a figure that is hardly meant as it is")
    cards = command("cards", "equipment cards, shipped and your own", equipment.cards_command, job=False)
    cards.add_argument(
        "what",
        nargs="*",
        metavar="ACTION NAME",
        help="show ID, add FILE, remove ID, write FILE, read-sheet FILE, differ JOB; without: list",
    )
    cards.add_argument("--kind", choices=sorted(card_classes()), help="cards of this kind only")
    cards.add_argument("--find", default="", metavar="TEXT", help="by words and figures, such as 'three phase 10 kW 2 trackers'")
    cards.add_argument("--as", dest="as_id", default="", metavar="ID", help="with read-sheet: put what was found on the shelf")
    cards.add_argument("--name", default="", help="with --as: what the card is called")
    new = command(
        "new-job", "write an empty job, every value assumed and marked so", plans.new_job_command, job=False, json_out=False
    )
    new.add_argument("out", help="where to save it (*.json or *.crjob)")
    new.add_argument("--latitude", type=float, default=45.0, help="degrees, south negative")
    demo = command("demo-job", "write the made-up demo job", plans.demo_job_command, job=False, json_out=False)
    demo.add_argument("out", help="where to save it (*.json or *.crjob)")
    demo.add_argument("--which", choices=sorted(DEMOS), default="demo", help="which of the shipped ones")
    return parser


def _outage_commands(command: Callable[..., argparse.ArgumentParser]) -> None:
    """Add the commands about outages."""
    about = "an outage minute by minute: what stays on, what trips, when it is dark, in words"
    drill = command("drill", about, outage.drill_command)
    drill.add_argument("--start", help="month-day and hour as 07-11T17, a day as dullest-07, or an hour of the year")
    drill.add_argument("--outage", metavar="NAME", help="an outage the brief names, or 'brief': its longest on its dullest day")
    drill.add_argument("--hours", type=float, help="how long, at most 336; without it 24, or as long as the named outage")
    drill.add_argument("--charge", type=float, help="charge at the start, 0 to 1; without it the year's at that hour")
    drill.add_argument("--sun", type=float, help="what of that day's sun comes through, 0 to 1")
    drill.add_argument("--serve", choices=SERVES, help="all that is backed up, or what must stay on alone")
    drill.add_argument("--shed", action="store_true", help="shed loads that may be shed")
    drill.add_argument(
        "--together", action="append", default=[], metavar="LOAD", help="a load that runs in the first hour in place of that hour's"
    )
    drill.add_argument("--diversity", type=float, default=1.0, help="at which part of their power those run, 0 to 1")
    drill.add_argument(
        "--schools", action="store_true", help="also the whole house, an essential panel, the whole house with shedding"
    )
    drill.add_argument("--by-means", action="store_true", help="as the ride-through runs it: no trips, no starts, no frequency")
    drill.add_argument("--csv", metavar="FILE", help="write one plan minute by minute (give one --plan)")
    about = "the share of outages survived, by length and month, with every hour of the year as the start"
    ride = command("ride-through", about, outage.ride_through_command)
    ride.add_argument("--helped", action="store_true", help="also with the generator and loads that go off by charge")
    ride.add_argument(
        "--reach", action="store_true", help="what more modules, reserve, PV or fewer loads survive in the brief's season"
    )
    pitch = command("frequency", "what AC-coupled PV does with the grid gone, by its frequency curve", outage.frequency_command)
    pitch.add_argument("--curve", default="", help="a curve of the pack, such as ieee-1547, in place of the card's own")
    pitch.add_argument("--load-kw", type=float, default=0.5, help="what the loads draw meanwhile")
    stays = command("stays", "what stays on in an outage: each load, their sums, a day of them, what is left", outage.stays_command)
    stays.add_argument("--diversity", type=float, default=USUAL_DIVERSITY, help="the part of all that plausibly runs together")
    command("starts", "the largest motor start against what inverters and batteries carry", outage.starts_command)


def _money_commands(command: Callable[..., argparse.ArgumentParser]) -> None:
    """Add the commands of money and choice."""
    cost = command("cost", "what each plan costs to build, line by line; and the firm's price list", money.cost_command, job=False)
    cost.add_argument(
        "words",
        nargs="+",
        metavar="ACTION JOB",
        help=f"{JOB_HELP}; before it 'add' (the line's text after the job), 'ready' (lines that lack) or 'reprice'; 'list FILE' "
        "keeps the firm's prices, 'list' shows them",
    )
    cost.add_argument("--plan", action="append", metavar="PLAN", help="a plan's id or letter; may be given again")
    cost.add_argument("--amount", type=float, help="add: the whole, or the price of one; without it nobody priced it yet")
    cost.add_argument("--kind", default="other", choices=get_args(CostKind), help="add: what kind of cost")
    cost.add_argument("--basis", default="fixed", choices=get_args(CostBasis), help="add: what it counts")
    cost.add_argument("--counts", default="", metavar="CARD", help="add: per piece, of which card")
    cost.add_argument("--hours", type=float, default=0.0, help="add: hours of labour")
    cost.add_argument("--after", type=int, default=0, metavar="YEARS", help="add: the end of the year in which it falls")
    cost.add_argument("--out", default="", help="where to save the changed job")
    command("finance", "twenty years of each plan: bills, ageing, replacement, payback, present value", money.finance_command)
    command("ranges", "the spread of saving and payback over years of weather, loads and prices", money.ranges_command)
    decide = command("decide", "which plan leads by the brief's weights, what turns the order, and why", money.decide_command)
    decide.add_argument("--choose", default="", metavar="PLAN", help="choose this plan")
    decide.add_argument("--reason", default="", help="with --choose: why")
    decide.add_argument("--out", default="", help="with --choose: where to save the job")


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
    strings.add_argument("--keep", action="append", default=[], metavar="STRING", help="with rewire: this string stays")
    strings.add_argument("--optimizer", default="", help="an optimizer card on every module")
    command(
        "oversizing", "ratios by limit, clipping by tracker and inverter, the next module, now or later", site.oversizing_command
    )
