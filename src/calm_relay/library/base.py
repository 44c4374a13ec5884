"""What every card has, and what several kinds share. A figure the data sheet lacks is None, and what rests on it is 'not known'."""

from __future__ import annotations

from typing import Annotated, Literal, TypeVar

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from calm_relay.units import CurrentA, LengthM, PowerW, Quantity, TemperatureC, VoltageV

Watts = TypeVar("Watts", float, NDArray[np.float64])


class Record(BaseModel):
    """Base of everything stored in a job: frozen, no unknown fields, no infinities or NaN."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False, ser_json_inf_nan="constants")


Id = Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9_-]{0,39}$")]
NAME_CHARS = 60
Name = Annotated[str, Field(min_length=1, max_length=NAME_CHARS)]
Ratio = Annotated[float, Quantity("ratio"), Field(gt=0, le=10)]
Count = Annotated[int, Quantity("count"), Field(ge=1)]
AreaMm2 = Annotated[float, Quantity("area_mm2"), Field(gt=0, le=1000)]
FrequencyHz = Annotated[float, Quantity("frequency_hz"), Field(ge=40, le=75)]
Seconds = Annotated[float, Quantity("seconds_s"), Field(ge=0, le=3600)]
SupplyKind = Literal["single_phase", "split_phase", "three_phase"]
MountingPlace = Literal["indoors", "garage", "outdoors_sheltered", "outdoors"]
Protocol = Literal["can", "rs485", "modbus_tcp", "dry_contact", "volts_only"]


class CardBase(Record):
    """What every card has."""

    id: Id
    name: Name
    source: str = "invented, generic"
    warranty_years: Annotated[float, Quantity("years"), Field(ge=0, le=50)] | None = None
    no_longer_made: bool = Field(default=False, description="may stand in a house, is not proposed")


class BoxCard(CardBase):
    """What every box on a wall has: firmware, size, weight, and where it may hang."""

    firmware_note: Annotated[str, Field(max_length=400)] = ""
    height_m: LengthM | None = None
    width_m: LengthM | None = None
    depth_m: LengthM | None = None
    weight_kg: Annotated[float, Quantity("mass_kg"), Field(gt=0, le=5000)] | None = None
    places: tuple[MountingPlace, ...] = Field(default=(), description="where it may hang; empty: the sheet does not say")
    temperature_min_c: TemperatureC | None = None
    temperature_max_c: TemperatureC | None = None


class Tracker(Record):
    """One maximum-power-point tracker input."""

    mppt_min_v: VoltageV
    mppt_max_v: VoltageV
    start_v: VoltageV | None = None
    working_current_a: CurrentA
    short_circuit_current_a: CurrentA | None = None
    power_max_w: PowerW | None = None


class LossTerms(Record):
    """Three-term inverter loss (Schmidt and Sauer, 1996): P_dc = P_ac + p_self + a·P_ac + b·P_ac²/P_rated."""

    p_self_w: PowerW
    a: Annotated[float, Field(ge=0, le=1)]
    b: Annotated[float, Field(ge=0, le=1)]

    def in_w(self, out_w: float, rated_w: float) -> float:
        """Return watts in for watts out (definitions D4); 0 for nothing out. [W]"""
        return out_w + self.p_self_w + self.a * out_w + self.b * out_w * out_w / rated_w if out_w > 0 else 0.0

    def out_w(self, in_w: Watts, rated_w: float) -> Watts:
        """Return watts out for watts in, a number or an array: the inverse of :meth:`in_w`, no upper limit. [W]"""
        over = np.maximum(0.0, in_w - self.p_self_w)
        slope = 1.0 + self.a
        made: Watts = 2.0 * over / (slope + np.sqrt(slope * slope + 4.0 * self.b * over / rated_w))
        return made


class EfficiencyPoint(Record):
    """Efficiency at a share of the AC rating."""

    load_frac: Annotated[float, Quantity("fraction"), Field(gt=0, le=1.2)]
    efficiency_frac: Annotated[float, Quantity("fraction"), Field(gt=0.3, lt=1)]


class FrequencyTrip(Record):
    """A trip of the frequency curve: passed for so long, the unit drops out."""

    frequency_hz: FrequencyHz
    after_s: Seconds


class FrequencyRecord(Record):
    """What a unit does when the frequency rises (definitions D17). `droop_frac` None: it only trips."""

    start_hz: FrequencyHz | None = None
    droop_frac: Annotated[float, Quantity("fraction"), Field(gt=0, le=0.2)] | None = Field(
        default=None, description="share of the nominal frequency over which the base power goes to zero; None: it only trips"
    )
    base: Literal["rated_power", "power_at_start"] = "rated_power"
    delay_s: Seconds = 0.0
    response_s: Seconds | None = None
    trips: tuple[FrequencyTrip, ...] = Field(min_length=1, max_length=4)
    return_low_hz: FrequencyHz | None = None
    return_high_hz: FrequencyHz | None = None
    return_delay_s: Seconds | None = None
    return_ramp_frac_per_min: Annotated[float, Quantity("fraction"), Field(gt=0, le=10)] | None = None
