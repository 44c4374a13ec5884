"""Ready cost lines: what a plan holds that no line stands for yet, and the work that usually goes with it."""

from __future__ import annotations

from collections.abc import Sequence

from calm_relay.job.cost_models import CostBasis, CostKind, CostLine
from calm_relay.job.models import Job, Plan
from calm_relay.money.costing import uncovered
from calm_relay.money.counted import counted, kind_of
from calm_relay.money.price_list import ListRow, PriceList

USUAL_HOURS_H = 16.0  # of labour, two people a day; common practice
WORK: tuple[tuple[CostKind, str, CostBasis], ...] = (
    ("wiring", "Essential-loads wiring", "fixed"), ("approvals", "Approvals and network application", "fixed"),
    ("drawings", "Drawings", "fixed"), ("cabling", "Cabling and small parts", "fixed"), ("scaffold", "Scaffold", "fixed"),
    ("labour", "Labour", "per_hour"),
)  # fmt: skip


def work_of(job: Job, plan: Plan) -> frozenset[CostKind]:
    """Return the work that a plan usually brings: a further battery on what stands needs less than the first."""
    today, what = job.plans[0], counted(job, plan)
    cards = job.cards()
    kinds = {kind_of(cards[card]) for card in what.added}
    out: set[CostKind] = set()
    if kinds:
        out |= {"labour", "cabling"}
    if "transfer" in kinds or (plan.has_backup_side and not today.has_backup_side):
        out.add("wiring")
    if "inverter" in kinds or ("battery" in kinds and not any(node.battery for node in today.nodes)):
        out |= {"approvals", "drawings"}
    if "modules" in kinds:
        out.add("scaffold")
    return frozenset(out)


def lacking_work(job: Job, plan: Plan) -> tuple[CostKind, ...]:
    """Return the usual work for which a plan has no line; a fixed line of no kind may hold it, and then nothing lacks."""
    if any(line.kind == "other" and line.basis == "fixed" and line.amount for line in plan.costs):
        return ()
    has = {line.kind for line in plan.costs}
    needed = work_of(job, plan)
    return tuple(kind for kind, _, _ in WORK if kind in needed and kind not in has)


def ready_lines(job: Job, plan: Plan, prices: PriceList | None = None) -> tuple[CostLine, ...]:
    """Return the lines a plan lacks: a piece line for each card it adds, one for what it takes out, and the usual work.

    Prices come from the list where it has them, with its name and date; all others are without a price.
    """
    cards, what = job.cards(), counted(job, plan)
    out = [
        CostLine(text=cards[card].name, kind=kind_of(cards[card]), basis="per_piece", counts=card)
        for card in uncovered(job, plan, what, cards)
    ]
    gone = {line.counts for line in plan.costs if line.kind == "taken_out"}
    if not any(line.kind == "taken_out" and line.basis == "fixed" for line in plan.costs):
        out += [
            CostLine(text=f"{cards[card].name}, value left"[:80], kind="taken_out", basis="per_piece", counts=card, amount=0.0)
            for card in what.taken_out
            if card not in gone and kind_of(cards[card]) in ("inverter", "battery")
        ]
    lacking = lacking_work(job, plan)
    out += [
        CostLine(text=text, kind=kind, basis=basis, hours_h=USUAL_HOURS_H if basis == "per_hour" else 0.0)
        for kind, text, basis in WORK
        if kind in lacking
    ]
    return tuple(priced_by(line, prices) for line in out) if prices is not None else tuple(out)


def priced_by(line: CostLine, prices: PriceList) -> CostLine:
    """Return a line with the list's price where it has one for its card, else for its class and basis."""
    row = prices.row_of(line.counts, line.kind, line.basis)
    return line if row is None else _with(line, row, prices)


def _with(line: CostLine, row: ListRow, prices: PriceList) -> CostLine:
    basis = row.basis if not row.card else line.basis
    return line.model_copy(update={"amount": row.price, "basis": basis, "source": f"{prices.name}, {row.date or prices.date}"})


def repriced(lines: Sequence[CostLine], prices: PriceList) -> tuple[CostLine, ...]:
    """Return a plan's lines with the list's prices; what is not in the list stays as it is."""
    return tuple(priced_by(line, prices) for line in lines)
