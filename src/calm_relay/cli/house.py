"""The commands of the house and its prices: what a meter file holds, taking it into a job, the load, the bill."""

from __future__ import annotations

import argparse
from pathlib import Path

from calm_relay.calendar import MONTHS
from calm_relay.cli.shared import chosen_plans, open_job, print_json
from calm_relay.decision.metered import take_meter, with_meter
from calm_relay.decision.words import guess_words
from calm_relay.job.container import OpenedJob, save_job, validate_job
from calm_relay.job.house_models import Appliance
from calm_relay.job.parts import put_appliance
from calm_relay.load.catalogue import car_appliance, car_arithmetic, heat_pump_appliance
from calm_relay.load.meter_files import read_meter
from calm_relay.load.sums import heat_pump_from_fuel
from calm_relay.report.head import head_of
from calm_relay.report.house import bill_data, load_data, load_text, meter_data, meter_text
from calm_relay.study import Study
from calm_relay.tariff.bill import Bill
from calm_relay.tariff.growth import GROWTH_YEARS, yearly_totals
from calm_relay.tariff.price_file import price_words, read_prices, with_prices
from calm_relay.tariff.templates import read_tariff
from calm_relay.units import format_quantity as show
from calm_relay.units import parse_quantity


def meter_command(options: argparse.Namespace) -> int:
    """Run `meter`."""
    zone = open_job(options.job).job.site.place.time_zone if options.job else options.zone
    data = meter_data(read_meter(Path(options.file), zone, year=options.year))
    if options.json:
        print_json(data)
    else:
        print("\n".join(meter_text(data)))
    return 0


def set_load_command(options: argparse.Namespace) -> int:
    """Run `set-load`."""
    opened = open_job(options.job)
    study = Study(opened.store)
    meter = read_meter(Path(options.file), opened.job.site.place.time_zone, year=options.year)
    taken = take_meter(study, opened.job, meter)
    changed = with_meter(opened.store, opened.job, taken)
    save_job(options.out, changed, opened.store)
    print("\n".join([f"{taken.words}; saved as {options.out}", *taken.gross.notes, *taken.meter.notes]))
    return 0


def set_tariff_command(options: argparse.Namespace) -> int:
    """Run `set-tariff`."""
    opened = open_job(options.job)
    tariff = read_tariff(Path(options.file))
    changed = validate_job(opened.job.model_copy(update={"tariff": tariff}).model_dump(), options.file)
    save_job(options.out, changed, opened.store)
    print(f"{tariff.name}; saved as {options.out}")
    return 0


def set_prices_command(options: argparse.Namespace) -> int:
    """Run `set-prices`."""
    opened = open_job(options.job)
    made = read_prices(Path(options.file), opened.job.site.place.time_zone, opened.job.calendar_year)
    changed = with_prices(opened.store, opened.job, made, options.way)
    save_job(options.out, validate_job(changed.model_dump(), options.file), opened.store)
    for what, found in made.guesses:
        print(f"  {what}: {found}")
    for note in made.notes:
        print(f"  {note}")
    print(f"{price_words(made)}; saved as {options.out}")
    return 0


def add_heat_pump_command(options: argparse.Namespace) -> int:
    """Run `add-heat-pump`."""
    opened = open_job(options.job)
    fuel_wh, power_w = options.fuel_kwh * 1000.0, options.power_kw * 1000.0
    load = heat_pump_appliance(fuel_wh, options.boiler, options.cop, power_w)
    return _add(opened, load, heat_pump_from_fuel(fuel_wh, options.boiler, options.cop).arithmetic, options.out)


def add_car_command(options: argparse.Namespace) -> int:
    """Run `add-car`."""
    opened = open_job(options.job)
    start, end = (parse_quantity(text, "clock_h") for text in (options.start, options.end))
    day_wh, power_w = options.day_kwh * 1000.0, options.power_kw * 1000.0
    load = car_appliance(day_wh, power_w, start, end, coupling=options.coupling, on_surplus=options.on_surplus)
    return _add(opened, load, car_arithmetic(day_wh, power_w, options.coupling), options.out)


def _add(opened: OpenedJob, load: Appliance, words: str, out: str) -> int:
    """Put an appliance into a job, save it and say how it came about."""
    changed, made = put_appliance(opened.job, load)
    save_job(out, validate_job(changed.model_dump(), out), opened.store)
    print(f"{made}: {words}; saved as {out}")
    return 0


def load_command(options: argparse.Namespace) -> int:
    """Run `load`."""
    opened = open_job(options.job)
    data = load_data(Study(opened.store), opened.job, chosen_plans(opened.job, options))
    if options.json:
        print_json({**head_of(opened.job), **data})
    else:
        print("\n".join([opened.job.name, *load_text(data)]))
    return 0


def bill_command(options: argparse.Namespace) -> int:
    """Run `bill`."""
    opened = open_job(options.job)
    job, study = opened.job, Study(opened.store)
    rows: list[tuple[str, str, Bill]] = [("", "No system", study.bill_without_system(job))]
    rows += [(plan.letter, plan.name, study.bill(job, plan)) for plan in chosen_plans(job, options)]
    if options.json:
        bills = [{"letter": letter, "name": name, **bill_data(bill, job.tariff)} for letter, name, bill in rows]
        print_json({**head_of(job), "currency": job.tariff.currency, "tariff": job.tariff.name, "bills": bills})
        return 0
    if guess_words(job):
        print(guess_words(job))
    for letter, name, bill in rows:
        print(f"{letter}  {name}: {job.tariff.currency} {show(bill.total, 'money')} a year".strip())
        for line in bill.lines:
            print(f"  {line.name:28}{line.amount:12.2f}   {line.arithmetic}")
        if job.tariff.import_growth_frac or job.tariff.export_growth_frac:
            years = yearly_totals(bill, job.tariff, GROWTH_YEARS)
            print("  " + ", ".join(f"year {n} {show(years[n - 1], 'money')}" for n in (1, 10, GROWTH_YEARS)))
        print("  " + " ".join(f"{month} {amount:.0f}" for month, amount in zip(MONTHS, bill.by_month, strict=True)))
    return 0
