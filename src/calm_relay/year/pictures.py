"""Data behind the pictures of year and house: carpet, ribbon, duration curve, day, week, evening stack. No pixels here."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import DAYS, YearCalendar, in_window
from calm_relay.job.house_models import House
from calm_relay.load.house import HouseYear
from calm_relay.simulation.columns import LOSS_NAMES
from calm_relay.year.facts import EVENING_H, YearFacts
from calm_relay.year.plan_flow import PlanFlow

Array = NDArray[Any]
HELD_NAMES = tuple(name for name in LOSS_NAMES if name != "below_start")  # too little to start on is no limit
INSIDE = {
    "House": "the house", "Grid": "the grid", "Battery": "the battery", "Exported": "export", "Own draws": "own draws",
    "Not served": "what was not served",
    "Lost in storing": "losses of storing", "Clipped, held back": "what was clipped or held back",
}  # fmt: skip
HELD_WORDS = {"ac_limit": "AC limit", "device": "transfer device", "cap": "export cap", "island": "missing grid"}

LARGE_LOADS = 5  # shown by name in a stack; the others together

# quantity of the carpet: key, words, hue
CARPETS: tuple[tuple[str, str, str], ...] = (
    ("soc", "State of charge", "battery"),
    ("pv", "PV at the inverters", "sun"),
    ("load", "House", "house"),
    ("import", "Import", "grid"),
    ("export", "Export", "grid"),
    ("lost", "Clipped and held back", "lost"),
    ("grid_charge", "Charging from the grid", "battery"),
    ("discharge", "Batteries to the house", "battery"),
    ("unserved", "Not served", "over"),
)


def carpet(made: PlanFlow, quantity: str, steps: slice = slice(None)) -> tuple[Array, str]:
    """Return a quantity per step of the year, or of some of its steps, and its kind (power_w or fraction)."""
    flow, packed = made.flow, made.packed
    if quantity == "soc":
        capacity = float(packed.nodes["capacity_wh"].sum()) if len(packed.nodes) else 0.0
        if capacity <= 0:
            return np.zeros(len(packed.ac[steps])), "fraction"
        held = sum((flow.node_column(i, "energy_wh")[steps] for i in flow.node_ids), np.zeros(len(packed.ac[steps])))
        return held / capacity, "fraction"
    if quantity == "pv":
        dc: Array = sum((d.available_w[steps] for d in made.dc.values()), np.zeros(len(packed.ac[steps])))
        return dc, "power_w"
    if quantity == "lost":
        return lost_w(made, steps), "power_w"
    column = {
        "load": "load_w",
        "import": "import_w",
        "export": "export_w",
        "grid_charge": "grid_to_battery_w",
        "unserved": "unserved_w",
    }
    return flow.column(column.get(quantity, "battery_to_house_w"))[steps], "power_w"


def lost_w(made: PlanFlow, steps: slice = slice(None)) -> Array:
    """Return what limits lost per step, of all steps or some: all names but what was too little to start on. [W]"""
    total = np.zeros(len(made.packed.ac[steps]))
    for name in HELD_NAMES:
        total = total + made.flow.lost_w(name, steps)
    for out in made.pv_only.values():
        total = total + out.clipped_ac_w[steps]
    return total


@dataclass(frozen=True, eq=False)
class DayPicture:
    """One day: hours of standard time at the middle of steps, and power of each thing drawn; `unserved_w` without a grid only.

    [h], [W]
    """

    hours: Array
    clock_shift_h: float
    pv_w: Array
    pv_used_w: Array
    load_w: Array
    import_w: Array
    export_w: Array
    lost_w: Array
    soc_frac: Array | None
    unserved_w: Array | None = None


def day_picture(made: PlanFlow, calendar: YearCalendar, day: int) -> DayPicture:
    """Return one day (0–364) of a plan's year. It holds nothing of the year: a view would keep all its columns in memory."""
    n = calendar.steps_per_day
    here = slice(day * n, (day + 1) * n)
    (pv, _), (soc, _), lost = carpet(made, "pv", here), carpet(made, "soc", here), lost_w(made, here)

    def of_day(name: str) -> Array:
        return made.flow.column(name)[here].copy()

    return DayPicture(
        hours=(np.arange(n) + 0.5) * calendar.step_h,
        clock_shift_h=float(calendar.saving_h[day]),
        pv_w=pv,
        pv_used_w=np.maximum(0.0, pv - lost),
        load_w=of_day("load_w"),
        import_w=of_day("import_w"),
        export_w=of_day("export_w"),
        lost_w=lost,
        unserved_w=of_day("unserved_w") if made.packed.plant["island"] > 0 else None,
        soc_frac=soc if made.packed.nodes["capacity_wh"].sum() > 0 else None,
    )


def notable_days(made: PlanFlow, calendar: YearCalendar, air_c: Array | None = None) -> dict[str, int]:
    """Return days worth a look, by what makes them so: most clipped, dullest, highest evening, coldest."""
    n = calendar.steps_per_day
    lost, (pv, _) = lost_w(made), carpet(made, "pv")
    load = made.flow.column("load_w")
    evening = np.where(in_window(calendar.clock_hour, *EVENING_H), load, 0.0)
    out: dict[str, int] = {}
    by_day = lost.reshape(-1, n).sum(axis=1)
    if by_day.max() > 10.0:
        out["most clipped"] = int(by_day.argmax())
    if pv.max() > 0:
        out["sunniest"] = int(pv.reshape(-1, n).sum(axis=1).argmax())
        out["dullest"] = int(pv.reshape(-1, n).sum(axis=1).argmin())
    out["highest evening"] = int(evening.reshape(-1, n).max(axis=1).argmax())
    if air_c is not None:
        out["coldest"] = int(air_c.reshape(-1, n).min(axis=1).argmin())
    return out


@dataclass(frozen=True)
class Ribbon:
    """The year's flows: (from, to, Wh). Nodes in order of the picture: sources, store, uses and losses."""

    flows: tuple[tuple[str, str, float], ...]

    def into(self, name: str) -> float:
        """Return what arrives at a node. [Wh]"""
        return sum(wh for _, to, wh in self.flows if to == name)

    def out_of(self, name: str) -> float:
        """Return what leaves a node. [Wh]"""
        return sum(wh for source, _, wh in self.flows if source == name)


# The ribbon's bars: what comes, what stores, what it goes to.
SOURCES, STORES = ("PV", "Grid", "Not served"), ("Battery",)
USES = ("House", "Exported", "Own draws", "Lost in storing", "Clipped, held back")
SEEN_WH = 500.0  # a flow below it is not drawn


def inside(name: str) -> str:
    """Return a name of the ribbon as it stands inside a sentence."""
    return INSIDE.get(name, name)


def ribbon_terms(facts: YearFacts) -> list[tuple[str, str, tuple[tuple[str, float], ...]]]:
    """Return the flows of the ribbon, each with the sums it is made of, in words and Wh: (from, to, terms)."""
    s = facts.system_wh
    into_car = sum(row["pv_to_car_w"] for row in facts.nodes_wh.values())
    car = (("DC PV into the car", into_car),) if into_car > 0 else ()
    own_pv = sum(row["pv_to_battery_w"] for row in facts.nodes_wh.values())
    held = tuple((f"held back by the {HELD_WORDS[name]}", facts.lost_wh(name)) for name in HELD_NAMES if name != "ac_limit")
    rows = [
        ("PV", "House", (("PV serving the house, at AC", s["pv_to_house_w"]), *car)),
        ("PV", "Battery", (("PV over the AC bus into chargers", s["pv_to_battery_w"]), ("DC PV into its own battery", own_pv))),
        ("PV", "Exported", (("PV exported", s["pv_to_grid_w"]),)),
        ("PV", "Clipped, held back", (("clipped at AC limits", facts.clipped_wh), *held)),
        ("Grid", "House", (("import serving the house", s["grid_to_house_w"]),)),
        ("Not served", "House", (("asked for and not served", s["unserved_w"]),)),
        ("Grid", "Battery", (("import into chargers", s["grid_to_battery_w"]),)),
        ("Battery", "House", (("batteries serving the house, at AC", s["battery_to_house_w"]),)),
        ("Battery", "Exported", (("batteries exported", s["battery_to_grid_w"]),)),
        ("PV", "Own draws", (("PV serving standby on the AC bus", s["pv_to_own_w"]),)),
        ("Grid", "Own draws", (("import serving standby", s["grid_to_own_w"]),)),
        ("Battery", "Own draws", (("batteries serving standby on the AC bus", s["battery_to_own_w"]),)),
    ]
    stored = tuple((f"from {inside(source)}", sum(wh for _, wh in terms)) for source, to, terms in rows if to == "Battery")
    given = tuple((f"to {inside(to)}", -sum(wh for _, wh in terms)) for source, to, terms in rows if source == "Battery")
    return [*rows, ("Battery", "Lost in storing", (*stored, *given))]


def ribbon(facts: YearFacts) -> Ribbon:
    """Return the year as flows from PV and grid through the battery to house, grid and losses, all from one table."""
    rows = [(source, to, sum(wh for _, wh in terms)) for source, to, terms in ribbon_terms(facts)]
    return Ribbon(tuple(row for row in rows if row[2] > SEEN_WH))


@dataclass(frozen=True, eq=False)
class Duration:
    """Power offered to the inverters, sorted from most to least, with what was caught and lost above their limit.

    Attributes
    ----------
    hours : ndarray, [h] from 0
    offered_w, caught_w, lost_w : ndarray, sorted alike. [W]
    limit_w : float
        DC watts the inverter passes at its AC limit.
    """

    hours: Array
    offered_w: Array
    caught_w: Array
    lost_w: Array
    limit_w: float


def most_clipped_node(facts: YearFacts) -> str | None:
    """Return the inverter whose AC limit would clip most, caught or not; without any, the one with most PV; None: no PV."""
    offers: dict[str, tuple[float, float]] = {}
    for node, row in facts.nodes_wh.items():
        if row["pv_available_w"] > 0:
            offers[node] = (row["clip_potential_w"], row["pv_available_w"])
    for node, row in facts.pv_only_wh.items():
        if row["dc_available_w"] > 0:
            offers[node] = (row["clipped_ac_w"], row["dc_available_w"])
    return max(offers, key=lambda node: offers[node]) if offers else None


def duration(made: PlanFlow, node_id: str, limit_w: float, most_hours_h: float = 1500.0) -> Duration:
    """Return the duration curve of one inverter's PV, its first `most_hours_h`; `limit_w` is what it passes, DC."""
    flow = made.flow
    offered = made.dc[node_id].available_w
    if node_id in made.pv_only:
        clipped = made.pv_only[node_id].clipped_ac_w
        caught = np.zeros_like(clipped)
    else:
        caught, clipped = flow.node_column(node_id, "caught_w"), flow.node_column(node_id, "lost_ac_limit_w")
    count = min(len(offered), round(most_hours_h / flow.step_h))
    order = np.argsort(-offered, kind="stable")[:count]
    hours = (np.arange(count) + 0.5) * flow.step_h
    return Duration(hours, offered[order], caught[order], clipped[order], limit_w)


@dataclass(frozen=True, eq=False)
class Stack:
    """Loads stacked over an evening or a week: hours, then (name, watts) from the bottom up, smallest variation first."""

    hours: Array
    parts: tuple[tuple[str, Array], ...]
    day: int

    @property
    def total_w(self) -> Array:
        """The whole stack. [W]"""
        return np.sum([watts for _, watts in self.parts], axis=0) if self.parts else np.zeros_like(self.hours)


def _parts(house: House, year: HouseYear, here: slice) -> tuple[tuple[str, Array], ...]:
    names = {a.id: a.name for a in house.appliances}
    rows = [("Everything else", year.background_w[here])]
    rows += [(names[i], watts[here]) for i, watts in year.appliance_w.items()]
    rows = sorted((row for row in rows if row[1].max() > 0), key=lambda row: float(row[1].std()))
    small, large = rows[:-LARGE_LOADS], rows[-LARGE_LOADS:]
    if len(small) > 1:
        large.insert(0, (f"{len(small)} smaller loads", np.sum([watts for _, watts in small], axis=0)))
        small = []
    return (*small, *large)


def evening_stack(house: House, year: HouseYear, calendar: YearCalendar) -> Stack:
    """Return the evening (15–23 h by standard time) of the year's highest evening load, by appliance."""
    n = calendar.steps_per_day
    evening = np.where(in_window(calendar.clock_hour, *EVENING_H), year.total_w(), 0.0)
    day = int(evening.reshape(DAYS, n).max(axis=1).argmax())
    first, last = (round(h / calendar.step_h) for h in (14, 23))
    here = slice(day * n + first, day * n + last)
    hours = (np.arange(first, last) + 0.5) * calendar.step_h + float(calendar.saving_h[day])
    return Stack(hours, _parts(house, year, here), day)


def week_stack(house: House, year: HouseYear, calendar: YearCalendar, day: int) -> Stack:
    """Return seven days from `day`, in half-hour means, by appliance."""
    n, half = calendar.steps_per_day, max(1, round(0.5 / calendar.step_h))
    first = min(max(0, day), DAYS - 7)
    here = slice(first * n, (first + 7) * n)
    parts = tuple((name, watts.reshape(-1, half).mean(axis=1)) for name, watts in _parts(house, year, here))
    hours = (np.arange(7 * n // half) + 0.5) * half * calendar.step_h
    return Stack(hours, parts, first)
