"""The one place where a plan becomes the kernel's arrays, checked and cast."""

from __future__ import annotations

import functools
import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import YearCalendar, in_window
from calm_relay.errors import NotFeasible
from calm_relay.job.control_models import BatteryOrder, Controls, Slot
from calm_relay.plant import chain
from calm_relay.plant.bank import Bank
from calm_relay.plant.station import Converter
from calm_relay.plant.unit import Unit
from calm_relay.simulation.columns import AC
from calm_relay.simulation.kernel.records import (
    BACKUP,
    CHARGE_FROM_GRID,
    CLIPPED_ONLY,
    DISCHARGE_TO_GRID,
    GRID,
    HOLD,
    MOST_NODES,
    NODE_DTYPE,
    OWN_PV_ONLY,
    OWN_USE,
    PLANT_DTYPE,
    SLOT_DTYPE,
    SURPLUS_ONLY,
    TIMER,
    USUAL_BANK,
)
from calm_relay.simulation.storing import absorption_end_frac, bank_loss

Array = NDArray[np.float64]
AMPS_COLUMNS = ("charge_empty_w", "charge_full_w", "discharge_empty_w", "discharge_full_w")
SLOT_KINDS = {
    "charge_from_grid": CHARGE_FROM_GRID, "surplus_only": SURPLUS_ONLY, "hold": HOLD, "clipped_only": CLIPPED_ONLY,
    "discharge_to_grid": DISCHARGE_TO_GRID, "timer": TIMER,
}  # fmt: skip


@dataclass(frozen=True)
class SiteLimits:
    """Limits at the meter and through the transfer device; infinity where there is none. [W]"""

    export_w: float = math.inf
    import_w: float = math.inf
    transfer_w: float = math.inf


@dataclass(frozen=True, eq=False)
class Packed:
    """Kernel inputs of one plan; `node_ids` in priority order, `assumed` names every value no card gave.

    A code is the slot's number times `reserves` plus the place of the season's reserve among those that differ.
    `bank` (steps or 1, nodes, 4): what changes from step to step at a battery (`kernel.records.BANK`); one row where nothing does.
    `ac` (steps, AC) lies in memory column by column.
    `take`, `give` (nodes,): the turn of each node's group in charging and in discharging; one turn is shared in proportion.
    """

    node_ids: tuple[str, ...]
    nodes: NDArray[np.void]
    slots: NDArray[np.void]
    plant: np.void
    take: NDArray[np.int64]
    give: NDArray[np.int64]
    codes: NDArray[np.int8]
    pv_dc: Array
    bank: Array
    ac: Array
    assumed: frozenset[str]
    reserves: int = 1

    def __post_init__(self) -> None:
        # Column by column: most of them are nothing, and whoever fills or reads one touches that one alone.
        object.__setattr__(self, "ac", np.asfortranarray(self.ac))

    def follows(self, k: int, slot: int) -> NDArray[np.bool_]:
        """Return the steps in which node `k` follows the plan's slot at a place, 0 for the first. (steps,) [bool]"""
        codes = self.codes[:, k]
        found: NDArray[np.bool_] = (codes >= (slot + 1) * self.reserves) & (codes < (slot + 2) * self.reserves)
        return found

    def ac_column(self, *names: str) -> Array:
        """Return the sum of columns of what enters at AC, (steps,). [W]"""
        found: Array = self.ac[:, AC.index(names[0])].copy()
        for name in names[1:]:
            found += self.ac[:, AC.index(name)]
        return found

    @functools.cached_property
    def load_w(self) -> Array:
        """The house, both sides, worked out once. [W]"""
        return self.ac_column("load_b_w", "load_g_w")

    @functools.cached_property
    def pv_only_w(self) -> Array:
        """PV-only inverters before any cut, worked out once. [W]"""
        return self.ac_column("pv_b_w", "pv_g_w", "pv_b_fixed_w", "pv_g_fixed_w")


def _node_record(node: Converter, reserve: float, assumed: set[str]) -> np.void:
    out: np.void = np.zeros(1, NODE_DTYPE)[0]
    place, unit, bank = f"nodes[{node.id}]", node.unit, node.bank

    def known(value: float | None, fallback: float, what: str) -> float:
        if value is None:
            assumed.add(f"{place}: {what}")
            return fallback
        return value

    losses = unit.charger_loss
    if unit.charge_loss is None:
        assumed.add(f"{place}: charger loss as the inverter's")
    night, night_assumed = unit.standby
    if night_assumed:
        assumed.add(f"{place}: standby draw, a third of p_self")
    out["side"] = BACKUP if node.side == "backup" else GRID
    out["ac_out_w"], out["rated_w"] = unit.ac_rated_w, unit.ac_rated_w
    out["ac_in_w"] = known(unit.ac_in_max_w, unit.ac_rated_w, "AC input limit, the AC rating")
    out["p_self_w"], out["a"], out["b"] = unit.loss.p_self_w, unit.loss.a, unit.loss.b
    out["charge_p_self_w"], out["charge_a"], out["charge_b"] = losses.p_self_w, losses.a, losses.b
    out["night_w"] = night
    out["grid_port_w"] = math.inf if unit.grid_port_max_w is None else unit.grid_port_max_w
    out["backup_port_w"] = math.inf if unit.backup_port_max_w is None else unit.backup_port_max_w
    out["pv_to_battery_w"] = math.inf
    if unit.pv_to_battery_max_w is not None:
        out["pv_to_battery_w"] = unit.pv_to_battery_max_w
    out["eta_c"] = out["eta_d"] = out["soc_max"] = out["taper_soc"] = out["taper_end"] = out["peak_hold"] = 1.0
    for name in AMPS_COLUMNS:
        out[name] = math.inf
    if bank is None:
        return out
    battery = bank.cells
    low, high = chain.soc_window(bank)
    charging, giving = chain.charge_chain(unit, bank), chain.discharge_chain(unit, bank)
    charge = known(chain.terminals_limit_w(charging), unit.ac_rated_w, "battery charge limit, the AC rating")
    give = known(chain.terminals_limit_w(giving), unit.ac_rated_w, "battery discharge limit, the AC rating")
    loss = bank_loss(unit, bank)
    out["capacity_wh"] = chain.capacity_wh(bank)
    out["soc_min"], out["soc_max"], out["reserve"] = low, high, min(reserve, high)
    out["charge_w"], out["discharge_w"], out["eta_c"], out["eta_d"] = charge, give, loss.eta_c, loss.eta_d
    out["take_square_per_w"], out["give_square_per_w"] = loss.take_square_per_w, loss.give_square_per_w
    out["store_self_w"] = loss.self_w
    beside = unit.controllers
    if beside is not None:  # its charger gives less than the bank takes from controllers and charger together
        watts = chain.charger_limit_w(beside.charger_max_w, beside.charger_max_a, chain.stack_voltage_v(bank))
        out["ac_in_w"] = min(float(out["ac_in_w"]), math.inf if watts is None else unit.charger_ac_w(watts))
        if beside.efficiency_assumed:
            assumed.add(f"{place}: the charge controllers' efficiency, {beside.efficiency_frac:.0%}")
    out["taper_soc"], out["taper_end"] = battery.taper_soc_frac, battery.taper_end_frac
    if battery.absorption_h is not None:
        width_wh = max(0.0, high - battery.taper_soc_frac) * float(out["capacity_wh"])
        out["taper_end"] = absorption_end_frac(battery.absorption_h, width_wh, charge * loss.eta_c)
    out["auxiliary_w"] = battery.auxiliary_w
    _volts_follow(out, unit, bank)
    return out


def _volts_follow(out: np.void, unit: Unit, bank: Bank) -> None:
    """Put down what the amps of a low-voltage bank make at its empty and full volts, in place of those at its nominal volts."""
    if not chain.is_low_voltage(bank):
        return
    volts = chain.stack_volts(bank)
    for end, links in (("charge", chain.charge_chain), ("discharge", chain.discharge_chain)):
        amps = chain.end_amps(unit, bank, charging=end == "charge")
        if amps is None:
            continue
        watts = chain.terminals_limit_w(links(unit, bank), without_amps=True)
        out[f"{end}_w"] = math.inf if watts is None else watts
        out[f"{end}_empty_w"], out[f"{end}_full_w"] = amps * volts.empty_v, amps * volts.full_v


def slot_codes(controls: Controls, calendar: YearCalendar, node_id: str = "") -> NDArray[np.int8]:
    """Return the slot in force per step (0: own use, i + 1: the i-th slot), by clock time; a later slot wins. (steps,) [number]

    Without a node those are left out that hold for some only.
    """
    codes = np.zeros(calendar.steps, dtype=np.int8)
    for number, slot in enumerate(controls.slots, start=1):
        if not slot.holds_for(node_id):
            continue
        codes[in_slot(slot, calendar)] = number
    return codes


def in_slot(slot: Slot, calendar: YearCalendar) -> NDArray[np.bool_]:
    """Return where a slot lies: its clock hours, days and months, each step by its own clock. (steps,) [bool]"""
    here = in_window(calendar.clock_hour, slot.start_h, slot.end_h) & on_days(slot, calendar)
    found: NDArray[np.bool_] = here
    return found


def on_days(slot: Slot, calendar: YearCalendar) -> NDArray[np.bool_]:
    """Return the steps of a slot's days and months, at any hour. (steps,) [bool]"""
    here = np.ones(calendar.steps, dtype=bool)
    if slot.months:
        here &= calendar.in_months(slot.months)
    if slot.days != "every":
        here &= calendar.clock_weekend == (slot.days == "weekends")
    return here


def reserve_levels(by_month: Sequence[float], calendar: YearCalendar) -> tuple[tuple[float, ...], NDArray[np.int8]]:
    """Return the reserves that differ, the least first, and which of them holds in each step. ((levels,), (steps,)) [0 to 1]"""
    levels = tuple(sorted(set(by_month)))
    place = np.array([levels.index(value) for value in by_month], dtype=np.int8)
    held: NDArray[np.int8] = place[calendar.clock_month.astype(int) - 1]
    return levels, held


def sharing(records: NDArray[np.void], order: BatteryOrder) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return whose turn it is when to charge and when to discharge (definitions D6), each (nodes,); equal turns share.

    Like units (all but side and reserve the same) share in proportion; groups charge by the priority of their first member and
    give by the best round trip. An option sets one rule for all: priority, best round trip or proportion.
    """
    n = len(records)
    alone = np.arange(n)
    by_trip = np.argsort([-float(r["eta_c"] * r["eta_d"]) for r in records], kind="stable") if n else alone
    if order == "in_proportion":
        return np.zeros(n, np.int64), np.zeros(n, np.int64)
    if order in ("priority", "best_round_trip"):
        turn = alone if order == "priority" else np.argsort(by_trip, kind="stable")
        return turn, turn
    names = [name for name in records.dtype.names or () if name not in ("side", "reserve")]
    kinds = [tuple(float(r[name]) for name in names) for r in records]
    group = [kinds.index(kind) for kind in kinds]  # the first of its kind stands for it
    firsts = [int(k) for k in by_trip if group[k] == k]

    def turns(order_of_groups: list[int]) -> NDArray[np.int64]:
        return np.array([order_of_groups.index(g) for g in group], dtype=np.int64)

    return turns(sorted(firsts)), turns(firsts)


def _slot_table(slots: tuple[Slot, ...], n: int, levels: Sequence[float]) -> NDArray[np.void]:
    """Return one row a node and code: each slot with each reserve as its floor."""
    table = np.zeros((max(n, 1), (len(slots) + 1) * len(levels)), SLOT_DTYPE)
    for place, level in enumerate(levels):
        table["kind"][:, place] = OWN_USE
        table["floor"][:, place] = level
        for number, slot in enumerate(slots, start=1):
            code = number * len(levels) + place
            table["kind"][:, code] = SLOT_KINDS[slot.kind]
            table["power_w"][:, code] = slot.power_w
            table["target"][:, code] = slot.target_soc_frac
            table["floor"][:, code] = max(slot.floor_soc_frac, level)
    return table[:n]


def _by_the_clock(rows: NDArray[np.void]) -> None:
    """Change the slots of a node whose charger is on a time switch: it charges by the clock or not at all from AC.

    What would charge from the grid to a target is a time switch's slot; what waits for surplus keeps its target as a floor only.
    """
    kinds = rows["kind"]
    rows["kind"] = np.where(kinds == CHARGE_FROM_GRID, TIMER, kinds)
    waits = kinds == SURPLUS_ONLY
    rows["floor"] = np.where(waits, np.maximum(rows["floor"], rows["target"]), rows["floor"])
    rows["kind"] = np.where(waits | (kinds == OWN_USE), OWN_PV_ONLY, rows["kind"])


def battery_limit_w(record: np.void, end: str, soc_frac: Array | float = 0.5) -> Array:
    """Return what a battery's `charge` or `discharge` is limited to at a charge, without taper and temperature; () or (n,). [W]

    Of a low-voltage bank the amps count at the volts of that charge, at half without one.
    """
    most, empty, rise = battery_limit_line(record, end)
    limit: Array = np.minimum(most, empty + rise * np.asarray(soc_frac))
    return limit


def battery_limit_line(record: np.void, end: str) -> tuple[float, float, float]:
    """Return the most of a battery's `charge` or `discharge`, the limit when empty, and how much more it is when full. [W]"""
    most, empty, full = (float(record[f"{end}_{name}"]) for name in ("w", "empty_w", "full_w"))
    return (most, empty, full - empty) if math.isfinite(empty) else (most, most, 0.0)


def usual_bank(nodes: int) -> Array:
    """Return the one row of batteries at which nothing changes from step to step. (1, nodes, 4) [Wh, 0 to 1, 0 to 1, W]"""
    return np.tile(np.array(USUAL_BANK), (1, nodes, 1))


def pack_plan(
    converters: Sequence[Converter],
    controls: Controls,
    calendar: YearCalendar,
    limits: SiteLimits,
    pv_dc_w: dict[str, Array],
    ac_inputs_w: Array,
    reserve_by_month: Sequence[float] | None = None,
) -> Packed:
    """Return the kernel's inputs for a plan's inverters, in the order of their priority.

    Parameters
    ----------
    pv_dc_w : dict of node id → ndarray (steps,)
        DC PV after the trackers of each node that has some. [W]
    ac_inputs_w : ndarray (steps, len(AC))
        Columns as in `columns.AC_COLUMNS`. [W]
    reserve_by_month : sequence of 12, or None
        Reserve of each month; None: the plan's common one. [0 to 1]

    Raises
    ------
    NotFeasible
        When there are more nodes with battery terminals than the kernel carries, or arrays do not fit.
    """
    nodes = [station for station in converters if station.unit.battery_terminals]
    if len(nodes) > MOST_NODES:
        raise NotFeasible(f"{len(nodes)} battery or hybrid inverters in one plan", f"use at most {MOST_NODES}")
    beyond = [node.id for node in nodes if node.side == "grid"] if controls.sensor == "device" else []
    if beyond:
        raise NotFeasible(
            f"the sensor stands at the transfer device, and {' and '.join(beyond)} on the grid side of it",
            "measure at the meter, or put it on the backup side",
        )
    steps = calendar.steps
    if ac_inputs_w.shape != (steps, len(AC)):
        raise NotFeasible(f"inputs of shape {ac_inputs_w.shape} for {steps} steps", f"give one row a step, {len(AC)} columns")
    assumed: set[str] = set()
    levels, level_at = reserve_levels(reserve_by_month or (controls.reserve_soc_frac,) * 12, calendar)
    records = np.zeros(len(nodes), NODE_DTYPE)
    for k, node in enumerate(nodes):
        records[k] = _node_record(node, levels[0], assumed)
        records[k]["peak_hold"] = controls.peak_hold_soc_frac
    pv = np.zeros((steps, len(nodes)))
    for k, node in enumerate(nodes):
        if node.id in pv_dc_w:
            pv[:, k] = pv_dc_w[node.id]
    plant = np.zeros(1, PLANT_DTYPE)[0]
    plant["step_h"] = calendar.step_h
    plant["export_w"], plant["import_w"], plant["transfer_w"] = limits.export_w, limits.import_w, limits.transfer_w
    plant["bias_w"] = controls.meter_bias_w
    plant["target_w"] = math.inf if controls.peak_target_w is None else controls.peak_target_w
    plant["at_device"] = controls.sensor == "device"
    take, give = sharing(records, controls.battery_order)
    codes = np.zeros((steps, len(nodes)), dtype=np.int8)
    for k, node in enumerate(nodes):
        codes[:, k] = slot_codes(controls, calendar, node.id) * np.int8(len(levels)) + level_at
    slots = _slot_table(controls.slots, len(nodes), levels)
    for k, node in enumerate(nodes):
        if node.switched:
            _by_the_clock(slots[k])
    return Packed(
        node_ids=tuple(node.id for node in nodes),
        nodes=records,
        slots=slots,
        plant=plant,
        take=take,
        give=give,
        codes=np.ascontiguousarray(codes),
        pv_dc=np.ascontiguousarray(pv),
        bank=usual_bank(len(nodes)),
        ac=ac_inputs_w,
        assumed=frozenset(assumed),
        reserves=len(levels),
    )
