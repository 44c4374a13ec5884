"""Drafts of candidate plans from today's system: complete, so that they can be simulated at once, and then changed."""

from __future__ import annotations

import math
import string
from collections import Counter
from dataclasses import dataclass, replace
from typing import Literal

from calm_relay.calendar import window_hours
from calm_relay.decision.brief import (
    defaults,
    dull_half,
    outage_default,
    reserve_default,
    whole_house_default,
    window_default,
)
from calm_relay.decision.drafted import checked
from calm_relay.errors import NotFeasible
from calm_relay.job.control_models import Controls, Slot
from calm_relay.job.house_models import ProfileLoad
from calm_relay.job.models import BatteryChoice, Job, Node, Plan, StringGroup, Transfer
from calm_relay.job.parts import with_cards
from calm_relay.job.rows import inverter_rows, pv_only_nodes
from calm_relay.library.book import CardBook, book_of
from calm_relay.library.cards import BatteryCard, BatterySideUnit, Card, InverterCard, ModuleCard, TransferCard
from calm_relay.library.shipped import shipped_book
from calm_relay.packs.pack import pack_named
from calm_relay.pv import limits
from calm_relay.pv.limits import string_volts
from calm_relay.rules.checks_battery import unit_of
from calm_relay.rules.offers import is_own, offered
from calm_relay.simulation.chain import modules_fit, usable_wh
from calm_relay.tariff.prices import cheap_window

PATTERNS: tuple[tuple[str, str, str], ...] = (
    ("ac-add-on", "Keep, add AC battery", "what stands stays; a battery inverter joins it"),
    ("hybrid-swap", "Hybrid swap", "one hybrid takes over the old strings and holds the battery"),
    ("hybrid-alongside", "Hybrid alongside", "what stands stays; a hybrid with new strings and a battery joins it"),
    ("array-only", "Array only", "more modules on today's inverter, no battery"),
)
CHARGED_FRAC = 0.93  # into the cells over drawn at AC, for the power of a drafted window; ours
UNKNOWN_DAY_WH = 20_000.0  # of a house whose metered year is not at hand
NIGHT_SHARE = 0.6  # of a day's use, the lower end of the trade's 60 to 80 % (common practice)


def draft_plan(job: Job, pattern: str, day_wh: float | None = None, known: CardBook | None = None) -> tuple[Job, str]:
    """Return the job with a drafted plan behind the others, and the plan's id.

    What the brief sets in it (`decision.brief.defaults`) stands in the plan's note, each with its reason. `day_wh` is what the
    house draws on a mean day, where the study has it; else typed totals and the list are summed. Equipment is taken from the
    `known` cards (else those that ship), the firm's own first.

    Raises
    ------
    NotFeasible
        When today's system does not allow the pattern, with what would.
    """
    name = {key: words for key, words, _ in PATTERNS}[pattern]
    today = job.plans[0]
    maker = {"ac-add-on": _ac_add_on, "hybrid-swap": _swap, "hybrid-alongside": _alongside, "array-only": _array_only}[pattern]
    need = Need(job, day_wh, offered(job, known), known)
    nodes, cards, battery = maker(need, today)
    used = {plan.id for plan in job.plans}
    plan_id = next(i for n in range(1, 99) if (i := pattern if n == 1 else f"{pattern}-{n}") not in used)
    letters = {plan.letter for plan in job.plans}
    letter = next((c for c in string.ascii_uppercase if c not in letters), "new")
    transfer = None
    if battery:
        gateway = _gateway(need)
        cards.append(gateway)
        essential = tuple(a.id for a in job.house.counted if a.essential)
        whole = whole_house_default(job.brief) is not None
        transfer = Transfer(
            card=gateway.id, backed_up="whole_house" if whole else "listed", listed=() if whole else essential or ("background",)
        )
    controls = _controls(job, nodes, book_of(job.library, tuple(cards))) if battery else Controls()
    note = " ".join(f"{d.line[:1].upper()}{d.line[1:]}." for d in defaults(job)) if battery else ""
    plan = Plan(id=plan_id, letter=letter, name=name, note=note, nodes=nodes, transfer=transfer, controls=controls)
    changed = with_cards(job, cards)
    return checked(changed.model_copy(update={"plans": (*changed.plans, plan)}), plan_id, known), plan_id


Drafted = tuple[tuple[Node, ...], list[Card], bool]


def _ac_add_on(need: Need, today: Plan) -> Drafted:
    job = need.job
    old = _pv_inverters(job, today)
    rated = _rated_w(job, old)
    lines: tuple[Literal["auto", "1", "2", "3"], ...] = ("1", "2", "3") if job.site.supply.kind == "three_phase" else ("auto",)
    unit = _smallest_unit(need, "battery_inverter", max(3000.0, rated / len(lines)), phases=1)
    _carried_by_service(job, unit)
    stack, modules = _battery(need, unit_of(unit), 1.03 * rated / len(lines), len(lines))  # off grid, 1:1
    plan = today.model_copy(update={"nodes": tuple(node.model_copy(update={"side": "backup"}) for node in today.nodes)})
    for line in lines:
        name = "Battery inverter" if line == "auto" else f"Battery inverter {line}"
        new = Node(
            id=_free("battery", plan), name=name, card=unit.id, side="backup", line=line,
            battery=BatteryChoice(card=stack.id, modules=modules),
        )  # fmt: skip
        plan = plan.model_copy(update={"nodes": (*plan.nodes, new)})
    return plan.nodes, [unit, stack], True


def _carried_by_service(job: Job, unit: InverterCard) -> None:
    """Raise NotFeasible where a unit on one phase gives more amps than the service carries on it."""
    supply = job.site.supply
    amps = unit.ac_rated_w / supply.voltage_v
    if supply.kind == "three_phase" and unit.phases == 1 and amps > supply.service_a:
        raise NotFeasible(
            f"{unit.name} stands on one phase and gives {amps:.0f} A there, the service carries {supply.service_a:g} A a phase",
            "choose a three-phase unit by hand, or several smaller ones",
        )


def _swap(need: Need, today: Plan) -> Drafted:
    job = need.job
    old = _pv_inverters(job, today)
    if not old:
        raise NotFeasible("today's system has no PV inverter to swap", "add today's inverter and strings on Site & roof first")
    strings = _rewired(job, today, old)
    renumbered = tuple(group.model_copy(update={"tracker": n}) for n, group in enumerate(strings, start=1))
    rated = _rated_w(job, old)
    unit = _smallest_unit(need, "hybrid", rated, trackers=len(renumbered), phases=need.phases)
    _carried_by_service(job, unit)
    stack, modules = _battery(need, unit_of(unit))
    new = Node(
        id=_free("hybrid", today), name="Hybrid", card=unit.id, side="backup", strings=renumbered,
        battery=BatteryChoice(card=stack.id, modules=modules),
    )  # fmt: skip
    others = tuple(node for node in today.nodes if node not in old)
    return (*others, new), [unit, stack], True


HYBRID_DC_V = 600.0  # the least highest DC volts of a hybrid that is drafted
USUAL_MODULE = "module-430"  # where the firm has none of its own


def _rewired(job: Job, today: Plan, old: list[Node]) -> tuple[StringGroup, ...]:
    """Return today's strings for trackers of a hybrid: each as it is, once for each unit; modules by themselves in series."""
    out: list[StringGroup] = []
    cards = job.cards()
    for node in old:
        card = cards.inverter(node.card)
        for group in node.strings:
            if not card.per_module:
                out += [group] * node.count
                continue
            modules = group.modules_per_string * group.parallel_strings * card.unit_count(node.count)
            longest = _longest(job, cards.module(group.module), HYBRID_DC_V)
            parts = math.ceil(modules / longest)
            for part in range(parts):
                each = modules // parts + (1 if part < modules % parts else 0)
                out.append(group.model_copy(update={"modules_per_string": each, "parallel_strings": 1}))
    unique = Counter(group.id for group in out)
    ids = {group_id: iter(range(1, count + 1)) for group_id, count in unique.items()}
    return tuple(g if unique[g.id] == 1 else g.model_copy(update={"id": f"{g.id}-{next(ids[g.id])}"}) for g in out)


def _alongside(need: Need, today: Plan) -> Drafted:
    job = need.job
    face = _free_face(job, today)
    module = _usual_module(need)
    count = min(job.face(face).room_modules or 12, 12, _longest(job, module, 600.0))
    unit = _smallest_unit(need, "hybrid", 0.8 * count * module.power_stc_w, phases=need.phases)
    _carried_by_service(job, unit)
    stack, modules = _battery(need, unit_of(unit))
    group = StringGroup(id=_free_string(today), face=face, module=module.id, tracker=1, modules_per_string=count)
    new = Node(
        id=_free("hybrid", today), name="Hybrid", card=unit.id, side="backup", strings=(group,),
        battery=BatteryChoice(card=stack.id, modules=modules),
    )  # fmt: skip
    return (*today.nodes, new), [unit, stack, module], True


def _array_only(need: Need, today: Plan) -> Drafted:
    job = need.job
    face = _free_face(job, today)
    for node, card in inverter_rows(today, job.cards()):
        used = {group.tracker for group in node.strings}
        free = [n for n in range(1, len(card.trackers) + 1) if n not in used]
        if card.per_module or not free:
            continue
        module = _usual_module(need)
        count = min(job.face(face).room_modules or 8, 8, _longest(job, module, card.dc_voltage_max_v))
        group = StringGroup(id=_free_string(today), face=face, module=module.id, tracker=free[0], modules_per_string=count)
        more = node.model_copy(update={"strings": (*node.strings, group)})
        return tuple(more if n.id == node.id else n for n in today.nodes), [module], False
    raise NotFeasible("no tracker of today's inverters is free", "put strings in parallel, or draft a hybrid alongside")


def _controls(job: Job, nodes: tuple[Node, ...], cards: CardBook) -> Controls:
    """Return the reserve and, where the brief asks for it, a slot that fills what the window can from the grid."""
    reserve, window = reserve_default(job.brief).value, cheap_window(job.tariff)
    if window is None or window_default(job.brief, job.tariff) is None:
        return Controls(reserve_soc_frac=reserve)
    room, most = 0.0, 0.0
    for node in nodes:
        if node.battery is not None:
            room += usable_wh(cards.battery(node.battery.card), node.battery)
            most = max(most, cards.battery_unit(node.card, node.count).charger_in_max_w)
    power = min(most, math.ceil(room / CHARGED_FRAC / window_hours(*window) / 100.0) * 100.0)
    months = dull_half(job.site.place.latitude_deg)
    slot = Slot(kind="charge_from_grid", start_h=window[0], end_h=window[1], months=months, power_w=power, target_soc_frac=1.0)
    return Controls(reserve_soc_frac=reserve, slots=(slot,))


def _pv_inverters(job: Job, today: Plan) -> list[Node]:
    return [node for node, _ in pv_only_nodes(today, job.cards())]


def _rated_w(job: Job, nodes: list[Node]) -> float:
    return sum(job.cards().inverter(node.card).ac_rated_w * node.count for node in nodes)


def _free_face(job: Job, today: Plan) -> str:
    used = {group.face for node in today.nodes for group in node.strings}
    free = [face.id for face in job.faces if face.id not in used]
    if not free:
        raise NotFeasible("every roof face has strings already", "add a face on Site & roof")
    return free[0]


def _longest(job: Job, module: ModuleCard, ceiling_v: float) -> int:
    at = limits.extremes_of(job.site)
    at = at if at.low_c is not None else replace(at, low_c=-10.0)
    each = string_volts(pack_named(job.pack), module, 1, at, "ventilated").cold_open_v
    if each is None:  # colder than the pack's table: its last factor, which is too low there, is not used
        raise NotFeasible("the cold voltage is not known", "enter the module's Voc coefficient, or the record low")
    return max(1, int(0.97 * limits.ceiling_v(ceiling_v, module, job.site.dc_ceiling_v)[0] / each))


def _usual_module(need: Need) -> ModuleCard:
    """Return the firm's own first module, else a usual one that ships."""
    return next((m for m in need.cards.modules().values() if need.own(m)), shipped_book().module(USUAL_MODULE))


def _smallest_unit(need: Need, kind: str, rated_w: float, trackers: int = 0, phases: int = 1) -> InverterCard:
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


def _gateway(need: Need) -> TransferCard:
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

    def batteries_for(self, unit: BatterySideUnit) -> list[BatteryCard]:
        """Return those of which some number fits a unit's battery input."""
        return [card for card in self.stacks() if _counts(card, unit)]

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


def _battery(need: Need, unit: BatterySideUnit, takes_w: float = 0.0, units: int = 1) -> tuple[BatteryCard, int]:
    """Return a stack of each of `units`: all hold the trade's 60 % of a day's use and the brief's outage; each takes `takes_w`."""
    card = next(iter(need.batteries_for(unit)), None)
    if card is None:
        raise NotFeasible(f"no battery at hand fits the battery input of {unit.name}", "choose equipment by hand")
    usable = (card.soc_max_frac - card.soc_min_frac) * card.capacity_wh
    outage = outage_default(need.job.brief, need.job.house)
    through = 0 if outage is None else math.ceil(outage.value / usable)
    takes = math.ceil(takes_w / ((card.charge_max_a or 1e9) * card.voltage_nominal_v))
    wanted = max(math.ceil(max(round(NIGHT_SHARE * need.battery_day_wh / usable), through) / units), takes)
    return card, min(_counts(card, unit), key=lambda n: (abs(n - wanted), -n))


def _counts(card: BatteryCard, unit: BatterySideUnit) -> list[int]:
    """Return the numbers of modules that a unit's battery input carries."""
    return [n for n in range(card.modules_min, card.modules_max + 1) if modules_fit(unit, card, n, card.soc_min_frac)]


def _free(base: str, plan: Plan) -> str:
    used = {node.id for node in plan.nodes}
    return base if base not in used else next(f"{base}-{n}" for n in range(2, 99) if f"{base}-{n}" not in used)


def _free_string(plan: Plan) -> str:
    used = {group.id for node in plan.nodes for group in node.strings}
    return next(name for n in range(1, 999) if (name := f"new-{n}") not in used)
