"""Drafts of candidate plans from today's system: complete, so that they can be simulated at once, and then changed."""

from __future__ import annotations

import math
import string
from collections import Counter
from dataclasses import replace
from typing import Literal

from calm_relay.calendar import window_hours
from calm_relay.decision.bank_systems import BANK_MAKERS, BANK_PATTERNS
from calm_relay.decision.brief import defaults, dull_half, reserve_default, whole_house_default, window_default
from calm_relay.decision.drafted import checked
from calm_relay.decision.new_systems import NEW_MAKERS, NEW_PATTERNS, with_module_inverters
from calm_relay.decision.sizing import (
    CHARGED_FRAC,
    HYBRID_DC_V,
    Drafted,
    Need,
    battery_of,
    carried_by_service,
    free_faces,
    free_node_id,
    free_string_id,
    longest_string,
    pv_inverters,
    rated_w_of,
    smallest_unit,
    transfer_for,
    usual_module,
)
from calm_relay.errors import NotFeasible
from calm_relay.job.bank_parts import without_grid
from calm_relay.job.control_models import Controls, Slot
from calm_relay.job.models import BatteryChoice, Job, Node, Plan, StringGroup
from calm_relay.job.parts import new_transfer, with_cards
from calm_relay.library.book import CardBook, book_of
from calm_relay.library.cards import Card
from calm_relay.plant.bank import bank_of
from calm_relay.plant.chain import usable_wh
from calm_relay.plant.resolve import plant_of, unit_at
from calm_relay.plant.rows import inverter_rows
from calm_relay.plant.unit import unit_of
from calm_relay.rules.offers import offered
from calm_relay.simulation.kernel.records import MOST_NODES
from calm_relay.tariff.prices import cheap_window

PATTERNS: tuple[tuple[str, str, str], ...] = (
    ("ac-add-on", "Keep, add AC battery", "what stands stays; a battery inverter joins it"),
    ("hybrid-swap", "Hybrid swap", "one hybrid takes over the old strings and holds the battery"),
    ("hybrid-alongside", "Hybrid alongside", "what stands stays; a hybrid with new strings and a battery joins it"),
    ("array-only", "Array only", "more modules on today's inverter, no battery"),
    *NEW_PATTERNS,
    *BANK_PATTERNS,
)


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
    need = Need(job, day_wh, offered(job, known), known)
    made, cards = made_by(need, job.plans[0], pattern)
    used = {plan.id for plan in job.plans}
    plan_id = next(i for n in range(1, 99) if (i := pattern if n == 1 else f"{pattern}-{n}") not in used)
    letters = {plan.letter for plan in job.plans}
    letter = next((c for c in string.ascii_uppercase if c not in letters), "new")
    had = any(node.battery is not None for node in job.plans[0].nodes)
    note = ""
    if any(node.battery is not None for node in made.nodes):
        said = " ".join(f"{d.line[:1].upper()}{d.line[1:]}." for d in defaults(job))
        note = "Transfer device and controls are today's." if had else said
    if made.off_grid and not job.plans[0].off_grid:
        note = "Nothing is bought or sold. What stands is sized for a day, not for the dull weeks: see what is not served."
    plan = made.model_copy(update={"id": plan_id, "letter": letter, "name": name, "note": note})
    changed = with_cards(job, cards)
    return checked(changed.model_copy(update={"plans": (*changed.plans, plan)}), plan_id, known), plan_id


def made_by(need: Need, today: Plan, pattern: str) -> tuple[Plan, list[Card]]:
    """Return what a pattern makes of a plan, and the cards that it needs: inverters, transfer device and controls.

    What the plan has of transfer device and controls stays where there is a battery already.

    Raises
    ------
    NotFeasible
        When the plan does not allow the pattern.
    """
    job = need.job
    own = {"ac-add-on": _ac_add_on, "hybrid-swap": _swap, "hybrid-alongside": _alongside, "array-only": _array_only}
    more = {"modules-new": _modules_new, "modules-only": with_module_inverters}
    nodes, cards, battery = {**own, **more, **NEW_MAKERS, **BANK_MAKERS}[pattern](need, today)
    held = len(plant_of(with_cards(job, cards), today.model_copy(update={"nodes": nodes})).battery_side)
    if held > MOST_NODES:
        raise NotFeasible(f"it would hold {held} battery or hybrid inverters, a plan carries {MOST_NODES}", "take some out first")
    transfer, controls = today.transfer, today.controls
    off_grid = today.off_grid or pattern == "leave-grid"
    if battery and transfer is None and not off_grid and any(node.side == "backup" for node in nodes):
        gateway = transfer_for(need)
        cards = [*cards, gateway]
        transfer = new_transfer(job, gateway, whole=whole_house_default(job.brief) is not None)
    if battery and not any(node.battery is not None for node in today.nodes):
        only_grid = pattern in ("battery-only", "timer-bank")
        controls = _controls(job, nodes, book_of(job.library, tuple(cards)), only_grid=only_grid, clock=pattern == "timer-bank")
    made = today.model_copy(
        update={
            "nodes": nodes,
            "transfer": transfer,
            "controls": controls,
            "costs": (),
            "costs_for": {},
            "waived": (),
            "later": None,
        }
    )
    if not off_grid:
        return made, cards
    kept = today.controls if today.off_grid else Controls(reserve_soc_frac=reserve_default(job.brief).value)
    return without_grid(made.model_copy(update={"controls": kept})), cards


def _ac_add_on(need: Need, today: Plan) -> Drafted:
    job = need.job
    old = pv_inverters(job, today)
    rated = rated_w_of(job, old)
    lines: tuple[Literal["auto", "1", "2", "3"], ...] = ("1", "2", "3") if job.site.supply.kind == "three_phase" else ("auto",)
    unit = smallest_unit(need, "battery_inverter", max(3000.0, rated / len(lines)), phases=1)
    carried_by_service(job, unit)
    stack, modules = battery_of(need, unit_of(unit), unit.name, 1.03 * rated / len(lines), len(lines))  # off grid, 1:1
    plan = today.model_copy(update={"nodes": tuple(node.model_copy(update={"side": "backup"}) for node in today.nodes)})
    for line in lines:
        name = "Battery inverter" if line == "auto" else f"Battery inverter {line}"
        new = Node(
            id=free_node_id("battery", plan), name=name, card=unit.id, side="backup", line=line,
            battery=BatteryChoice(card=stack.id, modules=modules),
        )  # fmt: skip
        plan = plan.model_copy(update={"nodes": (*plan.nodes, new)})
    return plan.nodes, [unit, stack], True


def _modules_new(need: Need, today: Plan) -> Drafted:
    nodes, cards, _ = with_module_inverters(need, today)
    with_them = replace(need, job=with_cards(need.job, cards))
    nodes, more, battery = _ac_add_on(with_them, today.model_copy(update={"nodes": nodes}))
    return nodes, [*cards, *more], battery


def _swap(need: Need, today: Plan) -> Drafted:
    job = need.job
    old = pv_inverters(job, today)
    if not old:
        raise NotFeasible("today's system has no PV inverter to swap", "add today's inverter and strings on Site & roof first")
    strings = _rewired(job, today, old)
    renumbered = tuple(group.model_copy(update={"tracker": n}) for n, group in enumerate(strings, start=1))
    rated = rated_w_of(job, old)
    unit = smallest_unit(need, "hybrid", rated, trackers=len(renumbered), phases=need.phases)
    carried_by_service(job, unit)
    stack, modules = battery_of(need, unit_of(unit), unit.name)
    new = Node(
        id=free_node_id("hybrid", today), name="Hybrid", card=unit.id, side="backup", strings=renumbered,
        battery=BatteryChoice(card=stack.id, modules=modules),
    )  # fmt: skip
    others = tuple(node for node in today.nodes if node not in old)
    return (*others, new), [unit, stack], True


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
            modules = group.modules_per_string * group.parallel_strings * node.count
            longest = longest_string(job, cards.module(group.module), HYBRID_DC_V)
            parts = math.ceil(modules / longest)
            for part in range(parts):
                each = modules // parts + (1 if part < modules % parts else 0)
                out.append(group.model_copy(update={"modules_per_string": each, "parallel_strings": 1}))
    unique = Counter(group.id for group in out)
    ids = {group_id: iter(range(1, count + 1)) for group_id, count in unique.items()}
    return tuple(g if unique[g.id] == 1 else g.model_copy(update={"id": f"{g.id}-{next(ids[g.id])}"}) for g in out)


def _alongside(need: Need, today: Plan) -> Drafted:
    job = need.job
    face = free_faces(job, today)[0]
    module = usual_module(need)
    count = min(face.room_modules or 12, 12, longest_string(job, module, 600.0))
    unit = smallest_unit(need, "hybrid", 0.8 * count * module.power_stc_w, phases=need.phases)
    carried_by_service(job, unit)
    stack, modules = battery_of(need, unit_of(unit), unit.name)
    group = StringGroup(id=free_string_id(today), face=face.id, module=module.id, tracker=1, modules_per_string=count)
    new = Node(
        id=free_node_id("hybrid", today), name="Hybrid", card=unit.id, side="backup", strings=(group,),
        battery=BatteryChoice(card=stack.id, modules=modules),
    )  # fmt: skip
    return (*today.nodes, new), [unit, stack, module], True


def _array_only(need: Need, today: Plan) -> Drafted:
    job = need.job
    face = free_faces(job, today)[0]
    for node, card in inverter_rows(today, job.cards()):
        used = {group.tracker for group in node.strings}
        free = [n for n in range(1, len(card.trackers) + 1) if n not in used]
        if card.per_module or not free:
            continue
        module = usual_module(need)
        count = min(face.room_modules or 8, 8, longest_string(job, module, card.dc_voltage_max_v))
        group = StringGroup(id=free_string_id(today), face=face.id, module=module.id, tracker=free[0], modules_per_string=count)
        more = node.model_copy(update={"strings": (*node.strings, group)})
        return tuple(more if n.id == node.id else n for n in today.nodes), [module], False
    raise NotFeasible("no tracker of today's inverters is free", "put strings in parallel, or draft a hybrid alongside")


def _controls(job: Job, nodes: tuple[Node, ...], cards: CardBook, *, only_grid: bool, clock: bool = False) -> Controls:
    """Return the reserve and, where the brief asks for it or nothing else fills the battery, a slot that charges from the grid."""
    reserve, window = reserve_default(job.brief).value, cheap_window(job.tariff)
    if window is None or (window_default(job.brief, job.tariff) is None and not only_grid):
        return Controls(reserve_soc_frac=reserve)
    room, most = 0.0, 0.0
    for node in nodes:
        if node.battery is not None:
            room += usable_wh(bank_of(cards.battery(node.battery.card), node.battery))
            most = max(most, unit_at(node, cards, node.count).charger_in_max_w)
    power = min(most, math.ceil(room / CHARGED_FRAC / window_hours(*window) / 100.0) * 100.0)
    months = () if only_grid else dull_half(job.site.place.latitude_deg)
    slot = Slot(
        kind="timer" if clock else "charge_from_grid",
        start_h=window[0],
        end_h=window[1],
        months=months,
        power_w=power,
        target_soc_frac=1.0,
    )
    return Controls(reserve_soc_frac=reserve, slots=(slot,))
