"""Usual appliances with invented, generic figures to be typed over, and what households use by their number of people."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Literal

from calm_relay.calendar import MONTH_DAYS
from calm_relay.errors import BadInput, Fault
from calm_relay.job.house_models import Appliance, Motor
from calm_relay.load.sums import heat_pump_from_fuel

# kWh a day by people: 3, 4 and 5 of one temperate country (common practice); 1 and 2 ours.
HOUSEHOLDS: tuple[tuple[str, float], ...] = (
    ("one person", 9_000.0), ("two people", 14_500.0), ("three people", 18_700.0), ("four people", 21_400.0),
    ("five people or more", 25_000.0),
)  # fmt: skip
Coupling = Literal["ac", "dc"]
CAR_CHARGING_FRAC: dict[Coupling, float] = {"ac": 0.9, "dc": 0.94}  # into the car over drawn from the house; invented, generic
CAR_LEAST_W = 1380.0  # 6 A at 230 V, the least a car takes
COLDER_DRAWS_FRAC_PER_K = 0.025  # an air-source heat pump's loss of COP a kelvin colder; ours
MOST_BOILER_FRAC = 1.1  # condensing, against the lower heating value
HEATING_SHARE, COOLING_SHARE = 0.35, 0.20  # what winter heating or summer cooling adds at its height, of the plain day; ours


def household_days(day_wh: float, latitude_deg: float, *, heated: bool = False, cooled: bool = False) -> tuple[float, ...]:
    """Return the day's energy of each month: a plain day, with heating in winter and cooling in summer if asked for. [Wh]

    The year's mean stays the plain day's.
    """
    winter = 1.0 if latitude_deg >= 0 else 7.0
    cold = tuple(max(0.0, 1.0 - abs((m - winter + 6) % 12 - 6) / 3.0) for m in range(1, 13))
    hot = tuple(cold[(m + 6) % 12] for m in range(12))
    raw = [1.0 + heated * HEATING_SHARE * c + cooled * COOLING_SHARE * h for c, h in zip(cold, hot, strict=True)]
    mean = sum(raw) / 12.0
    return tuple(round(day_wh * r / mean, 0) for r in raw)


def year_total_wh(days_wh: Sequence[float]) -> float:
    """Return the energy of a year whose months have these days. [Wh]"""
    return sum(wh * days for wh, days in zip(days_wh, MONTH_DAYS, strict=True))


def scaled_to_year(days_wh: Sequence[float], total_wh: float) -> tuple[float, ...]:
    """Return the day's energy of each month, in the same shape over the year, so that the year holds a total. [Wh]"""
    now = year_total_wh(days_wh)
    return tuple(wh * total_wh / now for wh in days_wh) if now > 0 else (total_wh / sum(MONTH_DAYS),) * 12


def catalogue() -> tuple[Appliance, ...]:
    """Return usual appliances; every figure is invented and generic."""

    def load(key: str, name: str, watts: float, hours: float, start: float, end: float, **more: object) -> Appliance:
        data = {"id": key, "name": name, "running_w": watts, "run_h": hours, "window_start_h": start, "window_end_h": end, **more}
        return Appliance.model_validate(data)

    def motor(kind: Literal["compressor", "pump", "tool"], lra_a: float) -> dict[str, object]:
        return {"power_factor": 0.85, "motor": Motor(kind=kind, voltage_v=230.0, lra_a=lra_a)}

    return (
        load("fridge", "Fridge", 120, 8, 0, 24, cycles_per_day=24, power_factor=0.9, essential=True),
        load("freezer", "Freezer", 150, 9, 0, 24, cycles_per_day=24, power_factor=0.9, essential=True),
        load("lights", "Lights", 150, 5, 17, 23, essential=True),
        load("router", "Router and telephone", 15, 24, 0, 24, essential=True),
        load("television", "Television", 130, 4, 17, 23),
        load("computer", "Computer", 120, 6, 9, 22, power_factor=0.95),
        load("oven", "Oven", 2200, 0.8, 17, 20, share_of_days_frac=0.6, no_auto_return=True),
        load("hob", "Hob", 1800, 0.8, 17, 20, no_auto_return=True),
        load("kettle", "Kettle", 2200, 0.3, 6, 22, cycles_per_day=5),
        load("microwave", "Microwave oven", 1200, 0.3, 6, 22, cycles_per_day=3),
        load("dishwasher", "Dishwasher", 1100, 1.0, 18, 23, share_of_days_frac=0.7, sheddable=True),
        load("washer", "Washing machine", 900, 1.0, 8, 20, share_of_days_frac=0.5, sheddable=True),
        load("dryer", "Dryer", 2300, 1.0, 9, 21, share_of_days_frac=0.4, sheddable=True),
        load("water-heater", "Water heater", 2500, 2.5, 1, 6, sheddable=True, never_from_battery=True),
        load(
            "surplus-heater", "Water heater on surplus", 2500, 2.5, 1, 6, sheddable=True, never_from_battery=True,
            surplus="after_battery",
        ),
        load("heat-pump", "Heat pump, winter", 1500, 7, 5, 23, cycles_per_day=6, **motor("compressor", 40.0)),
        load("cooling", "Air conditioner, summer", 1300, 5, 13, 22, cycles_per_day=5, **motor("compressor", 38.0)),
        load("well-pump", "Well pump", 1100, 0.8, 6, 21, cycles_per_day=6, essential=True, **motor("pump", 33.0)),
        load("pool-pump", "Pool pump", 900, 5, 10, 16, sheddable=True, **motor("pump", 27.0)),
        load("car", "Car charger", 7000, 1.6, 22, 6, sheddable=True, never_from_battery=True),
        load(
            "table-saw", "Table saw", 1800, 0.4, 9, 17, days="weekdays", cycles_per_day=4, no_auto_return=True,
            **motor("tool", 45.0),
        ),
        load("medical", "Breathing aid", 60, 8, 22, 6, essential=True),
    )  # fmt: skip


def _above_zero(what: str, values: dict[str, float]) -> None:
    """Raise BadInput with one fault per figure that is no number above zero."""
    wrong = [name for name, value in values.items() if not (math.isfinite(value) and value > 0)]
    if wrong:
        raise BadInput([Fault(what, name, f"{values[name]:g} is no figure above zero", "a figure above zero") for name in wrong])


def car_appliance(
    day_wh: float, charger_w: float, start_h: float, end_h: float, *, coupling: Coupling = "ac", on_surplus: bool = False
) -> Appliance:
    """Return a car charger that brings some energy into the car each day inside a window; a house battery never feeds it.

    Parameters
    ----------
    day_wh : float
        Energy into the car's battery on a day. [Wh]
    charger_w : float
        Power drawn from the house while it charges. [W]
    start_h, end_h : float
        The window by the clock. [h]
    coupling : {"ac", "dc"}
        ``ac``: by the car's own charger; ``dc``: by a DC charger on the wall, which loses less. Both draw from the AC bus.
    on_surplus : bool
        Whether PV surplus comes first, after the house battery, from 6 A upwards while the car is there by day.

    Raises
    ------
    BadInput
        When a figure is not above zero, or the window is too short for it.
    """
    _above_zero("car", {"energy a day": day_wh, "power": charger_w})
    wrong = [(name, hour) for name, hour in (("start", start_h), ("end", end_h)) if not 0.0 <= hour <= 24.0]
    if wrong:
        raise BadInput([Fault("car", name, f"{hour:g} is no hour of the day", "0:00 to 24:00") for name, hour in wrong])
    drawn_wh = day_wh / CAR_CHARGING_FRAC[coupling]
    run_h, window_h = drawn_wh / charger_w, (end_h - start_h) % 24.0 or 24.0
    if run_h > window_h:
        problem = f"{drawn_wh / 1000:.4g} kWh at {charger_w / 1000:g} kW take {run_h:.1f} h, the window has {window_h:g} h"
        raise BadInput([Fault("car", "window", problem, f"at least {drawn_wh / window_h / 1000:.2f} kW, or a longer window")])
    return Appliance(
        id="car", name="Car charger" if coupling == "ac" else "Car, DC charger", running_w=charger_w, run_h=run_h,
        window_start_h=start_h, window_end_h=end_h, never_from_battery=True,
        surplus="after_battery" if on_surplus else "no", surplus_least_w=min(CAR_LEAST_W, charger_w) if on_surplus else 0.0,
    )  # fmt: skip


def car_arithmetic(day_wh: float, charger_w: float, coupling: Coupling) -> str:
    """Return how a car's hours come about, as one line."""
    frac = CAR_CHARGING_FRAC[coupling]
    drawn = day_wh / frac
    line = f"{day_wh / 1000:g} kWh into the car / {frac:g} = {drawn / 1000:.4g} kWh from the house"
    return f"{line}; {drawn / 1000:.4g} kWh / {charger_w / 1000:g} kW = {drawn / charger_w:.2f} h a day"


def heat_pump_appliance(
    fuel_wh: float, boiler_frac: float, cop: float, running_w: float, months: tuple[int, ...] = ()
) -> Appliance:
    """Return a heat pump in place of a boiler: the electricity of a year's fuel, shared by the days' heating degree-days.

    The seasonal COP holds for the year as a whole; a colder day draws more for the same heat. Its start is soft (driven by an
    inverter of its own), its power factor 0.95; both invented and generic.

    Parameters
    ----------
    fuel_wh : float
        Fuel of a year. [Wh]
    boiler_frac, cop : float
        What the boiler made of it, and the seasonal coefficient of performance.
    running_w : float
        Electric power while it runs. [W]
    months : tuple of int
        Months of heating, 1 to 12; empty: whenever it is cold.

    Raises
    ------
    BadInput
        When a figure is not above zero, or it would have to run for more than 24 hours a day.
    """
    _above_zero("heat pump", {"fuel": fuel_wh, "boiler": boiler_frac, "COP": cop, "power": running_w})
    if boiler_frac > MOST_BOILER_FRAC:
        problem = f"{boiler_frac:g} is more than a boiler makes of its fuel"
        raise BadInput([Fault("heat pump", "boiler", problem, f"a fraction up to {MOST_BOILER_FRAC:g}, by its label")])
    energy_wh = heat_pump_from_fuel(fuel_wh, boiler_frac, cop).value
    days = sum(MONTH_DAYS[m - 1] for m in months or range(1, 13))
    run_h = energy_wh / days / running_w
    if run_h > 24.0:
        problem = f"at {running_w / 1000:g} kW it would run {run_h:.1f} h on each of {days} days"
        raise BadInput(
            [Fault("heat pump", "power", problem, f"at least {energy_wh / days / 24000:.2f} kW, or more months of heating")]
        )
    return Appliance(
        id="heat-pump", name="Heat pump", running_w=running_w, run_h=run_h, months=months, cycles_per_day=12, power_factor=0.95,
        sheddable=True, follows="heating_degrees", colder_draws_frac_per_k=COLDER_DRAWS_FRAC_PER_K,
    )  # fmt: skip


def seasonal_months(kind: str, latitude_deg: float) -> tuple[int, ...]:
    """Return the months of heating (``winter``) or cooling (``summer``) by hemisphere."""
    cold, hot = (11, 12, 1, 2, 3), (6, 7, 8)
    if latitude_deg < 0:
        cold, hot = (5, 6, 7, 8, 9), (12, 1, 2)
    return cold if kind == "winter" else hot
