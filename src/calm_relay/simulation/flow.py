"""The year run to a steady end (definitions D11), and the flow table with its sums."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from calm_relay.errors import Cancelled
from calm_relay.simulation.columns import ENERGY_COLUMNS, LOSS_COLUMNS, NODE, PV_ONLY_LOSS_NAMES, SYSTEM
from calm_relay.simulation.kernel.loops import put_columns, run_steps
from calm_relay.simulation.kernel.records import most_passes, rules_of, terms_of
from calm_relay.simulation.pack import Packed
from calm_relay.simulation.storing import loss_of

Array = NDArray[np.float64]
N_SYSTEM, N_NODE = len(SYSTEM), len(NODE)
MOST_RUNS = 50
STEADY_FRAC = 0.001
SPIN_UP_DAYS = 14
_CHUNK = 10_000  # steps between looks at the cancel flag
_KEEP_CHUNK = 576  # steps whose rows are put into columns together: they must stay in the processor's cache


@dataclass(frozen=True, eq=False)
class FlowTable:
    """A plan's year, step by step. Column names: ``columns.py``.

    Attributes
    ----------
    system : ndarray (steps, len(SYSTEM)), [W]
    nodes : ndarray (steps, nodes, len(NODE)), [W], the energies in Wh at the end of the step
    node_ids : tuple of str
    start_energy_wh, start_energy_pv_wh : ndarray (nodes,)
    step_h : float
    runs : int
        Years run until the end equalled the start; the last one is this table.
    steady : bool
    sums : ndarray (len(SYSTEM),), node_sums : ndarray (nodes, len(NODE))
        Columns summed over the steps; of the energies at the end of steps they mean nothing.
    steps_run : int
        Steps really computed, spin-up included.
    """

    system: Array
    nodes: Array
    node_ids: tuple[str, ...]
    start_energy_wh: Array
    start_energy_pv_wh: Array
    step_h: float
    runs: int
    steady: bool
    sums: Array
    node_sums: Array
    steps_run: int = 0
    assumed: frozenset[str] = field(default=frozenset())
    bytes_held: int = 0

    def column(self, name: str) -> Array:
        """Return one system column. (steps,) [W]"""
        return self.system[:, SYSTEM.index(name)]

    def node_column(self, node_id: str, name: str) -> Array:
        """Return one column of one node. (steps,) [W or Wh]"""
        return self.nodes[:, self.node_ids.index(node_id), NODE.index(name)]

    def lost_w(self, name: str, steps: slice = slice(None)) -> Array:
        """Return what one limit lost per step, by its name of `columns.LOSS_NAMES`: AC of PV-only inverters, DC of nodes. [W]"""
        lost: Array = self.nodes[steps, :, NODE.index(f"lost_{name}_w")].sum(axis=1)
        return self.column(f"pv_only_lost_{name}_w")[steps] + lost if name in PV_ONLY_LOSS_NAMES else lost

    def node_wh(self, node_id: str, name: str) -> float:
        """Return the energy of one node over the run, by its column of watts, from the sums. [Wh]"""
        return float(self.node_sums[self.node_ids.index(node_id), NODE.index(name)]) * self.step_h

    def lost_wh(self, name: str) -> float:
        """Return what one limit lost in the run, by its name: from the sums, without a look at the series. [Wh]"""
        lost = float(self.node_sums[:, NODE.index(f"lost_{name}_w")].sum())
        lost += float(self.sums[SYSTEM.index(f"pv_only_lost_{name}_w")]) if name in PV_ONLY_LOSS_NAMES else 0.0
        return lost * self.step_h

    @property
    def nbytes(self) -> int:
        """Bytes held: columns that are zero all year take none."""
        return self.bytes_held


class _Series:
    """The series of a run, column by column: whoever reads one reads it in one piece."""

    def __init__(self, steps: int, nodes: int) -> None:
        columns = N_SYSTEM + nodes * N_NODE
        self.table, self.touched = np.zeros((columns, steps)), np.zeros(columns, np.bool_)
        self.system: Array = self.table[:N_SYSTEM].T
        self.nodes: Array = self.table[N_SYSTEM:].reshape(nodes, N_NODE, steps).transpose(2, 0, 1)

    def put(self, first: int, system: Array, nodes: Array) -> None:
        """Put the rows of steps from `first` on, (steps, columns) and (steps, nodes, columns)."""
        put_columns(system, first, self.table[:N_SYSTEM], self.touched[:N_SYSTEM])
        put_columns(nodes.reshape(len(nodes), self.nodes.shape[1] * N_NODE), first, self.table[N_SYSTEM:], self.touched[N_SYSTEM:])

    @property
    def nbytes(self) -> int:
        return int(np.count_nonzero(self.touched)) * self.table.shape[1] * self.table.itemsize


def is_steady(before: Array, after: Array, capacity_wh: Array) -> NDArray[np.bool_]:
    """Return whether each battery ended as it began, energy and mix, (2, n) each, within 0.1 % of capacity (D11). (n,) [bool]"""
    steady: NDArray[np.bool_] = np.all(np.abs(after - before) <= STEADY_FRAC * capacity_wh + 1e-9, axis=0)
    return steady


def first_guess_wh(packed: Packed, nodes: NDArray[np.void]) -> Array:
    """Return the energy that a year's runs begin with (D11): SoC_min; without a grid SoC_max, for nothing may wake an empty bank.

    (nodes,) [Wh]
    """
    level = nodes["soc_max" if packed.plant["island"] else "soc_min"]
    guess: Array = level.astype(float) * nodes["capacity_wh"].astype(float)
    return guess


def run_year(packed: Packed, cancelled: Callable[[], bool] = lambda: False, *, series: bool = True) -> FlowTable:
    """Run the packed steps again and again until end energy and mix equal the start within 0.1 % of capacity.

    The last 14 days go first as a spin-up from the first guess, PV origin. Raises Cancelled.
    """
    n = len(packed.nodes)
    steps = len(packed.ac)
    capacity = packed.nodes["capacity_wh"].astype(float)
    energy = first_guess_wh(packed, packed.nodes)
    energy_pv = energy.copy()
    kept = _Series(steps, n) if series else None
    per_day = round(24.0 / float(packed.plant["step_h"]))
    spin_from = max(0, steps - SPIN_UP_DAYS * per_day) if n else steps
    _run(packed, spin_from, steps, energy, energy_pv, None, cancelled)
    steps_run = steps - spin_from
    steady, runs = False, 0
    sums, node_sums = np.zeros(N_SYSTEM), np.zeros((n, N_NODE))
    start, start_pv = energy.copy(), energy_pv.copy()
    most = 1 if packed.plant["island"] else MOST_RUNS  # what goes dark in its first winter says more than what stays dark
    while runs < most and not steady:
        start, start_pv = energy.copy(), energy_pv.copy()
        sums, node_sums = _run(packed, 0, steps, energy, energy_pv, kept, cancelled)
        runs += 1
        steps_run += steps
        steady = bool(np.all(is_steady(np.array([start, start_pv]), np.array([energy, energy_pv]), capacity)))
    return _table(packed, kept or _Series(0, n), (start, start_pv), (sums, node_sums), runs, steps_run, steady=steady)


def run_case(packed: Packed, energy_wh: Array, energy_pv_wh: Array) -> FlowTable:
    """Run the packed steps once from a stated start (definitions D11)."""
    steps = len(packed.ac)
    energy, energy_pv = np.array(energy_wh, dtype=float), np.array(energy_pv_wh, dtype=float)
    kept, start = _Series(steps, len(packed.nodes)), (energy.copy(), energy_pv.copy())
    sums = _run(packed, 0, steps, energy, energy_pv, kept, lambda: False)
    return _table(packed, kept, start, sums, 1, steps, steady=False)


def _table(
    packed: Packed,
    kept: _Series,
    start: tuple[Array, Array],
    sums: tuple[Array, Array],
    runs: int,
    steps_run: int,
    *,
    steady: bool,
) -> FlowTable:
    return FlowTable(
        system=kept.system,
        nodes=kept.nodes,
        node_ids=packed.node_ids,
        start_energy_wh=start[0],
        start_energy_pv_wh=start[1],
        step_h=float(packed.plant["step_h"]),
        runs=runs,
        steady=steady,
        sums=sums[0],
        node_sums=sums[1],
        steps_run=steps_run,
        assumed=packed.assumed,
        bytes_held=kept.nbytes,
    )


def _run(
    packed: Packed,
    first: int,
    last: int,
    energy: Array,
    energy_pv: Array,
    kept: _Series | None,
    cancelled: Callable[[], bool],
) -> tuple[Array, Array]:
    n = len(packed.nodes)
    shape = (0,) * n
    terms = terms_of(packed.nodes, float(packed.plant["step_h"]), packed.take, packed.give)
    rules = rules_of(packed.nodes, packed.slots)
    sums, node_sums = np.zeros(N_SYSTEM), np.zeros((n, N_NODE))
    chunk = _CHUNK if kept is None else _KEEP_CHUNK
    rows = 1 if kept is None else min(chunk, last - first)
    system, nodes = np.empty((rows, N_SYSTEM)), np.empty((rows, n, N_NODE))
    for begin in range(first, last, chunk):
        if cancelled():
            raise Cancelled("the year was cancelled")
        end = min(begin + chunk, last)
        run_steps(
            shape, most_passes(n), kept is not None, terms, rules, packed.plant, packed.codes, packed.pv_dc, packed.bank, packed.ac,
            begin, end, energy, energy_pv, system, nodes, sums, node_sums.ravel(),
        )  # fmt: skip
        if kept is not None:
            kept.put(begin, system[: end - begin], nodes[: end - begin])
    return sums, node_sums


def year_sums_wh(flow: FlowTable) -> tuple[dict[str, float], dict[str, dict[str, float]]]:
    """Return yearly sums by column, for the plan and by node: Wh for powers; for energies the change over the year."""
    system = {name: float(v) for name, v in zip(SYSTEM, flow.sums * flow.step_h, strict=True)}
    totals = flow.node_sums * flow.step_h
    by_node: dict[str, dict[str, float]] = {}
    for k, node_id in enumerate(flow.node_ids):
        row = {name: float(v) for name, v in zip(NODE, totals[k], strict=True)}
        for name, start in zip(ENERGY_COLUMNS, (flow.start_energy_wh[k], flow.start_energy_pv_wh[k]), strict=True):
            row[name] = float(flow.nodes[-1, k, NODE.index(name)] - start)
        by_node[node_id] = row
    return system, by_node


@dataclass(frozen=True)
class Balances:
    """Largest open balance of any step, as a share of the energy moved in that step (at least 1 W)."""

    bus: float
    battery: float
    pv: float
    origin: float

    @property
    def worst(self) -> float:
        """The largest of the four. [W/W]"""
        return max(self.bus, self.battery, self.pv, self.origin)


def open_balances(flow: FlowTable, packed: Packed) -> Balances:
    """Recompute the balances from the series: AC bus, every battery, every node's PV, and the traced flows."""
    s = {name: flow.system[:, i] for i, name in enumerate(SYSTEM)}
    node = {name: flow.nodes[:, :, i] for i, name in enumerate(NODE)}
    moved = np.maximum(1.0, s["load_w"] + s["own_draw_w"] + s["charge_ac_w"] + s["export_w"])
    out = node["ac_out_w"].sum(axis=1)
    served = s["load_w"] - s["unserved_w"]
    bus = s["pv_only_w"] + out + s["import_w"] - served - s["own_draw_w"] - s["export_w"] - node["ac_in_w"].sum(axis=1)
    traced = [
        s["pv_ac_w"] - s["pv_to_house_w"] - s["pv_to_own_w"] - s["pv_to_battery_w"] - s["pv_to_grid_w"],
        served - s["pv_to_house_w"] - s["battery_to_house_w"] - s["grid_to_house_w"],
        s["import_w"] - s["grid_to_house_w"] - s["grid_to_own_w"] - s["grid_to_battery_w"],
        s["export_w"] - s["pv_to_grid_w"] - s["battery_to_grid_w"],
        s["charge_ac_w"] - s["pv_to_battery_w"] - s["battery_to_battery_w"] - s["grid_to_battery_w"],
    ]
    origin = max(float(np.max(np.abs(t) / moved)) for t in traced)
    battery = pv = 0.0
    if flow.node_ids:
        before = np.vstack((flow.start_energy_wh[None, :], node["energy_wh"][:-1]))
        taken = node["pv_to_battery_w"] + node["charge_from_ac_w"]
        beside = node["battery_standby_w"] + node["auxiliary_w"]
        given = node["discharge_w"] + beside
        loss = loss_of(packed.nodes)
        moved_cells = loss.arrives_w(taken) - loss.leaves_w(node["discharge_w"], beside)
        change = flow.step_h * moved_cells
        held = np.where(packed.nodes["capacity_wh"] > 0, node["energy_wh"] - before - change, 0.0)
        battery = float(np.max(np.abs(held) / flow.step_h / np.maximum(1.0, taken + given)))
        used = sum(node[name] for name in ("pv_to_inverter_w", "pv_to_battery_w", "pv_standby_w", "pv_to_car_w", *LOSS_COLUMNS))
        pv = float(np.max(np.abs(node["pv_available_w"] - used) / np.maximum(1.0, node["pv_available_w"])))
    return Balances(float(np.max(np.abs(bus) / moved)), battery, pv, origin)
