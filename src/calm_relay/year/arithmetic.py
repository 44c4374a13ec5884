"""How each figure of a plan's year comes about, in words and numbers: what Year shows when a figure is opened."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

from calm_relay.simulation.columns import given_wh
from calm_relay.units import format_quantity as show
from calm_relay.year.boxes import box_uses
from calm_relay.year.pictures import HELD_WORDS, SEEN_WH, SOURCES, STORES, USES, inside, ribbon_terms

if TYPE_CHECKING:
    from calm_relay.job.models import Plan
    from calm_relay.year.facts import YearFacts

Quantity = Literal["energy_wh", "fraction", "cycles"]
Term = tuple[str, float]
SHOWN_WH = 50.0  # a term below it is 0.0 kWh in words


@dataclass(frozen=True)
class YearFigure:
    """A figure of the year: its name, its value [Wh, 0 to 1, number] and how it comes about."""

    key: str
    name: str
    quantity: Quantity
    value: float
    arithmetic: str

    @property
    def words(self) -> str:
        """The value with its unit."""
        return value_words(self.quantity, self.value)


def value_words(quantity: Quantity, value: float) -> str:
    """Return a value of a year figure with its unit."""
    if quantity == "cycles":
        return f"{value:.0f}"
    return show(value, quantity) if quantity == "fraction" else show(value, quantity, 1)


def _sum(terms: Iterable[Term]) -> str:
    """Return terms as a sum in words; those that are nothing are left out, but never all of them."""
    rows = list(terms)
    seen = [row for row in rows if abs(row[1]) >= SHOWN_WH] or rows[:1]
    words = ""
    for name, wh in seen:
        sign = ("" if wh >= 0 else "−") if not words else (" + " if wh >= 0 else " − ")
        words += f"{sign}{name} {show(abs(wh), 'energy_wh', 1)}"
    return words


def _energy(key: str, name: str, terms: Iterable[Term]) -> YearFigure:
    rows = list(terms)
    return YearFigure(key, name, "energy_wh", sum(wh for _, wh in rows), _sum(rows))


def year_figures(facts: YearFacts, plan: Plan) -> tuple[YearFigure, ...]:
    """Return the figures of a plan's year that there are, each with its arithmetic; sums are of the whole year."""
    return (*_fractions(facts), *_flows(facts), *_pv(facts, plan), *_cars(facts, plan), *_boxes(facts, plan), *_bus(facts))


def _fractions(facts: YearFacts) -> list[YearFigure]:
    s = facts.system_wh
    out = []
    grid_stored = s["battery_to_house_w"] - s["battery_pv_to_house_w"]
    if s["load_w"] > 0:
        from_grid = _sum((("from the grid", s["grid_to_house_w"]), ("through batteries that the grid charged", grid_stored)))
        words = f"1 − ({from_grid}) / house {show(s['load_w'], 'energy_wh', 1)}"
        out.append(YearFigure("self_sufficiency", "Self-sufficiency", "fraction", facts.self_sufficiency_frac, words))
    exported = (("exported", s["pv_to_grid_w"]), ("exported through batteries", s["battery_pv_to_grid_w"]))
    used = (
        ("to the house", s["pv_to_house_w"]),
        ("to standby", s["pv_to_own_w"]),
        ("to house and standby through batteries", s["battery_pv_to_house_w"] + s["battery_pv_to_own_w"]),
    )
    delivered = sum(wh for _, wh in (*exported, *used))
    if delivered > 0:
        words = f"1 − ({_sum(exported)}) / PV delivered at AC {show(delivered, 'energy_wh', 1)}: {_sum((*used, *exported))}"
        out.append(YearFigure("own_use", "Own use of PV", "fraction", facts.own_use_frac, words))
    if facts.usable_wh > 0:
        given = sum(given_wh(row) for row in facts.nodes_wh.values())
        words = f"given at the terminals {show(given, 'energy_wh', 1)} / usable {show(facts.usable_wh, 'energy_wh', 1)}"
        out.append(YearFigure("cycles", "Full cycles", "cycles", facts.full_cycles, words))
    return out


def _flows(facts: YearFacts) -> list[YearFigure]:
    """Return the bars of the ribbon: what comes in, or what goes out where nothing comes in."""
    rows = [(source, to, terms, sum(wh for _, wh in terms)) for source, to, terms in ribbon_terms(facts)]
    rows = [row for row in rows if row[3] > SEEN_WH]
    out = []
    for name in (*SOURCES, *STORES, *USES):
        into = [(f"from {inside(source)}", terms, wh) for source, to, terms, wh in rows if to == name]
        found = into or [(f"to {inside(to)}", terms, wh) for source, to, terms, wh in rows if source == name]
        if found:
            parts = found[0][1] if len(found) == 1 else [(words, wh) for words, _, wh in found]
            out.append(_energy(f"bar:{name}", name, parts))
    several = [(source, to, terms) for source, to, terms, _ in rows if sum(abs(wh) >= SHOWN_WH for _, wh in terms) > 1]
    kept = {figure.arithmetic for figure in out}
    flows = [_energy(f"{source}>{to}", f"{source} → {inside(to)}", terms) for source, to, terms in several]
    return [*out, *(figure for figure in flows if figure.arithmetic not in kept)]


def _cars(facts: YearFacts, plan: Plan) -> list[YearFigure]:
    """Return what cars on DC sides got and what they lacked."""
    called, out = {node.id: node.name for node in plan.nodes}, []
    for node_id, row in facts.nodes_wh.items():
        got = (("its own sun", row["pv_to_car_w"]), ("from AC through its charger", row["car_from_ac_w"]))
        if sum(wh for _, wh in got) + row["car_short_w"] >= SEEN_WH:
            out.append(_energy(f"car:{node_id}", f"Car on the DC side of {called[node_id]}, DC", got))
        if row["car_short_w"] >= SEEN_WH:
            asked = (("asked for and not given", row["car_short_w"]),)
            out.append(_energy(f"car-short:{node_id}", f"Car on the DC side of {called[node_id]}, lacking", asked))
    return out


def _pv(facts: YearFacts, plan: Plan) -> list[YearFigure]:
    called = {node.id: node.name for node in plan.nodes}
    out = []
    for node_id, row in facts.nodes_wh.items():
        if row["pv_available_w"] <= 0:
            continue
        terms = (
            ("to the inverter", row["pv_to_inverter_w"]), ("to the battery", row["pv_to_battery_w"]),
            ("to standby", row["pv_standby_w"]), ("clipped at the AC limit", row["lost_ac_limit_w"]),
            ("too little to start on", row["lost_below_start_w"]),
            *((f"held by the {HELD_WORDS[name]}", row[f"lost_{name}_w"]) for name in ("device", "cap", "island")),
            *((("into the car", row["pv_to_car_w"]),) if row["pv_to_car_w"] > 0 else ()),
        )  # fmt: skip
        out.append(_energy(f"pv:{node_id}", f"PV at {called[node_id]}, DC", terms))
        above = (("caught by the battery", row["caught_w"]), ("clipped", row["lost_ac_limit_w"]))
        if row["clip_potential_w"] >= SEEN_WH:
            out.append(_energy(f"above:{node_id}", f"Above the AC limit of {called[node_id]}, DC", above))
    for node_id, row in facts.pv_only_wh.items():
        terms = (
            ("AC output", row["ac_w"]), ("inverter loss", row["inverter_loss_w"]), ("to standby", row["standby_from_pv_w"]),
            ("clipped at the AC limit", row["clipped_ac_w"]), ("too little to start on", row["lost_below_start_w"]),
        )  # fmt: skip
        out.append(_energy(f"pv:{node_id}", f"PV at {called[node_id]}, DC", terms))
    if facts.tracker_lost_wh >= SEEN_WH:
        terms = (("offered by the modules above what trackers take", facts.tracker_lost_wh),)
        out.append(_energy("tracker", "Lost before the inverters", terms))
    return out


def _boxes(facts: YearFacts, plan: Plan) -> list[YearFigure]:
    called = {node.id: node.name for node in plan.nodes}
    out = []
    for use in box_uses(facts):
        terms = (
            ("inverting", use.inverter_loss_wh), ("charging", use.charger_loss_wh), ("in the cells", use.cell_loss_wh),
            ("standby paid by PV", use.standby_from_pv_wh), ("standby paid by the battery", use.standby_from_battery_wh),
            ("standby paid by the AC bus", use.standby_from_ac_wh),
        )  # fmt: skip
        out.append(_energy(f"box:{use.node_id}", f"{called[use.node_id]}, for itself", terms))
    return out


def _bus(facts: YearFacts) -> list[YearFigure]:
    s = facts.system_wh
    imported = (("house", s["grid_to_house_w"]), ("standby", s["grid_to_own_w"]), ("chargers", s["grid_to_battery_w"]))
    exported = (("PV", s["pv_to_grid_w"]), ("batteries", s["battery_to_grid_w"]))
    came = (("PV", s["pv_ac_w"]), ("batteries", s["battery_ac_w"]), ("import", s["import_w"]), ("not served", s["unserved_w"]))
    went = (("house", s["load_w"]), ("standby", s["own_draw_w"]), ("chargers", s["charge_ac_w"]), ("export", s["export_w"]))
    left = sum(wh for _, wh in came) - sum(wh for _, wh in went)
    words = f"({_sum(came)}) − ({_sum(went)})"
    return [
        _energy("import", "Import", imported),
        _energy("export", "Export", exported),
        YearFigure("bus", "Left over on the AC bus", "energy_wh", left, words),
    ]


@dataclass(frozen=True)
class FigurePair:
    """A figure of two plans: of either alone where the other has none."""

    key: str
    name: str
    one: YearFigure | None
    other: YearFigure | None

    @property
    def more_words(self) -> str:
        """By how much the first plan has more, with its sign; empty where one has none."""
        if self.one is None or self.other is None:
            return ""
        more = self.one.value - self.other.value
        words = value_words(self.one.quantity, abs(more))
        return words if words == value_words(self.one.quantity, 0.0) else f"{'+' if more > 0 else '−'}{words}"


def paired(one: tuple[YearFigure, ...], other: tuple[YearFigure, ...]) -> tuple[FigurePair, ...]:
    """Return the figures of two plans side by side, the first plan's order kept; boxes are told apart by name."""
    theirs = {figure.name: figure for figure in other}
    pairs = [FigurePair(f.key, f.name, f, theirs.pop(f.name, None)) for f in one]
    return (*pairs, *(FigurePair(f.key, f.name, None, f) for f in theirs.values()))
