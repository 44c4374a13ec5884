"""Cards of battery modules: cells, windows, currents over temperature, life."""

from __future__ import annotations

import math
from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
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


Rows = tuple[CurrentAtTemperature, ...] | tuple[tuple[float, float], ...]


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

    @property
    def volts_assumed(self) -> bool:
        """Whether full or empty volts are the chemistry's, not the card's."""
        return self.voltage_full_v is None or self.voltage_empty_v is None

    @property
    def window_v(self) -> tuple[float, float]:
        """Empty and full volts of one module: the card's, else the chemistry's by cells or nominal volts (assumed). [V]"""
        low, nominal, high = CELL_VOLTS[self.chemistry]
        cells = self.voltage_nominal_v / nominal if self.cells_in_series is None else float(self.cells_in_series)
        empty = cells * low if self.voltage_empty_v is None else self.voltage_empty_v
        full = cells * high if self.voltage_full_v is None else self.voltage_full_v
        return empty, full

    @property
    def one_way_frac(self) -> float:
        """Terminals to cells, or back: the root of the round trip (definitions D3)."""
        return math.sqrt(self.dc_round_trip_frac)

    def charge_shares(self, temperatures_c: NDArray[np.float64]) -> NDArray[np.float64] | None:
        """Return the share of the charge current allowed at each temperature, as :meth:`charge_share_at`. (n,) [0 to 1]"""
        return _shares_at(self._charge_rows, temperatures_c)

    def discharge_shares(self, temperatures_c: NDArray[np.float64]) -> NDArray[np.float64] | None:
        """Return the share of the discharge current allowed at each temperature; None where the card does not say. (n,) [0 to 1]"""
        return _shares_at(self.discharge_over_temperature, temperatures_c)

    @property
    def _charge_rows(self) -> Rows:
        return self.charge_over_temperature or (LFP_CHARGE_BY_C if self.chemistry == "LFP" else ())

    def charge_share_at(self, temperature_c: float) -> float | None:
        """Return the share of the charge current allowed at a temperature: the card's, for LFP else common practice.

        None where neither says. [0 to 1]
        """
        return _share_at(self._charge_rows, temperature_c)

    def discharge_share_at(self, temperature_c: float) -> float | None:
        """Return the share of the discharge current allowed at a temperature; None where the card does not say. [0 to 1]"""
        return _share_at(self.discharge_over_temperature, temperature_c)

    def cycles_at(self, depth_frac: float) -> float | None:
        """Return cycles to the end of life at a depth, straight lines between the card's points in log-log. [cycles]

        None where the card has no points.
        """
        found = self.cycles_at_all(np.array([depth_frac])) if depth_frac > 0 else None
        return None if found is None else float(found[0])

    def cycles_at_all(self, depths_frac: NDArray[np.float64]) -> NDArray[np.float64] | None:
        """Return :meth:`cycles_at` of many depths above nothing; None where the card has no points. (n,) [cycles]"""
        rows = sorted((row.depth_frac, row.cycles) for row in self.depth_life)
        if not rows:
            return None
        if len(rows) == 1:  # a single point: equal energy through the cells at every depth, common practice
            alone: NDArray[np.float64] = rows[0][1] * rows[0][0] / depths_frac
            return alone
        x, y, at = np.log([r[0] for r in rows]), np.log([r[1] for r in rows]), np.log(depths_frac)
        # beyond the card's shallowest point, its energy
        lives: NDArray[np.float64] = np.exp(np.where(at < x[0], y[0] + x[0] - at, np.interp(at, x, y)))
        return lives


def _shares_at(rows: Rows, temperatures_c: NDArray[np.float64]) -> NDArray[np.float64] | None:
    if not rows:
        return None
    pairs = sorted((r.temperature_c, r.share_frac) if isinstance(r, CurrentAtTemperature) else r for r in rows)
    shares: NDArray[np.float64] = np.interp(
        temperatures_c, [p[0] for p in pairs], [p[1] for p in pairs], left=0.0, right=0.0
    )  # outside what is said, nothing is allowed
    return shares


def _share_at(rows: Rows, temperature_c: float) -> float | None:
    shares = _shares_at(rows, np.array([temperature_c]))
    return None if shares is None else float(shares[0])
