"""What a plan's money comes to, in sentences: its worth, the spread's cases, the figures kept with a choice, the choice."""

from __future__ import annotations

from typing import TYPE_CHECKING

from calm_relay.decision.compare import PlanRow
from calm_relay.decision.words import LIFE_YEARS
from calm_relay.job.models import Job
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from calm_relay.decision.ranges import Ranges, Spread
    from calm_relay.decision.twenty import TwentyYears


def worth_words(years: TwentyYears, currency: str) -> str:
    """Return what twenty years come to, as a sentence."""
    worth = years.worth
    if years.is_today:
        return "This is today's system: all others are held against it."
    if worth is None:
        return "Nothing is said of what it is worth, since its cost is not known."
    bound = "at most " if years.at_least else ""
    back = "it does not pay back" if worth.payback_years is None else f"it pays back after {show(worth.payback_years, 'years')}"
    then = ""
    if worth.discounted_payback_years is not None:
        then = f", discounted after {show(worth.discounted_payback_years, 'years')}"
    percent = "" if worth.irr_frac is None else f"{worth.irr_frac * 100:.1f} % a year".replace("-", "−")
    rate = f"an internal rate of {percent}" if percent else "no internal rate"
    return f"Worth today {bound}{currency} {show(worth.npv, 'money')} over {LIFE_YEARS} years; {back}{then}; {rate}."


def years_notes(years: TwentyYears, currency: str) -> list[str]:
    """Return what stands beside the twenty years: worth, ageing, what is replaced, wear, carbon dioxide, what is not known."""
    out = [worth_words(years, currency)]
    out += [f"{row.name}: {row.words}." for row in years.ageing]
    out += [
        f"{what} replaced after {count_words(year, 'year')} for {currency} {show(cost, 'money')}."
        for year, what, cost in years.replaced
    ]
    if years.wear is not None:
        all_in = "" if years.wear.all_per_kwh is None else f"; all the plan costs, {years.wear.all_per_kwh:.3f} a kWh"
        out.append(f"Wear: {years.wear.arithmetic}{all_in}.")
    if years.co2_kg_per_year is not None:
        out.append(f"CO₂: {years.co2_kg_per_year:.0f} kg a year less by what is not imported, at the factor typed.")
    return [*out, *(f"{note[:1].upper()}{note[1:]}." for note in years.notes)]


def spread_words(row: Spread | None, kind: str) -> str:
    """Return the three percentiles; a payback that never comes is said so."""
    if row is None:
        return "not known"
    return " / ".join("never" if value is None else show(value, kind) for value in (row.p10, row.p50, row.p90))


def ranges_words(job: Job, found: Ranges) -> str:
    """Return what the cases are made of."""
    finance = job.finance
    years = len({case.weather for case in found.cases})
    cases, clouds = count_words(len(found.cases), "case"), count_words(years, "year")
    return (
        f"10th, 50th and 90th percentile of {cases}, seed {finance.seed}: the year's sun with a standard deviation of "
        f"{finance.sun_spread_frac * 100:g} % ({clouds} of clouds), load ±{finance.load_spread_frac * 100:g} %, growth of import "
        f"prices ±{finance.growth_spread_frac * 100:g} % a year."
    )


def figures_of(row: PlanRow, currency: str) -> str:
    """Return a plan's figures in one line, as they are kept with a choice."""
    cost = row.cost_note if row.cost is None else f"{currency} {show(row.cost, 'money')}{' at least' if row.cost_at_least else ''}"
    back = "no payback" if row.payback_years is None else f"payback {show(row.payback_years, 'years')}"
    parts = [f"saving {currency} {show(row.saving, 'money')} a year", f"cost {cost}", back]
    if row.npv is not None:
        parts.append(f"worth today {currency} {show(row.npv, 'money')}")
    return ", ".join([*parts, f"self-sufficiency {show(row.self_sufficiency_frac, 'fraction')}"])


def chosen_words(job: Job) -> str:
    """Return which plan was chosen and why; empty where none is."""
    choice = job.choice
    if choice is None:
        return ""
    letters = {plan.id: plan.letter for plan in job.plans}
    letter = letters.get(choice.plan)
    name = f"plan {letter}" if letter else f"plan '{choice.plan}', which is gone"
    end = "" if choice.reason.endswith((".", "!", "?")) else "."
    return f"Chosen on {choice.time[:10]}: {name}. {choice.reason}{end} The figures that day: {choice.figures}."
