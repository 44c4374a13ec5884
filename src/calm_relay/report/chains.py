"""From cell to bus and back: the links of a battery's chains, what raising the weakest gains, room to grow, each way's loss."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from calm_relay.job.models import Job, Plan
from calm_relay.plant import chain
from calm_relay.plant.chain import Link
from calm_relay.plant.resolve import plant_of
from calm_relay.plant.station import BatteryRow
from calm_relay.rules.checks_match import feeds, used
from calm_relay.rules.registry import CheckContext
from calm_relay.simulation.paths import Path, storage_paths
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show

USUAL_W = 2000.0  # at the load, where no other power is asked for


@dataclass(frozen=True)
class Chain:
    """One direction: its links from the cells outwards, the weakest, and the watts it would gain if that alone were raised."""

    name: str
    links: tuple[Link, ...]
    weakest: Link
    gain_w: float | None

    @property
    def words(self) -> str:
        """The weakest link and what raising it gains."""
        if self.weakest.dc_w is None:
            return f"The weakest link is not known: {self.weakest.name} is not on the card."
        unknown = [link.name for link in self.links if link.dc_w is None]
        gain = "" if not self.gain_w else f"; raised alone it would let {show(self.gain_w, 'power_w')} more through"
        silent = f" Not known: {', '.join(unknown)}." if unknown else ""
        return f"Weakest: {self.weakest.name}, {show(self.weakest.dc_w, 'power_w')} DC{gain}.{silent}"


@dataclass(frozen=True)
class BatteryChains:
    """A battery with its inverter: both chains, whether one feeds and uses the other, modules to come, the ways through it."""

    node: str
    name: str
    charge: Chain
    discharge: Chain
    growth: str
    pair: tuple[str, ...]
    paths: tuple[Path, ...]


def battery_chains(job: Job, plan: Plan, ac_w: float = USUAL_W) -> tuple[BatteryChains, ...]:
    """Return the chains of every battery of a plan; ways at `ac_w` watts arriving at the load."""
    plant = plant_of(job, plan)
    paths = storage_paths(plant, ac_w)
    context = CheckContext(job, plan, job.cards(), None, advise=False)
    found = [*feeds(context), *used(context)]
    out = []
    for row in plant.banked:
        mine = tuple(path for path in paths if path.node == row.station.id)
        out.append(
            BatteryChains(
                node=row.station.id,
                name=row.station.name,
                charge=_chain("Charge", chain.charge_chain(row.unit, row.bank)),
                discharge=_chain("Discharge", chain.discharge_chain(row.unit, row.bank)),
                growth=_growth(row),
                pair=tuple(f"{f.short}, {f.word}: {f.arithmetic}." for f in found if f.subject == row.station.name),
                paths=mine,
            )
        )
    return tuple(out)


def _chain(name: str, links: list[Link]) -> Chain:
    return Chain(name, tuple(links), chain.weakest(links), chain.raised_w(links))


def _growth(row: BatteryRow) -> str:
    low, _ = chain.soc_window(row.bank)
    n = row.bank.modules
    most = chain.most_modules(row.unit, row.bank.cells, n, low)
    if most <= n:
        return f"{count_words(n, 'module')}; no more can be added."
    volts = chain.stack_volts(replace(row.bank, modules=most), low).full_v
    return f"{count_words(n, 'module')}; {most - n} more can be added, to {most} and {volts:.0f} V when full."


def chains_data(job: Job, plan: Plan, ac_w: float = USUAL_W) -> list[dict[str, Any]]:
    """Return the chains as plain data, watts DC at the battery's terminals."""

    def plain(made: Chain) -> dict[str, Any]:
        links = [{"name": link.name, "dc_w": link.dc_w, "how": link.how} for link in made.links]
        return {"links": links, "weakest": made.weakest.name, "limit_w": made.weakest.dc_w, "raised_gains_w": made.gain_w}

    return [
        {
            "node": row.node, "name": row.name, "charge": plain(row.charge), "discharge": plain(row.discharge),
            "growth": row.growth, "pair": list(row.pair), "paths": [path.as_dict() for path in row.paths],
        }
        for row in battery_chains(job, plan, ac_w)
    ]  # fmt: skip


def chains_text(job: Job, plan: Plan, ac_w: float = USUAL_W) -> list[str]:
    """Return the chains as lines."""
    out = []
    for row in battery_chains(job, plan, ac_w):
        out.append(f"{row.name}: {row.growth}")
        for made in (row.charge, row.discharge):
            out.append(f"  {made.name}. {made.words}")
            out += [
                f"    {link.name:34} {'not known' if link.dc_w is None else show(link.dc_w, 'power_w'):>10}   {link.how}"
                for link in made.links
            ]
        out += [f"  {words}" for words in row.pair]
        out += [f"  {path.name}: {path.arithmetic}" for path in row.paths]
    return out or ["no battery in this plan"]
