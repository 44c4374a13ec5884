"""A plan's year: PV-only inverters on their side of the AC bus, the rest packed and run; loads on surplus settled by rank."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import YearCalendar
from calm_relay.errors import NotFeasible
from calm_relay.load.house import HouseYear
from calm_relay.load.surplus import on_surplus
from calm_relay.plant.station import Converter
from calm_relay.plant.whole import Plant
from calm_relay.pv.array import PvOnlyOutput, pv_only_output
from calm_relay.simulation.changes import with_changes
from calm_relay.simulation.columns import (
    AC,
    AC_LOAD_B,
    AC_LOAD_G,
    AC_NEVER,
    AC_OWN_B,
    AC_OWN_G,
    AC_PV_B,
    AC_PV_B_FIXED,
    AC_PV_G,
    AC_PV_G_FIXED,
)
from calm_relay.simulation.flow import FlowTable, run_year
from calm_relay.simulation.island import plan_island
from calm_relay.simulation.pack import Packed, SiteLimits, pack_plan
from calm_relay.year.cells import limits_by_warmth
from calm_relay.year.inputs import FlowInputs
from calm_relay.year.stages import NodeDc

Array = NDArray[np.float64]
Cancel = Callable[[], bool]
PV_COLUMNS = {
    ("backup", True): AC_PV_B, ("grid", True): AC_PV_G, ("backup", False): AC_PV_B_FIXED, ("grid", False): AC_PV_G_FIXED,
}  # fmt: skip
OWN_COLUMNS = {"backup": AC_OWN_B, "grid": AC_OWN_G}
RANKS: tuple[Literal["before_battery", "after_battery"], ...] = ("before_battery", "after_battery")


@dataclass(frozen=True, eq=False)
class PlanFlow:
    """A plan's year with what went into it.

    `house` is the house as it drew at AC in this plan, loads on surplus included, a car on a DC side not; `left_over_w` is what
    loads that come after the battery took of the surplus: it was the battery's first. [W]
    """

    flow: FlowTable
    packed: Packed
    pv_only: dict[str, PvOnlyOutput]
    dc: dict[str, NodeDc]
    house: HouseYear
    left_over_w: Array
    pv_only_column: dict[str, int] = field(default_factory=dict)  # of the AC table, which tells side and whether it can be cut

    def pv_only_ac_w(self, node_id: str, steps: slice = slice(None)) -> Array:
        """Return a PV-only inverter's AC output after what limits cut (definitions D6 (6), D8), alike within a side. (steps,) [W]

        The device cuts those of the backup side, the export cap those of the grid side first.
        """
        offered, at = self.pv_only[node_id].ac_w[steps], self.pv_only_column[node_id]
        if at not in (AC_PV_B, AC_PV_G):
            return offered
        group = {c: sum((self.pv_only[i].ac_w[steps] for i, own in self.pv_only_column.items() if own == c), np.zeros(len(offered)))
                 for c in (AC_PV_B, AC_PV_G)}  # fmt: skip
        by_device, by_cap, by_island = (self.flow.column(f"pv_only_lost_{n}_w")[steps] for n in ("device", "cap", "island"))
        if self.packed.plant["island"] > 0:  # all that stands there is held back alike
            whole = self.packed.ac_column("pv_b_w")[steps]
            return offered * (1.0 - np.divide(by_island, whole, out=np.zeros_like(whole), where=whole > 0))
        first = np.minimum(by_cap, group[AC_PV_G])
        cut = first if at == AC_PV_G else by_device + by_cap - first
        return offered * (1.0 - np.divide(cut, group[at], out=np.zeros_like(cut), where=group[at] > 0))

    @property
    def nbytes(self) -> int:
        """Bytes held by the series."""
        arrays = self.packed.ac.nbytes + self.packed.pv_dc.nbytes + self.packed.bank.nbytes + self.packed.codes.nbytes
        return self.flow.nbytes + arrays + sum(7 * out.ac_w.nbytes for out in self.pv_only.values())


def check_sensor(plant: Plant) -> None:
    """Raise NotFeasible where the sensor stands at the transfer device and a battery on the grid side of it."""
    beyond = [station.name for station in plant.battery_side if station.side == "grid"]
    if beyond and plant.controls.sensor == "device":
        raise NotFeasible(
            f"the sensor stands at the transfer device, and {' and '.join(beyond)} on the grid side of it",
            "measure at the meter, or put it on the backup side",
        )


def make_flow(
    inputs: FlowInputs,
    calendar: YearCalendar,
    house: HouseYear,
    dc: dict[str, NodeDc],
    air_c: Array,
    cancelled: Cancel = lambda: False,
) -> PlanFlow:
    """Run a plan's year; `air_c` (steps,) is the air's temperature. [°C]

    Loads on surplus are settled first: a load that comes before the battery takes what a run without batteries would export, one
    after it what the run with them exports, each day up to its need (`load.surplus`). Since it takes no more than was spare, the
    batteries of the last run do what they did without it.
    """
    left_over = np.zeros(calendar.steps)
    if inputs.surplus:
        needs = {load.id: house.appliance_w[load.id] for load in inputs.surplus}
        house = house.with_loads({name: np.zeros(calendar.steps) for name in needs})
        for rank in RANKS:
            loads = [load for load in inputs.surplus if load.rank == rank]
            if not loads:
                continue
            measured = inputs if rank == "after_battery" else _without_batteries(inputs)
            spare = spare_ac_w(_run(measured, calendar, house, dc, air_c, cancelled), measured.converters)
            for load in loads:
                year = on_surplus(load, needs[load.id], spare, calendar)
                if rank == "after_battery":
                    left_over += np.minimum(year, spare)
                house, spare = house.with_loads({load.id: year}), np.maximum(0.0, spare - year)
    return replace(_run(inputs, calendar, house, dc, air_c, cancelled), left_over_w=left_over)


def _warmth(
    inputs: FlowInputs, calendar: YearCalendar, air_c: Array
) -> tuple[dict[str, tuple[Array, Array, Array]], frozenset[str]]:
    """Return what the cells' temperature leaves of each bank, and what had to be assumed because its place is not chosen."""
    found, unknown, places = {}, set(), dict(inputs.places)
    for node in inputs.converters:
        if node.bank is None:
            continue
        if node.bank.place is None:
            unknown.add(
                f"nodes[{node.id}]: the cells' temperature, never too cold or too warm, since the bank's place is not chosen"
            )
            continue
        limits = limits_by_warmth(node.bank.cells, air_c, places[node.bank.place], calendar.step_h)
        if limits is not None:
            found[node.id] = limits
    return found, frozenset(unknown)


def _without_batteries(inputs: FlowInputs) -> FlowInputs:
    return replace(inputs, converters=tuple(replace(node, bank=None) for node in inputs.converters))


def spare_ac_w(made: PlanFlow, converters: Sequence[Converter]) -> Array:
    """Return PV at AC that a further load could have had: exported, or held back by the export cap or for want of a grid. [W]"""
    flow = made.flow
    spare: Array = flow.column("pv_to_grid_w") + flow.column("pv_only_lost_cap_w") + flow.column("pv_only_lost_island_w")
    for node in converters:
        if not node.unit.battery_terminals:
            continue
        unit, held = node.unit, flow.node_column(node.id, "lost_cap_w") + flow.node_column(node.id, "lost_island_w")
        if held.any():
            into = flow.node_column(node.id, "pv_to_inverter_w")
            more = unit.ac_w(into + held) - unit.ac_w(into)
            spare += np.clip(more, 0.0, np.maximum(0.0, unit.ac_rated_w - flow.node_column(node.id, "ac_out_w")))
    return spare


def _run(
    inputs: FlowInputs,
    calendar: YearCalendar,
    house: HouseYear,
    dc: dict[str, NodeDc],
    air_c: Array,
    cancelled: Cancel,
) -> PlanFlow:
    """Put PV-only inverters on their side of the AC bus, pack the rest and run the year."""
    charged = {node.id: node.dc_car for node in inputs.converters if node.dc_car in house.appliance_w and node.dc_car}
    cars = {node_id: house.appliance_w[load] for node_id, load in charged.items()}
    at_ac = house.with_loads({load: np.zeros(calendar.steps) for load in charged.values()})
    load_b, load_g = at_ac.split_w(inputs.backed_up)
    ac = np.zeros((calendar.steps, len(AC)), order="F")
    ac[:, AC_LOAD_B], ac[:, AC_LOAD_G] = load_b, load_g
    for load_id in inputs.kept_off:
        ac[:, AC_NEVER] += at_ac.appliance_w[load_id]
    caps = inputs.caps
    outputs: dict[str, PvOnlyOutput] = {}
    columns: dict[str, int] = {}
    for node in inputs.converters:
        if node.unit.battery_terminals:
            continue
        out = pv_only_output(dc[node.id].available_w, node.unit, caps.power_factor)
        outputs[node.id] = out
        columns[node.id] = PV_COLUMNS[node.side, node.unit.controllable]
        ac[:, columns[node.id]] += out.ac_w
        ac[:, OWN_COLUMNS[node.side]] += out.own_draw_w
    limits = SiteLimits(
        math.inf if caps.export_w is None else caps.export_w,
        math.inf if caps.import_w is None else caps.import_w,
        math.inf if inputs.transfer_w is None else inputs.transfer_w,
    )
    pv = {node_id: d.available_w for node_id, d in dc.items()}
    packed = pack_plan(inputs.converters, inputs.controls, calendar, limits, pv, ac, inputs.reserves)
    packed.nodes["ac_out_w"] *= caps.power_factor  # P = S·cos φ at a fixed power factor (definitions D14)
    room: Literal["no", "foresight", "yesterday"] = "no" if inputs.off_grid else inputs.controls.leave_room
    if inputs.off_grid:
        packed = plan_island(packed, inputs.converters, inputs.controls)
    warmth, unknown = _warmth(inputs, calendar, air_c)
    packed = with_changes(replace(packed, assumed=packed.assumed | unknown), room, warmth, cars)
    return PlanFlow(
        flow=run_year(packed, cancelled),
        packed=packed,
        pv_only=outputs,
        dc=dc,
        house=at_ac,
        left_over_w=np.zeros(calendar.steps),
        pv_only_column=columns,
    )
