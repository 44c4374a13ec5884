"""The pure stages between a job and its results: what each one reads (for its key) and how it is made.

A selector returns plain data holding only what its stage reads; names, notes and costs are in none of them.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import YearCalendar
from calm_relay.job.models import Job, Node, Plan, StringGroup
from calm_relay.library.cards import (
    AcUnit,
    BatterySideUnit,
    Card,
    HybridCard,
    ModuleCard,
    ModuleInverterCard,
    OptimizerCard,
    PvInverterCard,
)
from calm_relay.load.house import HouseYear
from calm_relay.pv.array import GroupInput, PvOnlyOutput, pv_only_output, tracker_dc_w
from calm_relay.pv.shade import shaded_by_step
from calm_relay.simulation.flow import FlowTable, run_year
from calm_relay.simulation.pack import Packed, SiteLimits, pack_plan, transfer_limit_w
from calm_relay.weather.solar import PlaneOfArray

Array = NDArray[np.float64]
Data = dict[str, Any]
_NOT_COMPUTED = {"name", "source", "warranty_years"}
_WITH_TRACKERS = (PvInverterCard, ModuleInverterCard, HybridCard)


def _card_data(card: Card) -> Data:
    return card.model_dump(exclude=_NOT_COMPUTED | {"id"})


# --- selectors -------------------------------------------------------------------------------------------------------


def select_calendar(job: Job, step_s: int) -> Data:
    """What the calendar reads."""
    return {"year": job.calendar_year, "zone": job.site.place.time_zone, "step_s": step_s}


def select_sun(job: Job, step_s: int) -> Data:
    """What sun and clear sky read."""
    place = job.site.place
    return {
        **select_calendar(job, step_s),
        "lat": place.latitude_deg,
        "lon": place.longitude_deg,
        "alt": place.altitude_m,
    }


def select_weather(job: Job) -> Data:
    """What the synthetic year reads, beside the sun."""
    return job.site.weather.model_dump()


def select_face_light(job: Job, face_id: str) -> Data:
    """What a face's plane of array reads, beside weather and sun."""
    face = job.face(face_id)
    horizon = [(p.azimuth_deg, p.elevation_deg) for p in face.horizon]
    return {"tilt": face.tilt_deg, "azimuth": face.azimuth_deg, "horizon": horizon}


def select_node_dc(job: Job, node: Node, cards: dict[str, Card]) -> Data:
    """What a node's DC power reads, beside its faces' light and the air temperature."""
    card = cards[node.card]
    trackers = [t.model_dump() for t in card.trackers] if isinstance(card, _WITH_TRACKERS) else []
    groups = []
    for group in node.strings:
        face = job.face(group.face)
        groups.append(
            {
                **group.model_dump(exclude={"id", "face", "module", "fuse_a", "optimizer", "measured"}),
                "module": _card_data(cards[group.module]),
                "optimizer": None if group.optimizer is None else _card_data(cards[group.optimizer]),
                "mounting": face.mounting,
                "shade": face.shade_loss_frac,
                "table": face.shade_table,
                "rear": face.rear_ratio_frac,
                "kind": (group.face, group.module),
            }
        )
    level = isinstance(card, ModuleInverterCard)
    return {"trackers": trackers, "groups": groups, "count": node.count if level else 1, "module_level": level}


def select_house(job: Job) -> Data:
    """What the house's year reads, beside the calendar."""
    skip = {"name", "essential", "never_from_battery", "motor", "power_factor", "sheddable", "no_auto_return"}
    return {
        "background": job.house.background.model_dump(exclude={"source", "low", "high"}),
        "appliances": [a.model_dump(exclude=skip) for a in job.house.appliances],
    }


def select_flow(job: Job, plan: Plan, cards: dict[str, Card]) -> Data:
    """What a plan's year reads, beside DC power, house and calendar."""
    site = job.site
    nodes = []
    for node in plan.nodes:
        battery = node.battery
        nodes.append(
            {
                "card": _card_data(cards[node.card]),
                "side": node.side,
                "count": node.count,
                "battery": None if battery is None else battery.model_dump(exclude={"card"}),
                "battery_card": None if battery is None else _card_data(cards[battery.card]),
            }
        )
    return {
        "nodes": nodes,
        "controls": plan.controls.model_dump(),
        "transfer_w": repr(transfer_limit_w(plan, cards, site.supply.voltage_v, site.supply.phases)),
        "backed_up": "whole_house" if plan.backed_up is None else sorted(plan.backed_up),
        "export_w": site.export_limit_w,
        "import_w": site.import_limit_w,
        "never": sorted(a.id for a in job.house.appliances if a.never_from_battery),
    }


def select_bill(job: Job) -> Data:
    """What the bill reads, beside the flow and the calendar."""
    return job.tariff.model_dump(exclude={"name", "currency"})


# --- makers ----------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class TrackerYear:
    """What one tracker lost in each month: to its current and power limits, and by unlike strings in parallel.

    `limited_h` are hours at its limit. [Wh], [h]
    """

    number: int
    limited_wh: tuple[float, ...]
    limited_h: float
    parallel_lost_wh: float
    offered_wh: float


@dataclass(frozen=True, eq=False)
class NodeDc:
    """A node's PV on its DC side per step: what the strings offer, and what is left after tracker limits. [W]"""

    offered_w: Array
    available_w: Array
    trackers: tuple[TrackerYear, ...] = ()

    @property
    def nbytes(self) -> int:
        """Bytes held."""
        return self.offered_w.nbytes + self.available_w.nbytes


def group_input(
    job: Job, cards: dict[str, Card], group: StringGroup, light: PlaneOfArray, calendar: YearCalendar, *, module_level: bool = False
) -> GroupInput | None:
    """Return a string group with all it refers to; None where its card is no module."""
    module, face = cards[group.module], job.face(group.face)
    optimizer = cards[group.optimizer] if group.optimizer is not None else None
    if not isinstance(module, ModuleCard):
        return None
    return GroupInput(
        group,
        face,
        module,
        light,
        optimizer if isinstance(optimizer, OptimizerCard) else None,
        module_level,
        shaded_by_step(face.shade_table, calendar),
        calendar.month,
    )


def make_node_dc(
    node: Node, job: Job, cards: dict[str, Card], light: dict[str, PlaneOfArray], air_c: Array, calendar: YearCalendar
) -> NodeDc:
    """Sum a node's trackers; module-level inverters have one module and one tracker each."""
    card = cards[node.card]
    offered, available = np.zeros_like(air_c), np.zeros_like(air_c)
    if not isinstance(card, _WITH_TRACKERS):
        return NodeDc(offered, available)
    level = isinstance(card, ModuleInverterCard)
    years = []
    for number in sorted({g.tracker for g in node.strings}):
        made = [
            group_input(job, cards, g, light[g.face], calendar, module_level=level) for g in node.strings if g.tracker == number
        ]
        out = tracker_dc_w([m for m in made if m is not None], card.trackers[number - 1], air_c, node.count if level else 1)
        offered += out.available_w
        available += out.limited_w
        lost = 0.0 if out.parallel_lost_w is None else float(out.parallel_lost_w.sum()) * calendar.step_h
        cut = out.available_w - out.limited_w
        by_month = calendar.by_month_wh(cut) if cut.any() else (0.0,) * 12
        years.append(
            TrackerYear(
                number,
                by_month,
                float(np.count_nonzero(cut > 1e-6)) * calendar.step_h,
                lost,
                float(out.available_w.sum()) * calendar.step_h,
            )
        )
    return NodeDc(offered, available, tuple(years))


@dataclass(frozen=True, eq=False)
class PlanFlow:
    """A plan's year with what went into it."""

    flow: FlowTable
    packed: Packed
    pv_only: dict[str, PvOnlyOutput]
    dc: dict[str, NodeDc]

    @property
    def nbytes(self) -> int:
        """Bytes held by the series."""
        arrays = self.packed.ac.nbytes + self.packed.pv_dc.nbytes + self.packed.codes.nbytes
        return self.flow.nbytes + arrays + sum(7 * out.ac_w.nbytes for out in self.pv_only.values())


def make_flow(
    job: Job,
    plan: Plan,
    cards: dict[str, Card],
    calendar: YearCalendar,
    house: HouseYear,
    dc: dict[str, NodeDc],
    cancelled: Callable[[], bool] = lambda: False,
) -> PlanFlow:
    """Put PV-only inverters on their side of the AC bus, pack the rest and run the year."""
    load_b, load_g = house.split_w(plan.backed_up)
    ac = np.zeros((calendar.steps, 9))
    ac[:, 0], ac[:, 1] = load_b, load_g
    for appliance in job.house.appliances:
        if appliance.never_from_battery:
            ac[:, 2] += house.appliance_w[appliance.id]
    outputs: dict[str, PvOnlyOutput] = {}
    for node in plan.nodes:
        card = cards[node.card]
        if isinstance(card, BatterySideUnit) or not isinstance(card, AcUnit):
            continue
        out = pv_only_output(dc[node.id].available_w, card, node.count)
        outputs[node.id] = out
        fixed = 0 if getattr(card, "controllable", False) else 2
        side = 0 if node.side == "backup" else 1
        ac[:, 3 + fixed + side] += out.ac_w
        ac[:, 7 + side] += out.own_draw_w
    site = job.site
    limits = SiteLimits(
        math.inf if site.export_limit_w is None else site.export_limit_w,
        math.inf if site.import_limit_w is None else site.import_limit_w,
        transfer_limit_w(plan, cards, site.supply.voltage_v, site.supply.phases),
    )
    pv = {node_id: d.available_w for node_id, d in dc.items()}
    packed = pack_plan(plan, cards, calendar, limits, pv, ac)
    return PlanFlow(run_year(packed, cancelled), packed, outputs, dc)
