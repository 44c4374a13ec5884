"""The outage drill: a grid failure at a chosen hour, minute by minute, with every event in words."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import YearCalendar
from calm_relay.errors import BadInput, Fault
from calm_relay.job.models import Job, Plan
from calm_relay.job.rows import forming_rows
from calm_relay.library.book import CardBook
from calm_relay.load.house import HouseYear
from calm_relay.simulation.columns import AC_LOAD_B, AC_PV_B, AC_PV_B_FIXED, NODE, SYS_UNSERVED, SYSTEM
from calm_relay.simulation.flow import FlowTable, run_case
from calm_relay.simulation.offgrid import plan_continuous_va, start_va, total
from calm_relay.units import format_quantity as show
from calm_relay.year.generator import GeneratorSet, SetRun, generator_set, run_with_set
from calm_relay.year.outage import NOT_SERVED_W, Serve, charge_at, outage_inputs, served_ids
from calm_relay.year.overload import Carried, Circuit, Served, serve
from calm_relay.year.plan_flow import PlanFlow

Array = NDArray[np.float64]
MOST_HOURS = 336
MINUTE_S = 60
USUAL_AIR_C = 25.0  # at which a set gives its rating; hotter days take 1 % per 5.5 °C
DRAWN_W = 1.0  # lacking, worth drawing
THROTTLED_W = 50.0  # less is not worth an event


@dataclass(frozen=True)
class Event:
    """Something that happens in a drill: the minute from its start, clock time, what kind, and words with cause and figure."""

    minute: int
    clock: str
    kind: str
    words: str


@dataclass(frozen=True, eq=False)
class Drill:
    """An outage minute by minute, powers in W, charge as a share of what is usable; what happened; and sums in Wh.

    `survived_h` is until the first energy goes unserved; None: it lasts to the end.
    """

    start_hour: int
    hours: float
    charge_frac: Array
    asked_w: Array
    served_w: Array
    shed_w: Array
    pv_used_w: Array
    pv_throttled_w: Array
    events: tuple[Event, ...]
    survived_h: float | None
    start_wh: float
    end_wh: float
    flow: FlowTable
    generator_w: Array
    litres: float | None

    @property
    def _lacking_w(self) -> Array:
        return self.asked_w - self.served_w - self.shed_w

    @property
    def dark_h(self) -> float:
        """Hours in which something was asked for and not served, shed apart. [h]"""
        return float(np.count_nonzero(self._lacking_w > NOT_SERVED_W)) / 60.0

    @property
    def dark_spans(self) -> list[tuple[int, int]]:
        """Spans of minutes in which a watt or more was asked for and not served, as (begin, end)."""
        return _spans(self._lacking_w > DRAWN_W, gap=1)

    @property
    def generator_h(self) -> float:
        """Hours that the generator runs. [h]"""
        return float(np.count_nonzero(self.generator_w > 0)) / 60.0

    @property
    def first_words(self) -> str:
        """One sentence: what goes dark first and when."""
        for event in self.events:
            if event.kind in ("trip", "locked", "empty", "short"):
                hours, minutes = divmod(event.minute, 60)
                return f"After {hours} h {minutes:02d} min, at {event.clock}: {event.words}."
        return f"Everything that is to stay on does so for {self.hours:g} h."

    def as_dict(self) -> dict[str, Any]:
        """Return the drill as plain data, series left out."""
        wh = {
            name: float(getattr(self, f"{name}_w").sum()) / 60.0 for name in ("asked", "served", "shed", "pv_used", "pv_throttled")
        }
        return {
            "start_hour": self.start_hour, "hours": self.hours, "survived_h": self.survived_h, "dark_h": self.dark_h,
            "first": self.first_words, "start_wh": self.start_wh, "end_wh": self.end_wh,
            **{f"{name}_wh": value for name, value in wh.items()},
            "generator_h": self.generator_h, "generator_wh": float(self.generator_w.sum()) / 60.0, "litres": self.litres,
            "events": [vars(event) for event in self.events],
        }  # fmt: skip


def carried_by(plan: Plan, cards: CardBook) -> Carried | None:
    """Return what the plan's forming inverters carry; None where a card or a battery's limit is silent. [VA], [s]"""
    continuous = plan_continuous_va(plan, cards)
    if continuous is None:
        return None
    rows = forming_rows(plan, cards)
    peak = total([start_va(row, 0.0) for row in rows])
    seconds = [row.unit.offgrid_peak_s for row in rows if row.unit.offgrid_peak_s is not None]
    return Carried(continuous, peak, min(seconds) if len(seconds) == len(rows) else None)


def drill(
    job: Job,
    plan: Plan,
    cards: CardBook,
    made: PlanFlow,
    house: HouseYear,
    calendar: YearCalendar,
    *,
    start_hour: int,
    hours: float,
    charge_frac: float | None = None,
    serving: Serve = "backed_up",
    shedding: bool = False,
) -> Drill:
    """Run an outage from an hour of the year.

    Parameters
    ----------
    made : PlanFlow
        The plan's year, at the study's step: sun and temperature are taken from it.
    house : HouseYear
        The house at one minute.
    calendar : YearCalendar
        Of one minute.
    start_hour : int
        Hour of the year, 0 to 8759, local standard time.
    hours : float
        Length, above 0, at most 336. [h]
    charge_frac : float or None
        Charge at the start, as a share of the capacity; None: the year's at that hour. [0 to 1]

    Raises
    ------
    BadInput
        For a start outside the year, a length out of range, a charge that is none.
    NotFeasible
        Where nothing forms a grid.
    """
    if not 0 <= start_hour < 8760:
        raise BadInput([Fault("", "start", f"hour {start_hour} is outside the year", "use 0 to 8759")])
    if not 0 < hours <= MOST_HOURS:
        raise BadInput([Fault("", "hours", f"{hours:g} h is no length of an outage", f"use more than 0, at most {MOST_HOURS}")])
    if charge_frac is not None and not 0 <= charge_frac <= 1:
        raise BadInput([Fault("", "charge", f"{charge_frac:g} is no charge", "use 0 to 1")])
    island, here = outage_inputs(job, plan, cards, made, serving)
    coarse = round(float(island.plant["step_h"]) * 60)
    minutes = round(hours * 60)
    at60 = (start_hour * 60 + np.arange(minutes)) % len(house.background_w)
    at = at60 // coarse
    ac = island.ac[at].copy()
    ids = served_ids(job, plan, serving)
    circuits = {
        load.id: Circuit(load.name, house.appliance_w[load.id][at60], load.power_factor, load.sheddable, not load.no_auto_return)
        for load in job.house.counted
        if load.id in ids
    }
    if "background" in ids:
        circuits["background"] = Circuit("everything else", house.background_w[at60])
    sun_ac = ac[:, AC_PV_B] + ac[:, AC_PV_B_FIXED]
    carried = carried_by(plan, cards)
    unlimited = Carried(np.inf, None, None)
    held = serve(circuits, sun_ac, carried or unlimited, shedding=shedding)
    ac[:, AC_LOAD_B] = held.served_w
    plant = island.plant.copy()
    plant["step_h"] = 1.0 / 60.0
    window = replace(
        island, plant=plant, ac=ac, pv_dc=np.ascontiguousarray(island.pv_dc[at]), codes=np.ascontiguousarray(island.codes[at]),
        bank=island.bank if len(island.bank) == 1 else np.ascontiguousarray(island.bank[at]),
    )  # fmt: skip
    energy, energy_pv = charge_at(made, here, start_hour * (len(made.flow.system) // 8760))
    capacity = island.nodes["capacity_wh"].astype(float)
    if charge_frac is not None:
        energy = np.clip(charge_frac * capacity, 0.0, island.nodes["soc_max"] * capacity)
        energy_pv = energy.copy()
    unit, refused = _set_of(job, plan, cards, bool(sun_ac.any()))
    if unit is None:
        flow = run_case(window, energy, energy_pv)
        ran = None
    else:
        ran = run_with_set(window, energy, energy_pv, unit, calendar.clock_hour[at60])
        flow = ran.flow
    held.events += refused + ([] if ran is None else ran.events)
    return _drill(job, calendar, at60, start_hour, hours, (held, flow, energy, capacity, island.nodes), ran, sun_ac)


def _set_of(job: Job, plan: Plan, cards: CardBook, pv_beside: bool) -> tuple[GeneratorSet | None, list[tuple[int, str, str]]]:
    """Return the plan's generator where it starts by itself, or nothing and an event that says why it does not run."""
    choice = plan.generator
    if choice is None:
        return None, []
    card = cards.generator(choice.card)
    if not card.auto_start:
        return None, [(0, "generator", f"{card.name} has no automatic start: somebody has to start it, and it does not run here")]
    if pv_beside and choice.pv_locked_out != "yes":
        why = "AC-coupled PV is not declared locked out while it runs: reverse power would damage it"
        return None, [(0, "generator", f"{card.name} does not run here, for {why}")]
    if choice.stop_soc_frac <= choice.start_soc_frac:
        why = f"it would stop at {choice.stop_soc_frac:.0%}, below its start at {choice.start_soc_frac:.0%}"
        return None, [(0, "generator", f"{card.name} does not run here, for {why}")]
    return generator_set(job, choice, card, USUAL_AIR_C), []


def _drill(
    job: Job, calendar: YearCalendar, at60: NDArray[np.int64], start_hour: int, hours: float,
    parts: tuple[Served, FlowTable, Array, Array, NDArray[np.void]], ran: SetRun | None, sun_ac: Array,
) -> Drill:  # fmt: skip
    held, flow, energy, capacity, nodes = parts
    unserved = flow.system[:, SYS_UNSERVED]
    held_back = flow.nodes[:, :, NODE.index("lost_island_w")].sum(axis=1) + flow.system[:, SYSTEM.index("pv_only_lost_island_w")]
    given = np.zeros(len(unserved)) if ran is None else ran.given_w
    running = given > 0  # what the set brings stands where AC-coupled sun would, which is locked out meanwhile
    held_back = np.where(running, flow.nodes[:, :, NODE.index("lost_island_w")].sum(axis=1) + sun_ac, held_back)
    taken = [flow.nodes[:, :, NODE.index(name)].sum(axis=1) for name in ("pv_to_inverter_w", "pv_to_battery_w", "pv_standby_w")]
    at_ac = np.where(running, 0.0, sun_ac - flow.system[:, SYSTEM.index("pv_only_lost_island_w")])
    used = at_ac + taken[0] + taken[1] + taken[2]
    low, high = (float((nodes[name] * capacity).sum()) for name in ("soc_min", "soc_max"))
    stored = flow.nodes[:, :, NODE.index("energy_wh")].sum(axis=1)
    charge = (stored - low) / max(high - low, 1e-9)
    events = [Event(m, calendar.label(int(at60[m])), kind, words) for m, kind, words in held.events]
    for m, kind, words in _from_flow(unserved, held_back, charge, held.served_w):
        events.append(Event(m, calendar.label(int(at60[m])), kind, words))
    events.sort(key=lambda event: event.minute)
    lacking = np.flatnonzero((unserved > NOT_SERVED_W) | (held.tripped_w > NOT_SERVED_W))
    return Drill(
        start_hour=start_hour, hours=hours, charge_frac=charge, asked_w=held.asked_w, served_w=held.served_w - unserved,
        shed_w=held.shed_w, pv_used_w=used, pv_throttled_w=held_back, events=tuple(events),
        survived_h=float(lacking[0]) / 60.0 if len(lacking) else None,
        generator_w=given, litres=None if ran is None else ran.litres,
        start_wh=float(energy.sum()), end_wh=float(stored[-1]), flow=flow,
    )  # fmt: skip


def _from_flow(unserved: Array, held_back: Array, charge: Array, served: Array) -> list[tuple[int, str, str]]:
    """Return what the batteries' course says: empty and dark, lit again, full with the sun throttled."""
    out: list[tuple[int, str, str]] = []
    for begin, end in _spans(unserved > NOT_SERVED_W, gap=5):
        at_floor = charge[begin] < 0.02
        most = float(unserved[begin:end].max())
        cause = (
            "the battery is at its floor" if at_floor else f"{show(most, 'power_w')} more is asked for than batteries and sun give"
        )
        whole = most >= 0.95 * float(served[begin:end].max())
        out.append(
            (begin, "empty" if at_floor else "short", f"{cause}: {'everything goes dark' if whole else 'part of it goes dark'}")
        )
        if end < len(unserved):
            out.append((end, "lit", f"the sun brings it back after {(end - begin) / 60:.1f} h"))
    for begin, end in _spans(held_back > THROTTLED_W, gap=30):
        lost = float(held_back[begin:end].sum()) / 60.0
        over = f"over {(end - begin) / 60:.1f} h"
        dark = float(np.mean(unserved[begin:end] > NOT_SERVED_W)) > 0.5
        cause = "nothing forms a grid" if dark else "the battery takes no more"
        out.append((begin, "throttled", f"{cause}: {show(lost, 'energy_wh')} of sun find no use {over}"))
    return out


def _spans(marks: NDArray[np.bool_], gap: int) -> list[tuple[int, int]]:
    """Return spans of marks as (begin, end), those less than `gap` apart joined."""
    at = np.flatnonzero(marks)
    if not len(at):
        return []
    breaks = np.flatnonzero(np.diff(at) > gap)
    begins, ends = np.concatenate(([0], breaks + 1)), np.concatenate((breaks, [len(at) - 1]))
    return [(int(at[b]), int(at[e]) + 1) for b, e in zip(begins, ends, strict=True)]
