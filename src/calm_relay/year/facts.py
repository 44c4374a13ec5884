"""The facts of a plan's year, small enough to keep for every plan: sums, fractions, hours at limits, days filled."""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import DAYS, YearCalendar, days_of_seasons, in_window
from calm_relay.load.house import HouseYear
from calm_relay.plant import chain
from calm_relay.plant.station import Converter
from calm_relay.simulation.ageing import CycleCount, year_cycles
from calm_relay.simulation.columns import AC_LOAD_B, AC_NEVER, PV_ONLY_LOSS_COLUMNS, given_wh
from calm_relay.simulation.flow import year_sums_wh
from calm_relay.simulation.kernel.records import BANK_CHARGE, BANK_DISCHARGE
from calm_relay.simulation.pack import Packed, battery_limit_line, battery_limit_w
from calm_relay.simulation.storing import loss_of
from calm_relay.simulation.tallies import offered_by_day, steps_at_limit
from calm_relay.year.inputs import FactInputs
from calm_relay.year.lines import LineAmps, LineFacts, line_amps, line_facts, line_flows
from calm_relay.year.plan_flow import PlanFlow
from calm_relay.year.stages import TrackerYear
from calm_relay.year.when import BatteryMonth, battery_months, full_days, window_wh
from calm_relay.year.windows import WindowFacts, window_facts

Array = NDArray[np.float64]
EVENING_H = (16.0, 22.0)
AT_LIMIT_FRAC = 0.999
_LARGEST = 2000  # evening steps that are drawn
_COULD_BE_STORED = ("lost_ac_limit_w", "lost_device_w", "lost_cap_w", "lost_island_w")
EXCEEDED_W = 1.0  # below it is rounding of what is cut


@dataclass(frozen=True)
class LimitUse:
    """How a limit was met over the year: hours at it and energy it held back. [h], [Wh]"""

    hours_h: float = 0.0
    held_wh: float = 0.0


@dataclass(frozen=True)
class Exceeded:
    """How far a limit was passed that nothing could hold: hours, energy and the highest power above it. [h], [Wh], [W]"""

    hours_h: float = 0.0
    over_wh: float = 0.0
    peak_w: float = 0.0
    highest_w: float = 0.0


@dataclass(frozen=True)
class EveningFacts:
    """Evening demand (16–22 h by the clock) that batteries would have to carry, against what they can give.

    `over_steps_w` are the demands above the limit, largest first, at most the number the checks ask for.
    """

    limit_w: float
    weakest: str
    peak_w: float
    hours_over_h: float
    over_wh: float
    largest_w: tuple[float, ...]


@dataclass(frozen=True)
class FillFacts:
    """What the array offers a node's battery per day of a season, as a share of its usable energy."""

    share_of_days_frac: float
    median_ratio: float
    median_offer_wh: float
    days_full_frac: float


@dataclass(frozen=True)
class YearFacts:
    """A plan's year in figures. Energies in Wh, fractions 0–1."""

    system_wh: dict[str, float]
    nodes_wh: dict[str, dict[str, float]]
    pv_only_wh: dict[str, dict[str, float]]
    tracker_lost_wh: float
    self_sufficiency_frac: float
    own_use_frac: float
    usable_wh: float
    full_cycles: float
    limits: dict[str, LimitUse]
    evening: EveningFacts | None
    fill: dict[str, dict[str, FillFacts]]
    backup_peak_w: float
    backup_peak_va: float
    by_month_wh: dict[str, tuple[float, ...]]
    step_h: float
    runs: int
    steady: bool
    assumed: frozenset[str] = field(default=frozenset())
    trackers: dict[str, tuple[TrackerYear, ...]] = field(default_factory=dict)
    clipped_by_month_wh: dict[str, tuple[float, ...]] = field(default_factory=dict)
    lines: tuple[LineFacts, ...] = ()
    exceeded: dict[str, Exceeded] = field(default_factory=dict)
    amps: tuple[LineAmps, ...] = ()
    unit_peak_w: dict[str, float] = field(default_factory=dict)
    windows: dict[int, WindowFacts] = field(default_factory=dict)
    cycles: dict[str, tuple[CycleCount, ...]] = field(default_factory=dict)
    battery_months: dict[str, tuple[BatteryMonth, ...]] = field(default_factory=dict)
    coarse_step_s: int | None = None  # of the meter that the house's peaks rest on
    night_wh: float | None = None  # of the house on a mean day while the array offers nothing; None: there is no array
    house_peak_w: float = 0.0
    house_peak_va: float = 0.0

    def at_least(self, figure: str) -> str:
        """Return a peak of the house in words: a lower bound where the meter reads in coarse intervals."""
        if self.coarse_step_s is None:
            return figure
        return f"at least {figure} (read every {self.coarse_step_s // 60} min: shorter peaks are higher)"

    @property
    def clipped_wh(self) -> float:
        """DC watts clipped at DC nodes plus AC watts clipped at PV-only inverters. [Wh]"""
        nodes = sum(row["lost_ac_limit_w"] for row in self.nodes_wh.values())
        return nodes + sum(row["clipped_ac_w"] for row in self.pv_only_wh.values())

    @property
    def caught_wh(self) -> float:
        """Energy above the AC limit that went into batteries. [Wh]"""
        return sum(row["caught_w"] for row in self.nodes_wh.values())

    @property
    def held_by_cap_wh(self) -> float:
        """Energy held back by the export cap. [Wh]"""
        return self.lost_wh("cap")

    def lost_wh(self, name: str) -> float:
        """Return what one limit lost in the year, by its name of `columns.LOSS_NAMES`; PV-only clipping is `clipped_wh`'s. [Wh]"""
        held = self.system_wh.get(f"pv_only_lost_{name}_w", 0.0)
        return held + sum(row[f"lost_{name}_w"] for row in self.nodes_wh.values())


def year_facts(inputs: FactInputs, calendar: YearCalendar, made: PlanFlow, house: HouseYear) -> YearFacts:
    """Return the facts of one plan's year; those of its batteries alone are counted beside the others, in a thread of their own."""
    with ThreadPoolExecutor(1) as pool:
        batteries = pool.submit(_battery_facts, inputs, calendar, made)
        facts = _facts_beside(inputs, calendar, made, house)
        cycles, months, fill = batteries.result()
    return replace(facts, cycles=cycles, battery_months=months, fill=fill)


_BatteryFacts = tuple[
    dict[str, tuple[CycleCount, ...]], dict[str, tuple[BatteryMonth, ...]], dict[str, dict[str, FillFacts]]
]  # cycles, months, and how they are filled


def _battery_facts(inputs: FactInputs, calendar: YearCalendar, made: PlanFlow) -> _BatteryFacts:
    flow, packed = made.flow, made.packed
    cycles = {
        node_id: year_cycles(flow.node_column(node_id, "energy_wh"), float(packed.nodes[k]["capacity_wh"]))
        for k, node_id in enumerate(flow.node_ids)
        if packed.nodes[k]["capacity_wh"] > 0
    }
    return cycles, battery_months(flow, packed), _fill(inputs, calendar, made)


def _facts_beside(inputs: FactInputs, calendar: YearCalendar, made: PlanFlow, house: HouseYear) -> YearFacts:
    flow, packed = made.flow, made.packed
    system, nodes = year_sums_wh(flow)
    h = calendar.step_h
    pv_only = {
        node_id: {
            "dc_available_w": float(out.dc_available_w.sum()) * h,
            "ac_w": float(out.ac_w.sum()) * h,
            "clipped_ac_w": float(out.clipped_ac_w.sum()) * h,
            "inverter_loss_w": float(out.inverter_loss_w.sum()) * h,
            "standby_from_pv_w": float(out.standby_from_pv_w.sum()) * h,
            "lost_below_start_w": float(out.below_start_w.sum()) * h,
            "own_draw_w": float(out.own_draw_w.sum()) * h,
            "hours_at_limit_h": float(np.count_nonzero(out.clipped_ac_w > 1e-6)) * h,
        }
        for node_id, out in made.pv_only.items()
    }
    cars_wh = sum(row["pv_to_car_w"] for row in nodes.values())  # which never pass the AC bus
    house_wh = system["load_w"] + cars_wh
    grid_origin = system["grid_to_house_w"] + system["battery_to_house_w"] - system["battery_pv_to_house_w"]
    exported_pv = system["pv_to_grid_w"] + system["battery_pv_to_grid_w"]
    delivered = (
        system["pv_to_house_w"] + cars_wh + system["pv_to_own_w"] + exported_pv
        + system["battery_pv_to_house_w"] + system["battery_pv_to_own_w"]
    )  # fmt: skip
    usable = sum(chain.usable_wh(node.bank) for node in inputs.converters if node.bank is not None)
    given = sum(given_wh(row) for row in nodes.values())
    none = (0.0,) * 12
    months = {
        name: calendar.by_month_wh(flow.column(name)) if flow.has(name) else none
        for name in ("load_w", "import_w", "export_w", "pv_ac_w", "battery_to_house_w", "unserved_w")
    }
    lines, factors = line_flows(inputs.lines, made), dict(inputs.factors)
    return YearFacts(
        system_wh=system,
        nodes_wh=nodes,
        pv_only_wh=pv_only,
        tracker_lost_wh=sum(float((d.offered_w - d.available_w).sum()) * h for d in made.dc.values()),
        self_sufficiency_frac=1.0 - (grid_origin + system["unserved_w"]) / house_wh if house_wh > 0 else 0.0,
        own_use_frac=1.0 - exported_pv / delivered if delivered > 0 else 0.0,
        usable_wh=usable,
        full_cycles=given / usable if usable > 0 else 0.0,
        limits=_limit_use(inputs, calendar, made, pv_only),
        evening=_evening(inputs.converters, calendar, made),
        fill={},
        backup_peak_w=float(packed.ac[:, AC_LOAD_B].max()),
        backup_peak_va=house.peak_va(inputs.lines.backed_up, factors),
        by_month_wh=months,
        step_h=h,
        runs=flow.runs,
        steady=flow.steady,
        assumed=flow.assumed | ({"site.weather"} if inputs.guessed else frozenset()),
        trackers={node_id: dc.trackers for node_id, dc in made.dc.items() if dc.trackers},
        clipped_by_month_wh={
            **{node_id: calendar.by_month_wh(out.clipped_ac_w) for node_id, out in made.pv_only.items()},
            **{
                i: calendar.by_month_wh(flow.node_column(i, "lost_ac_limit_w")) if flow.has("lost_ac_limit_w", i) else none
                for i in flow.node_ids
            },
        },
        windows=window_facts(inputs.controls, calendar, made),
        coarse_step_s=inputs.coarse_step_s,
        night_wh=_night_wh(made, h),
        house_peak_w=float(house.total_w().max()),
        house_peak_va=house.peak_va(None, factors),
        lines=line_facts(inputs.lines, made, calendar, lines),
        exceeded=_exceeded(inputs, calendar, made),
        amps=line_amps(inputs.lines, lines, h),
        unit_peak_w={
            i: max((float(flow.node_column(i, name).max()) for name in ("ac_out_w", "ac_in_w") if flow.has(name, i)), default=0.0)
            for i in flow.node_ids
        },
    )


def _night_wh(made: PlanFlow, h: float) -> float | None:
    """Return what the house draws on a mean day while no string offers anything; None where there is no array. [Wh]"""
    dark = np.ones(len(made.packed.ac), dtype=np.bool_)
    for dc in made.dc.values():
        dark &= dc.offered_w <= 0.0
    if dark.all():
        return None
    return float(made.packed.load_w.sum(where=dark)) * h / DAYS


def _limit_use(
    inputs: FactInputs, calendar: YearCalendar, made: PlanFlow, pv_only: dict[str, dict[str, float]]
) -> dict[str, LimitUse]:
    flow, packed, h = made.flow, made.packed, calendar.step_h
    use: dict[str, LimitUse] = {}
    for node_id, row in pv_only.items():
        use[f"ac_limit:{node_id}"] = LimitUse(row["hours_at_limit_h"], row["clipped_ac_w"])
    for k, node_id in enumerate(flow.node_ids):
        record = packed.nodes[k]
        out = flow.node_column(node_id, "ac_out_w")
        lost = flow.node_wh(node_id, "lost_ac_limit_w")
        hours = float(np.count_nonzero(out >= AT_LIMIT_FRAC * record["ac_out_w"])) * h
        use[f"ac_limit:{node_id}"] = LimitUse(hours, lost)
        if record["capacity_wh"] > 0:
            drawn, stored, from_ac, energy = (
                flow.node_column(node_id, name) for name in ("discharge_w", "pv_to_battery_w", "charge_from_ac_w", "energy_wh")
            )
            held = float(flow.start_energy_wh[k]), float(record["capacity_wh"])
            for end, part, watts, more in (
                ("discharge", BANK_DISCHARGE, drawn, np.zeros(0)),
                ("charge", BANK_CHARGE, stored, from_ac),
            ):
                limit, parts = battery_limit_line(record, end), packed.bank[:, k, part]
                count = steps_at_limit(watts, more, energy, *held, limit, parts, AT_LIMIT_FRAC)
                use[f"{end}:{node_id}"] = LimitUse(float(count) * h)
    holds = "island" if inputs.lines.off_grid else "cap" if inputs.caps.export_w is not None else None
    if holds is not None:
        cut = float(np.count_nonzero(flow.lost_w(holds) > 1e-3)) if flow.lost_wh(holds) else 0.0
        use["island" if holds == "island" else "export_cap"] = LimitUse(cut * h, flow.lost_wh(holds))
    if math.isfinite(float(packed.plant["transfer_w"])):
        at = np.abs(flow.column("transfer_w")) >= AT_LIMIT_FRAC * float(packed.plant["transfer_w"])
        use["transfer"] = LimitUse(float(np.count_nonzero(at)) * h, flow.lost_wh("device"))
    return use


def _exceeded(inputs: FactInputs, calendar: YearCalendar, made: PlanFlow) -> dict[str, Exceeded]:
    """Return what passed the export cap, the import limit and the transfer device though all that can be cut was cut.

    Without a grid: what of the house could not be served, against none.
    """
    flow, h = made.flow, calendar.step_h
    out = {}
    rows = (
        ("unserved", 0.0 if inputs.lines.off_grid else None, "unserved_w", "load_w"),
        ("export_cap", None if inputs.lines.off_grid else inputs.caps.export_w, "cap_exceeded_w", "export_w"),
        ("import", None if inputs.lines.off_grid else inputs.caps.import_w, "import_exceeded_w", "import_w"),
        ("transfer", float(made.packed.plant["transfer_w"]), "device_exceeded_w", "transfer_w"),
        ("peak", float(made.packed.plant["target_w"]), "peak_exceeded_w", "import_w"),
    )
    for name, limit, over, whole in rows:
        if limit is not None and math.isfinite(limit):
            above = flow.column(over)[flow.column(over) > EXCEEDED_W] if flow.has(over) else np.zeros(0)
            carried = flow.column(whole)
            highest = max(float(carried.max()), -float(carried.min()))
            out[name] = Exceeded(len(above) * h, float(above.sum()) * h, float(above.max(initial=0.0)), highest)
    return out


def _evening(converters: tuple[Converter, ...], calendar: YearCalendar, made: PlanFlow) -> EveningFacts | None:
    packed: Packed = made.packed
    limit, names = 0.0, []
    for node in converters:
        if node.bank is None:
            continue
        record = packed.nodes[packed.node_ids.index(node.id)]
        limit += min(node.unit.output_w(float(battery_limit_w(record, "discharge"))), float(record["ac_out_w"]))
        names.append(chain.weakest(chain.discharge_chain(node.unit, node.bank)).name)
    if not names:
        return None
    evening = _evening_steps(calendar)
    demand = packed.load_w[evening] - packed.ac[:, AC_NEVER][evening] - packed.pv_only_w[evening]
    over = demand[demand > limit] - limit
    beside = np.zeros(min(_LARGEST, calendar.steps - len(demand)))  # the steps of other hours count as none
    ranked = np.concatenate((demand, beside))
    if len(ranked) > _LARGEST:
        ranked = np.partition(ranked, -_LARGEST)[-_LARGEST:]
    largest = np.sort(ranked)[::-1]
    h = calendar.step_h
    return EveningFacts(
        limit_w=limit,
        weakest=" and ".join(dict.fromkeys(names)),
        peak_w=float(largest[0]),
        hours_over_h=len(over) * h,
        over_wh=float(over.sum()) * h,
        largest_w=tuple(largest.tolist()),
    )


@lru_cache(maxsize=2)
def _evening_steps(calendar: YearCalendar) -> NDArray[np.intp]:
    return np.flatnonzero(in_window(calendar.clock_hour, *EVENING_H))


def _fill(inputs: FactInputs, calendar: YearCalendar, made: PlanFlow) -> dict[str, dict[str, FillFacts]]:
    """Per node and season: what the array offers on a day (stored, exported or lost for want of room) over usable."""
    flow, packed, h = made.flow, made.packed, calendar.step_h
    with_battery = [k for k in range(len(flow.node_ids)) if packed.nodes[k]["capacity_wh"] > 0]
    if not with_battery:
        return {}
    windows = {k: window_wh(packed.nodes[k]) for k in with_battery}
    total = sum(windows.values())
    spare_ac = flow.column("pv_to_grid_w") + made.left_over_w
    for name in PV_ONLY_LOSS_COLUMNS:
        if flow.has(name):
            spare_ac += flow.column(name)
    seasons = days_of_seasons(north=inputs.north)
    out: dict[str, dict[str, FillFacts]] = {}
    for k in with_battery:
        node_id, record = flow.node_ids[k], packed.nodes[k]
        stored, from_ac = flow.node_column(node_id, "pv_to_battery_w"), flow.node_column(node_id, "charge_from_ac_w")
        lost = [flow.node_column(node_id, name) for name in _COULD_BE_STORED if flow.has(name, node_id)]
        part, room, loss = windows[k] / total * 0.95, float(battery_limit_w(record, "charge")), loss_of(record)
        offer_day = np.zeros(DAYS)
        offered_by_day(
            stored, from_ac, flow.column("pv_to_battery_w"), flow.column("charge_ac_w"), spare_ac, float(part),
            sum(lost[1:], lost[0]) if lost else np.zeros(0), room, (loss.eta_c, loss.take_square_per_w, loss.self_w), offer_day,
        )  # fmt: skip
        offer_day *= h
        highest = flow.node_column(node_id, "energy_wh").reshape(DAYS, -1).max(axis=1)
        enough, full = offer_day >= windows[k], full_days(record, highest)
        out[node_id] = {}
        for season, here in seasons.items():
            days, median = int(np.count_nonzero(here)), float(np.median(offer_day[here]))
            out[node_id][season] = FillFacts(
                share_of_days_frac=int(np.count_nonzero(enough[here])) / days,
                median_ratio=median / windows[k],
                median_offer_wh=median,
                days_full_frac=int(np.count_nonzero(full[here])) / days,
            )
    return out
