"""Usual appliances with invented, generic figures to be typed over, and what households use by their number of people."""

from __future__ import annotations

from typing import Literal

from calm_relay.job.models import Appliance, Motor

# kWh a day by people: 3, 4 and 5 of one temperate country (common practice); 1 and 2 ours.
HOUSEHOLDS: tuple[tuple[str, float], ...] = (
    ("one person", 9_000.0), ("two people", 14_500.0), ("three people", 18_700.0), ("four people", 21_400.0),
    ("five people or more", 25_000.0),
)  # fmt: skip
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


def car_appliance(day_wh: float, charger_w: float, start_h: float, end_h: float) -> Appliance:
    """Return a car charger that brings some energy each day inside a window; a house battery never feeds it."""
    return Appliance(
        id="car", name="Car charger", running_w=charger_w, run_h=min(24.0, day_wh / charger_w), window_start_h=start_h,
        window_end_h=end_h, never_from_battery=True,
    )  # fmt: skip


def seasonal_months(kind: str, latitude_deg: float) -> tuple[int, ...]:
    """Return the months of heating (``winter``) or cooling (``summer``) by hemisphere."""
    cold, hot = (11, 12, 1, 2, 3), (6, 7, 8)
    if latitude_deg < 0:
        cold, hot = (5, 6, 7, 8, 9), (12, 1, 2)
    return cold if kind == "winter" else hot
