"""What a plan costs to build: every line with what it counts, rebates and old contracts beside them, and what nobody priced."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from calm_relay.job.cost_models import CostBasis, CostKind, CostLine
from calm_relay.job.costs import equipment, is_stale
from calm_relay.job.models import Job, Plan
from calm_relay.library.book import CardBook
from calm_relay.money.contracts import lost
from calm_relay.money.counted import Counted, counted, kind_of
from calm_relay.money.ended import ended_contracts
from calm_relay.money.rebates import RebateSum, rebate_sum
from calm_relay.units import format_quantity as show

KIND_WORDS: dict[CostKind, str] = {
    "battery": "battery", "inverter": "inverter", "modules": "modules", "transfer": "transfer device", "generator": "generator",
    "wiring": "essential-loads wiring", "approvals": "approvals", "drawings": "drawings", "cabling": "cabling",
    "scaffold": "scaffold, access", "labour": "labour", "visit": "second visit", "taken_out": "what is taken out", "other": "other",
}  # fmt: skip
UNITS: dict[CostBasis, str] = {
    "fixed": "", "per_piece": "pieces", "per_kwh": "kWh", "per_usable_kwh": "kWh usable", "per_kw": "kW", "per_kwp": "kWp",
    "per_hour": "h",
}  # fmt: skip
# Bases that stand for every card of a class, so that none of it is without a price.
COVERS: dict[CostBasis, CostKind] = {
    "per_kwh": "battery", "per_usable_kwh": "battery", "per_kw": "inverter", "per_kwp": "modules"
}  # fmt: skip


@dataclass(frozen=True)
class Priced:
    """A line with its sum. `amount` is None where nobody priced it, or it was priced for other equipment; `why` says so."""

    text: str
    kind: CostKind
    quantity: float | None
    unit: str
    price: float | None
    amount: float | None
    arithmetic: str
    after_years: int = 0
    source: str = ""
    why: str = ""
    index: int | None = None
    card: str = ""

    def as_dict(self) -> dict[str, Any]:
        """Return the line as plain data."""
        return dict(vars(self))


@dataclass(frozen=True)
class PlanCosts:
    """All that building a plan costs. [money]

    `total` is what is paid when it is built, rebates taken off; None where nothing is priced, or a price belongs to other
    equipment. `later` are the lines that fall at the end of a year. `missing` names what nobody priced.
    """

    lines: tuple[Priced, ...]
    rebates: tuple[RebateSum, ...]
    total: float | None
    stale: bool
    missing: tuple[str, ...]
    later: Mapping[int, float]
    usable_wh: float

    @property
    def complete(self) -> bool:
        """Whether everything the plan adds has a price."""
        return self.total is not None and not self.missing

    @property
    def per_usable_kwh(self) -> float | None:
        """Installed cost per kWh usable that the plan adds; None where it adds no battery or has no cost. [money/kWh]"""
        return None if self.total is None or self.usable_wh <= 0 else self.total / (self.usable_wh / 1000.0)

    def of_kind(self, kind: CostKind) -> float:
        """Return what the lines of a class cost when it is built. [money]"""
        return sum(line.amount or 0.0 for line in self.lines if line.kind == kind and not line.after_years)

    def as_dict(self) -> dict[str, Any]:
        """Return the costs as plain data."""
        return {
            "lines": [line.as_dict() for line in self.lines], "rebates": [row.as_dict() for row in self.rebates],
            "total": self.total, "complete": self.complete, "made_for_other_equipment": self.stale,
            "without_a_price": list(self.missing), "later": {str(year): amount for year, amount in sorted(self.later.items())},
            "usable_added_wh": self.usable_wh, "per_usable_kwh": self.per_usable_kwh,
        }  # fmt: skip


def quantity_of(line: CostLine, what: Counted) -> float | None:
    """Return how many a line counts: pieces, kWh, kW or h; None where it names no card."""
    if line.basis == "fixed":
        return 1.0
    if line.basis == "per_hour":
        return line.hours_h
    if line.basis == "per_piece":
        pieces = what.taken_out if line.kind == "taken_out" else what.added
        return float(pieces.get(line.counts, 0)) if line.counts else None
    wh = {"per_kwh": what.nominal_wh, "per_usable_kwh": what.usable_wh, "per_kw": what.rated_w, "per_kwp": what.stc_w}
    return wh[line.basis] / 1000.0


def _priced(line: CostLine, index: int, plan: Plan, what: Counted) -> Priced:
    quantity = quantity_of(line, what)
    known: dict[str, Any] = {
        "text": line.text, "kind": line.kind, "quantity": quantity, "unit": UNITS[line.basis], "price": line.amount,
        "after_years": line.after_years, "source": line.source, "index": index, "card": line.counts,
    }  # fmt: skip
    if quantity is None:
        return Priced(**known, amount=None, arithmetic="", why="it says of no card how many there are")
    if line.amount is None:
        nothing = quantity == 0  # of nothing, no price is missing
        why = "" if nothing else "no price"
        counts = "" if line.basis == "fixed" else f"{quantity:g} {UNITS[line.basis]}, "
        return Priced(**known, amount=0.0 if nothing else None, arithmetic=f"{counts}without a price", why=why)
    if is_stale(plan, line):
        return Priced(**known, amount=None, arithmetic=show(line.amount, "money"), why="made for other equipment")
    amount = quantity * line.amount
    how = show(amount, "money")
    if line.basis != "fixed":
        unit = UNITS[line.basis] if line.basis != "per_piece" or quantity != 1 else "piece"
        each = f"{line.amount:,.6g}".replace("-", "−")
        how = f"{quantity:.4g} {unit} × {each} = {how}"
    return Priced(**known, amount=amount, arithmetic=how)


def uncovered(job: Job, plan: Plan, what: Counted, cards: CardBook) -> tuple[str, ...]:
    """Return the cards a plan adds that no line stands for: neither its own, nor one of its class, nor a fixed amount."""
    whole = {line.kind for line in plan.costs if line.basis == "fixed" and not line.after_years and line.kind != "taken_out"}
    noted = not plan.costs_for or plan.costs_for == equipment(plan)
    if noted and "other" in whole:
        return ()  # whoever typed the amounts typed them for what stands there
    classes = {COVERS[line.basis] for line in plan.costs if line.basis in COVERS}
    classes |= {kind for kind in whole if noted or kind == "transfer"}
    own = {line.counts for line in plan.costs if line.basis == "per_piece" and line.kind != "taken_out"}
    return tuple(card for card in what.added if card not in own and kind_of(cards[card]) not in classes)


def plan_costs(job: Job, plan: Plan) -> PlanCosts:
    """Return what a plan costs to build, against today's system; today's system itself costs what its own lines say."""
    cards = job.cards()
    what = counted(job, plan, cards)
    lines = [_priced(line, index, plan, what) for index, line in enumerate(plan.costs)]
    for card_id in uncovered(job, plan, what, cards):
        count = what.added[card_id]
        lines.append(
            Priced(
                text=cards[card_id].name, kind=kind_of(cards[card_id]), quantity=float(count), unit="pieces", price=None,
                amount=None, arithmetic=f"{count} added, no line stands for it", why="no price", card=card_id,
            )
        )  # fmt: skip
    finance = job.finance
    for contract in ended_contracts(job, plan, cards):
        gone = lost(contract, finance.first_year or job.calendar_year, finance.discount_frac)
        lines.append(
            Priced(
                text=f"{gone.name}, lost to its end", kind="other", quantity=1.0, unit="", price=gone.amount, amount=gone.amount,
                arithmetic=gone.arithmetic, why="" if gone.amount is not None else "not known", source="the brief's contract",
            )
        )  # fmt: skip
    stale = any(line.why == "made for other equipment" for line in lines)
    built = [line for line in lines if not line.after_years]
    known = [line for line in built if line.amount is not None and (line.index is None or line.price is not None)]
    rebates = rebate_sum(job, plan, what, {kind: sum(ln.amount or 0.0 for ln in built if ln.kind == kind) for kind in KIND_WORDS})
    later: dict[int, float] = {}
    for line in lines:
        if line.after_years and line.amount is not None:
            later[line.after_years] = later.get(line.after_years, 0.0) + line.amount
    is_today = plan.id == job.plans[0].id
    total: float | None = None
    if not stale and (known or (is_today and not plan.costs) or not (what.added or plan.costs)):
        total = sum(line.amount or 0.0 for line in built) - sum(row.amount for row in rebates)
    return PlanCosts(
        lines=tuple(lines), rebates=rebates, total=total, stale=stale,
        missing=tuple(line.text for line in lines if line.amount is None and line.why != "made for other equipment"),
        later=later, usable_wh=what.usable_wh,
    )  # fmt: skip
