"""What a plan's cost lines say of it, in words."""

from __future__ import annotations

from calm_relay.job.costs import equipment
from calm_relay.job.models import Job, Plan
from calm_relay.money.costing import plan_costs
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
    if plan.id == job.plans[0].id:
        return f"It holds {'; '.join(new)}."
    said = f"It adds {'; '.join(new)}." if new else "It adds no equipment."
    return said + (f" From today: {'; '.join(old)}." if old else "")


def cost_words(job: Job, plan: Plan) -> str:
    """Return what a plan's cost lines come to, or why they say nothing; what nobody priced is named."""
    costs, currency = plan_costs(job, plan), job.tariff.currency
    if costs.stale:
        old = ", ".join(line.text for line in costs.lines if line.why == "made for other equipment")
        return f"Made for other equipment than stands there now, so nothing is said of what it costs: {old}."
    if costs.total is None:
        return "No cost is known."
    words = f"{currency} {show(costs.total, 'money')}"
    if any(row.amount for row in costs.rebates):
        words += f", rebates of {show(sum(row.amount for row in costs.rebates), 'money')} taken off"
    if costs.per_usable_kwh is not None:
        words += f"; {show(costs.per_usable_kwh, 'money')} per kWh usable that it adds"
    if costs.missing:
        words = f"At least {words}; without a price: {', '.join(costs.missing)}"
    later = "".join(f" After {count_words(year, 'year')}: {show(amount, 'money')}." for year, amount in sorted(costs.later.items()))
    return f"{words}.{later}"


def each_module_words(job: Job, plan: Plan) -> str:
    """Return what one battery module more would cost beside what the first ones do, in words; empty where that is not known."""
    costs = plan_costs(job, plan)
    nodes = [node for node in plan.nodes if node.battery is not None]
    if not costs.complete or costs.per_usable_kwh is None or len(nodes) != 1:
        return ""
    node = nodes[0]
    assert node.battery is not None
    more = node.model_copy(update={"battery": node.battery.model_copy(update={"modules": node.battery.modules + 1})})
    larger = plan.model_copy(update={"nodes": tuple(more if n.id == node.id else n for n in plan.nodes)})
    then = plan_costs(job, larger)
    if costs.total is None or then.total is None or then.usable_wh <= costs.usable_wh:
        return ""
    each = (then.total - costs.total) / ((then.usable_wh - costs.usable_wh) / 1000.0)
    return (
        f"A module more costs {show(then.total - costs.total, 'money')}, {show(each, 'money')} per kWh usable; "
        f"those of the plan come to {show(costs.per_usable_kwh, 'money')} with all that goes with them."
    )
