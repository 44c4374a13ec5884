"""Which card to choose for a place in a plan: what fits first, then what does not, each with the check that rules it out.

Every card is put into the plan in turn and the checks of that place are run on it, the very ones that judge the plan afterwards.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from calm_relay.errors import BadInput, Fault
from calm_relay.job.edits import Edit, read_path
from calm_relay.job.models import BatteryChoice, GeneratorChoice, Job, Node, Plan, Transfer
from calm_relay.library.book import CardBook
from calm_relay.library.cards import BatteryCard, Card
from calm_relay.plant import chain
from calm_relay.plant.bank import Bank, bank_of, cells_of
from calm_relay.rules.offers import is_own
from calm_relay.rules.registry import CheckContext, Finding
from calm_relay.rules.runner import all_checks
from calm_relay.year.facts import YearFacts

# End of a path → kind of card (empty: that of the present inverter), checks that judge it by the beginnings of their ids.
_BACKUP = ("backup.ac-pv-absorb", "backup.offgrid-power", "backup.motor-start", "backup.start-from-battery")
_STRINGS = ("string.", "tracker.", "optimizer.", "module-inverter.", "array.dc", "array.network-ratio", "roof.")
PLACES: tuple[tuple[str, str, tuple[str, ...]], ...] = (
    (r"\.battery\.card$", "battery", ("battery.", *_BACKUP)),
    (r"\.strings\[[^\]]+\]\.module$", "module", _STRINGS),
    (r"\.strings\[[^\]]+\]\.optimizer$", "optimizer", _STRINGS),
    (r"\.transfer\.card$", "transfer", ("transfer.", "backup.pass-through")),
    (r"\.generator\.card$", "generator", ("generator.",)),
    (r"\.nodes\[[^\]]+\]\.controller$", "charge_controller", ("battery.voltage", "battery.charge-chain", *_STRINGS)),
    (r"\.nodes\[[^\]]+\]\.timer_charger$", "timer_charger", ("battery.voltage", "battery.charge-chain")),
    (r"\.nodes\[\+\]$", "inverter", ("inverter.", "network.inverter-sum")),
    (r"\.nodes\[[^\]]+\]\.card$", "", ("inverter.", "battery.", "network.inverter-sum", *_STRINGS, *_BACKUP)),
)
QUICK = (
    "inverter.supply",
    "transfer.supply",
    "battery.chemistry",
    "battery.voltage",
    "battery.count",
)  # asked first: cheap, often no
ADDED = ("pv_inverter", "module_inverter", "hybrid", "battery_inverter")  # what can be put into a plan as another inverter
RANKS = {"within": 0, "note": 0, "not known": 1, "tight": 2, "over": 3}


@dataclass(frozen=True)
class Offer:
    """A card for a place: whether it fits, what decides, the edits that choose it, what it is worth a year if known.

    `decides` names the check and its figure, `why` is its arithmetic. `modules` is how many of a battery go with it, else None;
    `used` how many cards were used since, None: not lately.
    """

    card: Card
    fits: bool
    verdict: str
    why: str
    decides: str
    margin: float | None
    own: bool
    now: bool
    modules: int | None
    edits: tuple[Edit, ...]
    worth: float | None = None
    favourite: bool = False
    used: int | None = None

    def as_dict(self) -> dict[str, Any]:
        """Return the offer as plain data."""
        return {
            "id": self.card.id, "name": self.card.name, "fits": self.fits, "verdict": self.verdict, "why": self.why,
            "decides": self.decides,
            "margin_frac": self.margin, "own": self.own, "now": self.now, "modules": self.modules, "worth_a_year": self.worth,
            "favourite": self.favourite,
        }  # fmt: skip


def place_of(path: str) -> tuple[str, tuple[str, ...]]:
    """Return the kind of card a path takes (empty: the present inverter's kind) and the checks that judge it; raises BadInput."""
    for pattern, kind, checks in PLACES:
        if re.search(pattern, path):
            return kind, checks
    raise BadInput([Fault("", path, "no card is chosen there", "name a card, such as plans[a].nodes[b].battery.card")])


def ranked(
    job: Job,
    path: str,
    known: CardBook,
    facts: YearFacts | None = None,
    worth: Mapping[str, float] | None = None,
    *,
    favourites: Collection[str] = (),
    last_used: Sequence[str] = (),
    wanted_wh: float = 0.0,
) -> tuple[Offer, ...]:
    """Return every card of the kind a path takes, ranked: what fits first, then what does not.

    Among those that fit: by worth where it is known, then what is not tight, favourites, nearness to what is there now.

    Parameters
    ----------
    known : CardBook
        Shipped and own cards; the job's copies stand in for those of the same id.
    facts : YearFacts or None
        The plan's year, for checks that need it; without them those are left out.
    worth : mapping of card id → money a year
        What a card would save against the present one, from simulated years.
    wanted_wh : float
        Usable energy that a bank should have where none stands yet. [Wh]
    """
    kind, names = place_of(path)
    try:
        plan = job.plan(plan_of(path))
    except KeyError:
        raise BadInput([Fault("", path, "there is no such plan", "name one by its id, as 'check' prints them")]) from None
    now = card_now(job, path)
    cards = CardBook({**known, **job.cards()})
    if not kind:
        kind = cards[str(now)].kind
    if kind == "battery" and not cards.inverter(_node(plan, path).card).battery_terminals:
        raise BadInput([Fault("", path, "this inverter has no terminals for a battery", "take a hybrid or a battery inverter")])
    checks = _checks(names, with_year=facts is not None)
    context = CheckContext(job, plan, cards, facts, known=known, advise=False)
    copies = job.cards()
    kinds = ADDED if kind == "inverter" else (kind,)
    usable = [c for c in cards.values() if c.kind in kinds and (not c.no_longer_made or c.id in copies)]
    offers = [_offer(context, path, card, str(now), checks, wanted_wh) for card in usable]
    places = {card_id: at for at, card_id in enumerate(last_used)}
    more = {o.card.id: ((worth or {}).get(o.card.id), o.card.id in favourites, places.get(o.card.id)) for o in offers}
    offers = [replace(o, worth=more[o.card.id][0], favourite=more[o.card.id][1], used=more[o.card.id][2]) for o in offers]
    size = _size(cards[now]) if now is not None and now in cards else 0.0
    return tuple(sorted(offers, key=lambda offer: _rank(offer, size, wanted_wh)))


def card_now(job: Job, path: str) -> str | None:
    """Return the id of the card that stands at a place; None where nothing stands there yet."""
    whole = (".battery.card", ".transfer.card", ".generator.card")
    empty = path.endswith("[+]") or (path.endswith(whole) and read_path(job, path[:-5]) is None)
    return None if empty else read_path(job, path)


def plan_of(path: str) -> str:
    """Return the id of the plan that a path lies in; empty where it lies in none."""
    match = re.match(r"plans\[([^\]]+)\]", path)
    return match.group(1) if match else ""


def _checks(names: Iterable[str], *, with_year: bool) -> list[Any]:
    found = [
        entry
        for entry in all_checks()
        if entry.id.startswith(tuple(names))
        and (entry.needs <= {"plan", "grid"} or (with_year and entry.id == "backup.pass-through"))
    ]
    return sorted(found, key=lambda entry: entry.id not in QUICK)


def _offer(c: CheckContext, path: str, card: Card, now: str, checks: list[Any], wanted_wh: float = 0.0) -> Offer:
    plan, modules = _with_card(c, path, card, wanted_wh)
    if plan is None:
        words, brief = _no_place(c, path, card)
        return Offer(
            card=card,
            fits=False,
            verdict="over",
            why=words,
            decides=brief,
            margin=None,
            own=is_own(card, c.known),
            now=card.id == now,
            modules=None,
            edits=(),
        )
    cards = c.cards if c.cards.get(card.id) == card else CardBook({**c.cards, card.id: card})
    context = replace(c, plan=plan, cards=cards)
    least: Finding | None = None
    for entry in checks:
        for found in _run(entry, context):
            if least is None or _worse(found, least):
                least = found
        if least is not None and least.verdict == "over":
            break
    fits = least is None or least.verdict != "over"
    verdict = "within" if least is None else least.verdict
    why = "" if least is None else f"{least.short}: {least.arithmetic}"
    count = [] if modules is None else [Edit(path.removesuffix("card") + "modules", modules)]
    edits = (Edit("library[+]", card.model_dump()), Edit(path, card.id), *count)
    brief = "" if least is None else f"{least.short} {least.figure or least.word}".strip()
    return Offer(
        card=card,
        fits=fits,
        verdict=verdict,
        why=why,
        decides=brief,
        margin=None if least is None else least.margin,
        own=is_own(card, c.known),
        now=card.id == now,
        modules=modules,
        edits=edits,
    )


def _run(entry: Any, context: CheckContext) -> Iterator[Finding]:
    """Yield a check's findings; one that fails inside says nothing here, since the plan's own run will."""
    try:
        yield from list(entry.run(context))
    except Exception:  # noqa: BLE001
        return


def _worse(one: Finding, two: Finding) -> bool:
    a, b = RANKS[one.verdict], RANKS[two.verdict]
    return a > b or (a == b and (9.0 if one.margin is None else one.margin) < (9.0 if two.margin is None else two.margin))


def _with_card(c: CheckContext, path: str, card: Card, wanted_wh: float) -> tuple[Plan | None, int | None]:
    """Return the plan as it would stand with the card there, and how many battery modules; (None, None) where it cannot be."""
    plan = c.plan
    if ".transfer." in path:
        device = Transfer(card=card.id) if plan.transfer is None else plan.transfer.model_copy(update={"card": card.id})
        return plan.model_copy(update={"transfer": device}), None
    if ".generator." in path:
        chosen = GeneratorChoice(card=card.id) if plan.generator is None else plan.generator.model_copy(update={"card": card.id})
        return plan.model_copy(update={"generator": chosen}), None
    if path.endswith("[+]"):
        return plan.model_copy(update={"nodes": (*plan.nodes, Node(id="offered", name=card.name[:60], card=card.id))}), None
    node = _node(plan, path)
    modules = None
    if isinstance(card, BatteryCard):
        modules = _count(c, node, card, wanted_wh)
        if modules is None:
            return None, None
        choice = (node.battery or BatteryChoice(card=card.id, modules=1)).model_copy(
            update={"card": card.id, "modules": modules, "leads_ohm": ()}
        )
        changed = node.model_copy(update={"battery": choice})
    elif path.endswith((f"nodes[{node.id}].card", ".controller", ".timer_charger")):
        name = path.rpartition(".")[2]
        changed = node.model_copy(update={name: card.id})
        if max((group.tracker for group in node.strings), default=0) > _trackers(c, changed, card):
            return None, None
    else:
        name = path.rpartition(".")[2]
        match = re.search(r"strings\[([^\]]+)\]", path)
        group = match.group(1) if match else ""
        strings = tuple(g.model_copy(update={name: card.id}) if g.id == group else g for g in node.strings)
        changed = node.model_copy(update={"strings": strings})
    return plan.model_copy(update={"nodes": tuple(changed if n.id == node.id else n for n in plan.nodes)}), modules


def _trackers(c: CheckContext, node: Node, card: Card) -> int:
    """Return how many trackers an inverter has once a card stands there, its charge controllers' counted through."""
    each = getattr(card, "trackers", ())
    if card.kind == "charge_controller":
        return len(each) * node.controllers
    if card.kind == "timer_charger" or node.controller is not None:
        return len(c.plant.station(node.id).unit.trackers)
    return len(each)


def _node(plan: Plan, path: str) -> Node:
    match = re.search(r"nodes\[([^\]]+)\]", path)
    return next(node for node in plan.nodes if match is not None and node.id == match.group(1))


def _count(c: CheckContext, node: Node, card: BatteryCard, wanted_wh: float) -> int | None:
    """Return how many modules of a card fit an inverter and are nearest in usable energy to its bank, else to what is wanted."""
    unit = c.plant.station(node.id).unit
    wanted, health = wanted_wh, 1.0
    if node.battery is not None:
        now, health = c.cards.batteries().get(node.battery.card), node.battery.state_of_health_frac
        wanted = 0.0 if now is None else chain.usable_wh(bank_of(now, node.battery))
        if now is not None and card.id == now.id:
            return node.battery.modules
    each = (card.soc_max_frac - card.soc_min_frac) * card.capacity_wh * health
    return min(chain.module_counts(unit, cells_of(card)), key=lambda n: abs(n * each - wanted), default=None)


def _no_place(c: CheckContext, path: str, card: Card) -> tuple[str, str]:
    """Return why a card cannot even be put there, whole and in brief: no number of modules, or too few trackers for the strings."""
    if isinstance(card, BatteryCard):
        words = _window_words(c, path, card)
        return f"no number of modules is a bank that this inverter carries: {words}", f"Battery volts {words}"
    used = max(group.tracker for group in _node(c.plan, path).strings)
    has = len(getattr(card, "trackers", ()))
    words = f"strings are on {used} trackers, it has {has}"
    return f"Trackers: {words}; put them in parallel or propose strings first", f"Trackers {has} for {used}"


def _window_words(c: CheckContext, path: str, card: Card) -> str:
    unit = c.plant.station(_node(c.plan, path).id).unit
    assert isinstance(card, BatteryCard)
    empty, full = cells_of(card).window_v
    least = card.modules_min if card.stacking == "series" else 1
    most = card.modules_max if card.stacking == "series" else 1
    return (
        f"{least * empty:.0f} to {most * full:.0f} V, the input takes {unit.battery_voltage_min_v:g} to "
        f"{unit.battery_voltage_max_v:g} V"
    )


def _size(card: Card) -> float:
    """Return what cards of a kind are compared by in size. [core unit of the kind]"""
    for name in ("ac_rated_w", "power_stc_w", "power_max_w", "capacity_wh", "pass_through_a"):
        value = getattr(card, name, None)
        if value is not None:
            return float(value)
    return 0.0


def _rank(offer: Offer, size: float, wanted_wh: float) -> tuple[bool, bool, float, int, bool, float, str]:
    """Return what offers are ordered by: fitting; worth; verdict; favourites; nearness in size, a little larger first."""
    mine = _size(offer.card)
    if size > 0:
        off = mine / size - 1.0
        near = off if off >= 0 else -1.5 * off
    elif wanted_wh > 0 and offer.modules is not None and isinstance(offer.card, BatteryCard):
        near = abs(chain.usable_wh(Bank(cells_of(offer.card), offer.modules)) - wanted_wh)
    else:  # nothing stands there: kind by kind, the small ones first
        near = 1e9 * ADDED.index(offer.card.kind) + mine if offer.card.kind in ADDED else mine
    return (
        not offer.fits,
        offer.worth is None,
        -(offer.worth or 0.0),
        RANKS[offer.verdict],
        not offer.favourite,
        near,
        offer.card.name,
    )
