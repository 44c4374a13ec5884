"""The start list: what stands today, and what it should become. A few keys to a whole plan, every part of it to be changed."""

from __future__ import annotations

from calm_relay.decision.patterns import PATTERNS, draft_plan, made_by
from calm_relay.decision.sizing import Need
from calm_relay.errors import BadInput, Fault, NotFeasible
from calm_relay.job.models import Job, Plan
from calm_relay.job.parts import with_cards
from calm_relay.library.book import CardBook
from calm_relay.rules.offers import offered

AS_ENTERED = "as-entered"
# key, words, what it means, patterns that make it one after the other on an empty roof
STANDS: tuple[tuple[str, str, str, tuple[str, ...]], ...] = (
    (AS_ENTERED, "What is entered already", "today's system stays as it is", ()),
    ("nothing", "Nothing yet", "an empty roof", ()),
    ("string", "A string inverter", "an array on one inverter, no battery", ("string-new",)),
    ("modules", "Module-level inverters", "an inverter on every module, no battery", ("modules-only",)),
    ("hybrid", "A hybrid without a battery", "an array on a hybrid whose battery input is free", ("hybrid-bare",)),
    ("hybrid-battery", "A hybrid with a battery", "an array and a battery on one hybrid", ("hybrid-new",)),
    ("ac-battery", "An AC battery beside PV", "an array on its inverter, a battery on another", ("string-new", "ac-add-on")),
    ("battery-only", "A battery without PV", "a battery inverter, filled in cheap hours", ("battery-only",)),
    (
        "controller-bank",
        "A bank with charge controllers",
        "strings on charge controllers, a low-voltage bank",
        ("controller-bank",),
    ),
    ("timer-bank", "A charger on a time switch", "a bank filled by the clock, an inverter for the evening", ("timer-bank",)),
    ("pair-bank", "A split-phase pair", "two like inverters on one bank, a leg each", ("pair-bank",)),
    ("no-grid", "No grid", "a bank with charge controllers makes the supply", ("controller-bank", "leave-grid")),
    ("plug-in", "A plug-in set", "two modules and a small battery", ("plug-in",)),
)
GUESSED = "Sizes are suggested from the house, the roof and the cards at hand: type what really stands."


def stands_today(job: Job, kind: str, day_wh: float | None = None, known: CardBook | None = None) -> Job:
    """Return the job with today's system replaced by one of a kind; its sizes are guesses, and its note says so.

    Raises
    ------
    NotFeasible
        When the job or the cards at hand do not allow it.
    """
    parts = {key: patterns for key, _, _, patterns in STANDS}
    if kind not in parts:
        raise BadInput([Fault("", kind, "nothing of this name can stand", f"use one of: {', '.join(parts)}")])
    if kind == AS_ENTERED:
        return job
    today = job.plans[0]
    plan = Plan(id=today.id, letter=today.letter, name=today.name, note=GUESSED if parts[kind] else "")
    for pattern in parts[kind]:
        need = Need(job, day_wh, offered(job, known), known)
        made, cards = made_by(need, plan, pattern)
        job, plan = with_cards(job, cards), made.model_copy(update={"note": plan.note})
    return job.model_copy(update={"plans": (plan, *job.plans[1:])})


def start(job: Job, stands: str, becomes: str, day_wh: float | None = None, known: CardBook | None = None) -> tuple[Job, str]:
    """Return the job with what stands today and a drafted plan of what it should become, and that plan's id.

    Raises
    ------
    NotFeasible
        When the one cannot become the other, with why.
    """
    return draft_plan(stands_today(job, stands, day_wh, known), becomes, day_wh, known)


def can_become(job: Job, stands: str, day_wh: float | None = None, known: CardBook | None = None) -> dict[str, str]:
    """Return every pattern with why what stands cannot become it; empty where it can."""
    try:
        today = stands_today(job, stands, day_wh, known)
    except NotFeasible as error:
        return {key: str(error) for key, _, _ in PATTERNS}
    out = {}
    for key, _, _ in PATTERNS:
        try:
            made_by(Need(today, day_wh, offered(today, known), known), today.plans[0], key)
            out[key] = ""
        except NotFeasible as error:
            out[key] = str(error)
    return out
