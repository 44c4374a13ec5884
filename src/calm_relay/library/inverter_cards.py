"""Cards of inverters of every kind."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from calm_relay.library.base import (
    AreaMm2,
    BoxCard,
    Count,
    EfficiencyPoint,
    FrequencyRecord,
    Id,
    LossTerms,
    Protocol,
    Ratio,
    Record,
    SupplyKind,
    Tracker,
)
from calm_relay.library.battery_card import Chemistry
from calm_relay.units import ApparentVa, CurrentA, Fraction, PowerW, Quantity, VoltageV


class AcUnit(BoxCard):
    """What every unit with AC terminals has; `ac_rated_w` is at power factor 1."""

    ac_rated_w: Annotated[float, Quantity("power_w"), Field(gt=0)]
    loss: LossTerms
    night_w: PowerW | None = Field(default=None, description="standby draw; None: a third of p_self, assumed")
    phases: Literal[1, 3] = 1
    supplies: tuple[SupplyKind, ...] = Field(
        default=(), description="supplies it can be connected to; both legs of a split phase count as one phase; empty: not said"
    )
    phase_max_w: PowerW | None = Field(default=None, description="most on one phase of three; None: a third of the rating, assumed")
    leg_max_w: PowerW | None = Field(default=None, description="most on one leg of a split phase; None: half the rating, assumed")
    peak_efficiency_frac: Fraction | None = None
    european_efficiency_frac: Fraction | None = None
    cec_efficiency_frac: Fraction | None = None
    efficiency_points: tuple[EfficiencyPoint, ...] = Field(default=(), max_length=12, description="what `loss` was fitted to")
    frequency: FrequencyRecord | None = Field(default=None, description="what it does when the frequency rises; None: not known")
    lug_min_mm2: AreaMm2 | None = None
    lug_max_mm2: AreaMm2 | None = None
    residual_type: Literal["none", "a", "b"] | None = Field(
        default=None, description="residual-current device that its maker asks for before it; None: not said"
    )
    battery_terminals: ClassVar[bool] = False
    per_module: ClassVar[bool] = False


class PvInverterCard(AcUnit):
    """A string inverter, PV only."""

    kind: Literal["pv_inverter"] = "pv_inverter"
    dc_voltage_max_v: VoltageV
    trackers: tuple[Tracker, ...] = Field(min_length=1, max_length=8)
    trackers_paralleled: bool = Field(default=False, description="trackers joined inside: strings on them count as parallel")
    back_feed_a: CurrentA | None = Field(default=None, description="what the unit may feed back into a faulted string")
    pv_dc_max_w: PowerW | None = Field(default=None, description="all trackers together, DC; None: no limit beside each tracker's")
    dc_ac_ratio_max: Ratio | None = None
    controllable: bool = True
    pv_inputs: ClassVar[bool] = True
    pv_to_battery_max_w: ClassVar[None] = None


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
    pv_dc_max_w: ClassVar[None] = None
    pv_to_battery_max_w: ClassVar[None] = None
    pv_inputs: ClassVar[bool] = True
    trackers_paralleled: ClassVar[bool] = False
    back_feed_a: ClassVar[None] = None


class BackupBreaker(Record):
    """The largest breaker on the backup side that so many units carry; read, never multiplied."""

    units: Count
    breaker_a: CurrentA


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
    fault_current_a: CurrentA | None = Field(default=None, description="what it drives into a short circuit with the grid gone")
    absorb_max_w: PowerW | None = Field(default=None, description="AC power it can take in while forming the grid")
    absorb_ratio: Ratio = 1.0
    pass_through_a: CurrentA | None = None
    chemistries: tuple[Chemistry, ...] = Field(default=(), description="chemistries it can charge; empty: not said")
    pairs_with: tuple[Id, ...] = Field(default=(), max_length=40, description="ids of batteries its maker lists; empty: no list")
    protocols: tuple[Protocol, ...] = Field(default=(), description="how it talks to a battery; empty: not said")
    backup_breakers: tuple[BackupBreaker, ...] = Field(default=(), max_length=8)
    battery_lug_min_mm2: AreaMm2 | None = None
    battery_lug_max_mm2: AreaMm2 | None = None
    battery_terminals: ClassVar[bool] = True
    controllable: ClassVar[bool] = True


class HybridCard(BatterySideUnit):
    """A hybrid inverter: trackers and battery on one DC side."""

    kind: Literal["hybrid"] = "hybrid"
    dc_voltage_max_v: VoltageV
    trackers: tuple[Tracker, ...] = Field(min_length=1, max_length=8)
    trackers_paralleled: bool = Field(default=False, description="trackers joined inside: strings on them count as parallel")
    back_feed_a: CurrentA | None = Field(default=None, description="what the unit may feed back into a faulted string")
    pv_dc_max_w: PowerW | None = Field(default=None, description="all trackers together, DC; None: no limit beside each tracker's")
    dc_ac_ratio_max: Ratio | None = None
    dc_ac_ratio_max_with_battery: Ratio | None = None
    pv_to_battery_max_w: PowerW | None = None
    pv_inputs: ClassVar[bool] = True


class BatteryInverterCard(BatterySideUnit):
    """A battery inverter (inverter-charger), no PV input."""

    kind: Literal["battery_inverter"] = "battery_inverter"
    pv_inputs: ClassVar[bool] = False
    dc_voltage_max_v: ClassVar[float] = 0.0
    trackers: ClassVar[tuple[Tracker, ...]] = ()
    trackers_paralleled: ClassVar[bool] = False
    back_feed_a: ClassVar[None] = None
    dc_ac_ratio_max: ClassVar[None] = None
    pv_dc_max_w: ClassVar[None] = None
    pv_to_battery_max_w: ClassVar[None] = None
