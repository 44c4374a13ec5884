"""Cards of PV modules and of the optimizers behind them."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from calm_relay.library.base import CardBase
from calm_relay.units import CurrentA, Fraction, LengthM, PowerW, Quantity, VoltageV


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
    weight_kg: Annotated[float, Quantity("mass_kg"), Field(gt=0, le=200)] | None = None
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
