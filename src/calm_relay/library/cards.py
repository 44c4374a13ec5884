"""Card models. A figure the data sheet lacks is None, and what rests on it is then 'not known'."""

from __future__ import annotations

import math
from typing import Annotated, ClassVar, Literal, TypeVar

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from calm_relay.units import ApparentVa, CurrentA, Fraction, LengthM, PowerW, Quantity, VoltageV

Watts = TypeVar("Watts", float, NDArray[np.float64])


class Record(BaseModel):
    """Base of everything stored in a job: frozen, no unknown fields, no infinities or NaN."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False, ser_json_inf_nan="constants")


Id = Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9_-]{0,39}$")]
Name = Annotated[str, Field(min_length=1, max_length=60)]
Ratio = Annotated[float, Quantity("ratio"), Field(gt=0, le=10)]


class CardBase(Record):
    """What every card has."""

    id: Id
    name: Name
    source: str = "invented, generic"
    warranty_years: Annotated[float, Quantity("years"), Field(ge=0, le=50)] | None = None


class ModuleCard(CardBase):
    """A PV module at standard test conditions."""

    kind: Literal["module"] = "module"
    power_stc_w: Annotated[float, Quantity("power_w"), Field(gt=0, le=2000)]
    voc_stc_v: VoltageV
    vmp_stc_v: VoltageV
    isc_stc_a: CurrentA
    imp_stc_a: CurrentA
    beta_voc_per_c: Annotated[float, Field(ge=-0.01, le=0)] | None = None
    gamma_pmp_per_c: Annotated[float, Field(ge=-0.01, le=0)]
    alpha_isc_per_c: Annotated[float, Field(ge=-0.001, le=0.002)] = 0.0005
    beta_vmp_per_c: Annotated[float, Field(ge=-0.01, le=0)] | None = Field(
        default=None, description="coefficient of the working voltage; None: that of the power less that of the current"
    )
    system_voltage_max_v: VoltageV | None = None
    series_fuse_max_a: CurrentA | None = None
    length_m: LengthM
    width_m: LengthM
    bifaciality_frac: Fraction | None = Field(default=None, description="rear over front response; None: one-sided")

    @property
    def efficiency_frac(self) -> float:
        """Module efficiency at STC (power over area at 1000 W/m²)."""
        return self.power_stc_w / (1000.0 * self.length_m * self.width_m)


class OptimizerCard(CardBase):
    """A module-level optimizer. `string_voltage_v` is the fixed string voltage, None where the inverter's window rules."""

    kind: Literal["optimizer"] = "optimizer"
    input_voltage_max_v: VoltageV
    input_current_max_a: CurrentA
    power_max_w: Annotated[float, Quantity("power_w"), Field(gt=0)]
    output_current_max_a: CurrentA
    string_voltage_v: VoltageV | None = None
    modules_min: Annotated[int, Quantity("count"), Field(ge=1, le=60)] = 1
    modules_max: Annotated[int, Quantity("count"), Field(ge=1, le=60)] = 60
    string_power_max_w: PowerW | None = None
    unequal_strings: bool = Field(default=False, description="strings of different length may be paralleled")
    loss_frac: Annotated[float, Quantity("fraction"), Field(ge=0, lt=1)] = 0.015


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


class AcUnit(CardBase):
    """What every unit with AC terminals has; `ac_rated_w` is at power factor 1."""

    ac_rated_w: Annotated[float, Quantity("power_w"), Field(gt=0)]
    loss: LossTerms
    night_w: PowerW | None = Field(default=None, description="standby draw; None: a third of p_self, assumed")
    phases: Literal[1, 3] = 1
    battery_terminals: ClassVar[bool] = False
    per_module: ClassVar[bool] = False

    def unit_count(self, count: int) -> int:
        """Return how many units share a node's strings: `count` where each has one module, else one."""
        return count if self.per_module else 1

    def ac_w(self, dc_w: Watts) -> Watts:
        """Return AC watts for DC watts; no upper limit. [W]"""
        return self.loss.out_w(dc_w, self.ac_rated_w)

    def dc_w(self, ac_w: float) -> float:
        """Return the DC watts that AC watts take. [W]"""
        return self.loss.in_w(ac_w, self.ac_rated_w)


class PvInverterCard(AcUnit):
    """A string inverter, PV only."""

    kind: Literal["pv_inverter"] = "pv_inverter"
    dc_voltage_max_v: VoltageV
    trackers: tuple[Tracker, ...] = Field(min_length=1, max_length=8)
    trackers_paralleled: bool = Field(default=False, description="trackers joined inside: strings on them count as parallel")
    back_feed_a: CurrentA | None = Field(default=None, description="what the unit may feed back into a faulted string")
    dc_ac_ratio_max: Ratio | None = None
    controllable: bool = True
    pv_inputs: ClassVar[bool] = True
    pv_to_battery_max_w: ClassVar[None] = None

    def ratio_limit(self, _has_battery: bool) -> float | None:
        """Return the DC-to-AC limit; None where the card has none. [W/W]"""
        return self.dc_ac_ratio_max


class ModuleInverterCard(AcUnit):
    """A module-level inverter: one module each, clipped one by one."""

    kind: Literal["module_inverter"] = "module_inverter"
    dc_voltage_max_v: VoltageV
    trackers: tuple[Tracker, ...] = Field(min_length=1, max_length=1)
    dc_ac_ratio_max: Ratio | None = None
    controllable: bool = False
    branch_units_max: Annotated[int, Quantity("count"), Field(ge=1)] | None = Field(
        default=None, description="units on one branch circuit; None: by the breaker"
    )
    per_module: ClassVar[bool] = True
    pv_to_battery_max_w: ClassVar[None] = None
    pv_inputs: ClassVar[bool] = True
    trackers_paralleled: ClassVar[bool] = False
    back_feed_a: ClassVar[None] = None

    def ratio_limit(self, _has_battery: bool) -> float | None:
        """Return the DC-to-AC limit; None where the card has none. [W/W]"""
        return self.dc_ac_ratio_max


class BatterySideUnit(AcUnit):
    """What every unit with battery terminals has. Powers at the battery are DC watts at its terminals."""

    ac_in_max_w: PowerW | None = Field(default=None, description="None: the AC rating, assumed")
    charge_loss: LossTerms | None = Field(default=None, description="None: the terms of `loss`, ends exchanged")
    charge_max_w: PowerW | None = None
    discharge_max_w: PowerW | None = None
    charge_max_a: CurrentA | None = None
    discharge_max_a: CurrentA | None = None
    battery_voltage_min_v: VoltageV
    battery_voltage_max_v: VoltageV
    pv_and_ac_charge_max_w: PowerW | None = None
    grid_port_max_w: PowerW | None = None
    backup_port_max_w: PowerW | None = None
    grid_forming: bool = False
    offgrid_continuous_va: ApparentVa | None = None
    offgrid_peak_va: ApparentVa | None = None
    offgrid_peak_s: Annotated[float, Field(gt=0)] | None = None
    startable_lra_a: CurrentA | None = None
    absorb_max_w: PowerW | None = Field(default=None, description="AC power it can take in while forming the grid")
    absorb_ratio: Ratio = 1.0
    pass_through_a: CurrentA | None = None
    battery_terminals: ClassVar[bool] = True
    controllable: ClassVar[bool] = True

    @property
    def charger_loss(self) -> LossTerms:
        """The charger's loss terms: its own, else the inverter's with the ends exchanged (definitions D4)."""
        return self.charge_loss or self.loss

    @property
    def charger_in_max_w(self) -> float:
        """The AC input limit; the AC rating where the card has none (assumed). [W]"""
        return self.ac_rated_w if self.ac_in_max_w is None else self.ac_in_max_w

    def charger_dc_w(self, ac_w: float) -> float:
        """Return the DC watts the charger delivers from AC watts. [W]"""
        return float(self.charger_loss.out_w(ac_w, self.ac_rated_w))

    def charger_ac_w(self, dc_w: float) -> float:
        """Return the AC watts the charger draws to deliver DC watts. [W]"""
        return self.charger_loss.in_w(dc_w, self.ac_rated_w)

    def output_w(self, dc_w: float) -> float:
        """Return the AC watts made of DC watts, at most the AC rating. [W]"""
        return min(float(self.ac_w(dc_w)), self.ac_rated_w)


class HybridCard(BatterySideUnit):
    """A hybrid inverter: trackers and battery on one DC side."""

    kind: Literal["hybrid"] = "hybrid"
    dc_voltage_max_v: VoltageV
    trackers: tuple[Tracker, ...] = Field(min_length=1, max_length=8)
    trackers_paralleled: bool = Field(default=False, description="trackers joined inside: strings on them count as parallel")
    back_feed_a: CurrentA | None = Field(default=None, description="what the unit may feed back into a faulted string")
    dc_ac_ratio_max: Ratio | None = None
    dc_ac_ratio_max_with_battery: Ratio | None = None
    pv_to_battery_max_w: PowerW | None = None
    pv_inputs: ClassVar[bool] = True

    def ratio_limit(self, has_battery: bool) -> float | None:
        """Return the DC-to-AC limit with or without a battery; None where the card has none. [W/W]"""
        if has_battery and self.dc_ac_ratio_max_with_battery is not None:
            return self.dc_ac_ratio_max_with_battery
        return self.dc_ac_ratio_max


class BatteryInverterCard(BatterySideUnit):
    """A battery inverter (inverter-charger), no PV input."""

    kind: Literal["battery_inverter"] = "battery_inverter"
    pv_inputs: ClassVar[bool] = False
    dc_voltage_max_v: ClassVar[float] = 0.0
    trackers: ClassVar[tuple[Tracker, ...]] = ()
    trackers_paralleled: ClassVar[bool] = False
    back_feed_a: ClassVar[None] = None
    dc_ac_ratio_max: ClassVar[None] = None
    pv_to_battery_max_w: ClassVar[None] = None

    def ratio_limit(self, _has_battery: bool) -> float | None:
        """Return None: there is no array on it. [W/W]"""
        return None


# Empty and full volts of a cell over its nominal ones, common practice: LFP 2.8/3.2/3.6, NMC 3.0/3.65/4.2, lead-acid 1.75/2.0/2.4.
CELL_SHARES = {"LFP": (2.8 / 3.2, 3.6 / 3.2), "NMC": (3.0 / 3.65, 4.2 / 3.65), "lead-acid": (1.75 / 2.0, 2.4 / 2.0)}


class BatteryCard(CardBase):
    """One battery module. Stacked in series its volts add; in parallel its amps do. Current does not multiply in series."""

    kind: Literal["battery"] = "battery"
    chemistry: Literal["LFP", "NMC", "lead-acid"] = "LFP"
    capacity_wh: Annotated[float, Quantity("energy_wh"), Field(gt=0)]
    soc_min_frac: Fraction = 0.0
    soc_max_frac: Fraction = 1.0
    voltage_nominal_v: VoltageV
    voltage_full_v: VoltageV | None = Field(default=None, description="of one module, charged full; None: by chemistry, assumed")
    voltage_empty_v: VoltageV | None = Field(default=None, description="of one module, at the end of discharge; None: likewise")
    stacking: Literal["series", "parallel"] = "series"
    modules_min: Annotated[int, Field(ge=1)] = 1
    modules_max: Annotated[int, Field(ge=1, le=64)] = 8
    charge_max_a: CurrentA | None = None
    discharge_max_a: CurrentA | None = None
    bank_charge_max_w: PowerW | None = None
    bank_discharge_max_w: PowerW | None = None
    dc_round_trip_frac: Annotated[float, Quantity("fraction"), Field(gt=0, le=1)] = Field(
        description="terminals to terminals, any DC stage of the battery included, at the card's rate"
    )
    taper_soc_frac: Fraction = 1.0
    taper_end_frac: Fraction = 0.05
    auxiliary_w: Annotated[
        float, Quantity("power_w"), Field(ge=0, description="drawn all the time by each bank, not by each module")
    ] = 0.0

    @property
    def volts_assumed(self) -> bool:
        """Whether full or empty volts are the chemistry's, not the card's."""
        return self.voltage_full_v is None or self.voltage_empty_v is None

    @property
    def window_v(self) -> tuple[float, float]:
        """Empty and full volts of one module: the card's, else the chemistry's share of the nominal ones (assumed). [V]"""
        low, high = CELL_SHARES[self.chemistry]
        empty = self.voltage_nominal_v * low if self.voltage_empty_v is None else self.voltage_empty_v
        full = self.voltage_nominal_v * high if self.voltage_full_v is None else self.voltage_full_v
        return empty, full

    @property
    def one_way_frac(self) -> float:
        """Terminals to cells, or back: the root of the round trip (definitions D3)."""
        return math.sqrt(self.dc_round_trip_frac)


class TransferCard(CardBase):
    """A transfer device or gateway between the backup side and the grid side."""

    kind: Literal["transfer"] = "transfer"
    pass_through_a: CurrentA | None = None


Card = Annotated[
    ModuleCard
    | OptimizerCard
    | PvInverterCard
    | ModuleInverterCard
    | HybridCard
    | BatteryInverterCard
    | BatteryCard
    | TransferCard,
    Field(discriminator="kind"),
]
InverterCard = PvInverterCard | ModuleInverterCard | HybridCard | BatteryInverterCard
