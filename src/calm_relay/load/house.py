"""The house's year: a background (profile or metered series) and each appliance, in W per step."""

from __future__ import annotations

import functools
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import DAYS, YearCalendar
from calm_relay.errors import BadInput, Fault
from calm_relay.job.house_models import Appliance, House, ProfileLoad
from calm_relay.job.series import Series
from calm_relay.load.appliance_year import appliance_w
from calm_relay.load.profile import profile_w

Array = NDArray[np.float64]
MakeAppliance = Callable[[Appliance, YearCalendar, int, Array | None], Array]


@dataclass(frozen=True, eq=False)
class HouseYear:
    """Power per step of the background and of each appliance (in the job's order). [W]"""

    background_w: Array
    appliance_w: dict[str, Array]

    @functools.cached_property
    def _total_w(self) -> Array:
        total = self.background_w.copy()
        for series in self.appliance_w.values():
            total += series
        total.setflags(write=False)
        return total

    def total_w(self) -> Array:
        """Return the whole house, worked out once: it cannot be changed. (steps,) [W]"""
        return self._total_w

    def mean_day_wh(self) -> float:
        """Return what the house draws on a mean day. [Wh]"""
        return float(self.total_w().mean()) * 24.0

    def with_loads(self, changed: Mapping[str, Array]) -> HouseYear:
        """Return the year with some appliances drawing otherwise; itself where none does."""
        return self if not changed else replace(self, appliance_w={**self.appliance_w, **changed})

    def times(self, factor: float) -> HouseYear:
        """Return a house that draws so many times as much in every step."""
        return HouseYear(self.background_w * factor, {name: series * factor for name, series in self.appliance_w.items()})

    def split_w(self, listed: frozenset[str] | None) -> tuple[Array, Array]:
        """Return (backup side, grid side); `listed` None means the whole house stands on the backup side. (steps,) each [W]"""
        total = self.total_w()
        if listed is None:
            return total, np.zeros_like(total)
        backup = self.background_w.copy() if "background" in listed else np.zeros_like(total)
        for name, series in self.appliance_w.items():
            if name in listed:
                backup += series
        return backup, np.maximum(0.0, total - backup)

    def backup_va(self, listed: frozenset[str] | None, power_factor: dict[str, float]) -> Array:
        """Return apparent power behind the transfer device: watts over each load's power factor, summed. [VA]"""
        total = self.split_w(listed)[0].copy()
        for name, series in self.appliance_w.items():
            factor = power_factor.get(name, 1.0)
            if factor != 1.0 and (listed is None or name in listed):
                total += series * (1.0 / factor - 1.0)
        return total

    @functools.cached_property
    def _peaks_va(self) -> dict[tuple[object, ...], float]:
        return {}

    def peak_va(self, listed: frozenset[str] | None, power_factor: dict[str, float]) -> float:
        """Return the highest apparent power behind the transfer device, worked out once for each question. [VA]"""
        asked = listed, *power_factor.items()
        if asked not in self._peaks_va:
            self._peaks_va[asked] = float(self.backup_va(listed, power_factor).max())
        return self._peaks_va[asked]


# What the year of a load does not read: words, marks, the line it lies on, how it starts, what becomes of it in an outage.
_AS_DRAWN: dict[str, object] = {
    "name": "-", "essential": False, "never_from_battery": False, "motor": None, "power_factor": 1.0, "sheddable": False,
    "shed_order": 0, "off_below_soc_frac": None, "on_above_soc_frac": None, "least_off_s": 0.0, "no_auto_return": False,
    "life_support": False, "line": "all", "surplus": "no", "surplus_least_w": 0.0, "surplus_start_h": 0.0, "surplus_end_h": 0.0,
}  # fmt: skip


def as_drawn(house: House) -> House:
    """Return a house as its year reads it: what a year does not depend on is taken out, so that it cannot be read."""
    background = house.background
    if not isinstance(background, ProfileLoad):
        background = background.model_copy(update={"source": "", "low": None, "high": None})
    loads = tuple(load.model_copy(update=_AS_DRAWN) for load in house.appliances)
    return house.model_copy(update={"background": background, "appliances": loads, "background_lines_frac": None})


@dataclass(frozen=True, eq=False)
class Outside:
    """What the house reads of its place: the hemisphere, and the days' mean air (365,) [°C] where a load follows it."""

    day_air_c: Array | None = None
    south: bool = False


def follows_weather(house: House) -> bool:
    """Return whether any load there follows the air's temperature."""
    return any(a.follows != "clock" for a in house.counted)


def house_year(
    house: House,
    calendar: YearCalendar,
    series: Series | None,
    outside: Outside | None = None,
    appliance: MakeAppliance = appliance_w,
) -> HouseYear:
    """Return the year of a house; `series` holds the metered values where the job names some. Same seed, same year.

    Loads that come later than the year shown are there as zeros. `appliance` makes the year of one load.

    Raises
    ------
    BadInput
        When a metered series does not fill exactly one year of 365 days, or its step does not fit.
    """
    background, outside = house.background, outside or Outside()
    if isinstance(background, ProfileLoad):
        base = profile_w(background, calendar, south=outside.south)
    else:
        base = _metered_w(series if series is not None else np.empty(0), background.series.step_s, calendar)
    seed = background.seed if isinstance(background, ProfileLoad) else 1
    appliances = {a.id: np.zeros(calendar.steps) for a in house.appliances}
    appliances |= {a.id: appliance(a, calendar, seed, outside.day_air_c) for a in house.counted}
    listed = [a.id for a in house.counted if a.in_metered and a.from_year is None]
    if not isinstance(background, ProfileLoad):
        return _within_metered(base, appliances, listed)
    if background.holds_listed:
        return _within_bill(base, appliances, listed, calendar)
    return HouseYear(base, appliances)


def _within_bill(base: Array, appliances: dict[str, Array], listed: list[str], calendar: YearCalendar) -> HouseYear:
    """Return the house whose months hold the typed totals: the background gives way to what is listed.

    Where the list alone draws more than a month's total, the list is scaled down to it and nothing else is left.
    """
    months = np.array(calendar.by_month_wh(base))
    drawn = np.array(calendar.by_month_wh(sum((appliances[name] for name in listed), np.zeros_like(base))))
    keep = np.minimum(1.0, np.divide(months, drawn, out=np.ones(12), where=drawn > 0))
    left = np.divide(np.maximum(0.0, months - drawn * keep), months, out=np.zeros(12), where=months > 0)
    step_keep, step_left = keep[calendar.month - 1], left[calendar.month - 1]
    less = listed if keep.min() < 1.0 else []  # where nothing is taken away they stay what they are, not copies
    scaled = {name: watts * step_keep if name in less else watts for name, watts in appliances.items()}
    return HouseYear(base * step_left, scaled)


def _within_metered(total: Array, appliances: dict[str, Array], metered: list[str]) -> HouseYear:
    """Return the house with listed appliances taken out of the metered total, which stays as it is in every step.

    Where they would draw more than was metered they are scaled down together.
    """
    listed = sum((appliances[name] for name in metered), np.zeros_like(total))
    share = np.minimum(1.0, np.divide(total, listed, out=np.ones_like(total), where=listed > 0))
    scaled = {name: watts * share if name in metered else watts for name, watts in appliances.items()}
    return HouseYear(np.maximum(0.0, total - listed * share), scaled)


def _metered_w(values: Series, step_s: int, calendar: YearCalendar) -> Array:
    rows = DAYS * 86_400 // step_s if 86_400 % step_s == 0 else -1
    if len(values) != rows:
        problem = f"{len(values)} rows of {step_s} s are not a year of 365 days"
        raise BadInput([Fault("", "house.background.series", problem, "give one whole year, 29 February dropped")])
    if step_s % calendar.step_s == 0:
        return np.repeat(values, step_s // calendar.step_s)
    if calendar.step_s % step_s == 0:
        mean: Array = values.reshape(-1, calendar.step_s // step_s).mean(axis=1)
        return mean
    problem = f"a step of {step_s} s does not fit the simulation's {calendar.step_s} s"
    raise BadInput([Fault("", "house.background.series.step_s", problem, "use 60, 300, 900, 1800 or 3600 s")])
