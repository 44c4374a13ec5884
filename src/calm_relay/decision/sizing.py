"""Sizes of what is drafted: from the house, the roof and the cards at hand."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, replace

from calm_relay.decision.brief import outage_default
from calm_relay.errors import NotFeasible
from calm_relay.job.house_models import ProfileLoad
from calm_relay.job.models import Job, Node, Plan, StringGroup
from calm_relay.job.sky_models import Face
from calm_relay.library.book import CardBook
from calm_relay.library.cards import BatteryCard, Card, InverterCard, ModuleCard, TransferCard
from calm_relay.library.shipped import shipped_book
from calm_relay.plant.bank import cells_of
from calm_relay.plant.chain import module_counts
from calm_relay.plant.resolve import plant_of
from calm_relay.plant.unit import Unit, unit_of
from calm_relay.pv import limits
from calm_relay.pv.limits import string_volts
from calm_relay.rules.offers import is_own

Drafted = tuple[tuple[Node, ...], list[Card], bool]  # nodes, cards they need, whether there is a battery

CHARGED_FRAC = 0.93  # into the cells over drawn at AC, for the power of a drafted window; ours
UNKNOWN_DAY_WH = 20_000.0  # of a house whose metered year is not at hand
NIGHT_SHARE = 0.6  # of a day's use, the lower end of the trade's 60 to 80 % (common practice)
HYBRID_DC_V = 600.0  # the least highest DC volts of a hybrid that is drafted
USUAL_MODULE = "module-430"  # where the firm has none of its own


def carried_by_service(job: Job, unit: InverterCard) -> None:
    """Raise NotFeasible where a unit on one phase gives more amps than the service carries on it."""
    supply = job.site.supply
    amps = unit.ac_rated_w / supply.voltage_v
    if supply.kind == "three_phase" and unit.phases == 1 and amps > supply.service_a:
        raise NotFeasible(
            f"{unit.name} stands on one phase and gives {amps:.0f} A there, the service carries {supply.service_a:g} A a phase",
            "choose a three-phase unit by hand, or several smaller ones",
        )


def pv_inverters(job: Job, today: Plan) -> list[Node]:
    return [today.node(station.id) for station in plant_of(job, today).pv_only]


def rated_w_of(job: Job, nodes: list[Node]) -> float:
    """Return the AC rating of some inverters together. [W]"""
    return sum(job.cards().inverter(node.card).ac_rated_w * node.count for node in nodes)


def free_faces(job: Job, today: Plan) -> list[Face]:
    """Return the roof faces that no string of a plan lies on and that are not typed as having no room; raises NotFeasible."""
    used = {group.face for node in today.nodes for group in node.strings}
    bare = [face for face in job.faces if face.id not in used]
    free = [face for face in bare if face.room_modules != 0]
    if not free:
        why = "no roof face without strings has room" if bare else "every roof face has strings already"
        raise NotFeasible(why, "add a face on Site & roof")
    return free


def longest_string(job: Job, module: ModuleCard, ceiling_v: float) -> int:
    at = limits.extremes_of(job.site)
    at = at if at.low_c is not None else replace(at, low_c=-10.0)
    each = string_volts(job.rules(), module, 1, at, "ventilated").cold_open_v
    if each is None:  # colder than the pack's table: its last factor, which is too low there, is not used
        raise NotFeasible("the cold voltage is not known", "enter the module's Voc coefficient, or the record low")
    return max(1, int(0.97 * limits.ceiling_v(ceiling_v, module, job.site.dc_ceiling_v)[0] / each))


def usual_module(need: Need) -> ModuleCard:
    """Return the firm's own first module, else a usual one that ships."""
    return next((m for m in need.cards.modules().values() if need.own(m)), shipped_book().module(USUAL_MODULE))


def smallest_unit(need: Need, kind: str, rated_w: float, trackers: int = 0, phases: int = 1) -> InverterCard:
    """Return the smallest inverter of a kind with the rating; the firm's own and those for high-voltage stacks first.

    Raises
    ------
    NotFeasible
        When none has so many watts, trackers and phases, with a battery to go with it.
    """
    fitting = [
        c
        for c in need.cards.inverters().values()
        if c.kind == kind and c.phases == phases and len(c.trackers) >= trackers and c.ac_rated_w >= rated_w - 1e-6
    ]
    fitting = [c for c in fitting if (not c.pv_inputs or c.dc_voltage_max_v >= HYBRID_DC_V) and need.batteries_for(unit_of(c))]
    if not fitting:
        wanted = f"{rated_w / 1000:.1f} kW on {'three phases' if phases == 3 else 'one phase'} and {trackers} trackers"
        raise NotFeasible(f"no {kind.replace('_', ' ')} at hand has {wanted}", "choose equipment by hand")
    stack = next(iter(need.stacks()), None)

    def rank(card: InverterCard) -> tuple[bool, bool, float]:
        fits = stack is not None and any(stack.id == b.id for b in need.batteries_for(unit_of(card)))
        return (not need.own(card), not fits, card.ac_rated_w)

    return min(fitting, key=rank)


def transfer_for(need: Need) -> TransferCard:
    """Return the smallest transfer device at hand that passes the service and switches by itself.

    Raises
    ------
    NotFeasible
        When none does: what passes less would be the bottleneck of the house.
    """
    service_a = need.job.site.supply.service_a
    cards = [c for c in need.cards.transfers().values() if (c.pass_through_a or 0.0) >= service_a and c.bonds_neutral is not None]
    if not cards:
        raise NotFeasible(f"no transfer device at hand passes a service of {service_a:g} A", "bring a larger one in as a card")
    return min(cards, key=lambda c: (not need.own(c), c.pass_through_a or 0.0))


@dataclass(frozen=True)
class Need:
    """The job drafted for, what its house draws on a mean day, where that is known [Wh], and the cards offered for it."""

    job: Job
    day_wh: float | None
    cards: CardBook
    known: CardBook | None = None

    def own(self, card: Card) -> bool:
        """Return whether a card is the firm's own."""
        return is_own(card, self.known)

    @property
    def phases(self) -> int:
        """Phases a hybrid is drafted for."""
        return 3 if self.job.site.supply.kind == "three_phase" else 1

    def stacks(self) -> list[BatteryCard]:
        """Return the lithium batteries at hand, the firm's own first."""
        return [card for card in self.cards.batteries().values() if not card.is_lead]

    def batteries_for(self, unit: Unit) -> list[BatteryCard]:
        """Return those of which some number fits a unit's battery input."""
        return [card for card in self.stacks() if module_counts(unit, cells_of(card))]

    @property
    def battery_day_wh(self) -> float:
        """What a battery could serve on a mean day: all but loads that it never feeds. [Wh]"""
        house = self.job.house
        never = sum(a.mean_day_wh for a in house.counted if a.never_from_battery)
        listed = sum(a.mean_day_wh for a in house.counted)
        if self.day_wh is not None:
            return max(0.0, self.day_wh - never)
        typed = sum(house.background.energy_wh_per_day) / 12 if isinstance(house.background, ProfileLoad) else UNKNOWN_DAY_WH
        within = not isinstance(house.background, ProfileLoad) or house.background.holds_listed
        return max(0.0, typed - never) if within else typed + listed - never


def battery_of(need: Need, unit: Unit, name: str, takes_w: float = 0.0, units: int = 1) -> tuple[BatteryCard, int]:
    """Return a stack of each of `units`: all hold the trade's 60 % of a day's use and the brief's outage; each takes `takes_w`."""
    card = next(iter(need.batteries_for(unit)), None)
    if card is None:
        raise NotFeasible(f"no battery at hand fits the battery input of {name}", "choose equipment by hand")
    usable = (card.soc_max_frac - card.soc_min_frac) * card.capacity_wh
    outage = outage_default(need.job.brief, need.job.house)
    through = 0 if outage is None else math.ceil(outage.value / usable)
    takes = math.ceil(takes_w / ((card.charge_max_a or 1e9) * card.voltage_nominal_v))
    wanted = max(math.ceil(max(round(NIGHT_SHARE * need.battery_day_wh / usable), through) / units), takes)
    return card, min(module_counts(unit, cells_of(card)), key=lambda n: (abs(n - wanted), -n))


def free_node_id(base: str, plan: Plan) -> str:
    used = {node.id for node in plan.nodes}
    return base if base not in used else next(f"{base}-{n}" for n in range(2, 99) if f"{base}-{n}" not in used)


def free_string_id(plan: Plan, more: Iterable[StringGroup] = ()) -> str:
    """Return a name that no string of a plan has, nor one of `more` that is to come into it."""
    used = {group.id for node in plan.nodes for group in node.strings} | {group.id for group in more}
    return next(name for n in range(1, 999) if (name := f"new-{n}") not in used)
