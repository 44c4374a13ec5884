"""Another pattern for a plan in place: what still applies is kept, what does not is named."""

from __future__ import annotations

from calm_relay.decision.patterns import PATTERNS, made_by
from calm_relay.decision.sizing import Need
from calm_relay.errors import NotFeasible
from calm_relay.job.control_models import Controls
from calm_relay.job.models import Job, Node, Plan
from calm_relay.job.parts import slots_for, with_cards, with_plan
from calm_relay.library.book import CardBook
from calm_relay.rules.offers import offered
from calm_relay.units import count_words


def change_pattern(
    job: Job, plan_id: str, pattern: str, day_wh: float | None = None, known: CardBook | None = None
) -> tuple[Job, tuple[str, ...]]:
    """Return the job with a plan made anew by a pattern, under its own id, and what was dropped of it, a line each.

    Inverters that the pattern makes with the same card keep what was chosen on them; transfer device, generator, reserve and slots
    stay where they still have something to do. Note, reasons, costs and waivers stay as they were written.

    Raises
    ------
    NotFeasible
        For today's system, and where it does not allow the pattern.
    """
    old, today = job.plan(plan_id), job.plans[0]
    if old.id == today.id:
        raise NotFeasible("today's system is what stands: it has no pattern", "draft a plan, or use the start list")
    need = Need(job, day_wh, offered(job, known), known)
    made, cards = made_by(need, today, pattern)
    kept = {node.id: node for node in old.nodes}
    nodes = tuple(kept[n.id] if n.id in kept and _same_place(kept[n.id], n) else n for n in made.nodes)
    names = {text for _, text, _ in PATTERNS}
    plan = made.model_copy(
        update={
            "id": old.id,
            "letter": old.letter,
            "name": {key: text for key, text, _ in PATTERNS}[pattern] if old.name in names else old.name,
            "note": old.note,
            "nodes": nodes,
            "transfer": old.transfer if made.transfer is not None and old.transfer is not None else made.transfer,
            "generator": old.generator,
            "controls": _controls(old, made, nodes),
            "costs": old.costs,
            "costs_for": old.costs_for,
            "waived": old.waived,
            "later": old.later,
        }
    )
    changed = with_plan(with_cards(job, cards), plan)
    return changed, dropped(old, plan, changed.cards())


def _same_place(mine: Node, theirs: Node) -> bool:
    """Return whether what was chosen on an inverter still applies on what a pattern makes of it."""
    alike = mine.card == theirs.card and mine.side == theirs.side and (mine.battery is None) == (theirs.battery is None)
    return alike and bool(mine.strings) == bool(theirs.strings)


def _controls(old: Plan, made: Plan, nodes: tuple[Node, ...]) -> Controls:
    """Return the old controls where there is a battery still, less slots for inverters that are gone; else the pattern's."""
    if not any(node.battery is not None for node in nodes) or old.controls == Controls():
        return made.controls
    more = {"sensor": "meter"} if made.transfer is None else {}
    return old.controls.model_copy(update={"slots": slots_for(old.controls, nodes), **more})


def dropped(old: Plan, new: Plan, cards: CardBook) -> tuple[str, ...]:
    """Return what a plan had and another of the same place has not, or has otherwise: a line a part."""
    out = []
    now = {node.id: node for node in new.nodes}
    for node in old.nodes:
        if node.id not in now:
            out.append(f"{node.name}: {_made_of(node, cards)}")
        elif now[node.id] != node:
            out.append(f"{node.name} as it was: {_made_of(node, cards)}, {node.side} side")
    if old.transfer is not None and new.transfer != old.transfer:
        out.append(f"transfer device as it was: {cards[old.transfer.card].name}")
    if old.controls != new.controls:
        gone = len(old.controls.slots) - len(new.controls.slots)
        said = f"{count_words(gone, 'slot')} less" if gone > 0 else "reserve, slots or sensor otherwise"
        out.append(f"controls as they were: {said}")
    if old.off_grid != new.off_grid:
        out.append("without a grid" if old.off_grid else "the grid connection")
    return tuple(out)


def _made_of(node: Node, cards: CardBook) -> str:
    """Return an inverter's make-up in words."""
    parts = [(f"{node.count} × " if node.count > 1 else "") + cards[node.card].name]
    modules = sum(g.modules_per_string * g.parallel_strings for g in node.strings)
    if modules:
        parts.append(count_words(modules, "PV module"))
    if node.battery is not None:
        parts.append(f"{node.battery.modules} × {cards[node.battery.card].name}")
    if node.controller is not None:
        parts.append(f"{node.controllers} × {cards[node.controller].name}")
    if node.timer_charger is not None:
        parts.append(cards[node.timer_charger].name)
    return ", ".join(parts)
