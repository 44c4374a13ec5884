"""What a plan's cost lines say of it, in words."""

from __future__ import annotations

from calm_relay.job.costs import costs_are_stale, equipment, plan_cost
from calm_relay.job.models import Job, Plan
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show


def equipment_words(job: Job, plan: Plan) -> str:
    """Return what a plan holds, to be priced: how many of each card, what today's system has already told apart."""
    had, cards = equipment(job.plans[0]) if plan.id != job.plans[0].id else {}, job.cards()
    new, old = [], []
    for card_id, count in equipment(plan).items():
        more = count - had.get(card_id, 0)
        if more > 0:
            new.append(f"{more} × {cards[card_id].name}")
        if count - max(0, more) > 0:
            old.append(f"{count - max(0, more)} × {cards[card_id].name}")
    if not new and not old:
        return "Nothing stands in it yet."
    said = f"It adds {'; '.join(new)}." if new else "It adds no equipment."
    return said + (f" From today: {'; '.join(old)}." if old else "")


def cost_words(job: Job, plan: Plan) -> str:
    """Return the sum of a plan's cost lines, or why it says nothing."""
    if not plan.costs:
        return "No cost is known."
    total, currency = sum(line.amount for line in plan.costs), job.tariff.currency
    free = [line.text for line in plan.costs if line.amount == 0]
    words = f"{count_words(len(plan.costs), 'line')}: {currency} {show(total, 'money')}"
    if free:
        words += f"; without a price: {', '.join(free)}"
    if costs_are_stale(plan):
        return f"{words}. Made for other equipment than stands there now, so it is not used."
    assert plan_cost(plan) is not None
    return f"{words}."
