"""What each box of a plan takes for itself in a year: conversion, cells, standby, and who pays the standby."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

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
