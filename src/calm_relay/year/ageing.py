"""Twenty years of each battery of a plan, from its simulated first year; and a plan as it stands in a later year."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from calm_relay.job.models import Plan
from calm_relay.packs.pack import Pack
from calm_relay.plant.station import BatteryRow
from calm_relay.plant.whole import Plant
from calm_relay.simulation.ageing import YEARS, Ageing, age
from calm_relay.simulation.columns import given_wh
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from calm_relay.year.facts import YearFacts

SHOWN_YEARS = (1, 5, 10, 15, 20)


@dataclass(frozen=True)
class BatteryAgeing:
    """A battery's twenty years; `ageing` is None where its card has no cycles by depth."""

    node: str
    name: str
    ageing: Ageing | None
    usable_new_wh: float
    end_floor_frac: float | None
    warranty_years: float | None
    source: str
    delivered_wh: float = 0.0

    def ends_in_year(self, end_frac: float, *, new: bool = False) -> int | None:
        """Return the year at whose end the capacity is below an end; None where that does not come within 20.

        `new`: of one that begins at its full capacity and is used alike.
        """
        if self.ageing is None:
            return None
        begins = self.ageing.begins_frac if new else 1.0
        return next((row.year for row in self.ageing.years if row.capacity_frac / begins < end_frac), None)

    def delivered_over_life_wh(self, end_frac: float) -> float | None:
        """Return what it delivers until its capacity is below an end, or in 20 years; None where that is not known. [Wh]"""
        if self.ageing is None or self.ageing.begins_frac <= 0:
            return None
        last = self.ends_in_year(end_frac) or YEARS
        shares = (self.ageing.capacity_at(year) / self.ageing.begins_frac for year in range(1, last + 1))
        return self.delivered_wh * sum(min(1.0, share) for share in shares)

    @property
    def words(self) -> str:
        """What is left after some years, and what ends the warranty first."""
        if self.ageing is None:
            return "how it ages is not known: the card has no cycles by depth"
        left = ", ".join(f"{self.ageing.years[y - 1].capacity_frac * 100:.0f} % after {y}" for y in SHOWN_YEARS)
        by, when = self.ageing.ends_by, self.ageing.ends_in_years
        if when is None:
            ends = "the card has no warranty"
        else:
            name = {"years": "its years", "throughput": "its throughput", "capacity": "the capacity warranted at its end"}[by]
            ends = f"the warranty ends by {name}, after {when:.1f} years"
        return f"{left} years; {ends}"

    def as_dict(self) -> dict[str, Any]:
        """Return the ageing as plain data."""
        years = [] if self.ageing is None else [vars(year) for year in self.ageing.years]
        return {
            "node": self.node, "name": self.name, "years": years,
            "ends_by": self.ageing.ends_by if self.ageing else "",
            "ends_in_years": self.ageing.ends_in_years if self.ageing else None,
            "warranted_capacity_kept": self.ageing.warranted if self.ageing else None, "words": self.words, "source": self.source,
        }  # fmt: skip


def _fade(row: BatteryRow, pack: Pack) -> tuple[float, float, str]:
    """Return what the calendar takes a year, the end of life, and where both come from. [1/year], [0 to 1]"""
    if row.bank.cells.is_lead:
        fade, source = pack.value("calendar_fade_lead_frac"), pack.source("calendar_fade_lead_frac")
        return fade, pack.value("life_end_lead_frac"), source
    if row.bank.cells.chemistry == "NMC":
        fade, source = pack.value("calendar_fade_nmc_frac"), pack.source("calendar_fade_nmc_frac")
    else:
        fade, source = pack.value("calendar_fade_lfp_frac"), pack.source("calendar_fade_lfp_frac")
    return fade, pack.value("life_end_lithium_frac"), source


def battery_ageing(plant: Plant, pack: Pack, facts: YearFacts) -> tuple[BatteryAgeing, ...]:
    """Return how each battery of a plan ages when every year is like the simulated one."""
    out = []
    for row in plant.banked:
        delivered = given_wh(facts.nodes_wh[row.station.id]) / row.bank.modules
        fade, end, source = _fade(row, pack)
        cycles = facts.cycles.get(row.station.id, ())
        root = not row.bank.cells.is_lead
        made = age(row.battery.life, cycles, delivered, fade, end, row.bank.state_of_health_frac, by_root=root)
        new = row.bank.cells.capacity_wh * row.bank.modules
        out.append(
            BatteryAgeing(
                node=row.station.id,
                name=row.station.name,
                ageing=made,
                usable_new_wh=new * row.battery.life.window_frac,
                end_floor_frac=row.battery.life.warranty_end_frac,
                warranty_years=row.battery.life.warranty_years,
                source="cycles by rainflow, the card's cycles by depth, Miner's rule; "
                f"calendar {show(fade, 'fraction', 1)} {'in the first year, by the root of time' if root else 'a year'}: {source}",
                delivered_wh=delivered * row.bank.modules,
            )
        )
    return tuple(out)


def aged_plan(plan: Plan, ageings: tuple[BatteryAgeing, ...], year: int) -> Plan:
    """Return the plan with its batteries at the capacity that a year begins with, counted from 1; what is not known stays as it is.

    Raises
    ------
    ValueError
        For a year that is not from 1 to 21.
    """
    if not 1 <= year <= YEARS + 1:
        raise ValueError(f"year {year} is not one of 1 to {YEARS + 1}")
    by_node = {row.node: row.ageing for row in ageings}
    nodes = []
    for node in plan.nodes:
        ageing = by_node.get(node.id)
        if node.battery is None or ageing is None or year == 1:
            nodes.append(node)
            continue
        health = max(0.01, ageing.capacity_at(year))
        nodes.append(node.model_copy(update={"battery": node.battery.model_copy(update={"state_of_health_frac": health})}))
    return plan.model_copy(update={"nodes": tuple(nodes)})
