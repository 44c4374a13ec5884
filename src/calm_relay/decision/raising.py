"""If one limit were raised: each candidate is the plan with one step more of one thing, run for a whole year by itself."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, dataclass
from typing import Any

from calm_relay.errors import BadInput
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.models import Job, Plan
from calm_relay.plant import chain
from calm_relay.plant.bank import cells_of
from calm_relay.plant.resolve import plant_of
from calm_relay.rules.offers import offered
from calm_relay.study import Study
from calm_relay.units import format_quantity as show

EXPORT_STEP_W = 1000.0
SHOWN = 3
WORTH_MONEY, WORTH_WH = 0.5, 500.0  # below this a step changes nothing worth a line


@dataclass(frozen=True)
class Step:
    """One limit, one step higher: words and the edits that make it."""

    limit: str
    text: str
    edits: tuple[Edit, ...]


@dataclass(frozen=True)
class Gain:
    """What a step alone would bring in a year. `saving` is of the bill; energies in Wh; the step's cost is not in it."""

    text: str
    saving: float
    import_less_wh: float
    lost_less_wh: float
    evening_hours_less_h: float
    edits: tuple[Edit, ...]

    def as_dict(self) -> dict[str, Any]:
        """Return the gain as plain data."""
        return {**asdict(self), "edits": [edit.as_dict() for edit in self.edits]}


def steps(job: Job, plan: Plan) -> tuple[Step, ...]:
    """Return the steps that make sense for a plan: export cap, battery module, next larger inverter, grid charge power."""
    out: list[Step] = []
    if plan.off_grid:  # nothing is bought or sold: what more would serve stands in the checks
        return ()
    base = f"plans[{plan.id}]"
    cap, held = job.site.export_limit_w, plant_of(job, plan).caps.export_w
    if cap is not None and cap == held and any(node.strings for node in plan.nodes):
        text = f"export cap {show(cap, 'power_w', 1)} to {show(cap + EXPORT_STEP_W, 'power_w', 1)}"
        out.append(Step("export_cap", text, (Edit("site.export_limit_w", cap + EXPORT_STEP_W),)))
    cards = job.cards()
    for node in plan.nodes:
        card = cards.inverter(node.card)
        if node.battery is not None:
            battery, unit = cards.battery(node.battery.card), plant_of(job, plan).station(node.id).unit
            more = node.battery.modules + 1
            if chain.modules_fit(unit, cells_of(battery), more):
                text = f"{node.name}: {more} battery modules instead of {node.battery.modules}"
                out.append(Step(f"battery:{node.id}", text, (Edit(f"{base}.nodes[{node.id}].battery.modules", more),)))
        larger = [
            c
            for c in offered(job).inverters().values()
            if c.kind == card.kind
            and c.phases == card.phases
            and c.ac_rated_w > card.ac_rated_w
            and len(c.trackers) >= len(card.trackers)
        ]
        if larger:
            best = min(larger, key=lambda c: c.ac_rated_w)
            to = show(best.ac_rated_w, "power_w", 1)
            text = f"{node.name}: AC limit {to} instead of {show(card.ac_rated_w, 'power_w', 1)}, the unit else as it is"
            supposed = card.model_copy(
                update={"id": f"{card.id}-{best.ac_rated_w:.0f}w"[:40], "name": f"{card.name}, AC limit {to} (supposed)",
                        "ac_rated_w": best.ac_rated_w}
            )  # fmt: skip
            edits = (Edit("library[+]", supposed.model_dump()), Edit(f"{base}.nodes[{node.id}].card", supposed.id))
            out.append(Step(f"inverter:{node.id}", text, edits))
    return tuple(out)


def raise_each(
    study: Study,
    job: Job,
    plan: Plan,
    cancelled: Callable[[], bool] = lambda: False,
) -> tuple[Gain, ...]:
    """Return what each step alone would bring, the largest saving first, at most three. Raises Cancelled."""
    facts, bill = study.facts(job, plan, cancelled=cancelled), study.bill(job, plan, cancelled=cancelled)
    out = []
    for step in steps(job, plan):
        try:
            changed = apply_edits(job, step.edits)
        except BadInput:
            continue
        other = changed.plan(plan.id)
        after, paid = study.facts(changed, other, cancelled=cancelled), study.bill(changed, other, cancelled=cancelled)
        lost = facts.clipped_wh + facts.held_by_cap_wh - after.clipped_wh - after.held_by_cap_wh
        evening = (facts.evening.hours_over_h if facts.evening else 0.0) - (after.evening.hours_over_h if after.evening else 0.0)
        imported = facts.system_wh["import_w"] - after.system_wh["import_w"]
        gain = Gain(
            text=step.text,
            saving=bill.total - paid.total,
            import_less_wh=imported,
            lost_less_wh=lost,
            evening_hours_less_h=evening,
            edits=step.edits,
        )
        if gain.saving >= WORTH_MONEY or lost >= WORTH_WH or evening >= 1.0:
            out.append(gain)
    return tuple(sorted(out, key=lambda gain: -gain.saving)[:SHOWN])
