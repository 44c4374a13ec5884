"""What the brief asks for, in words, and the defaults it sets elsewhere, each with its reason."""

from __future__ import annotations

from dataclasses import dataclass

from calm_relay.job.brief_models import Brief, Contract, Purpose
from calm_relay.rules.checks_brief import END_WORDS

PURPOSES: tuple[tuple[Purpose, str], ...] = (
    ("lower_bills", "Lower bills"),
    ("own_use", "Use own solar at home"),
    ("ride_through", "Ride through outages"),
    ("zero_export", "Export nothing"),
    ("off_grid", "Leave the grid"),
    ("new_loads", "Room for a car or a heat pump"),
)
WEIGHT_WORDS = ("no matter", "a little", "it counts", "it counts much", "above all")
RESERVE_FRAC = (0.0, 0.1, 0.15, 0.3, 0.5)  # held for outages by the weight of riding through; ours, common practice
USUAL_RESERVE_FRAC = 0.15


def weight_of(brief: Brief, purpose: str) -> int:
    """Return a purpose's weight, 0 (no matter) to 4 (above all)."""
    return next((w.weight for w in brief.weights if w.purpose == purpose), 2 if purpose in brief.purposes else 0)


def weight_words(brief: Brief, purpose: str) -> str:
    """Return a purpose's weight in words."""
    return WEIGHT_WORDS[weight_of(brief, purpose)]


@dataclass(frozen=True)
class Default:
    """A value the brief sets where nothing was typed, and why."""

    path_end: str
    value: float
    reason: str


def reserve_default(brief: Brief) -> Default:
    """Return the reserve for outages of a drafted plan: by the weight of riding through."""
    if not brief.weights and not brief.purposes:
        return Default("controls.reserve_soc_frac", USUAL_RESERVE_FRAC, "usual, the brief says nothing of outages")
    weight = weight_of(brief, "ride_through")
    reason = f"from the brief: riding through outages, {WEIGHT_WORDS[weight]}"
    return Default("controls.reserve_soc_frac", RESERVE_FRAC[weight], reason)


def _contract_words(contract: Contract) -> str:
    ends = [f"a plan that {END_WORDS[end]}" for end in contract.ends_with]
    by = " or ".join([*ends, *([contract.ended_by] if contract.ended_by else [])]) or "nothing said yet"
    return f"{contract.name}{f', until {contract.ends}' if contract.ends else ''}: ended by {by}"


def brief_words(brief: Brief) -> tuple[str, ...]:
    """Return the brief as lines: purposes by weight, outages, budget, what stays, contracts."""
    ranked = sorted(PURPOSES, key=lambda row: -weight_of(brief, row[0]))
    out = [f"{words}: {weight_words(brief, key)}" for key, words in ranked if weight_of(brief, key) > 0]
    if brief.outage_hours_h:
        often = "" if brief.outages_per_year is None else f", {brief.outages_per_year:g} a year"
        when = "" if brief.outage_season == "any" else f", mostly in {brief.outage_season}"
        out.append(f"Outages last {brief.outage_hours_h:g} h{often}{when}")
    if brief.budget is not None:
        out.append(f"At most {brief.budget:,.0f} may be spent")
    if brief.keep:
        out.append(f"Not to be touched: {brief.keep}")
    out += [_contract_words(c) for c in brief.contracts]
    return tuple(out)
