"""Cards of battery modules: cells, windows, currents over temperature, life."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from calm_relay.library.base import AreaMm2, BoxCard, Id, LossTerms, Protocol, Record
from calm_relay.units import CurrentA, Fraction, PowerW, Quantity, TemperatureC, VoltageV

Chemistry = Literal["LFP", "NMC", "lead-acid", "lead-gel", "lead-flooded"]
# Empty, nominal and full volts of a cell, common practice.
CELL_VOLTS = {
    "LFP": (2.8, 3.2, 3.6), "NMC": (3.0, 3.65, 4.2), "lead-acid": (1.75, 2.0, 2.4), "lead-gel": (1.75, 2.0, 2.35),
    "lead-flooded": (1.75, 2.0, 2.45),
}  # fmt: skip
# Share of the charge current allowed at a temperature, straight lines between: LFP common practice.
LFP_CHARGE_BY_C = ((0.0, 0.0), (10.0, 1.0), (45.0, 1.0), (55.0, 0.5))


class CurrentAtTemperature(Record):
    """Share of the largest current allowed at a cell temperature; straight lines between the rows."""

    temperature_c: TemperatureC
    share_frac: Fraction


class LifeAtDepth(Record):
    """Cycles to the end of life when cycled so deep each time."""

    depth_frac: Annotated[float, Quantity("fraction"), Field(gt=0, le=1)]
    cycles: Annotated[float, Quantity("count"), Field(gt=0)]


class BatteryCard(BoxCard):
    """One battery module. Stacked in series its volts add; in parallel its amps do. Current does not multiply in series."""

    kind: Literal["battery"] = "battery"
    chemistry: Chemistry = "LFP"
    capacity_wh: Annotated[float, Quantity("energy_wh"), Field(gt=0)]
    soc_min_frac: Fraction = 0.0
    soc_max_frac: Fraction = 1.0
    voltage_nominal_v: VoltageV
    cells_in_series: Annotated[int, Quantity("count"), Field(ge=1, le=400)] | None = None
    voltage_full_v: VoltageV | None = Field(
        default=None, description="of one module, charged full; None: by cells and chemistry, assumed"
    )
    voltage_empty_v: VoltageV | None = Field(default=None, description="of one module, at the end of discharge; None: likewise")
    stacking: Literal["series", "parallel"] = "series"
    modules_min: Annotated[int, Field(ge=1)] = 1
    modules_max: Annotated[int, Field(ge=1, le=64)] = 8
    charge_max_a: CurrentA | None = None
    discharge_max_a: CurrentA | None = None
    charge_over_temperature: tuple[CurrentAtTemperature, ...] = Field(default=(), max_length=12)
    discharge_over_temperature: tuple[CurrentAtTemperature, ...] = Field(default=(), max_length=12)
    internal_resistance_ohm: Annotated[float, Quantity("resistance_ohm"), Field(gt=0, le=10)] | None = Field(
        default=None, description="of one module, its fuse and terminals included"
    )
    bank_charge_max_w: PowerW | None = None
    bank_discharge_max_w: PowerW | None = None
    dc_round_trip_frac: Annotated[float, Quantity("fraction"), Field(gt=0, le=1)] = Field(
        description="terminals to terminals, any DC stage of the battery included, at the card's rate"
    )
    round_trip_at_a: CurrentA | None = Field(
        default=None, description="of one module, at which the round trip was measured; None: it holds at every current"
    )
    dc_stage_loss: LossTerms | None = Field(default=None, description="of the bank's own DC stage, already in the round trip")
    dc_stage_rated_w: Annotated[float, Quantity("power_w"), Field(gt=0)] | None = None
    peukert_exponent: Annotated[float, Quantity("ratio"), Field(ge=1, le=1.6)] | None = Field(
        default=None, description="of lead-acid; None: the capacity holds at every current"
    )
    capacity_hours_h: Annotated[float, Quantity("hours_h"), Field(ge=1, le=120)] = Field(
        default=20.0, description="discharge that the capacity is given for"
    )
    absorption_h: Annotated[float, Quantity("hours_h"), Field(ge=0, le=24)] | None = Field(
        default=None, description="from where charging slows to full, at falling current; None: by the part it slows down to"
    )
    taper_soc_frac: Fraction = 1.0
    taper_end_frac: Fraction = 0.05
    auxiliary_w: Annotated[
        float, Quantity("power_w"), Field(ge=0, description="drawn all the time by each bank, not by each module")
    ] = 0.0

    heating_w: PowerW = Field(default=0.0, description="drawn at the terminals by each bank's heater while it is on; 0: no heater")
    heating_below_c: TemperatureC | None = Field(
        default=None, description="cells colder than this start the heater, which holds it"
    )
    depth_life: tuple[LifeAtDepth, ...] = Field(default=(), max_length=12)
    warranty_throughput_wh: Annotated[float, Quantity("energy_wh"), Field(gt=0)] | None = Field(
        default=None, description="energy delivered by one module until the warranty ends"
    )
    warranty_end_frac: Annotated[float, Quantity("fraction"), Field(gt=0, le=1)] | None = Field(
        default=None, description="share of the capacity warranted at its end"
    )
    pairs_with: tuple[Id, ...] = Field(default=(), max_length=40, description="ids of inverters its maker lists; empty: no list")
    protocols: tuple[Protocol, ...] = Field(default=(), description="how it talks to an inverter; empty: not said")
    lug_min_mm2: AreaMm2 | None = None
    lug_max_mm2: AreaMm2 | None = None

    @property
    def is_lead(self) -> bool:
        """Whether it is lead-acid of any kind."""
        return self.chemistry.startswith("lead")
