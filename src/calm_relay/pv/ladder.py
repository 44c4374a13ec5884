"""The string ladder: where a string's volts and a tracker's amps stand against everything that limits them."""

from __future__ import annotations

from dataclasses import dataclass

from calm_relay.job.models import Job, Plan, StringGroup
from calm_relay.library.book import CardBook
from calm_relay.library.cards import ModuleCard
from calm_relay.packs.pack import Pack
from calm_relay.plant.rows import inverter_rows
from calm_relay.pv.limits import ceiling_v, extremes_of, string_amps, string_volts, tracker_short_circuit_a


@dataclass(frozen=True)
class Ladder:
    """Voltages of one string of a tracker and its limits; None where a temperature or a figure is not known. [V]"""

    node_id: str
    node: str
    tracker: int
    string_id: str
    modules: int
    face: str
    cold_voc_v: float | None
    cold_vmp_v: float | None
    hot_vmp_v: float | None
    hot_voc_v: float | None
    mppt_min_v: float
    mppt_max_v: float
    start_v: float | None
    ceiling_v: float
    ceiling: str


def string_ladders(job: Job, plan: Plan, pack: Pack | None = None) -> tuple[Ladder, ...]:
    """Return a ladder for every string group of a plan, in the plan's order."""
    cards, rules = job.cards(), pack or job.rules()
    out = []
    for node, card in inverter_rows(plan, cards):
        for group in node.strings:
            module = cards.module(group.module)
            tracker = card.trackers[group.tracker - 1]
            volts, name = ceiling_v(card.dc_voltage_max_v, module, job.site.dc_ceiling_v)
            cold_open, cold_working, hot_working, hot_open = _volts(job, cards, group, module, rules)
            out.append(
                Ladder(
                    node_id=node.id,
                    node=node.name,
                    tracker=group.tracker,
                    string_id=group.id,
                    modules=group.modules_per_string,
                    face=job.face(group.face).name,
                    cold_voc_v=cold_open,
                    cold_vmp_v=cold_working,
                    hot_vmp_v=hot_working,
                    hot_voc_v=hot_open,
                    mppt_min_v=tracker.mppt_min_v,
                    mppt_max_v=tracker.mppt_max_v,
                    start_v=tracker.start_v,
                    ceiling_v=volts,
                    ceiling=name,
                )
            )
    return tuple(out)


def _volts(
    job: Job, cards: CardBook, group: StringGroup, module: ModuleCard, pack: Pack
) -> tuple[float | None, float | None, float | None, float | None]:
    """Return cold open, cold working, hot working and hot open volts of a group's string."""
    optimizer = cards.optimizer(group.optimizer)
    if optimizer is not None and optimizer.string_voltage_v is not None:
        held = optimizer.string_voltage_v
        return held, held, held, held
    site, face = job.site, job.face(group.face)
    v = string_volts(pack, module, group.modules_per_string, extremes_of(site), face.mounting)
    return v.cold_open_v, v.cold_working_v, v.hot_working_v, v.hot_open_v


@dataclass(frozen=True)
class TrackerAmps:
    """Currents of one tracker against its limits: working current of hot cells, short-circuit current times a factor. [A]"""

    node_id: str
    node: str
    tracker: int
    strings: int
    working_a: float
    working_limit_a: float
    short_circuit_a: float
    short_circuit_limit_a: float | None
    factor: float


def tracker_amps(job: Job, plan: Plan, pack: Pack | None = None) -> tuple[TrackerAmps, ...]:
    """Return the currents of every tracker of a plan that has strings; light on the rear is counted in."""
    cards, rules = job.cards(), pack or job.rules()
    out = []
    for node, card in inverter_rows(plan, cards):
        for number in sorted({g.tracker for g in node.strings}):
            tracker = card.trackers[number - 1]
            strings = []
            for group in node.strings:
                if group.tracker == number:
                    module, optimizer = cards.module(group.module), cards.optimizer(group.optimizer)
                    strings.append(string_amps(group, module, job.face(group.face), optimizer, extremes_of(job.site)))
            out.append(
                TrackerAmps(
                    node_id=node.id,
                    node=node.name,
                    tracker=number,
                    strings=sum(s.strings for s in strings),
                    working_a=sum(s.strings * s.working_a for s in strings),
                    working_limit_a=tracker.working_current_a,
                    short_circuit_a=tracker_short_circuit_a(rules, strings),
                    short_circuit_limit_a=tracker.short_circuit_current_a,
                    factor=rules.value("short_circuit_factor"),
                )
            )
    return tuple(out)
