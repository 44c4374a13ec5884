"""What the document's models say of a field: its label, kind of quantity, bounds, choices. Fields, go-to and tables agree."""

from __future__ import annotations

import re
import types
from dataclasses import dataclass
from functools import lru_cache
from typing import Annotated, Any, Literal, Union, get_args, get_origin

from pydantic import BaseModel
from pydantic.fields import FieldInfo as ModelField

from calm_relay.errors import BadInput, Fault
from calm_relay.job.models import Job
from calm_relay.units import Quantity

LABELS: dict[str, str] = {
    "name": "Name of the job", "calendar_year": "Calendar year",
    "site.place.name": "Place", "site.place.latitude_deg": "Latitude", "site.place.longitude_deg": "Longitude",
    "site.place.altitude_m": "Altitude", "site.place.time_zone": "Time zone",
    "site.record_low_c": "Record low", "site.low_method": "Low is", "site.design_high_c": "Design high",
    "site.hot_cell_c": "Hottest cell", "site.cold_voltage_by": "Cold voltage by",
    "site.weather.ghi_wh_per_m2_day": "Sun on the flat, a day", "site.weather.temperature_mean_c": "Mean temperature",
    "site.weather.temperature_daily_range_k": "Daily swing", "site.weather.wind_m_per_s": "Wind", "site.weather.seed": "Seed",
    "site.weather.cloudiness": "Cloudiness",
    "site.dc_ceiling_v": "Local DC ceiling",
    "site.supply.kind": "Supply", "site.supply.voltage_v": "Supply voltage", "site.supply.service_a": "Service",
    "site.export_limit_w": "Export limit", "site.import_limit_w": "Import limit",
    "site.network.counting": "The network counts", "site.network.pv_limit_w": "Units with PV", "site.network.registered_w":
    "Registered export", "site.network.battery_limit_w": "Battery-only units", "site.network.phase_limit_w": "On one phase",
    "site.network.sum_limit_w": "Network's inverter sum", "site.network.dc_ac_ratio_max": "Network's array ratio",
    "site.network.rebate_dc_ac_ratio_max": "Rebate's array ratio",
    "faces[].name": "Name of the face", "faces[].tilt_deg": "Tilt", "faces[].azimuth_deg": "Azimuth",
    "faces[].mounting": "Mounting", "faces[].shade_loss_frac": "Shade loss", "faces[].room_modules": "Room for modules",
    "faces[].rear_ratio_frac": "Light on the rear", "faces[].eave_m": "Along the eave", "faces[].slope_m": "Up the slope",
    "faces[].setback_m": "Kept free",
    "house.background.shape": "Shape of the day", "house.background.energy_wh_per_day": "Everything else, a day",
    "house.background.seed": "Seed of the house",
    "house.appliances[].name": "Appliance", "house.appliances[].running_w": "Runs at", "house.appliances[].run_h": "Hours a day",
    "house.appliances[].window_start_h": "From", "house.appliances[].window_end_h": "Until",
    "house.appliances[].cycles_per_day": "Starts a day", "house.appliances[].power_factor": "Power factor",
    "house.appliances[].share_of_days_frac": "Share of days", "house.appliances[].days": "Days",
    "house.appliances[].essential": "Must stay on", "house.appliances[].never_from_battery": "Never from the battery",
    "house.appliances[].sheddable": "May be shed", "house.appliances[].no_auto_return": "Stays off after a cut",
    "house.appliances[].in_metered": "Part of the totals above",
    "house.appliances[].line": "On", "house.appliances[].from_year": "Comes in", "house.appliances[].follows": "Its days",
    "house.appliances[].balance_c": "Degree-days from", "house.appliances[].colder_draws_frac_per_k": "More a kelvin colder",
    "house.appliances[].surplus": "PV surplus", "house.appliances[].surplus_least_w": "Surplus from",
    "house.appliances[].surplus_start_h": "Surplus taken from", "house.appliances[].surplus_end_h": "Surplus taken until",
    "house.background.holds_listed": "Listed appliances are part of these totals",
    "house.background_lines_frac": "The rest on each line",
    "house.appliances[].motor.code_letter": "Code letter", "house.appliances[].motor.kind": "Its motor is a",
    "house.appliances[].motor.voltage_v": "Motor voltage", "house.appliances[].motor.phases": "Motor on",
    "tariff.netting": "Phases counted", "tariff.import_growth_frac": "Prices grow a year",
    "tariff.export_growth_frac": "Export price grows a year", "plans[].nodes[].line": "On",
    "house.appliances[].motor.lra_a": "Locked-rotor amps", "house.appliances[].motor.horsepower": "Horsepower",
    "house.appliances[].motor.soft_starter": "Soft starter",
    "house.appliances[].motor.soft_starter_listed": "Soft starter listed by the motor's maker",
    "house.appliances[].motor.soft_start_frac": "Soft starter leaves",
    "tariff.import_price_per_kwh": "Import price", "tariff.cheap_price_per_kwh": "Cheap price",
    "tariff.cheap_start_h": "Cheap from", "tariff.cheap_end_h": "Cheap until",
    "tariff.export_price_per_kwh": "Export price", "tariff.standing_per_day": "Standing charge", "tariff.currency": "Currency",
    "tariff.name": "Name of the tariff",
    "tariff.minimum_per_month": "Least a month", "tariff.tax_frac": "Tax",
    "tariff.tax_on_export": "Tax on the export credit too", "tariff.credit_over": "Export cancels import within",
    "tariff.settlement_min": "Settled over",
    "tariff.periods[].name": "Period", "tariff.periods[].import_price_per_kwh": "Import price",
    "tariff.periods[].export_price_per_kwh": "Export price", "tariff.seasons[].name": "Season",
    "tariff.demand.price_per_kw_month": "A kW of the month's peak",
    "tariff.tiers[].up_to_wh": "Up to, a month", "tariff.tiers[].add_per_kwh": "Adds",
    "tariff.demand.start_h": "Peak counted from", "tariff.demand.end_h": "Peak counted until",
    "tariff.demand.weekdays_only": "Only weekdays",
    "plans[].name": "Name of the plan", "plans[].note": "Note",
    "plans[].controls.reserve_soc_frac": "Reserve for outages", "plans[].controls.reserve_winter_soc_frac": "in winter",
    "plans[].controls.reserve_spring_soc_frac": "in spring", "plans[].controls.reserve_summer_soc_frac": "in summer",
    "plans[].controls.reserve_autumn_soc_frac": "in autumn", "plans[].controls.slots[].days": "On",
    "plans[].controls.battery_order": "Order of batteries", "plans[].controls.sensor": "Sensor",
    "plans[].controls.meter_bias_w": "Set-point drawn from the grid", "plans[].controls.export_response_s": "Cuts export within",
    "plans[].controls.peak_target_w": "Import held below", "plans[].controls.peak_hold_soc_frac": "Kept for peaks",
    "plans[].controls.leave_room": "Room for what is clipped", "plans[].controls.slots[].kind": "Slot",
    "plans[].controls.slots[].floor_soc_frac": "Slot's floor",
    "plans[].controls.slots[].start_h": "Grid charge from", "plans[].controls.slots[].end_h": "Grid charge until",
    "plans[].controls.slots[].power_w": "Grid charge at", "plans[].controls.slots[].target_soc_frac": "Grid charge target",
    "plans[].nodes[].name": "Name of the inverter", "plans[].nodes[].card": "Equipment", "plans[].nodes[].side": "Joins on",
    "plans[].nodes[].count": "Like units",
    "plans[].nodes[].strings[].modules_per_string": "Modules in series",
    "plans[].nodes[].strings[].parallel_strings": "Strings in parallel",
    "plans[].nodes[].strings[].module": "Module", "plans[].nodes[].strings[].face": "Roof face",
    "plans[].nodes[].strings[].tracker": "Tracker", "plans[].nodes[].strings[].fuse_a": "String fuse",
    "plans[].nodes[].strings[].age_years": "Age", "plans[].nodes[].strings[].other_loss_frac": "Other losses",
    "plans[].nodes[].strings[].optimizer": "Optimizers",
    "plans[].nodes[].strings[].losses.mismatch_frac": "Mismatch", "plans[].nodes[].strings[].losses.wiring_frac": "Wiring",
    "plans[].nodes[].strings[].losses.connections_frac": "Connections",
    "plans[].nodes[].strings[].losses.light_induced_frac": "Light-induced",
    "plans[].nodes[].strings[].losses.nameplate_frac": "Nameplate",
    "plans[].nodes[].strings[].losses.availability_frac": "Availability",
    "plans[].nodes[].strings[].losses.soiling_frac": "Soiling by month",
    "plans[].nodes[].strings[].measured.voc_v": "Measured open voltage",
    "plans[].nodes[].strings[].measured.isc_a": "Measured short-circuit current",
    "plans[].nodes[].strings[].measured.irradiance_w_per_m2": "Sun on the face then",
    "plans[].nodes[].strings[].measured.module_c": "Module temperature then",
    "plans[].nodes[].branches": "Branch circuits", "plans[].nodes[].branch_breaker_a": "Breaker of a branch",
    "plans[].costs[].text": "What for", "plans[].costs[].amount": "Price", "plans[].costs[].kind": "Kind",
    "plans[].costs[].basis": "Counted", "plans[].costs[].counts": "Of", "plans[].costs[].hours_h": "Hours",
    "plans[].costs[].after_years": "After years",
    "rebates[].name": "Rebate", "rebates[].share_frac": "Share of cost", "rebates[].per_kwh": "A kWh of battery",
    "rebates[].counts": "Counted as", "rebates[].paid_up_to_wh": "Paid up to", "rebates[].most": "At most",
    "rebates[].conditions[].rule": "Asks for", "rebates[].conditions[].energy_wh": "Energy",
    "rebates[].conditions[].ratio": "Array ratio", "rebates[].conditions[].text": "In its words",
    "rebates[].conditions[].met": "Met",
    "finance.discount_frac": "Discount rate", "finance.first_year": "First year", "finance.upkeep_per_year": "Upkeep a year",
    "finance.resilience_per_year": "A year of backup is worth", "finance.co2_kg_per_kwh": "CO₂, kg a kWh imported",
    "finance.replace_batteries": "Batteries are replaced", "finance.battery_end_frac": "Replaced below",
    "finance.battery_price_change_frac": "Their price changes a year", "finance.inverter_life_years": "Added inverters last",
    "finance.sun_spread_frac": "Sun of a year, σ", "finance.load_spread_frac": "Load, more or less",
    "finance.growth_spread_frac": "Price growth, more or less", "finance.cases": "Cases", "finance.seed": "Seed of the cases",
    "brief.contracts[].pays_per_year": "Pays a year",
    "plans[].later.modules": "Modules later", "plans[].later.after_years": "After",
    "plans[].later.module_cost": "A module costs", "plans[].later.visit_cost": "Second visit costs",
    "plans[].nodes[].battery.card": "Battery module", "plans[].nodes[].battery.modules": "Modules",
    "plans[].nodes[].battery.state_of_health_frac": "State of health",
    "plans[].nodes[].battery.place": "Stands", "plans[].nodes[].battery.leads_ohm": "Leads of each branch",
    "plans[].transfer.card": "Transfer device", "plans[].transfer.backed_up": "Backed up",
    "plans[].nodes[].dc_car": "Car on its DC side",
    "plans[].nodes[].controller": "Charge controllers", "plans[].nodes[].controllers": "How many",
    "plans[].nodes[].timer_charger": "Charger on a time switch", "plans[].generator.card": "Generator",
    "plans[].generator.pv_locked_out": "PV locked out", "plans[].generator.bypass": "Manual bypass",
    "plans[].generator.start_soc_frac": "Starts below", "plans[].generator.stop_soc_frac": "Stops at",
    "plans[].generator.quiet_start_h": "Quiet from", "plans[].generator.quiet_end_h": "Quiet until",
    "brief.outage_hours_h": "Outages last", "brief.outage_longest_h": "The longest", "brief.outages_per_year": "Outages a year",
    "brief.outage_season": "Mostly in", "brief.budget": "Budget", "brief.keep": "Not to be touched",
    "brief.contracts[].name": "Contract", "brief.contracts[].ends": "Ends", "brief.contracts[].ended_by": "Ended before by",
    "brief.note": "What it is for",
    "pack_reason": "Why these rules hold", "site.board.main_breaker_a": "Main breaker", "site.board.busbar_a": "Busbar",
    "site.board.breakers_a": "Breakers on it, added up", "site.board.highest_supply_v": "Highest volts measured",
    "site.supply_run.length_m": "Board to supply", "site.supply_run.size": "Size", "site.supply_run.method": "Lies",
    "site.supply_run.ambient_c": "In air of", "site.supply_run.grouped": "Cables side by side",
    "site.supply_run.protected_a": "Protected by", "plans[].nodes[].run.length_m": "Inverter to board",
    "plans[].nodes[].battery_run.length_m": "Battery to inverter", "plans[].nodes[].battery_run.size": "Size",
    "plans[].nodes[].battery_run.method": "Lies", "plans[].nodes[].battery_run.ambient_c": "In air of",
    "plans[].nodes[].battery_run.grouped": "Cables side by side", "plans[].nodes[].battery_run.protected_a": "Fuse",
    "plans[].nodes[].run.size": "Size", "plans[].nodes[].run.method": "Lies", "plans[].nodes[].run.ambient_c": "In air of",
    "plans[].nodes[].run.grouped": "Cables side by side", "plans[].nodes[].run.protected_a": "Protected by",
    "brief.outages[].name": "Outage", "brief.outages[].month": "Month", "brief.outages[].day": "Day",
    "brief.outages[].hour": "At hour", "brief.outages[].hours_h": "Lasts", "brief.outages[].sun_frac": "Sun that comes through",
    "house.appliances[].shed_order": "Shed as number", "house.appliances[].off_below_soc_frac": "Off below a charge of",
    "house.appliances[].on_above_soc_frac": "On above a charge of", "house.appliances[].least_off_s": "Stays off at least",
    "house.appliances[].life_support": "Life hangs on it",
    "plans[].controls.island_stop_soc_frac": "AC-coupled PV stops charging at",
    "plans[].controls.island_start_soc_frac": "and starts again below",
    "plans[].controls.island_restart_soc_frac": "An empty bank serves again at",
    "plans[].controls.island_keep_soc_frac": "Kept for the morning",
    "plans[].transfer.neutral_bond": "Neutral bond of the island", "plans[].transfer.residual_current": "Residual-current devices",
    "plans[].transfer.earth_electrode": "Earth that stays", "plans[].transfer.largest_breaker_a": "Largest backup breaker",
    "plans[].transfer.breaker_trips_at": "It trips at once at, times",
}  # fmt: skip
CHOICES: dict[str, str] = {
    "single_phase": "single phase", "split_phase": "split phase", "three_phase": "three phase", "rack": "rack",
    "ventilated": "ventilated roof", "close_roof": "close to the roof", "insulated": "insulated back",
    "household_evening": "household, evening", "household_daytime": "household, daytime", "flat": "the same all day",
    "published_household": "household, published", "clock": "alike", "heating_degrees": "the colder the more",
    "cooling_degrees": "the hotter the more", "no": "not used", "before_battery": "before the battery",
    "after_battery": "after the battery", "summed": "summed", "each": "each by itself", "auto": "by its card", "all": "all lines",
    "every": "every day", "weekdays": "weekdays", "weekends": "weekends", "backup": "backup side", "grid": "grid side",
    "whole_house": "whole house", "listed": "only the loads ticked", "best_round_trip": "best round trip first",
    "in_proportion": "all in proportion", "like_units": "like units in proportion", "priority": "in the plan's order",
    "charge_from_grid": "charge from the grid", "surplus_only": "surplus only", "hold": "hold", "timer": "charge by the clock",
    "clipped_only": "clipped part only", "discharge_to_grid": "discharge to the grid",
    "any": "any season", "winter": "winter", "spring": "spring", "summer": "summer", "autumn": "autumn",
    "nothing": "nothing, each is paid", "month": "each month", "year": "the year",
    "record_low": "record low", "0": "at once", "15": "15 min", "30": "30 min", "60": "60 min",
    "lowest_expected": "lowest expected", "mean_yearly_minimum": "mean of yearly minima",
    "indoors": "indoors", "garage": "garage", "outdoors_sheltered": "outdoors covered", "outdoors": "outdoors",
    "sum_of_ac_ratings": "all AC ratings", "by_kind": "PV and battery-only apart", "registered_export": "registered export",
    "fixed": "as a whole", "per_piece": "by the piece", "per_kwh": "by the kWh", "per_usable_kwh": "by usable kWh",
    "per_kw": "by the kW", "per_kwp": "by the kWp", "per_hour": "by the hour",
    "battery": "battery", "inverter": "inverter", "modules": "modules", "transfer": "transfer", "generator": "generator",
    "wiring": "wiring", "approvals": "approvals", "drawings": "drawings", "cabling": "cabling",
    "scaffold": "scaffold", "labour": "labour", "visit": "second visit", "taken_out": "taken out", "other": "other",
    "usable": "usable", "nominal": "nominal",
    "battery_added": "a battery added", "modules_added": "modules added", "backed_up": "loads that stay on",
    "least_usable_wh": "at least so much usable", "most_usable_wh": "at most so much usable",
    "ratio_most": "array over inverters at most", "stated": "what its paper says",
    "not_known": "not known", "yes": "yes", "very_clear": "very clear", "mixed": "mixed", "mostly_cloudy": "mostly cloudy",
}  # fmt: skip


# Words for choices that mean something else at the end of some paths.
CHOICES_AT: dict[str, dict[str, str]] = {
    ".generator.pv_locked_out": {"no": "no"},
    ".generator.bypass": {"no": "no"},
    ".controls.sensor": {"meter": "at the meter", "device": "at the transfer device"},
    ".controls.leave_room": {"no": "none kept", "foresight": "as the day will be", "yesterday": "as yesterday was"},
    ".line": {"1": "line 1", "2": "line 2", "3": "line 3"},
    ".motor.phases": {"1": "one phase", "3": "three phases"},
}


UNMARKED = ("name", "calendar_year")  # what is never assumed


@dataclass(frozen=True)
class FieldInfo:
    """What is known of one field. `least`, `most` are in core units, None: no bound; `choices` are (value, words)."""

    path: str
    label: str
    kind: str | None
    optional: bool
    integer: bool
    least: float | None
    most: float | None
    choices: tuple[tuple[str, str], ...]


@lru_cache(maxsize=8192)
def pattern_of(path: str) -> str:
    """Return a path with its ids and numbers taken out: ``faces[north].tilt_deg`` → ``faces[].tilt_deg``."""
    return re.sub(r"\[[^\]]*\](?!\[)", "[]", re.sub(r"\[\d+\]$", "", path))


def label_of(path: str) -> str:
    """Return a field's label; the last part of the path where it has none."""
    pattern = pattern_of(path)
    return LABELS.get(pattern, pattern.rpartition(".")[2].replace("_", " "))


def describe(job: Job, path: str) -> FieldInfo:
    """Return what the models say of the field at a path of this job.

    Raises
    ------
    BadInput
        When there is no such field in this job.
    """
    here: Any = job
    annotation: Any = Job
    metadata: list[Any] = []
    for name, index in _steps(path):
        if isinstance(here, BaseModel):
            model = type(here).model_fields.get(name)
            if model is None:
                raise BadInput([Fault("", path, f"there is no field '{name}'", "name a field that is there")])
            annotation, metadata = model.annotation, list(model.metadata)
            here = getattr(here, name)
        if index is not None:
            here = _item(here, index, path)
            annotation, metadata = _inner(annotation), []
    return _read(path, annotation, metadata)


def _steps(path: str) -> list[tuple[str, str | None]]:
    out: list[tuple[str, str | None]] = []
    for part in re.split(r"\.(?![^\[]*\])", path):
        name, *indices = re.split(r"[\[\]]+", part.rstrip("]"))
        out.append((name, indices[0] if indices else None))
    return out


def _item(rows: Any, index: str, path: str) -> Any:
    for row in rows:
        if getattr(row, "id", None) == index:
            return row
    if index.isdigit() and int(index) < len(rows):
        return rows[int(index)]
    raise BadInput([Fault("", path, f"there is no '{index}'", "name an item that is there")])


def _inner(annotation: Any) -> Any:
    """Return what a tuple holds."""
    for part in (annotation, *get_args(annotation)):
        if get_origin(part) is Annotated:
            part = get_args(part)[0]
        if get_origin(part) is tuple:
            return get_args(part)[0]
    return annotation


def _read(path: str, annotation: Any, metadata: list[Any]) -> FieldInfo:
    optional = False
    kinds: list[Any] = list(metadata)
    base = annotation
    if get_origin(base) in (Union, types.UnionType):
        parts = [part for part in get_args(base) if part is not type(None)]
        optional = len(parts) < len(get_args(base))
        base = parts[0]
    while get_origin(base) is Annotated:
        kinds += base.__metadata__
        base = get_args(base)[0]
    if get_origin(base) is tuple:  # a row of twelve: its items say what they are
        return _read(path, get_args(base)[0], [])
    least = most = None
    kind = None
    for item in kinds:
        parts = item.metadata if isinstance(item, ModelField) else [item]
        for part in parts:
            kind = part.kind if isinstance(part, Quantity) else kind
            least = _bound(part, ("ge", "gt"), least)
            most = _bound(part, ("le", "lt"), most)
    words = CHOICES | next((more for end, more in CHOICES_AT.items() if path.endswith(end)), {})
    choices = tuple((str(c), words.get(str(c), str(c))) for c in get_args(base)) if get_origin(base) is Literal else ()
    return FieldInfo(
        path=path, label=label_of(path), kind=kind, optional=optional, integer=base is int, least=least, most=most, choices=choices
    )


def _bound(part: Any, names: tuple[str, str], found: float | None) -> float | None:
    for name in names:
        value = getattr(part, name, None)
        if isinstance(value, int | float):
            return float(value)
    return found


def all_fields(job: Job) -> tuple[str, ...]:
    """Return the path of every field of the job that has a label, in the document's order."""
    kept = _last_walk.get("fields")
    if kept is not None and kept[0] is job:
        return kept[1]
    out: list[str] = []

    def walk(here: Any, path: str) -> None:
        if isinstance(here, BaseModel):
            for name in type(here).model_fields:
                walk(getattr(here, name), f"{path}.{name}" if path else name)
        elif isinstance(here, tuple) and here and isinstance(here[0], BaseModel):
            for i, item in enumerate(here):
                walk(item, f"{path}[{getattr(item, 'id', i)}]")
        elif pattern_of(path) in LABELS:
            out.append(path)

    walk(job, "")
    _last_walk["fields"] = (job, tuple(out))
    return tuple(out)


_last_walk: dict[str, tuple[Job, tuple[str, ...]]] = {}  # the window asks several times for each state of a job
