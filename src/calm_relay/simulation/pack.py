"""The one place where a plan becomes the kernel's arrays, checked and cast."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import YearCalendar, in_window
from calm_relay.errors import NotFeasible
from calm_relay.job.models import BatteryOrder, Controls, Node, Plan, Slot
from calm_relay.job.rows import battery_side_nodes
from calm_relay.library.book import CardBook
from calm_relay.library.cards import BatterySideUnit
from calm_relay.pv.array import night_w
from calm_relay.simulation import chain
from calm_relay.simulation.columns import AC
from calm_relay.simulation.kernel import (
    BACKUP,
    CHARGE_FROM_GRID,
    GRID,
    HOLD,
    NODE_DTYPE,
    OWN_USE,
    PLANT_DTYPE,
    SLOT_DTYPE,
    SURPLUS_ONLY,
)

Array = NDArray[np.float64]
SLOT_KINDS = {"charge_from_grid": CHARGE_FROM_GRID, "surplus_only": SURPLUS_ONLY, "hold": HOLD}


@dataclass(frozen=True)
class SiteLimits:
    """Limits at the meter and through the transfer device; infinity where there is none. [W]"""

    export_w: float = math.inf
    import_w: float = math.inf
    transfer_w: float = math.inf


@dataclass(frozen=True, eq=False)
class Packed:
    """Kernel inputs of one plan; `node_ids` in priority order, `assumed` names every value no card gave.

    `take`, `give` (2, nodes): nodes in the order in which they charge and discharge, and the group that each shares with.
    """

    node_ids: tuple[str, ...]
    nodes: NDArray[np.void]
    slots: NDArray[np.void]
    plant: np.void
    take: NDArray[np.int64]
    give: NDArray[np.int64]
    codes: NDArray[np.int8]
    pv_dc: Array
    ac: Array
    assumed: frozenset[str]

    def ac_column(self, *names: str) -> Array:
        """Return the sum of columns of what enters at AC, (steps,). [W]"""
        found: Array = self.ac[:, [AC.index(name) for name in names]].sum(axis=1)
        return found

    @property
    def load_w(self) -> Array:
        """The house, both sides. [W]"""
        return self.ac_column("load_b_w", "load_g_w")

    @property
    def pv_only_w(self) -> Array:
        """PV-only inverters before any cut. [W]"""
        return self.ac_column("pv_b_w", "pv_g_w", "pv_b_fixed_w", "pv_g_fixed_w")


def transfer_limit_w(plan: Plan, cards: CardBook, voltage_v: float, phases: int) -> float:
    """Return V·I·phases of the plan's transfer device; infinity without a device or a figure on its card. [W]"""
    amps = cards.transfer(plan.transfer.card).pass_through_a if plan.transfer else None
    return math.inf if amps is None else voltage_v * amps * phases


def inverter_pass_w(node: Node, cards: CardBook) -> float:
    """Return the DC watts that an inverter (or `count` like ones) passes at its AC rating. [W]"""
    card = cards.inverter(node.card)
    return card.dc_w(card.ac_rated_w) * node.count


def _node_record(node: Node, unit: BatterySideUnit, cards: CardBook, reserve: float, assumed: set[str]) -> np.void:
    out: np.void = np.zeros(1, NODE_DTYPE)[0]
    place = f"nodes[{node.id}]"

    def known(value: float | None, fallback: float, what: str) -> float:
        if value is None:
            assumed.add(f"{place}: {what}")
            return fallback
        return value

    losses = unit.charger_loss
    if unit.charge_loss is None:
        assumed.add(f"{place}: charger loss as the inverter's")
    night, night_assumed = night_w(unit)
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
    to_battery = cards.inverter(node.card).pv_to_battery_max_w
    if to_battery is not None:
        out["pv_to_battery_w"] = to_battery
    out["eta_c"] = out["eta_d"] = out["soc_max"] = out["taper_soc"] = out["taper_end"] = 1.0
    if node.battery is None:
        return out
    battery = cards.battery(node.battery.card)
    low, high = chain.soc_window(battery, node.battery)
    charging = chain.charge_chain(unit, battery, node.battery)
    giving = chain.discharge_chain(unit, battery, node.battery)
    charge = known(chain.terminals_limit_w(charging), unit.ac_rated_w, "battery charge limit, the AC rating")
    give = known(chain.terminals_limit_w(giving), unit.ac_rated_w, "battery discharge limit, the AC rating")
    eta = battery.one_way_frac
    out["capacity_wh"] = battery.capacity_wh * node.battery.modules * node.battery.state_of_health_frac
    out["soc_min"], out["soc_max"], out["reserve"] = low, high, min(reserve, high)
    out["charge_w"], out["discharge_w"], out["eta_c"], out["eta_d"] = charge, give, eta, eta
    out["taper_soc"], out["taper_end"] = battery.taper_soc_frac, battery.taper_end_frac
    out["auxiliary_w"] = battery.auxiliary_w
    return out


def slot_codes(controls: Controls, calendar: YearCalendar) -> NDArray[np.int8]:
    """Return the slot in force per step (0: own use, i + 1: the i-th slot), by clock time; a later slot wins. (steps,) [number]"""
    codes = np.zeros(calendar.steps, dtype=np.int8)
    for number, slot in enumerate(controls.slots, start=1):
        here = in_window(calendar.clock_hour, slot.start_h, slot.end_h)
        if slot.months:
            here &= np.isin(calendar.clock_month, slot.months)
        codes[here] = number
    return codes


def sharing(records: NDArray[np.void], order: BatteryOrder) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return who charges and who discharges in which order, and who shares with whom (definitions D6), each (2, nodes).

    Like units (all but side and reserve the same) share in proportion; groups charge by the priority of their first member and
    give by the best round trip. An option sets one rule for all: priority, best round trip or proportion.
    """
    n = len(records)
    alone = np.arange(n)
    by_trip = np.argsort([-float(r["eta_c"] * r["eta_d"]) for r in records], kind="stable") if n else alone
    if order == "in_proportion":
        both = np.array([alone, np.zeros(n)], dtype=np.int64)
        return both, both
    if order in ("priority", "best_round_trip"):
        both = np.array([alone if order == "priority" else by_trip, alone], dtype=np.int64)
        return both, both
    names = [name for name in records.dtype.names or () if name not in ("side", "reserve")]
    kinds = [tuple(float(r[name]) for name in names) for r in records]
    group = np.array([kinds.index(kind) for kind in kinds], dtype=np.int64)  # the first of its kind stands for it

    def ordered(rank: dict[int, int]) -> NDArray[np.int64]:
        places = sorted(range(n), key=lambda k: (rank[int(group[k])], k))
        return np.array([places, group[places]], dtype=np.int64).reshape(2, n)

    firsts = [k for k in by_trip if group[k] == k]
    return ordered({k: k for k in range(n)}), ordered({int(k): place for place, k in enumerate(firsts)})


def _slot_table(slots: tuple[Slot, ...], n: int) -> NDArray[np.void]:
    table = np.zeros((max(n, 1), len(slots) + 1), SLOT_DTYPE)
    table["kind"][:, 0] = OWN_USE
    for number, slot in enumerate(slots, start=1):
        table["kind"][:, number] = SLOT_KINDS[slot.kind]
        table["power_w"][:, number] = slot.power_w
        table["target"][:, number] = slot.target_soc_frac
        table["floor"][:, number] = slot.floor_soc_frac
    return table[:n]


def pack_plan(
    plan: Plan,
    cards: CardBook,
    calendar: YearCalendar,
    limits: SiteLimits,
    pv_dc_w: dict[str, Array],
    ac_inputs_w: Array,
) -> Packed:
    """Return the kernel's inputs for a plan.

    Parameters
    ----------
    pv_dc_w : dict of node id → ndarray (steps,)
        DC PV after the trackers of each node that has some. [W]
    ac_inputs_w : ndarray (steps, len(AC))
        Columns as in `columns.AC_COLUMNS`. [W]

    Raises
    ------
    NotFeasible
        When there are more nodes with battery terminals than the kernel carries, or arrays do not fit.
    """
    rows = battery_side_nodes(plan, cards)
    nodes = [node for node, _ in rows]
    if len(nodes) > 4:
        raise NotFeasible(f"{len(nodes)} battery or hybrid inverters in one plan", "use at most 4")
    steps = calendar.steps
    if ac_inputs_w.shape != (steps, len(AC)):
        raise NotFeasible(f"inputs of shape {ac_inputs_w.shape} for {steps} steps", f"give one row a step, {len(AC)} columns")
    assumed: set[str] = set()
    records = np.zeros(len(nodes), NODE_DTYPE)
    for k, (node, unit) in enumerate(rows):
        records[k] = _node_record(node, unit, cards, plan.controls.reserve_soc_frac, assumed)
    pv = np.zeros((steps, len(nodes)))
    for k, node in enumerate(nodes):
        if node.id in pv_dc_w:
            pv[:, k] = pv_dc_w[node.id]
    plant = np.zeros(1, PLANT_DTYPE)[0]
    plant["step_h"] = calendar.step_h
    plant["export_w"], plant["import_w"], plant["transfer_w"] = limits.export_w, limits.import_w, limits.transfer_w
    plant["bias_w"] = plan.controls.meter_bias_w
    take, give = sharing(records, plan.controls.battery_order)
    code = slot_codes(plan.controls, calendar)
    codes = np.repeat(code[:, None], len(nodes), axis=1).astype(np.int8)
    return Packed(
        node_ids=tuple(node.id for node in nodes),
        nodes=records,
        slots=_slot_table(plan.controls.slots, len(nodes)),
        plant=plant,
        take=take,
        give=give,
        codes=np.ascontiguousarray(codes),
        pv_dc=np.ascontiguousarray(pv),
        ac=np.ascontiguousarray(ac_inputs_w, dtype=np.float64),
        assumed=frozenset(assumed),
    )
