"""The grid gone: a plan's backup side as an island, and how long it lasts from every hour of the year (definitions D16).

The island is the year's own step (docs/decisions 92): what stands on the grid side is dead, slots and reserve are off, what forms
the grid runs all the time. The charge at the start is the simulated year's at that hour, so a reserve counts as it does in life.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import YearCalendar, season_of_months
from calm_relay.errors import Cancelled, NotFeasible
from calm_relay.job.brief_models import Brief
from calm_relay.job.control_models import Controls
from calm_relay.job.house_models import House
from calm_relay.load.house import HouseYear
from calm_relay.plant.lines import background_shares, load_shares
from calm_relay.plant.offgrid import offgrid_lines_va
from calm_relay.plant.whole import Plant
from calm_relay.simulation.blocks import Steps
from calm_relay.simulation.columns import (
    AC_LOAD_B,
    AC_OWN_B,
    AC_PV_B,
    AC_PV_B_FIXED,
    NODE,
    SYS_UNSERVED,
    SYSTEM,
)
from calm_relay.simulation.island import plan_island
from calm_relay.simulation.kernel.loops import ENDLESS, NOT_SERVED_W, outlast_many
from calm_relay.simulation.kernel.records import BACKUP, BANK_CAR, BANK_KEEP, most_passes, rules_of, terms_of
from calm_relay.simulation.pack import Packed
from calm_relay.year.circuits import is_dead
from calm_relay.year.plan_flow import PlanFlow

Array = NDArray[np.float64]
Serve = Literal["backed_up", "essential"]
SERVES: tuple[Serve, ...] = ("backed_up", "essential")
HOURS = 8760
MOST_H = 168
FULL_WH = 1e-6
CHUNK = 72  # steps between looks
ENERGY = NODE.index("energy_wh")
AT_ONCE = 240  # starts between looks at whether it was cancelled
MOST_QUICK = 2  # nodes for which the whole way is compiled: more would make set-up longer


def served_ids(house: House, plant: Plant, serve: Serve) -> frozenset[str]:
    """Return the loads that are to be served in an outage: all behind the transfer device, or of these what must stay on.

    Loads that batteries never feed, and those on surplus, stay off, see the drill.
    """
    behind = plant.backed_up
    every = frozenset(a.id for a in house.counted if a.fed_by_batteries) | {"background"}
    backed = every if behind is None else behind & every
    if serve == "backed_up":
        return backed
    return frozenset(a.id for a in house.counted if a.essential and a.id in backed)


def check_outage(plant: Plant) -> None:
    """Raise NotFeasible where there is no outage to speak of: no grid that could go, or nothing that forms one."""
    if plant.off_grid:
        raise NotFeasible(f"plan {plant.letter} has no grid that could fail", "see Year for what is not served there")
    if plant.transfer is None:
        raise NotFeasible(
            f"plan {plant.letter} has no transfer device, so everything is dark as soon as the grid goes", "add one on Plans"
        )
    if not plant.forming:
        raise NotFeasible(
            f"plan {plant.letter} forms no grid behind its transfer device, so everything is dark as soon as the grid goes",
            "put a battery inverter or hybrid that forms a grid, with a battery, on the backup side",
        )


@dataclass(frozen=True, eq=False)
class Island:
    """The backup side of a plan's year as an island, which of the plan's nodes stand there, and watts on lines that are dead."""

    packed: Packed
    here: NDArray[np.int64]
    dead_w: Array


def outage_inputs(house: House, plant: Plant, made: PlanFlow, serve: Serve) -> Island:
    """Return the backup side of a plan's year as an island.

    Raises
    ------
    NotFeasible
        Where there is no grid to lose, no transfer device, or nothing behind it that forms a grid.
    """
    check_outage(plant)
    packed = made.packed
    here = np.flatnonzero(packed.nodes["side"] == BACKUP)
    ids = served_ids(house, plant, serve)
    ac = np.zeros_like(packed.ac)
    for column in (AC_PV_B, AC_PV_B_FIXED, AC_OWN_B):
        ac[:, column] = packed.ac[:, column]
    loads, dead = _on_lines(house, plant, made.house, ids)
    ac[:, AC_LOAD_B] = loads
    for node_id in dead_pv_ids(plant):
        column = made.pv_only_column[node_id]
        ac[:, column] = np.maximum(0.0, ac[:, column] - made.pv_only[node_id].ac_w)
    bank = packed.bank[:, here, :]
    bank[:, :, BANK_KEEP] = bank[:, :, BANK_CAR] = 0.0  # no room is kept in an outage, and no car is charged on a DC side
    stay = {packed.node_ids[k] for k in here}
    side = replace(
        packed,
        node_ids=tuple(packed.node_ids[k] for k in here),
        nodes=packed.nodes[here].copy(),
        slots=packed.slots[here].copy(),
        take=packed.take[here],
        give=packed.give[here],
        codes=np.ascontiguousarray(packed.codes[:, here]),
        pv_dc=np.ascontiguousarray(packed.pv_dc[:, here]),
        bank=np.ascontiguousarray(bank),
        ac=ac,
    )
    part = [station.converter for station in plant.stations if station.id in stay or station.side == "backup"]
    return Island(kept_for_morning(plan_island(side, part, plant.controls, restart=0.0), plant.controls), here, dead)


def kept_for_morning(packed: Packed, controls: Controls) -> Packed:
    """Return the island with what the plan keeps for the morning: below it loads are not served."""
    keep = controls.island_keep_soc_frac
    if keep <= 0:
        return packed
    nodes = packed.nodes.copy()
    nodes["peak_hold"] = nodes["soc_min"] + keep * (nodes["soc_max"] - nodes["soc_min"])
    return replace(packed, nodes=nodes)


def live_lines(plant: Plant) -> NDArray[np.bool_]:
    """Return on which lines something forms a grid; all where a card is silent. (lines,) [yes or no]"""
    made = offgrid_lines_va(plant)
    return np.ones(plant.lines.count, dtype=bool) if made is None else np.array(made) > 0


def dead_pv_ids(plant: Plant) -> tuple[str, ...]:
    """Return PV-only inverters of the backup side that stand on a line on which nothing forms a grid."""
    live = live_lines(plant)
    return tuple(station.id for station in plant.pv_behind if is_dead(station.shares, live))


def _on_lines(house: House, plant: Plant, year: HouseYear, ids: frozenset[str]) -> tuple[Array, Array]:
    """Return what of the loads lies on lines where something forms a grid, and what does not. (steps,) each [W]"""
    live = live_lines(plant)
    total, _ = year.split_w(ids)
    if live.all():
        return total, np.zeros_like(total)
    dead = np.zeros_like(total)
    for load in house.counted:
        if load.id in ids and is_dead(load_shares(load, len(live)), live):
            dead += year.appliance_w[load.id]
    if "background" in ids:
        dead += year.background_w * float(np.array(background_shares(house, len(live)))[~live].sum())
    return np.maximum(0.0, total - dead), dead


def charge_at(made: PlanFlow, here: NDArray[np.int64], step: int) -> tuple[Array, Array]:
    """Return what the year's batteries hold when a step begins, and how much of it is from PV. (nodes,) each [Wh]"""
    flow = made.flow
    if step == 0:
        return flow.start_energy_wh[here].copy(), flow.start_energy_pv_wh[here].copy()
    row = flow.part(slice(step - 1, step)).nodes[0]
    return row[here, ENERGY].copy(), row[here, NODE.index("energy_pv_wh")].copy()


@dataclass(frozen=True, eq=False)
class RideThrough:
    """Hours from each hour of the year until the first energy goes unserved, at most `most_h`; NaN: not asked. (8760,) [h]"""

    hours_h: Array
    most_h: float

    @property
    def worst_h(self) -> float:
        """Hours that the worst start lasts. [h]"""
        return float(np.nanmin(self.hours_h))

    def survived_frac(self, length_h: float, starts: NDArray[np.bool_] | NDArray[np.int64] | None = None) -> float:
        """Return the share of starts that a length is survived from, of all or of some: a mark an hour, or the hours. [0 to 1]"""
        rows = self.hours_h if starts is None else self.hours_h[starts]
        rows = rows[~np.isnan(rows)]
        return float(np.mean(rows >= length_h - 1e-9)) if len(rows) else 0.0


def ride_through(
    packed: Packed,
    energies_wh: Array,
    most_h: float = MOST_H,
    cancelled: Callable[[], bool] = lambda: False,
    hours: NDArray[np.int64] | None = None,
    dead_w: Array | None = None,
) -> RideThrough:
    """Return how long an island lasts from each hour of the year, the year wrapping round.

    Parameters
    ----------
    energies_wh : ndarray (8760, nodes)
        What the batteries hold at each start. [Wh]
    hours : ndarray or None
        The starts that are asked for, rising; None: every hour. All others are NaN.
    dead_w : ndarray (steps,) or None
        What is asked for on lines on which nothing forms a grid: it is not served from its first step on. [W]

    Starts are taken from the last to the first: where a later start's way has met the same state, a full bank, the rest holds; and
    with one node a way that comes to a later start's hour with no less energy lasts no less. Raises Cancelled.
    """
    steps, n = len(packed.ac), len(packed.nodes)
    per_hour = steps // HOURS
    need = round(most_h * per_hour)
    full = packed.nodes["soc_max"].astype(float) * packed.nodes["capacity_wh"].astype(float) - FULL_WH
    starts = np.ascontiguousarray(np.minimum(energies_wh, full + FULL_WH))
    out, asked = np.full(HOURS, np.nan), np.arange(HOURS) if hours is None else hours
    many = _compiled_ways(packed, starts, full, need, per_hour) if n <= MOST_QUICK else _ways(packed, starts, full, need, per_hour)
    falling = asked[::-1].astype(np.int64)
    for place in range(0, len(falling), AT_ONCE):
        if cancelled():
            raise Cancelled("the outages were stopped")
        part = falling[place : place + AT_ONCE]
        out[part] = many(part)
    if dead_w is not None and dead_w.any():
        out[falling] = np.minimum(out[falling], _next_dark(dead_w, falling * per_hour))
    out /= per_hour
    return RideThrough(out, most_h)


def _next_dark(dead_w: Array, begins: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return after how many steps from each begin the first load on a dead line asks for power."""
    at = np.flatnonzero(dead_w > NOT_SERVED_W)
    if not len(at):
        return np.full(len(begins), ENDLESS)
    round_again = np.concatenate((at, at[:1] + len(dead_w)))
    found: NDArray[np.int64] = round_again[np.searchsorted(round_again, begins)] - begins
    return found


Ways = Callable[[NDArray[np.int64]], NDArray[np.int64]]


def _compiled_ways(packed: Packed, starts: Array, full: Array, need: int, per_hour: int) -> Ways:
    """Return a function that runs starts of few nodes in one call, falling, and remembers what later starts met."""
    steps, n = len(packed.ac), len(packed.nodes)
    terms = terms_of(packed.nodes, float(packed.plant["step_h"]), packed.take, packed.give)
    rules = rules_of(packed.nodes, packed.slots)
    fails, alive = np.full(steps, ENDLESS), np.full(steps, -1)
    begins, lasts = np.ascontiguousarray(starts[:, 0]), np.full(HOURS, -1)
    met, passes, shape = np.zeros(need, dtype=np.int64), most_passes(n), (0,) * n
    system, nodes = np.zeros((1, len(SYSTEM))), np.zeros((1, n, len(NODE)))

    def many(hours: NDArray[np.int64]) -> NDArray[np.int64]:
        outlast_many(
            shape, passes, terms, rules, packed.plant, packed.codes, packed.pv_dc, packed.bank, packed.ac.T, hours, need, per_hour,
            starts, full, fails, alive, begins, lasts, met, system, nodes,
        )  # fmt: skip
        return lasts[hours]

    return many


def _ways(packed: Packed, starts: Array, full: Array, need: int, per_hour: int) -> Ways:
    """Return a function that does the same for plans of many nodes, some steps at a time."""
    steps, n = len(packed.ac), len(packed.nodes)
    runner, system, nodes = Steps(packed), np.empty((CHUNK, len(SYSTEM))), np.empty((CHUNK, n, len(NODE)))
    fails, alive = np.full(steps, ENDLESS), np.full(steps, -1)  # from a full bank: steps until it fails; for how many that is known

    def one(hour: int) -> int:
        start, energy = hour * per_hour, starts[hour].copy()
        met: list[tuple[int, int]] = []
        pv, done, found = energy.copy(), 0, ENDLESS
        while done < need:
            at = (start + done) % steps
            size = min(CHUNK, need - done, steps - at)
            runner.run(at, at + size, (energy, pv), system, nodes)
            dark = np.flatnonzero(system[:size, SYS_UNSERVED] > NOT_SERVED_W)
            upto = int(dark[0]) if len(dark) else size
            topped = np.flatnonzero(np.all(nodes[:upto, :, ENERGY] >= full, axis=1)) if upto else dark
            if len(topped):
                place, after = (at + int(topped[0]) + 1) % steps, done + int(topped[0]) + 1
                if alive[place] >= 0 and (fails[place] < ENDLESS or alive[place] >= need - after):
                    found = after + int(fails[place]) if fails[place] < ENDLESS else ENDLESS
                    break
                met.append((place, after))
            if len(dark):
                found = done + upto
                break
            done += size
        for place, after in met:
            fails[place] = found - after if found < ENDLESS else ENDLESS
            alive[place] = need - after
        return min(found, need)

    return lambda hours: np.array([one(hour) for hour in hours.tolist()])


def outage_length_h(brief: Brief) -> float:
    """Return the longest outage the brief names, a day where it names none. [h]"""
    return brief.longest_h or 24.0


def brief_hours(brief: Brief, latitude_deg: float, calendar: YearCalendar) -> NDArray[np.int64]:
    """Return the hours of the year in the brief's season; all where it names none. [number]"""
    season = brief.outage_season
    if season == "any":
        return np.arange(HOURS)
    month = calendar.month[:: calendar.steps // HOURS]
    return np.flatnonzero(np.isin(month, season_of_months(latitude_deg)[season]))


@dataclass(frozen=True)
class Asked:
    """What the brief asks of an outage: its season, for how long, and in which hours of the year it may begin. [h]"""

    season: str
    length_h: float
    hours: NDArray[np.int64]


def asked_of(brief: Brief, latitude_deg: float, calendar: YearCalendar) -> Asked:
    """Return what the brief asks of an outage."""
    return Asked(brief.outage_season, outage_length_h(brief), brief_hours(brief, latitude_deg, calendar))


def brief_survival(
    asked: Asked, house: House, plant: Plant, made: PlanFlow, cancelled: Callable[[], bool] = lambda: False
) -> tuple[float, float, str] | None:
    """Return from which share of the brief's season its longest outage is survived by what must stay on, the length and the season.

    None where nothing must stay on, or there is no outage to speak of. [0 to 1], [h]
    """
    if not served_ids(house, plant, "essential"):
        return None
    try:
        island = outage_inputs(house, plant, made, "essential")
    except NotFeasible:
        return None
    length = min(asked.length_h, float(MOST_H))
    return island_ride(island, made, length, asked.hours, cancelled).survived_frac(length, asked.hours), length, asked.season


def energies_by_hour(made: PlanFlow, here: NDArray[np.int64]) -> Array:
    """Return what the year's batteries hold at the begin of each hour. (8760, nodes) [Wh]"""
    flow = made.flow
    per_hour = flow.steps // HOURS
    ends = [flow.node_column(flow.node_ids[k], "energy_wh")[per_hour - 1 : -1 : per_hour] for k in here.tolist()]
    return np.ascontiguousarray(np.hstack([flow.start_energy_wh[here][:, None], np.array(ends).reshape(len(here), -1)]).T)


def island_ride(
    island: Island, made: PlanFlow, most_h: float = MOST_H, hours: NDArray[np.int64] | None = None,
    cancelled: Callable[[], bool] = lambda: False,
) -> RideThrough:  # fmt: skip
    """Return how long an island lasts from each hour, begun with the charge the plan's year has then."""
    return ride_through(island.packed, energies_by_hour(made, island.here), most_h, cancelled, hours, island.dead_w)


def plan_ride_through(
    house: House, plant: Plant, made: PlanFlow, serve: Serve, cancelled: Callable[[], bool] = lambda: False
) -> RideThrough:
    """Return how long a plan lasts from each hour of the year, for all that is backed up or for what must stay on alone."""
    island = outage_inputs(house, plant, made, serve)
    return island_ride(island, made, cancelled=cancelled)
