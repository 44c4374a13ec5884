"""Cards of inverters of every kind."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal, Self

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
    Watts,
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
    pv_dc_max_w: PowerW | None = Field(default=None, description="all trackers together, DC; None: no limit beside each tracker's")
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
    pv_dc_max_w: ClassVar[None] = None
    pv_to_battery_max_w: ClassVar[None] = None
    pv_inputs: ClassVar[bool] = True
    trackers_paralleled: ClassVar[bool] = False
    back_feed_a: ClassVar[None] = None

    def ratio_limit(self, _has_battery: bool) -> float | None:
        """Return the DC-to-AC limit; None where the card has none. [W/W]"""
        return self.dc_ac_ratio_max


class BackupBreaker(Record):
    """The largest breaker on the backup side that so many units carry; read, never multiplied."""

    units: Count
    breaker_a: CurrentA


_EXTENSIVE = (
    "ac_rated_w", "night_w", "phase_max_w", "leg_max_w", "ac_in_max_w", "charge_max_w", "discharge_max_w", "charge_max_a",
    "discharge_max_a", "pv_and_ac_charge_max_w", "grid_port_max_w", "backup_port_max_w", "offgrid_continuous_va", "offgrid_peak_va",
    "startable_lra_a", "fault_current_a", "absorb_max_w", "pass_through_a",
)  # fmt: skip


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

    def together(self, count: int) -> Self:
        """Return as many like units side by side on one bank as one unit: powers, amps and idle losses times their number.

        At like shares the loss keeps its three-term form: idle times the number, the same part of the flow.
        """
        if count == 1:
            return self
        more = {name: value * count for name in _EXTENSIVE if (value := getattr(self, name)) is not None}
        for name in ("loss", "charge_loss"):
            terms = getattr(self, name)
            if terms is not None:
                more[name] = terms.model_copy(update={"p_self_w": terms.p_self_w * count})
        return self.model_copy(update=more)

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
    pv_dc_max_w: PowerW | None = Field(default=None, description="all trackers together, DC; None: no limit beside each tracker's")
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
    pv_dc_max_w: ClassVar[None] = None
    pv_to_battery_max_w: ClassVar[None] = None

    def ratio_limit(self, _has_battery: bool) -> float | None:
        """Return None: there is no array on it. [W/W]"""
        return None
