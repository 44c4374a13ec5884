"""The outage drill: a grid failure at a chosen hour, minute by minute, with every event in words."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import YearCalendar
from calm_relay.errors import BadInput, Fault
from calm_relay.job.house_models import House
from calm_relay.load.house import HouseYear
from calm_relay.packs.pack import Pack
from calm_relay.plant.whole import Plant
from calm_relay.simulation.columns import AC_PV_B, AC_PV_B_FIXED, NODE
from calm_relay.simulation.kernel.loops import NOT_SERVED_W
from calm_relay.units import format_quantity as show
from calm_relay.year.circuits import circuits_of, lines_of, picked_hour
from calm_relay.year.course import Course, Setup, run_course
from calm_relay.year.drill_words import drill_events, first_words, spans
from calm_relay.year.frequency import Follower, follower
from calm_relay.year.generator import GeneratorSet, generator_set
from calm_relay.year.outage import Serve, charge_at, dead_pv_ids, outage_inputs, served_ids
from calm_relay.year.plan_flow import PlanFlow
from calm_relay.year.pv_island import pv_island
from calm_relay.year.switchboard import Moment

Array = NDArray[np.float64]
MOST_HOURS = 336
MINUTE_S = 60
DRAWN_W = 1.0  # lacking, worth drawing
SAID_WH = 50.0  # less of a load is not worth a word


@dataclass(frozen=True)
class Event:
    """Something that happens in a drill: the minute from its start, clock time, what kind, and words with cause and figure."""

    minute: int
    clock: str
    kind: str
    words: str


@dataclass(frozen=True)
class Case:
    """How an outage is run.

    `start_hour` of the year, `hours` its length, `charge_frac` of the capacity at its start (None: the year's at that hour), what
    is served, whether loads are shed, `sun_frac` of that day's sun; `picked` loads run together in the first hour at `diversity` of
    their power, in place of the loads of that hour. [h], [0 to 1]
    """

    start_hour: int
    hours: float
    charge_frac: float | None = None
    serving: Serve = "backed_up"
    shedding: bool = False
    sun_frac: float = 1.0
    picked: tuple[str, ...] = ()
    diversity: float = 1.0

    def check(self) -> None:
        """Raise BadInput for a start outside the year, a length out of range, a share that is none."""
        if not 0 <= self.start_hour < 8760:
            raise BadInput([Fault("", "start", f"hour {self.start_hour} is outside the year", "use 0 to 8759")])
        if not 0 < self.hours <= MOST_HOURS:
            said = f"{self.hours:g} h is no length of an outage"
            raise BadInput([Fault("", "hours", said, f"use more than 0, at most {MOST_HOURS}")])
        for name, share in (("charge", self.charge_frac), ("sun", self.sun_frac), ("diversity", self.diversity)):
            if share is not None and not 0 <= share <= 1:
                raise BadInput([Fault("", name, f"{share:g} is no {'charge' if name == 'charge' else 'share'}", "use 0 to 1")])


@dataclass(frozen=True, eq=False)
class Drill:
    """An outage minute by minute, powers in W, charge as a share of what is usable; what happened; and sums in Wh.

    What was asked for was served, shed, waits for a hand, or was not served. `survived_h` is until the first energy goes unserved,
    `vital_h` until the first that must stay on; None: it lasts to the end. `moments` are seconds of starts and of PV dropping out.
    """

    start_hour: int
    hours: float
    charge_frac: Array
    asked_w: Array
    served_w: Array
    shed_w: Array
    waiting_w: Array
    pv_used_w: Array
    pv_throttled_w: Array
    generator_w: Array
    events: tuple[Event, ...]
    moments: tuple[Moment, ...]
    survived_h: float | None
    vital_h: float | None
    start_wh: float
    end_wh: float
    course: Course
    node_ids: tuple[str, ...]
    capacity_wh: Array
    litres: float | None
    tank_l: float | None = None
    step_h: float = 1.0 / 60.0
    pv_only_w: dict[str, Array] = field(default_factory=dict)

    @property
    def _lacking_w(self) -> Array:
        return self.asked_w - self.served_w - self.shed_w - self.waiting_w

    @property
    def dark_h(self) -> float:
        """Hours in which something was asked for and not served, what was shed or waits for a hand apart. [h]"""
        return float(np.count_nonzero(self._lacking_w > NOT_SERVED_W)) * self.step_h

    @property
    def dark_spans(self) -> list[tuple[int, int]]:
        """Spans of steps in which a watt or more was asked for and not served, as (begin, end)."""
        return spans(self._lacking_w > DRAWN_W, gap=1)

    @property
    def generator_h(self) -> float:
        """Hours that the generator runs. [h]"""
        return float(np.count_nonzero(self.generator_w > 0)) * self.step_h

    @property
    def fuel_days(self) -> float | None:
        """Days that a tank lasts at this rate; None where card or fuel is silent, or it did not run. [days]"""
        tank = self.tank_l
        return None if tank is None or not self.litres else tank / (self.litres / (self.hours / 24.0))

    @property
    def first_words(self) -> str:
        """One sentence: what goes dark first and when."""
        if not self.asked_w.any():
            return (
                "Nothing is asked for: no load that would be served stands behind the transfer device, or none runs in this time."
            )
        return first_words([(e.minute, e.clock, e.kind, e.words) for e in self.events], self.hours)

    def wh(self, name: str) -> float:
        """Return a series' energy, by its name without `_w`. [Wh]"""
        return float(getattr(self, f"{name}_w").sum()) * self.step_h

    @property
    def load_words(self) -> str:
        """Say by load what went without power, the most first; nothing where nothing did."""
        rows = sorted(self.course.lacked_wh.items(), key=lambda row: -row[1])
        said = [f"{name} {show(wh, 'energy_wh')}" for name, wh in rows if wh >= SAID_WH]
        shed = [f"{name} {show(wh, 'energy_wh')}" for name, wh in self.course.load_shed_wh.items() if wh >= SAID_WH]
        parts = ([f"Not served: {', '.join(said)}."] if said else []) + ([f"Shed: {', '.join(shed)}."] if shed else [])
        return " ".join(parts)

    def as_dict(self) -> dict[str, Any]:
        """Return the drill as plain data, series of minutes left out."""
        names = ("asked", "served", "shed", "waiting", "pv_used", "pv_throttled", "generator")
        return {
            "start_hour": self.start_hour, "hours": self.hours, "survived_h": self.survived_h, "vital_h": self.vital_h,
            "dark_h": self.dark_h, "first": self.first_words, "start_wh": self.start_wh, "end_wh": self.end_wh,
            **{f"{name}_wh": self.wh(name) for name in names},
            "generator_h": self.generator_h, "litres": self.litres, "fuel_days": self.fuel_days,
            "by_load_wh": {
                name: {"not_served": wh, "shed": self.course.load_shed_wh[name]} for name, wh in self.course.lacked_wh.items()
            },
            "pv_trips": len(self.course.pv_trips), "pv_over_absorbed_w": self.course.over_w,
            "events": [vars(event) for event in self.events],
            "moments": [
                {
                    "minute": m.step, "kind": m.kind, "words": m.words, "value": m.value.tolist(), "limit": m.limit.tolist(),
                    "hz": None if m.hz is None else m.hz.tolist(),
                }
                for m in self.moments
            ],
        }  # fmt: skip


def surplus_ids(house: House, plant: Plant) -> frozenset[str]:
    """Return loads on surplus behind the transfer device: in an outage they take what is left over."""
    behind = plant.backed_up
    found = frozenset(a.id for a in house.counted if a.surplus != "no")
    return found if behind is None else found & behind


@dataclass(frozen=True)
class Around:
    """What an outage reads beside the plant and the year: the loads, the rules in force, the place's height. [m]"""

    house: House
    pack: Pack
    altitude_m: float


class DrillSite:
    """What drills of one plan share: its backup side, its lines, its inverters."""

    def __init__(
        self, around: Around, plant: Plant, made: PlanFlow, house: HouseYear, calendar: YearCalendar, serving: Serve
    ) -> None:
        self.around, self.plant, self.made, self.house, self.calendar = around, plant, made, house, calendar
        found = outage_inputs(around.house, plant, made, serving)
        self.packed, self.here, self.serving = found.packed, found.here, serving
        self.lines = lines_of(plant, around.pack)
        dead = dead_pv_ids(plant)
        beside = [station for station in plant.pv_behind if station.id not in dead]
        self.pv_only = [station.id for station in beside]
        count = plant.lines.count
        lie = sum((made.pv_only[s.id].ac_w.mean() * np.array(s.shares) for s in beside), np.zeros(count))
        self.pv_shares = lie / lie.sum() if lie.sum() > 0 else np.full(count, 1.0 / count)

    def run(
        self, case: Case, air_c: float, *, by_means: bool = False, until_dark: bool = False,
        cancelled: Callable[[], bool] = lambda: False,
    ) -> Drill:  # fmt: skip
        """Run one drill; see `drill` and `ridden`."""
        return _Making(self, case).run(air_c, by_means=by_means, until_dark=until_dark, cancelled=cancelled)


def drill(
    around: Around, plant: Plant, made: PlanFlow, house: HouseYear, calendar: YearCalendar, case: Case, air_c: float,
) -> Drill:  # fmt: skip
    """Run an outage from an hour of the year.

    Parameters
    ----------
    made : PlanFlow
        The plan's year, at the study's step: sun and temperature are taken from it.
    house : HouseYear
        The house at the drill's own step.
    calendar : YearCalendar
        Of the drill's own step: one minute.
    air_c : float
        The hottest air of the outage, which a generator gives less in. [°C]

    Raises
    ------
    BadInput
        For a start outside the year, a length out of range, a charge that is none.
    NotFeasible
        Where nothing forms a grid.
    """
    case.check()
    return DrillSite(around, plant, made, house, calendar, case.serving).run(case, air_c)


def ridden(around: Around, plant: Plant, made: PlanFlow, calendar: YearCalendar, case: Case, air_c: float) -> Drill:
    """Run an outage as the ride-through does: at the year's own step, by means, without trips, starts or frequency.

    A generator and, with `shedding`, loads that go off by charge have their part in it.
    """
    case.check()
    return DrillSite(around, plant, made, made.house, calendar, case.serving).run(case, air_c, by_means=True)


class _Making:
    """One drill in the making: its window of the year, its circuits."""

    def __init__(self, island: DrillSite, case: Case) -> None:
        self.island, self.case = island, case
        self.around, self.plant, self.made = island.around, island.plant, island.made
        self.calendar, packed = island.calendar, island.packed
        per_hour = self.calendar.steps // 8760
        steps = max(1, round(case.hours * per_hour))
        self.at = (case.start_hour * per_hour + np.arange(steps)) % self.calendar.steps
        self.rows = self.at // (self.calendar.steps // len(packed.ac))
        self.ac = packed.ac[self.rows].copy()
        self.ac[:, [AC_PV_B, AC_PV_B_FIXED]] *= case.sun_frac
        plant = packed.plant.copy()
        plant["step_h"] = self.calendar.step_h
        bank = packed.bank
        self.window = replace(
            packed, plant=plant, ac=self.ac, pv_dc=np.ascontiguousarray(packed.pv_dc[self.rows] * case.sun_frac),
            codes=np.ascontiguousarray(packed.codes[self.rows]),
            bank=bank if len(bank) == 1 else np.ascontiguousarray(bank[self.rows]),
        )  # fmt: skip

    def run(self, air_c: float, *, by_means: bool, until_dark: bool, cancelled: Callable[[], bool]) -> Drill:
        """Run it."""
        island, case, controls, lines = self.island, self.case, self.plant.controls, self.island.lines
        ids = served_ids(self.around.house, self.plant, case.serving)
        if case.serving == "backed_up" and not by_means:
            ids |= surplus_ids(self.around.house, self.plant)
        picked_off = ""
        circuits = circuits_of(self.around.house, self.around.pack, island.house, self.at, ids, lines)
        if case.picked:
            left = [a.name for a in self.around.house.counted if a.id in case.picked and a.id not in ids]
            if left:
                picked_off = f"{', '.join(left)}: not served in an outage, so not among what runs together"
            running = {a.id: a.running_w for a in self.around.house.counted if a.id in case.picked}
            circuits = picked_hour(circuits, running, case.diversity, round(1.0 / self.calendar.step_h))
        sun_ac = self.ac[:, AC_PV_B] + self.ac[:, AC_PV_B_FIXED]
        unit, said = self._set(bool(sun_ac.any()), air_c)
        if picked_off:
            said.append((0, "note", picked_off))
        energy, energy_pv = self._charge()
        inverters = None
        if by_means:
            lines = replace(lines, peak_va=None, bank_w=None, lra_a=None, continuous_va=np.where(lines.live, np.inf, 0.0))
        else:
            inverters = self._follower() if sun_ac.any() else None
            if lines.continuous_va is None:
                said.append((0, "note", "what the inverters make with the grid gone is not on their card: no overload is judged"))
        setup = Setup(
            window=self.window, circuits=circuits, sun_w=sun_ac, pv_shares=island.pv_shares, lines=lines,
            clock_hour=self.calendar.clock_hour[self.at], unit=unit, follower=inverters, shedding=case.shedding,
            stop_frac=2.0 if by_means else controls.island_stop_soc_frac,
            again_frac=2.0 if by_means else controls.island_start_soc_frac, keep_frac=controls.island_keep_soc_frac,
            restart_frac=controls.island_restart_soc_frac, until_dark=until_dark, cancelled=cancelled,
        )  # fmt: skip
        course = run_course(setup, energy, energy_pv)
        return self._drill(course, said, unit, energy, sun_ac)

    def _charge(self) -> tuple[Array, Array]:
        per_hour = self.made.flow.steps // 8760
        if self.case.charge_frac is None:
            return charge_at(self.made, self.island.here, self.case.start_hour * per_hour)
        nodes = self.island.packed.nodes
        capacity = nodes["capacity_wh"].astype(float)
        energy = np.clip(self.case.charge_frac * capacity, 0.0, nodes["soc_max"] * capacity)
        return energy, energy.copy()

    def _follower(self) -> Follower | None:
        made = pv_island(self.plant, self.around.pack)
        return None if made is None else follower(made.record, made.rated_w)

    def _set(self, pv_beside: bool, air_c: float) -> tuple[GeneratorSet | None, list[tuple[int, str, str]]]:
        """Return the plan's generator where it starts by itself, or nothing and an event that says why it does not run."""
        card = self.plant.generator
        if card is None:
            return None, []
        if not card.auto_start:
            why = f"{card.model.name} has no automatic start: somebody has to start it, and it does not run here"
            return None, [(0, "generator", why)]
        if pv_beside and card.pv_locked_out != "yes":
            why = "AC-coupled PV is not declared locked out while it runs: reverse power would damage it"
            return None, [(0, "generator", f"{card.model.name} does not run here, for {why}")]
        if card.stop_soc_frac <= card.start_soc_frac:
            why = f"it would stop at {card.stop_soc_frac:.0%}, below its start at {card.start_soc_frac:.0%}"
            return None, [(0, "generator", f"{card.model.name} does not run here, for {why}")]
        return generator_set(card, self.around.altitude_m, air_c), []

    def _drill(
        self, course: Course, said: list[tuple[int, str, str]], unit: GeneratorSet | None, energy: Array, sun_ac: Array
    ) -> Drill:
        end, nodes = course.ended, self.island.packed.nodes
        capacity = nodes["capacity_wh"].astype(float)
        low, high = (float((nodes[name] * capacity).sum()) for name in ("soc_min", "soc_max"))
        rows = course.nodes[:end]
        stored = rows[:, :, NODE.index("energy_wh")].sum(axis=1)
        charge = (stored - low) / max(high - low, 1e-9)
        taken = [rows[:, :, NODE.index(name)].sum(axis=1) for name in ("pv_to_inverter_w", "pv_to_battery_w", "pv_standby_w")]
        held = rows[:, :, NODE.index("lost_island_w")].sum(axis=1)
        at_ac = course.pv_w[:end]
        used, throttled = at_ac + taken[0] + taken[1] + taken[2], np.maximum(0.0, held + sun_ac[:end] - at_ac)
        served = course.asked_w - course.off_w - course.shed_w - course.waiting_w
        lacking, vital = (np.flatnonzero(w[:end] > NOT_SERVED_W) for w in (course.off_w, course.vital_off_w))
        step_h, label = self.calendar.step_h, self.calendar.label
        events = drill_events(course, said, throttled, charge, sun_ac, step_h)
        card = None if unit is None else unit.card
        return Drill(
            start_hour=self.case.start_hour, hours=self.case.hours, charge_frac=charge, asked_w=course.asked_w[:end],
            served_w=served[:end], shed_w=course.shed_w[:end], waiting_w=course.waiting_w[:end], pv_used_w=used,
            pv_throttled_w=throttled, generator_w=course.given_w[:end],
            events=tuple(Event(m, label(int(self.at[m])), kind, words) for m, kind, words in events),
            moments=tuple(course.moments), survived_h=float(lacking[0]) * step_h if len(lacking) else None,
            vital_h=float(vital[0]) * step_h if len(vital) else None, start_wh=float(energy.sum()), end_wh=float(stored[-1]),
            course=course, node_ids=self.island.packed.node_ids, capacity_wh=capacity,
            litres=None if card is None or card.fuel_full_l_per_h is None else course.litres,
            tank_l=None if card is None else card.tank_l, step_h=step_h, pv_only_w=self._pv_only_w(course),
        )  # fmt: skip

    def _pv_only_w(self, course: Course) -> dict[str, Array]:
        """Return what each PV-only inverter gives: of the bus's PV its part. (steps,) each [W]"""
        offered = {name: self.made.pv_only[name].ac_w[self.rows] for name in self.island.pv_only}
        total = sum(offered.values(), np.zeros(len(self.at)))
        share = np.divide(course.pv_w, total, out=np.zeros_like(total), where=total > 0)
        return {name: watts * share for name, watts in offered.items()}
