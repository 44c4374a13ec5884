"""The pure stages between a job and its results: what each one reads (for its key) and how it is made.

A selector returns plain data holding only what its stage reads; names, notes and costs are in none of them.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import YearCalendar
from calm_relay.job.house_models import Appliance
from calm_relay.job.models import Job, Node, Plan, StringGroup
from calm_relay.library.base import BoxCard
from calm_relay.library.book import CardBook
from calm_relay.library.cards import (
    Card,
)
from calm_relay.pv.array import GroupInput, TrackerOutput, tracker_dc_w
from calm_relay.pv.roof import export_cap_w
from calm_relay.pv.shade import shaded_by_step
from calm_relay.simulation.controllers import controllers_of
from calm_relay.simulation.pack import transfer_limit_w
from calm_relay.weather.solar import PlaneOfArray

Array = NDArray[np.float64]
Data = dict[str, Any]
# Figures of cards that no stage reads; of boxes also sizes, lists, lives and what the checks alone look at.
_NOT_COMPUTED = {"id", "name", "source", "warranty_years", "no_longer_made"}
_NOT_OF_BOXES = {
    "firmware_note", "height_m", "width_m", "depth_m", "weight_kg", "places", "temperature_min_c", "temperature_max_c", "supplies",
    "peak_efficiency_frac", "european_efficiency_frac", "cec_efficiency_frac", "efficiency_points", "frequency", "lug_min_mm2",
    "lug_max_mm2", "battery_lug_min_mm2", "battery_lug_max_mm2", "pairs_with", "protocols", "chemistries", "backup_breakers",
    "depth_life", "warranty_throughput_wh", "warranty_end_frac",
}  # fmt: skip


def _card_data(card: Card) -> Data:
    return card.model_dump(exclude=_NOT_COMPUTED | (_NOT_OF_BOXES if isinstance(card, BoxCard) else set()))


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


def select_node_dc(job: Job, node: Node, cards: CardBook) -> Data:
    """What a node's DC power reads, beside its faces' light and the air temperature."""
    card = cards.station(node)
    trackers = [t.model_dump() for t in card.trackers]
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
    return {
        "trackers": trackers,
        "groups": groups,
        "controllers": controllers_of(node, cards),
        "count": card.unit_count(node.count),
        "module_level": card.per_module,
        "most_w": card.pv_dc_max_w,
    }


def select_appliance(appliance: Appliance) -> Data:
    """What a load's year reads, beside calendar, seed and air."""
    skip = {
        "name", "essential", "never_from_battery", "motor", "power_factor", "sheddable", "no_auto_return", "line",
        "surplus", "surplus_least_w", "surplus_start_h", "surplus_end_h",
    }  # fmt: skip
    return appliance.model_dump(exclude=skip)


def select_house(job: Job) -> Data:
    """What the house's year reads, beside the calendar."""
    return {
        "background": job.house.background.model_dump(exclude={"source", "low", "high"}),
        "appliances": [select_appliance(a) for a in job.house.counted],
        "all": [a.id for a in job.house.appliances],
        "south": job.site.place.latitude_deg < 0,
    }


def select_flow(job: Job, plan: Plan, cards: CardBook) -> Data:
    """What a plan's year reads, beside DC power, house and calendar."""
    site = job.site
    nodes = []
    for node in plan.nodes:
        battery = node.battery
        nodes.append(
            {
                "id": node.id,
                "card": _card_data(cards[node.card]),
                "on_bank": [cards[i].model_dump(exclude=_NOT_COMPUTED) for i in (node.controller, node.timer_charger) if i],
                "controllers": node.controllers,
                "dc_car": node.dc_car,
                "side": node.side,
                "count": node.count,
                "battery": None if battery is None else battery.model_dump(exclude={"card"}),
                "battery_card": None if battery is None else _card_data(cards[battery.card]),
            }
        )
    return {
        "nodes": nodes,
        "controls": plan.controls.model_dump(),
        "reserves": plan.controls.reserve_by_month(site.place.latitude_deg),
        "transfer_w": repr(transfer_limit_w(plan, cards, site.supply.voltage_v, site.supply.phases)),
        "backed_up": "whole_house" if plan.backed_up is None else sorted(plan.backed_up),
        "off_grid": plan.off_grid,
        "export_w": export_cap_w(job, plan, cards),
        "power_factor": site.network.power_factor,
        "spots": [(s.place, s.low_c, s.high_c) for s in site.spots],
        "import_w": site.import_limit_w,
        "never": sorted(a.id for a in job.house.counted if a.never_from_battery),
        "surplus": [
            (a.id, a.surplus, a.surplus_least_w, a.surplus_start_h, a.surplus_end_h, a.running_w, a.window_end_h)
            for a in job.house.counted
            if a.surplus != "no"
        ],
    }


def select_bill(job: Job) -> Data:
    """What the bill reads, beside the flow and the calendar."""
    return job.tariff.model_dump(exclude={"name", "currency", "import_growth_frac", "export_growth_frac"})


def select_lines(job: Job, plan: Plan, cards: CardBook) -> Data:
    """What the phases of a plan read, beside its flow."""
    return {
        "supply": job.site.supply.model_dump(),
        "background": job.house.background_lines_frac,
        "loads": [(a.id, a.line) for a in job.house.counted],
        "nodes": [(n.line, cards.station(n).phases, n.count) for n in plan.nodes],
    }


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

    def times(self, factor: float) -> NodeDc:
        """Return the same under so many times the sun: DC power follows the light nearly straight; trackers are not told anew."""
        return NodeDc(self.offered_w * factor, self.available_w * factor)


def group_input(
    job: Job, cards: CardBook, group: StringGroup, light: PlaneOfArray, calendar: YearCalendar, *, module_level: bool = False
) -> GroupInput:
    """Return a string group with all it refers to."""
    module, face = cards.module(group.module), job.face(group.face)
    return GroupInput(
        group=group,
        face=face,
        module=module,
        light=light,
        optimizer=cards.optimizer(group.optimizer),
        module_level=module_level,
        shaded_frac=shaded_by_step(face.shade_table, calendar),
        month=calendar.month,
    )


def make_node_dc(
    node: Node, job: Job, cards: CardBook, light: dict[str, PlaneOfArray], air_c: Array, calendar: YearCalendar
) -> NodeDc:
    """Sum a node's trackers; module-level inverters have one module and one tracker each."""
    card = cards.station(node)
    offered, available = np.zeros_like(air_c), np.zeros_like(air_c)
    level = card.per_module
    years, controllers = [], controllers_of(node, cards)
    made_by: dict[int, list[tuple[int, TrackerOutput]]] = defaultdict(list)
    for number in sorted({g.tracker for g in node.strings}):
        made = [
            group_input(job, cards, g, light[g.face], calendar, module_level=level) for g in node.strings if g.tracker == number
        ]
        out = tracker_dc_w(made, card.trackers[number - 1], air_c, card.unit_count(node.count))
        made_by[0 if controllers is None else (number - 1) // controllers[0]].append((number, out))
    for number, out, kept in _after_controllers(made_by, controllers):
        offered += kept[0]
        available += kept[1]
        lost = 0.0 if out.parallel_lost_w is None else float(out.parallel_lost_w.sum()) * calendar.step_h
        cut = kept[0] - kept[1]
        by_month = calendar.by_month_wh(cut) if cut.any() else (0.0,) * 12
        years.append(
            TrackerYear(
                number,
                by_month,
                float(np.count_nonzero(cut > 1e-6)) * calendar.step_h,
                lost,
                float(kept[0].sum()) * calendar.step_h,
            )
        )
    if card.pv_dc_max_w is not None:
        available = np.minimum(available, card.pv_dc_max_w)
    return NodeDc(offered, available, tuple(years))


def _after_controllers(
    made_by: Mapping[int, list[tuple[int, TrackerOutput]]], controllers: tuple[int, float, float] | None
) -> Iterator[tuple[int, TrackerOutput, tuple[Array, Array]]]:
    """Yield each tracker with what it offers and what is left of it, after the charge controller it belongs to, if any. [W]

    Trackers of one controller share what its output carries in proportion to what they give.
    """
    for rows in made_by.values():
        together = sum((out.limited_w for _, out in rows), np.zeros_like(rows[0][1].limited_w))
        share, eta = np.ones_like(together), 1.0
        if controllers is not None:
            _, most_w, eta = controllers
            share = np.minimum(1.0, np.divide(most_w, together, out=np.ones_like(together), where=together > 0))
        for number, out in rows:
            yield number, out, (out.available_w * eta, out.limited_w * share * eta)
