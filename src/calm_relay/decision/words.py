"""The comparison in words: its lines, its cells as text, and what speaks for and against each plan."""

from __future__ import annotations

from collections.abc import Sequence

from calm_relay.decision.compare import PlanRow
from calm_relay.job.field_words import CHOICES
from calm_relay.job.models import Job
from calm_relay.job.sky_models import ClearSkyWeather, MonthlyWeather
from calm_relay.units import format_quantity as show

# field of PlanRow, what it is called, kind of quantity
COMPARE_LINES: tuple[tuple[str, str, str], ...] = (
    ("bill", "Yearly bill", "money"),
    ("saving", "Saving against today", "money"),
    ("cost", "Cost", "money"),
    ("payback_years", "Simple payback", "years"),
    ("npv", "Worth today of 20 years", "money"),
    ("per_usable_kwh", "Cost per kWh usable", "money"),
    ("self_sufficiency_frac", "Self-sufficiency", "fraction"),
    ("own_use_frac", "Own use of PV", "fraction"),
    ("import_wh", "Import", "energy_wh"),
    ("export_wh", "Export", "energy_wh"),
    ("clipped_wh", "Clipped", "energy_wh"),
    ("caught_wh", "Caught by the battery", "energy_wh"),
    ("held_by_cap_wh", "Held by the export cap", "energy_wh"),
    ("unserved_wh", "Not served", "energy_wh"),
    ("exceeded_hours_h", "Above a limit all the same", "hours_h"),
    ("usable_wh", "Usable battery", "energy_wh"),
    ("full_cycles", "Full cycles a year", "count"),
    ("evening_hours_over_h", "Evening hours over limit", "hours_h"),
    ("offgrid_va", "Off-grid continuous", "apparent_va"),
    ("network_sum_w", "As the network counts", "power_w"),
    ("boxes", "Boxes", "count"),
)


AT_LEAST = {"cost": "at least", "payback_years": "at least", "npv": "at most", "per_usable_kwh": "at least"}  # while a price lacks
GRID_LINES = {"import_wh", "export_wh", "held_by_cap_wh", "network_sum_w"}  # which say nothing where no plan has a grid
LIFE_YEARS = 20  # a saving that needs longer is not called one; the horizon of the other money figures, common practice


def compare_text(row: PlanRow, field: str, kind: str) -> str:
    """Return one cell of the comparison as text; '–' where it does not apply."""
    value = getattr(row, field)
    if value is None:
        if field == "cost":
            return row.cost_note
        return "not known" if field == "offgrid_va" and row.lit else "–"
    if field == "usable_wh" and value == 0:
        return "–"
    whole_kwh = kind == "energy_wh" and field != "usable_wh"
    text = show(float(value), kind, 0 if whole_kwh else None)
    if row.cost_at_least and field in AT_LEAST:
        return f"{AT_LEAST[field]} {text}"
    return text


def difference_words(one: PlanRow, other: PlanRow, currency: str) -> str:
    """Return how the second plan differs from the first, in one line; what is the same is left out."""
    parts = []
    for field, text, kind in COMPARE_LINES:
        if field in ("saving", "payback_years"):
            continue
        a, b = getattr(one, field), getattr(other, field)
        before, after = compare_text(one, field, kind), compare_text(other, field, kind)
        if before == after:
            continue
        if a is None or b is None:
            parts.append(f"{text.lower()} {before} to {after}")
            continue
        sign = "+" if b > a else "−"
        amount = show(abs(float(b) - float(a)), kind, 0 if kind == "energy_wh" and field != "usable_wh" else None)
        unit = f"{currency} " if kind == "money" else ""
        parts.append(f"{text.lower()} {sign}{unit}{amount}")
    return f"{other.letter} against {one.letter}: " + (", ".join(parts) if parts else "no difference") + "."


def because(rows: Sequence[PlanRow], currency: str) -> list[str]:
    """Return what the figures say, a sentence or two each: the leading plan, what speaks against it, and closed gates.

    Among plans whose gate is open the one that pays back soonest leads; weights of the brief are not in it.
    """
    today, others = rows[0], rows[1:]
    out: list[str] = []
    open_rows = [row for row in others if not row.gate]
    paying = sorted((row for row in open_rows if row.payback_years is not None), key=lambda row: row.payback_years or 0.0)
    costless = [row.letter for row in others if row.cost is None]
    if paying and (paying[0].payback_years or 0.0) > LIFE_YEARS:
        first = paying[0]
        out.append(
            f"Doing nothing costs least over {LIFE_YEARS} years: of the plans with an open gate {first.letter} pays back soonest, "
            f"and only after {show(first.payback_years or 0.0, 'years', 0)}."
            + (" What it is worth to stay on in an outage is not in these figures." if any(row.lit for row in open_rows) else "")
        )
    elif paying:
        first = paying[0]
        out.append(
            f"{first.letter} pays back soonest of the plans with an open gate: it saves {currency} {show(first.saving, 'money')} "
            f"a year for {currency} {show(first.cost or 0.0, 'money')}, {show(first.payback_years or 0.0, 'years')}."
        )
        against = _against(first, open_rows)
        if against:
            out.append(f"Against {first.letter}: {against}.")
        most = max(open_rows, key=lambda row: row.saving)
        if most is not first:
            out.append(
                f"{most.letter} saves most, {currency} {show(most.saving, 'money')} a year, "
                f"and reaches {show(most.self_sufficiency_frac, 'fraction')} self-sufficiency."
            )
    elif open_rows and all(row.cost is None for row in open_rows):
        most = max(open_rows, key=lambda row: row.saving)
        what = "saves most" if most.saving > 0 else "loses least"
        out.append(
            f"What the plans with an open gate cost is not known, so nothing is said of what pays. {most.letter} {what}: "
            f"{currency} {show(most.saving, 'money')} a year against {today.letter.lower()}."
        )
    elif open_rows:
        least = f"{today.letter.lower()} has a closed gate: {today.gate}" if today.gate else "doing nothing costs least"
        out.append(f"No plan with an open gate pays back its cost against {today.letter.lower()}; {least}.")
    elif others:
        out.append("No plan has an open gate.")
    if costless and not (open_rows and all(row.cost is None for row in open_rows)):
        out.append(f"Left out of what pays, since no cost of theirs holds: {', '.join(costless)}.")
    for row in others:
        if row.gate:
            out.append(f"{row.letter} is not to be recommended as it stands: {row.gate}.")
    return out


def _against(row: PlanRow, open_rows: Sequence[PlanRow]) -> str:
    """Return the strongest points against a plan, from the figures."""
    points = []
    if not row.lit:
        lit = [other.letter for other in open_rows if other.lit]
        points.append("everything is dark in an outage" + (f", which {' and '.join(lit)} avoid" if lit else ""))
    if row.warranty_years is not None and row.payback_years is not None and row.payback_years > row.warranty_years:
        points.append(f"it pays back after the shortest warranty of {show(row.warranty_years, 'years', 0)}")
    if row.evening_hours_over_h is not None and row.evening_hours_over_h >= 1.0:
        points.append(f"{row.evening_hours_over_h:.0f} evening hours a year are over what its batteries carry")
    lost = row.clipped_wh + row.held_by_cap_wh
    if lost > 50_000.0:
        points.append(f"{show(lost, 'energy_wh', 0)} a year or more are clipped or held back")
    return "; ".join(points[:2])


def weather_words(job: Job) -> str:
    """Return where the job's weather comes from."""
    weather = job.site.weather
    if isinstance(weather, MonthlyWeather):
        path = "site.weather.ghi_wh_per_m2_day"
        assumed = ""
        if job.mark_of(path) == "assumed":
            whole = any(mark.path == path for mark in job.marks)
            assumed = " (assumed from the latitude alone)" if whole else " (some months only assumed from the latitude)"
        return f"synthetic, made from monthly means{assumed}"
    if isinstance(weather, ClearSkyWeather):
        return f"a guess: clear sky, {CHOICES[weather.cloudiness]}, temperatures from the latitude"
    return f"from the {weather.format} file {weather.name}" + (f", {weather.years}" if weather.years else "")


def clipped_amount(job: Job, step_s: int = 300) -> str:
    """Return the word before an energy that was clipped: a bound under a measured sky, an estimate under one made for the step."""
    return "at least" if job.site.sky_measured_within_s(step_s) else "about"


def compare_lines(job: Job) -> tuple[tuple[str, str, str], ...]:
    """Return the lines of the comparison as (field, words, kind); what is clipped says whether it is a bound or an estimate.

    Lines that no plan of the job has anything for, with a grid or without one, are left out.
    """
    clipped = f"Clipped, {clipped_amount(job)}"
    gone = {plan.off_grid for plan in job.plans}
    left_out = {"unserved_wh"} if gone == {False} else GRID_LINES if gone == {True} else set()
    return tuple(
        (field, clipped if field == "clipped_wh" else text, kind) for field, text, kind in COMPARE_LINES if field not in left_out
    )


def clipping_words(job: Job, step_s: int = 300) -> str:
    """Return what clipping figures of a step are, as a clause."""
    minutes = step_s // 60
    if job.site.sky_measured_within_s(step_s):
        return f"clipping at {minutes} min is a lower bound"
    return f"clouds within the hour are made, so clipping at {minutes} min is an estimate"


def guess_words(job: Job) -> str:
    """Return the sentence that every result resting on a guessed sky carries; empty where the weather is known."""
    return f"Weather is {weather_words(job)}." if weather_guessed(job) else ""


def weather_guessed(job: Job) -> bool:
    """Return whether the job's weather is a guess: nothing typed and no file read."""
    weather = job.site.weather
    if isinstance(weather, ClearSkyWeather):
        return True
    return isinstance(weather, MonthlyWeather) and job.mark_of("site.weather.ghi_wh_per_m2_day") == "assumed"


def card_words(job: Job, card_id: str) -> str:
    """Return a card's figures as lines, and which plans use it."""
    card = job.card(card_id)
    users = [p.letter for p in job.plans if any(card_id in (n.card, n.battery.card if n.battery else "") for n in p.nodes)]
    users += [p.letter for p in job.plans if any(g.module == card_id for n in p.nodes for g in n.strings) and p.letter not in users]
    rows = [
        f"{name.replace('_', ' ')}: {value}"
        for name, value in card.model_dump(exclude={"id", "kind", "name"}).items()
        if value is not None
    ]
    used = f"Used in: {', '.join(users)}" if users else "Not used in any plan"
    return "\n".join([used, *rows])
