"""What each box of a plan takes for itself in a year: conversion, cells, standby, and who pays the standby."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from calm_relay.simulation.columns import given_wh

if TYPE_CHECKING:
    from calm_relay.year.facts import YearFacts


@dataclass(frozen=True)
class BoxUse:
    """One inverter with its battery. What it draws while it runs is in the conversion; standby is what it draws otherwise. [Wh]

    Standby holds the battery's auxiliaries, and is paid by PV, by the battery or from the AC bus.
    """

    node_id: str
    inverter_loss_wh: float
    charger_loss_wh: float
    cell_loss_wh: float
    standby_from_pv_wh: float
    standby_from_battery_wh: float
    standby_from_ac_wh: float

    @property
    def standby_wh(self) -> float:
        """Standby and auxiliaries, whoever pays. [Wh]"""
        return self.standby_from_pv_wh + self.standby_from_battery_wh + self.standby_from_ac_wh

    @property
    def total_wh(self) -> float:
        """All that the box takes. [Wh]"""
        return self.inverter_loss_wh + self.charger_loss_wh + self.cell_loss_wh + self.standby_wh


@dataclass(frozen=True)
class PathTrips:
    """What of a kWh comes back from a battery in the year as it was run; None where nothing went that way. [0 to 1]

    `cells` is from terminals to terminals, `from_own_pv` from own DC PV to AC, `from_ac` from AC through the charger to AC.
    """

    node_id: str
    cells: float | None
    from_own_pv: float | None
    from_ac: float | None


def path_trips(facts: YearFacts) -> tuple[PathTrips, ...]:
    """Return the round trips of every battery's paths, from the year's sums; what is left in the cells at the end is not lost."""
    out = []
    for node_id, row in facts.nodes_wh.items():
        taken = row["pv_to_battery_w"] + row["charge_from_ac_w"]
        if taken <= 0:
            continue
        cells = given_wh(row) / (taken - row["energy_wh"]) if taken > row["energy_wh"] else None
        dc = row["pv_to_inverter_w"] + row["discharge_w"]
        out_of_it = None if cells is None or dc <= 0 else cells * row["ac_out_w"] / dc
        charger = row["charge_from_ac_w"] / row["ac_in_w"] if row["ac_in_w"] > 0 else None
        out.append(
            PathTrips(
                node_id=node_id,
                cells=cells,
                from_own_pv=out_of_it if row["pv_to_battery_w"] > 0 else None,
                from_ac=None if out_of_it is None or charger is None else charger * out_of_it,
            )
        )
    return tuple(out)


def trip_words(trips: PathTrips) -> str:
    """Return the round trips in words; empty where nothing was stored."""
    ways = (("terminals to terminals", trips.cells), ("own PV to AC", trips.from_own_pv), ("AC to AC", trips.from_ac))
    return ", ".join(f"{name} {100 * value:.1f} %" for name, value in ways if value is not None)


def box_uses(facts: YearFacts) -> tuple[BoxUse, ...]:
    """Return what each inverter of a plan takes in its year, PV-only ones first."""
    pv_only = [
        BoxUse(
            node_id=node_id,
            inverter_loss_wh=row["inverter_loss_w"],
            charger_loss_wh=0.0,
            cell_loss_wh=0.0,
            standby_from_pv_wh=row["standby_from_pv_w"],
            standby_from_battery_wh=0.0,
            standby_from_ac_wh=row["own_draw_w"],
        )
        for node_id, row in facts.pv_only_wh.items()
    ]
    others = [
        BoxUse(
            node_id=node_id,
            inverter_loss_wh=row["inverter_loss_w"],
            charger_loss_wh=row["charger_loss_w"],
            cell_loss_wh=row["cell_loss_w"],
            standby_from_pv_wh=row["pv_standby_w"],
            standby_from_battery_wh=row["battery_standby_w"] + row["auxiliary_w"],
            standby_from_ac_wh=row["ac_own_w"],
        )
        for node_id, row in facts.nodes_wh.items()
    ]
    return (*pv_only, *others)
