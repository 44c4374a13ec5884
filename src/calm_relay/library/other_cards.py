"""Cards of what stands between: transfer devices, chargers, generators, meters."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from calm_relay.library.base import AreaMm2, BoxCard, FrequencyHz, Protocol, Seconds, SupplyKind, Tracker
from calm_relay.units import ApparentVa, CurrentA, Fraction, PowerW, Quantity, VoltageV


class TransferCard(BoxCard):
    """A transfer device or gateway between the backup side and the grid side."""

    kind: Literal["transfer"] = "transfer"
    pass_through_a: CurrentA | None = None
    supplies: tuple[SupplyKind, ...] = Field(default=(), description="supplies it is made for; empty: not said")
    switch_s: Seconds | None = None
    bonds_neutral: bool | None = Field(default=None, description="makes the neutral bond of the island; None: not known")
    generator_input: bool = False
    lug_min_mm2: AreaMm2 | None = None
    lug_max_mm2: AreaMm2 | None = None


class ChargeControllerCard(BoxCard):
    """A charge controller: strings to a low-voltage bank, no AC."""

    kind: Literal["charge_controller"] = "charge_controller"
    dc_voltage_max_v: VoltageV
    trackers: tuple[Tracker, ...] = Field(min_length=1, max_length=8)
    charge_max_a: CurrentA
    battery_voltage_min_v: VoltageV
    battery_voltage_max_v: VoltageV
    peak_efficiency_frac: Fraction | None = None
    night_w: PowerW | None = None
    protocols: tuple[Protocol, ...] = ()
    battery_lug_min_mm2: AreaMm2 | None = None
    battery_lug_max_mm2: AreaMm2 | None = None

    @property
    def charge_max_w(self) -> float:
        """What it gives at the top of its battery window. [W]"""
        return self.charge_max_a * self.battery_voltage_max_v


class TimerChargerCard(BoxCard):
    """A charger on a time switch: fixed power by the clock, whatever the sun does."""

    kind: Literal["timer_charger"] = "timer_charger"
    ac_in_max_w: PowerW
    charge_max_a: CurrentA
    battery_voltage_min_v: VoltageV
    battery_voltage_max_v: VoltageV
    peak_efficiency_frac: Fraction | None = None
    power_factor_frac: Fraction | None = None
    supplies: tuple[SupplyKind, ...] = ()
    night_w: PowerW | None = None


class GeneratorCard(BoxCard):
    """A generator set."""

    kind: Literal["generator"] = "generator"
    rated_va: ApparentVa
    peak_va: ApparentVa | None = None
    power_factor_frac: Fraction = 0.8
    supplies: tuple[SupplyKind, ...] = ()
    fuel: Literal["petrol", "diesel", "gas"] = "petrol"
    fuel_full_l_per_h: Annotated[float, Quantity("litres_per_h"), Field(gt=0, le=100)] | None = None
    fuel_half_l_per_h: Annotated[float, Quantity("litres_per_h"), Field(gt=0, le=100)] | None = None
    tank_l: Annotated[float, Quantity("litres"), Field(gt=0, le=5000)] | None = None
    least_load_frac: Fraction | None = None
    frequency_min_hz: FrequencyHz | None = None
    frequency_max_hz: FrequencyHz | None = None
    auto_start: bool = False


class MeterCard(BoxCard):
    """A meter with its current transformers: what the controller sees."""

    kind: Literal["meter"] = "meter"
    supplies: tuple[SupplyKind, ...] = ()
    current_max_a: CurrentA
    accuracy_frac: Annotated[float, Quantity("fraction"), Field(gt=0, le=0.2)] | None = None
    response_s: Seconds | None = None
    clamps: Annotated[int, Quantity("count"), Field(ge=1, le=12)] | None = None
    clamp_opening_m: Annotated[float, Quantity("length_m"), Field(gt=0, le=0.2)] | None = None
    protocols: tuple[Protocol, ...] = ()
