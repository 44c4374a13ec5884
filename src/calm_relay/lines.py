"""Phases of a three-phase supply, or legs of a split-phase one: what each carries, in the house and at the meter."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import YearCalendar
from calm_relay.job.house_models import House
from calm_relay.job.models import Job, Node, Plan, Supply
from calm_relay.library.cards import AcUnit, BatterySideUnit, Card
from calm_relay.load.house import HouseYear
from calm_relay.plan_flow import PlanFlow

Array = NDArray[np.float64]
COUNT = {"single_phase": 1, "split_phase": 2, "three_phase": 3}


def line_count(supply: Supply) -> int:
    """Return how many lines there are: 1, two legs, or three phases."""
    return COUNT[supply.kind]


def line_name(supply: Supply, index: int) -> str:
    """Return the name of a line, counted from 0."""
    return f"{'leg' if supply.kind == 'split_phase' else 'phase'} {index + 1}"


def shares_of(line: str, count: int) -> Array:
    """Return how something lies on the lines, (count,), its sum 1; a line that the supply does not have counts as the last."""
    if line == "all" or count == 1:
        return np.full(count, 1.0 / count)
    shares: Array = np.eye(count)[min(int(line), count) - 1]
    return shares


def node_shares(node: Node, card: Card, count: int) -> Array:
    """Return how an inverter lies on the lines. `auto`: alike on all for what has three phases, or on two legs; else the first.

    Like units in a number that fills the phases are taken as spread over them.
    """
    if node.line != "auto":
        return shares_of(node.line, count)
    spread = count < 3 or (isinstance(card, AcUnit) and card.phases == 3) or node.count >= count
    return shares_of("all" if spread else "1", count)


def background_shares(house: House, count: int) -> Array:
    """Return how the background lies on the lines; typed shares are scaled to a sum of 1."""
    typed = np.array((house.background_lines_frac or (1.0, 1.0, 1.0))[:count], dtype=float)
    return typed / typed.sum() if typed.sum() > 0 else np.full(count, 1.0 / count)


def house_lines_w(house: House, year: HouseYear, supply: Supply) -> Array:
    """Return what the house draws from each line, (steps, lines). [W]"""
    count = line_count(supply)
    out = np.outer(year.background_w, background_shares(house, count))
    for load in house.counted:
        out += np.outer(year.appliance_w[load.id], shares_of(load.line, count))
    return out


def net_lines_w(job: Job, plan: Plan, cards: dict[str, Card], made: PlanFlow) -> Array:
    """Return what each line draws from the grid, below 0 where it gives, (steps, lines); its sum is import − export. [W]

    Inverters see the sum of the lines (definitions D6): one on a single phase serves the whole house through the meter. PV-only
    output that a limit cut is cut alike on all of them.
    """
    supply, flow = job.site.supply, made.flow
    count = line_count(supply)
    net = house_lines_w(job.house, made.house, supply)
    offered = np.zeros(len(net))
    for out in made.pv_only.values():
        offered += out.ac_w
    kept = np.divide(flow.column("pv_only_w"), offered, out=np.ones_like(offered), where=offered > 0)
    for node in plan.nodes:
        shares = node_shares(node, cards[node.card], count)
        if node.id in made.pv_only:
            out = made.pv_only[node.id]
            net += np.outer(out.own_draw_w - out.ac_w * kept, shares)
        elif node.id in flow.node_ids:
            taken = flow.node_column(node.id, "ac_in_w") + flow.node_column(node.id, "ac_own_w")
            net += np.outer(taken - flow.node_column(node.id, "ac_out_w"), shares)
    return net


@dataclass(frozen=True)
class LineFacts:
    """One line's year: the house on it, its backup side against what is made there with the grid gone, and the meter.

    `limit_va` is None where nothing forms the grid or a card is silent; `day_w` is the mean day by clock hour.
    """

    name: str
    energy_wh: float
    peak_w: float
    backed_peak_va: float
    limit_va: float | None
    over_h: float
    import_wh: float
    export_wh: float
    day_w: tuple[float, ...]


def line_facts(job: Job, plan: Plan, cards: dict[str, Card], made: PlanFlow, calendar: YearCalendar) -> tuple[LineFacts, ...]:
    """Return what each phase or leg carries, in the house and at the meter; nothing for a single phase.

    The limit is the part of what forms the grid in an outage that stands behind the line: on split phase half of it, on three
    phases that of the units on the phase. It is set against the apparent power of the loads behind the transfer device.
    """
    supply = job.site.supply
    count = line_count(supply)
    if count == 1:
        return ()
    loads, net = house_lines_w(job.house, made.house, supply), net_lines_w(job, plan, cards, made)
    backed = _backed_lines_va(job, plan, made, count)
    limits = offgrid_lines_va(plan, cards, count)
    hour, h = np.minimum(23, calendar.clock_hour.astype(int)), calendar.step_h
    per_hour = np.bincount(hour, minlength=24)
    out = []
    for i in range(count):
        limit = None if limits is None else float(limits[i])
        over = 0.0 if limit is None else float(np.count_nonzero(backed[:, i] > limit + 1e-9)) * h
        day = np.bincount(hour, weights=loads[:, i], minlength=24) / per_hour
        out.append(
            LineFacts(
                line_name(supply, i), float(loads[:, i].sum()) * h, float(loads[:, i].max()), float(backed[:, i].max()), limit,
                over,
                float(np.maximum(net[:, i], 0.0).sum()) * h, float(np.maximum(-net[:, i], 0.0).sum()) * h,
                tuple(float(v) for v in day),
            )
        )  # fmt: skip
    return tuple(out)


def _backed_lines_va(job: Job, plan: Plan, made: PlanFlow, count: int) -> Array:
    listed = plan.backed_up
    year = made.house
    out = np.zeros((len(year.background_w), count))
    if listed is None or "background" in listed:
        out += np.outer(year.background_w, background_shares(job.house, count))
    for load in job.house.counted:
        if listed is None or load.id in listed:
            out += np.outer(year.appliance_w[load.id] / load.power_factor, shares_of(load.line, count))
    return out


def offgrid_lines_va(plan: Plan, cards: dict[str, Card], count: int) -> Array | None:
    """Return what grid-forming units carry on each line with the grid gone; None: there is none, or a card is silent. [VA]"""
    total, found = np.zeros(count), False
    for node in plan.nodes:
        unit = cards[node.card]
        if not isinstance(unit, BatterySideUnit) or not unit.grid_forming or node.side != "backup" or node.battery is None:
            continue
        if unit.offgrid_continuous_va is None:
            return None
        total += unit.offgrid_continuous_va * node_shares(node, unit, count)
        found = True
    return total if found else None
