"""A battery module's electrical figures, and the bank that modules make on an inverter."""

from __future__ import annotations

import math
from bisect import bisect_right
from dataclasses import dataclass, fields
from typing import Any

from calm_relay.job.models import BatteryChoice
from calm_relay.library.base import LossTerms
from calm_relay.library.battery_card import CELL_VOLTS, LFP_CHARGE_BY_C, BatteryCard
from calm_relay.plant.same import same

Rows = tuple[tuple[float, float], ...]


@dataclass(frozen=True)
class Cells:
    """One battery module, electrically; None where its card is silent. Tables are (°C or depth, share or cycles), rising."""

    chemistry: str
    capacity_wh: float
    voltage_nominal_v: float
    stacking: str
    dc_round_trip_frac: float
    soc_min_frac: float
    soc_max_frac: float
    cells_in_series: int | None
    voltage_full_v: float | None
    voltage_empty_v: float | None
    modules_min: int
    modules_max: int
    charge_max_a: float | None
    discharge_max_a: float | None
    charge_over_temperature: Rows
    discharge_over_temperature: Rows
    internal_resistance_ohm: float | None
    bank_charge_max_w: float | None
    bank_discharge_max_w: float | None
    round_trip_at_a: float | None
    dc_stage_loss: LossTerms | None
    dc_stage_rated_w: float | None
    peukert_exponent: float | None
    capacity_hours_h: float
    absorption_h: float | None
    taper_soc_frac: float
    taper_end_frac: float
    auxiliary_w: float
    heating_w: float
    heating_below_c: float | None

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

    @property
    def charge_rows(self) -> Rows:
        """Share of the charge current allowed by temperature: the card's, for LFP else common practice; empty: not said."""
        return self.charge_over_temperature or (LFP_CHARGE_BY_C if self.chemistry == "LFP" else ())

    def charge_share_at(self, temperature_c: float) -> float | None:
        """Return the share of the charge current allowed at a temperature; None where neither card nor practice says. [0 to 1]"""
        return share_at(self.charge_rows, temperature_c)

    def discharge_share_at(self, temperature_c: float) -> float | None:
        """Return the share of the discharge current allowed at a temperature; None where the card does not say. [0 to 1]"""
        return share_at(self.discharge_over_temperature, temperature_c)


def share_at(rows: Rows, temperature_c: float) -> float | None:
    """Return what a table allows at a temperature, straight lines between its rows, nothing outside them. [0 to 1]"""
    if not rows:
        return None
    at = [row[0] for row in rows]
    if not at[0] <= temperature_c <= at[-1]:
        return 0.0
    i = bisect_right(at, temperature_c)
    if i == len(rows):
        return rows[-1][1]
    (low, before), (high, after) = rows[i - 1], rows[i]
    return before + (after - before) * (temperature_c - low) / (high - low)


_TABLES = ("charge_over_temperature", "discharge_over_temperature")
_FIELDS = tuple(field.name for field in fields(Cells) if field.name not in _TABLES)


def cells_of(card: BatteryCard) -> Cells:
    """Return the electrical figures of a battery module's card."""
    figures: dict[str, Any] = {name: getattr(card, name) for name in _FIELDS}
    for name in _TABLES:
        figures[name] = tuple(sorted((row.temperature_c, row.share_frac) for row in getattr(card, name)))
    return same(Cells(**figures))


@dataclass(frozen=True)
class Bank:
    """Modules of one kind on one inverter, electrically, with the window in use as typed (None: the cells' own).

    `leads_ohm`: leads and joints of each parallel branch; empty: all alike, assumed.
    """

    cells: Cells
    modules: int
    state_of_health_frac: float = 1.0
    soc_min_frac: float | None = None
    soc_max_frac: float | None = None
    leads_ohm: tuple[float, ...] = ()
    place: str | None = None


def bank_of(card: BatteryCard, choice: BatteryChoice) -> Bank:
    """Return the bank that a choice of modules makes."""
    return same(
        Bank(
            cells=cells_of(card),
            modules=choice.modules,
            state_of_health_frac=choice.state_of_health_frac,
            soc_min_frac=choice.soc_min_frac,
            soc_max_frac=choice.soc_max_frac,
            leads_ohm=choice.leads_ohm,
            place=choice.place,
        )
    )
