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

from calm_relay.errors import Cancelled, NotFeasible
from calm_relay.job.models import Job, Plan
from calm_relay.job.rows import forming_rows
from calm_relay.library.book import CardBook
from calm_relay.simulation.columns import (
    AC_LOAD_B,
    AC_LOAD_G,
    AC_NEVER,
    AC_OWN_G,
    AC_PV_G,
    AC_PV_G_FIXED,
    NODE,
    SYS_UNSERVED,
    SYSTEM,
)
from calm_relay.simulation.island import plan_island
from calm_relay.simulation.kernel.loops import run_steps
from calm_relay.simulation.kernel.records import BACKUP, BANK_CAR, BANK_KEEP, most_passes, rules_of, terms_of
from calm_relay.simulation.pack import Packed
from calm_relay.year.plan_flow import PlanFlow

Array = NDArray[np.float64]
Serve = Literal["backed_up", "essential"]
SERVES: tuple[Serve, ...] = ("backed_up", "essential")
HOURS = 8760
MOST_H = 168
NOT_SERVED_W = 1e-3  # less is rounding
FULL_WH = 1e-6
CHUNK = 72  # steps between looks
ENERGY = NODE.index("energy_wh")
ENDLESS = np.iinfo(np.int64).max // 4


def served_ids(job: Job, plan: Plan, serve: Serve) -> frozenset[str]:
    """Return the loads that are to be served in an outage: all behind the transfer device, or of these what must stay on.

    Loads that batteries never feed, and those on surplus, stay off.
    """
    behind = plan.backed_up
    every = frozenset(a.id for a in job.house.counted if not a.never_from_battery and a.surplus == "no") | {"background"}
    backed = every if behind is None else behind & every
    if serve == "backed_up":
        return backed
    return frozenset(a.id for a in job.house.counted if a.essential and a.id in backed)


def check_outage(plan: Plan, cards: CardBook) -> None:
    """Raise NotFeasible where there is no outage to speak of: no grid that could go, or nothing that forms one."""
    if plan.off_grid:
        raise NotFeasible(f"plan {plan.letter} has no grid that could fail", "see Year for what is not served there")
    if plan.transfer is None:
        raise NotFeasible(
            f"plan {plan.letter} has no transfer device, so everything is dark as soon as the grid goes", "add one on Plans"
        )
    if not any(row.node.side == "backup" for row in forming_rows(plan, cards)):
        raise NotFeasible(
            f"plan {plan.letter} forms no grid behind its transfer device, so everything is dark as soon as the grid goes",
            "put a battery inverter or hybrid that forms a grid, with a battery, on the backup side",
        )


def outage_inputs(job: Job, plan: Plan, cards: CardBook, made: PlanFlow, serve: Serve) -> tuple[Packed, NDArray[np.int64]]:
    """Return the backup side of a plan's year as an island, and which of the plan's nodes stand there.

    Raises
    ------
    NotFeasible
        Where there is no grid to lose, no transfer device, or nothing behind it that forms a grid.
    """
    check_outage(plan, cards)
    packed = made.packed
    here = np.flatnonzero(packed.nodes["side"] == BACKUP)
    ids = served_ids(job, plan, serve)
    ac = packed.ac.copy()
    ac[:, [AC_LOAD_G, AC_NEVER, AC_PV_G, AC_PV_G_FIXED, AC_OWN_G]] = 0.0
    ac[:, AC_LOAD_B], _ = made.house.split_w(ids)
    bank = packed.bank[:, here, :].copy()
    bank[:, :, [BANK_KEEP, BANK_CAR]] = 0.0  # no room is kept in an outage, and no car is charged on a DC side
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
    part = plan.model_copy(update={"nodes": tuple(node for node in plan.nodes if node.id in stay or node.side == "backup")})
    return plan_island(side, part, cards, restart=0.0), here


def charge_at(made: PlanFlow, here: NDArray[np.int64], step: int) -> tuple[Array, Array]:
    """Return what the year's batteries hold when a step begins, and how much of it is from PV. (nodes,) each [Wh]"""
    flow = made.flow
    if step == 0:
        return flow.start_energy_wh[here].copy(), flow.start_energy_pv_wh[here].copy()
    row = flow.nodes[step - 1, :, :]
    return row[here, ENERGY].astype(float).copy(), row[here, NODE.index("energy_pv_wh")].astype(float).copy()


@dataclass(frozen=True, eq=False)
class RideThrough:
    """Hours from each hour of the year until the first energy goes unserved, at most `most_h`. (8760,) [h]"""

    hours_h: Array
    most_h: float

    def survived_frac(self, length_h: float, starts: NDArray[np.bool_] | NDArray[np.int64] | None = None) -> float:
        """Return the share of starts that a length is survived from, of all or of some: a mark an hour, or the hours. [0 to 1]"""
        rows = self.hours_h if starts is None else self.hours_h[starts]
        return float(np.mean(rows >= length_h - 1e-9)) if len(rows) else 0.0


def ride_through(
    packed: Packed,
    energies_wh: Array,
    most_h: float = MOST_H,
    cancelled: Callable[[], bool] = lambda: False,
    hours: NDArray[np.int64] | None = None,
) -> RideThrough:
    """Return how long an island lasts from each hour of the year, the year wrapping round.

    Parameters
    ----------
    energies_wh : ndarray (8760, nodes)
        What the batteries hold at each start. [Wh]
    hours : ndarray or None
        The starts that are asked for, rising; None: every hour. All others are NaN.

    Starts are taken from the last to the first: where a later start's way has met the same state, a full bank, the rest holds.
    Raises Cancelled.
    """
    steps, n = len(packed.ac), len(packed.nodes)
    per_hour = steps // HOURS
    need = round(most_h * per_hour)
    terms = terms_of(packed.nodes, float(packed.plant["step_h"]), packed.take, packed.give)
    rules = rules_of(packed.nodes, packed.slots)
    full = packed.nodes["soc_max"].astype(float) * packed.nodes["capacity_wh"].astype(float) - FULL_WH
    system, nodes = np.empty((CHUNK, len(SYSTEM))), np.empty((CHUNK, n, len(NODE)))
    sums, node_sums = np.zeros(len(SYSTEM)), np.zeros(n * len(NODE))
    fails, alive = (
        np.full(steps, ENDLESS),
        np.full(steps, -1),
    )  # from a full bank on: steps until it fails; for how many that is known
    out = np.empty(HOURS)
    shape, passes = (0,) * n, most_passes(n)

    def one(start: int, energy: Array) -> int:
        met: list[tuple[int, int]] = []
        pv, done, found = energy.copy(), 0, ENDLESS
        while done < need:
            at = (start + done) % steps
            size = min(CHUNK, need - done, steps - at)
            run_steps(
                shape, passes, True, terms, rules, packed.plant, packed.codes, packed.pv_dc, packed.bank, packed.ac, at, at + size,
                energy, pv, system, nodes, sums, node_sums,
            )  # fmt: skip
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

    out[:] = np.nan
    asked = np.arange(HOURS) if hours is None else hours
    for place, hour in enumerate(asked[::-1].tolist()):
        if place % 240 == 0 and cancelled():
            raise Cancelled("the outages were stopped")
        out[hour] = one(hour * per_hour, np.minimum(energies_wh[hour], full + FULL_WH)) / per_hour
    return RideThrough(out, most_h)


def energies_by_hour(made: PlanFlow, here: NDArray[np.int64]) -> Array:
    """Return what the year's batteries hold at the begin of each hour. (8760, nodes) [Wh]"""
    per_hour = len(made.flow.system) // HOURS
    ends = made.flow.nodes[:, :, ENERGY][:, here]
    before = np.vstack([made.flow.start_energy_wh[here][None, :], ends[:-1]])
    return np.ascontiguousarray(before[::per_hour], dtype=float)


def plan_ride_through(
    job: Job, plan: Plan, cards: CardBook, made: PlanFlow, serve: Serve, cancelled: Callable[[], bool] = lambda: False
) -> RideThrough:
    """Return how long a plan lasts from each hour of the year, for all that is backed up or for what must stay on alone."""
    packed, here = outage_inputs(job, plan, cards, made, serve)
    return ride_through(packed, energies_by_hour(made, here), cancelled=cancelled)
