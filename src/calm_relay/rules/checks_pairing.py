"""Checks of what goes together by lists, protocols, chemistry and supply; and the remedies that bring another battery or number."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from calm_relay.equipment.labels import CHOICES
from calm_relay.job.edits import Edit
from calm_relay.library.cards import InverterCard
from calm_relay.plant import chain
from calm_relay.plant.resolve import with_bank, with_battery
from calm_relay.plant.station import BatteryRow
from calm_relay.rules.checks_battery import swap_card, swap_edits
from calm_relay.rules.offers import connects
from calm_relay.rules.registry import YES_NO, CheckContext, Finding, Remedy, check, finding, unknown
from calm_relay.units import count_words

LIST = "ratio-within"  # of counts where meeting the limit is no near miss


def modules_remedy(c: CheckContext, row: BatteryRow, good: Callable[[BatteryRow], bool]) -> list[Remedy]:
    """Return the nearest number of modules that fits and is good, as a remedy; none where there is no such number."""
    if not c.advise:
        return []
    low, _ = chain.soc_window(row.bank)
    now = row.bank.modules
    for n in sorted(range(row.bank.cells.modules_min, row.bank.cells.modules_max + 1), key=lambda n: abs(n - now)):
        fits = n != now and chain.modules_fit(row.unit, row.bank.cells, n, low)
        if fits and good(with_bank(row, modules=n, leads_ohm=())):
            edits = [Edit(c.path(f"nodes[{row.station.id}].battery.modules"), n)]
            if row.bank.leads_ohm:
                edits.append(Edit(c.path(f"nodes[{row.station.id}].battery.leads_ohm"), []))
            return [Remedy(f"{count_words(n, 'battery module')} instead of {now}", tuple(edits))]
    return []


def battery_remedy(c: CheckContext, row: BatteryRow, good: Callable[[BatteryRow], bool]) -> list[Remedy]:
    """Return another battery offered that fits the inverter and is good, with no less power, as near in energy as may be."""
    if not c.advise:
        return []
    now, power = chain.usable_wh(row.bank), _both_ways_w(row)
    best: tuple[tuple[bool, float], BatteryRow] | None = None
    offered = c.offered.batteries()
    for card in offered.values():
        like = with_battery(row, card, 1)
        if card.id == row.battery.model.id or not suits(like):
            continue
        for n in range(card.modules_min, card.modules_max + 1):
            other = with_bank(like, modules=n)
            off = (_both_ways_w(other) < power - 1.0, abs(chain.usable_wh(other.bank) - now))
            if (
                chain.modules_fit(row.unit, like.bank.cells, n, card.soc_min_frac)
                and (best is None or off < best[0])
                and good(other)
            ):
                best = (off, other)
    if best is None:
        return []
    card, n, choice = offered[best[1].battery.model.id], best[1].bank.modules, c.plan.node(row.station.id).battery
    assert choice is not None
    anew = {"card": card.id, "modules": n, "soc_min_frac": None, "soc_max_frac": None, "leads_ohm": ()}
    put = Edit(c.path(f"nodes[{row.station.id}].battery"), choice.model_copy(update=anew).model_dump())
    return [Remedy(f"{card.name}, {count_words(n, 'module')}", (Edit("library[+]", card.model_dump()), put))]


def _both_ways_w(row: BatteryRow) -> float:
    """Return the lesser of what a row's chains let in and out; 0 where a card does not say. [W]"""
    chains = (chain.charge_chain, chain.discharge_chain)
    return min(chain.weakest(of(row.unit, row.bank)).dc_w or 0.0 for of in chains)


def suits(row: BatteryRow) -> bool:
    """Return whether the row's inverter may charge its battery by lists, chemistry and protocol, as far as they are known."""
    return listed(row) is not False and talks(row) is not False and charges(row) is not False


def listed(row: BatteryRow) -> bool | None:
    """Return whether one of the two makers lists the other's card; None where neither has a list."""
    ours, theirs = row.station.fitting.pairs_with, row.battery.fitting.pairs_with
    return row.battery.model.id in ours or row.station.model.id in theirs if ours or theirs else None


def talks(row: BatteryRow) -> bool | None:
    """Return whether both speak a protocol; None where one sheet does not say."""
    ours, theirs = row.station.fitting.protocols, row.battery.fitting.protocols
    return bool(set(ours) & set(theirs)) if ours and theirs else None


def charges(row: BatteryRow) -> bool | None:
    """Return whether the inverter charges the battery's chemistry; None where its sheet does not say."""
    chemistries = row.station.fitting.chemistries
    return row.bank.cells.chemistry in chemistries if chemistries else None


def _yes_or_no(
    c: CheckContext, check_id: str, row: BatteryRow, ask: Callable[[BatteryRow], bool | None], words: str, missing: str
) -> Finding:
    """Return what a question to inverter and battery comes to; another battery that answers it well is the remedy."""
    answer = ask(row)
    if answer is None:
        return unknown(c, check_id, row.station.name, missing)
    others = [] if answer else battery_remedy(c, row, lambda other: bool(ask(other)))
    remedies = [] if answer else [*others, Remedy("ask both makers in writing")]
    return finding(c, check_id, row.station.name, YES_NO, float(answer), 1.0, "least", words, tight=LIST, remedies=remedies)


@check(
    "battery.pairing", "Battery and inverter are listed together", page="plans", needs={"plan"}, short="Listed pairing",
    source="the makers' lists of what goes together, on the cards",
)  # fmt: skip
def pairing(c: CheckContext) -> Iterator[Finding]:
    """Whether the inverter's list names the battery, or the battery's the inverter."""
    for row in c.plant.banked:
        sides = ((row.station.model, row.station.fitting), (row.battery.model, row.battery.fitting))
        lists = [model.name for model, fitting in sides if fitting.pairs_with]
        naming = (row.battery.model.id in row.station.fitting.pairs_with) + (row.station.model.id in row.battery.fitting.pairs_with)
        words = f"{naming} of {count_words(len(lists), 'list')} at hand {'names' if naming == 1 else 'name'} the other: "
        words += f"that of {' and that of '.join(lists)}"
        missing = "neither card has its maker's list of what goes together: ask both makers"
        yield _yes_or_no(c, "battery.pairing", row, listed, words, missing)


@check(
    "battery.protocol", "Battery and inverter talk to each other", page="plans", needs={"plan"}, short="Protocol",
    source="the cards; without it the inverter does not know the battery's limits of the moment",
)  # fmt: skip
def protocol(c: CheckContext) -> Iterator[Finding]:
    """Whether both cards name one and the same way to talk."""
    for row in c.plant.banked:
        said = [", ".join(CHOICES[p] for p in fitting.protocols) for fitting in (row.station.fitting, row.battery.fitting)]
        both = len(set(row.station.fitting.protocols) & set(row.battery.fitting.protocols))
        words = f"{both} in common: the inverter talks by {said[0]}, the battery by {said[1]}"
        missing = "a card does not say how it talks: see the manuals"
        yield _yes_or_no(c, "battery.protocol", row, talks, words, missing)


@check(
    "battery.chemistry", "Inverter charges this chemistry", page="plans", needs={"plan"}, short="Chemistry",
    source="the inverter's card: chemistries it can charge",
)  # fmt: skip
def chemistry(c: CheckContext) -> Iterator[Finding]:
    """Whether the inverter's charger is made for the battery's chemistry."""
    for row in c.plant.banked:
        many = "1 chemistry" if len(row.station.fitting.chemistries) == 1 else f"{len(row.station.fitting.chemistries)} chemistries"
        words = f"the battery is {CHOICES[row.bank.cells.chemistry]}; the inverter charges {many}: "
        words += ", ".join(CHOICES[name] for name in row.station.fitting.chemistries)
        missing = "the inverter's card does not say which chemistries it charges: see its manual"
        yield _yes_or_no(c, "battery.chemistry", row, charges, words, missing)


@check(
    "inverter.supply", "Inverter connects to this supply", page="plans", needs={"plan"}, short="Supply",
    source="the inverter's card: supplies it is made for",
)  # fmt: skip
def supply(c: CheckContext) -> Iterator[Finding]:
    """Whether each inverter is made for the site's kind of supply."""
    kind = c.job.site.supply.kind
    for node in c.plan.nodes:
        card = c.cards.inverter(node.card)
        good = connects(card, kind)
        if good and not card.supplies:
            yield unknown(c, "inverter.supply", node.name, "the card does not say which supplies it is made for: see its manual")
            continue
        made_for = ", ".join(CHOICES[s] for s in card.supplies) or f"{card.phases} phases"
        remedies = []
        if not good:
            best = swap_card(c, node, lambda _: True, _near(card), any_phases=True)
            remedies = [] if best is None else [Remedy(best.name, swap_edits(c, node, best))]
            remedies.append(Remedy(f"an inverter for {CHOICES[kind]}"))
        line = f"{count_words(max(1, len(card.supplies)), 'kind')} of supply on the card: {made_for}; here it is {CHOICES[kind]}"
        yield finding(c, "inverter.supply", node.name, YES_NO, float(good), 1.0, "least", line, tight=LIST, remedies=remedies)


@check(
    "transfer.supply", "Transfer device connects to this supply", page="plans", needs={"plan"}, short="Device's supply",
    source="the device's card: supplies it is made for",
)  # fmt: skip
def transfer_supply(c: CheckContext) -> Iterator[Finding]:
    """Whether the transfer device is made for the site's kind of supply."""
    if c.plan.transfer is None:
        return
    card, kind = c.cards.transfer(c.plan.transfer.card), c.job.site.supply.kind
    if not card.supplies:
        yield unknown(
            c, "transfer.supply", "transfer device", "the card does not say which supplies it is made for: see its manual"
        )
        return
    good = connects(card, kind)
    line = (
        f"{count_words(len(card.supplies), 'kind')} of supply on the card: {', '.join(CHOICES[s] for s in card.supplies)}; "
        f"here it is {CHOICES[kind]}"
    )
    amps = card.pass_through_a or 0.0
    others = [d for d in c.offered.transfers().values() if (d.pass_through_a or 0.0) >= amps] if c.advise and not good else []
    best = min(others, key=lambda d: d.pass_through_a or 0.0, default=None)
    edits = () if best is None else (Edit("library[+]", best.model_dump()), Edit(c.path("transfer.card"), best.id))
    remedies = [] if best is None else [Remedy(f"{best.name} in its place", edits)]
    yield finding(
        c, "transfer.supply", "transfer device", YES_NO, float(good), 1.0, "least", line, tight=LIST,
        remedies=[*remedies, Remedy(f"a device for {CHOICES[kind]}")],
    )  # fmt: skip


def _near(now: InverterCard) -> Callable[[InverterCard], float]:
    """Return what ranks cards by how near they are in power, those with no less first."""
    return lambda card: card.ac_rated_w - now.ac_rated_w if card.ac_rated_w >= now.ac_rated_w else 1e6 - card.ac_rated_w
