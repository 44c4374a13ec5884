"""The house in the job document: background, appliances, motors. Nothing here computes."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from calm_relay.job.common_models import HourOfDay, Months, Note, SeriesRef
from calm_relay.library.cards import Id, Name, Record
from calm_relay.units import CurrentA, EnergyWh, Fraction, PowerW, Quantity, TemperatureC, VoltageV

Line = Literal["all", "1", "2", "3"]
SURPLUS_OFF_FRAC, SURPLUS_ON_FRAC = 0.9, 0.98  # charge at which a load on surplus is off, and on, in an outage; common practice
GAP_FRAC = 0.1  # from off to on, where only the lower is typed
Year = Annotated[int, Quantity("year"), Field(ge=1970, le=2100)]


class Motor(Record):
    """What is known of a motor's start; the nameplate's locked-rotor amps beat the code letter."""

    kind: Literal["compressor", "pump", "tool"]
    voltage_v: VoltageV
    phases: Literal[1, 3] = 1
    lra_a: CurrentA | None = None
    code_letter: Annotated[str, Field(pattern=r"^[A-HJ-NPR-V]$")] | None = None
    horsepower: Annotated[float, Quantity("ratio"), Field(gt=0, le=200)] | None = None
    soft_starter: bool = False
    soft_starter_listed: bool = False
    soft_start_frac: Annotated[float, Quantity("fraction"), Field(gt=0, le=1)] | None = Field(
        default=None, description="what its soft starter leaves of the start; None: the pack's usual share"
    )


class Appliance(Record):
    """A load that runs for `run_h` hours at `running_w` inside a window of clock hours, on the days and months given.

    The run is cut into `cycles_per_day` equal parts spread over the window; the start within each part is seeded.
    """

    id: Id
    name: Name
    running_w: Annotated[float, Quantity("power_w"), Field(gt=0)]
    power_factor: Annotated[float, Quantity("ratio"), Field(gt=0, le=1)] = 1.0
    window_start_h: HourOfDay = 0.0
    window_end_h: HourOfDay = 24.0
    run_h: Annotated[float, Quantity("hours_h"), Field(gt=0, le=24)]
    days: Literal["every", "weekdays", "weekends"] = "every"
    months: Months = ()
    share_of_days_frac: Annotated[float, Quantity("fraction"), Field(gt=0, le=1)] = 1.0
    cycles_per_day: Annotated[int, Quantity("count"), Field(ge=1, le=96)] = 1
    essential: bool = False
    never_from_battery: bool = False
    sheddable: bool = Field(default=False, description="may be switched off by itself when power is short")
    shed_order: Annotated[int, Quantity("count"), Field(ge=0, le=60)] = Field(
        default=0, description="place in the order of shedding, 1 first; 0: after those that have a place, the largest first"
    )
    off_below_soc_frac: Fraction | None = Field(
        default=None, description="charge between the battery's limits below which it is switched off in an outage; None: never"
    )
    on_above_soc_frac: Fraction | None = Field(default=None, description="charge above which it is on again; None: 10 points more")
    least_off_s: Annotated[float, Quantity("seconds_s"), Field(ge=0, le=43_200)] = Field(
        default=600.0, description="once switched off for want of power or charge it stays off so long"
    )
    no_auto_return: bool = Field(default=False, description="stays off after an interruption until someone switches it on")
    life_support: bool = Field(default=False, description="someone's life hangs on it")
    in_metered: bool = Field(default=True, description="part of the metered series, where there is one; False: comes on top")
    motor: Motor | None = None
    line: Line = Field(default="all", description="phase, or leg of a split-phase supply; all: alike on each")
    from_year: Year | None = Field(default=None, description="the calendar year it comes in; None: it is there today")
    follows: Literal["clock", "heating_degrees", "cooling_degrees"] = Field(
        default="clock", description="how the days share its energy: alike, or by degree-days under or over `balance_c`"
    )
    balance_c: TemperatureC | None = Field(default=None, description="base of the degree-days; None: common practice")
    colder_draws_frac_per_k: Annotated[float, Quantity("fraction"), Field(ge=0, le=0.1)] = Field(
        default=0.0, description="how much more it draws for the same heat, a kelvin colder outside"
    )
    surplus: Literal["no", "before_battery", "after_battery"] = Field(
        default="no", description="takes PV surplus at this rank first; what is still lacking it draws in its window"
    )
    surplus_least_w: PowerW = Field(default=0.0, description="surplus below this is not taken (a car: 6 A)")
    surplus_start_h: HourOfDay = 0.0
    surplus_end_h: HourOfDay = 24.0

    @property
    def outage_charge_frac(self) -> tuple[float, float] | None:
        """Charge below which it is off in an outage, and above which it is on again; None: charge has no part. [0 to 1]

        A load on surplus takes it near full, common practice.
        """
        off = self.off_below_soc_frac
        if off is None:
            return None if self.surplus == "no" else (SURPLUS_OFF_FRAC, SURPLUS_ON_FRAC)
        return off, min(1.0, off + GAP_FRAC) if self.on_above_soc_frac is None else self.on_above_soc_frac

    @property
    def fed_by_batteries(self) -> bool:
        """Whether batteries may feed it: neither kept from them nor on surplus."""
        return not self.never_from_battery and self.surplus == "no"

    @property
    def window_h(self) -> float:
        """The length of its window; equal ends mean the whole day. [h]"""
        return (self.window_end_h - self.window_start_h) % 24.0 or 24.0

    @property
    def day_run_h(self) -> float:
        """How long it runs on a day it is used: what its window holds of `run_h`. [h]"""
        return min(self.run_h, self.window_h)

    @property
    def mean_day_wh(self) -> float:
        """What it draws on a mean day of its months. [Wh]"""
        return self.running_w * self.day_run_h * self.share_of_days_frac


class ProfileLoad(Record):
    """Background use from a clock profile, scaled to a daily energy by month.

    `holds_listed`: the energies are the whole bill, listed appliances included, and the background is what they leave.
    """

    kind: Literal["profile"] = "profile"
    shape: Literal["household_evening", "household_daytime", "published_household", "flat"] = "household_evening"
    energy_wh_per_day: Annotated[tuple[EnergyWh, ...], Field(min_length=12, max_length=12)]
    seed: Annotated[int, Quantity("count"), Field(ge=0, le=2**31)] = 1
    holds_listed: bool = False


class SeriesLoad(Record):
    """A metered year of gross load; its energy per interval is kept exactly.

    Listed appliances are part of it unless they are marked as not metered; `low` and `high` are the band netting leaves open.
    """

    kind: Literal["series"] = "series"
    series: SeriesRef
    low: SeriesRef | None = None
    high: SeriesRef | None = None
    source: Note = ""


FINE_STEP_S = 300  # the simulation's own step


class House(Record):
    """What the house draws. The background can be named in a backup list by the id ``background``.

    Loads that come later are counted from `shown_year` on; None shows the house of today.
    """

    background: Annotated[ProfileLoad | SeriesLoad, Field(discriminator="kind")]
    appliances: Annotated[tuple[Appliance, ...], Field(max_length=60)] = ()
    shown_year: Year | None = None
    background_lines_frac: Annotated[tuple[Fraction, ...], Field(min_length=3, max_length=3)] | None = Field(
        default=None, description="how the background lies on phases 1, 2, 3 (legs: 1, 2); None: alike"
    )

    @property
    def coarse_step_s(self) -> int | None:
        """Return the interval of a metered background that hides short peaks; None for a profile, or one of 5 min or less. [s]"""
        step = self.background.series.step_s if isinstance(self.background, SeriesLoad) else 0
        return step if step > FINE_STEP_S else None

    @property
    def counted(self) -> tuple[Appliance, ...]:
        """Return the appliances that are there in the year shown."""
        until = self.shown_year
        return tuple(a for a in self.appliances if a.from_year is None or (until is not None and a.from_year <= until))

    @property
    def later(self) -> tuple[Appliance, ...]:
        """Return the appliances still to come, the earliest first."""
        return tuple(sorted((a for a in self.appliances if a.from_year is not None), key=lambda a: a.from_year or 0))
