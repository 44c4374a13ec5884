"""Which plan leads by the brief's weights, what would turn the order, and why, in a few sentences.

A plan's score is the weighted mean of what it is worth under each purpose. Plans whose gate is closed are scored and never lead.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from calm_relay.decision.brief import PURPOSES, weight_of
from calm_relay.decision.compare import PlanRow, compare_plans
from calm_relay.decision.criteria import Valued, Weighed, purpose_scores, valued
from calm_relay.decision.words import LIFE_YEARS
from calm_relay.job.brief_models import Brief, Purpose
from calm_relay.job.models import Job
from calm_relay.units import count_words
from calm_relay.units import format_quantity as show

if TYPE_CHECKING:
    from calm_relay.decision.ranges import Ranges
    from calm_relay.decision.twenty import TwentyYears
    from calm_relay.study import PlanResult

COUNTED_AS: dict[Purpose, str] = {
    "lower_bills": "the bill", "own_use": "own use", "ride_through": "backup", "zero_export": "exporting nothing",
    "off_grid": "leaving the grid", "new_loads": "room for new loads", "simple": "simplicity",
}  # fmt: skip
EVEN = 1e-9


def weights_of(brief: Brief) -> dict[Purpose, float]:
    """Return each purpose's share of the weight, 1 in all; where the brief weighs nothing, bills, own use and backup alike."""
    raw = {purpose: float(weight_of(brief, purpose)) for purpose, _ in PURPOSES}
    if sum(raw.values()) <= 0:
        raw |= {"lower_bills": 1.0, "own_use": 1.0, "ride_through": 1.0}
    whole = sum(raw.values())
    return {purpose: weight / whole for purpose, weight in raw.items()}


@dataclass(frozen=True)
class Scored:
    """A plan's values, what it is worth under each purpose, and its score. [0 to 1]"""

    row: PlanRow
    values: tuple[Valued, ...]
    purposes: Mapping[Purpose, float]
    score: float

    @property
    def open(self) -> bool:
        """Whether it may lead."""
        return not self.row.gate


@dataclass(frozen=True)
class Turn:
    """A purpose's share of the weight at which another plan takes the lead, all other weights keeping their proportion. [0 to 1]"""

    purpose: Purpose
    share: float
    now: float
    letter: str

    @property
    def words(self) -> str:
        """The turning point as a clause."""
        way = "more" if self.share > self.now else "less"
        return f"{COUNTED_AS[self.purpose]} counts for {way} than {self.share * 100:.0f} % ({self.now * 100:.0f} % now)"


@dataclass(frozen=True)
class Verdict:
    """The order of the plans, best first, what turns it, and the reasons in sentences."""

    weights: Mapping[Purpose, float]
    plans: tuple[Scored, ...]
    leader: Scored | None
    turns: tuple[Turn, ...]
    because: tuple[str, ...]

    def as_dict(self) -> dict[str, Any]:
        """Return the verdict as plain data."""
        return {
            "weights": dict(self.weights),
            "leader": None if self.leader is None else self.leader.row.plan_id,
            "plans": [
                {
                    "plan": s.row.plan_id, "letter": s.row.letter, "score": s.score, "gate": s.row.gate,
                    "purposes": dict(s.purposes),
                    "criteria": [vars(v) for v in s.values],
                }
                for s in self.plans
            ],
            "turns": [{**vars(t), "words": t.words} for t in self.turns],
            "because": list(self.because),
        }  # fmt: skip


def score(purposes: Mapping[Purpose, float], weights: Mapping[Purpose, float]) -> float:
    """Return the weighted mean. [0 to 1]"""
    return sum(weights[purpose] * purposes.get(purpose, 0.0) for purpose in weights)


def with_share(weights: Mapping[Purpose, float], purpose: Purpose, share: float) -> dict[Purpose, float]:
    """Return the weights with one purpose's share set and the others in proportion; alike where they had none. [1 in all]"""
    rest = sum(w for p, w in weights.items() if p != purpose)
    others = len(weights) - 1
    return {p: share if p == purpose else (1.0 - share) * (w / rest if rest > 0 else 1.0 / others) for p, w in weights.items()}


def turning_points(plans: Sequence[Scored], weights: Mapping[Purpose, float]) -> tuple[Turn, ...]:
    """Return, for each purpose, the nearest share above and below its own at which another plan leads.

    Scores are straight lines in one purpose's share, so the crossings are exact.
    """
    able = [s for s in plans if s.open]
    if len(able) < 2:
        return ()
    lead = able[0]
    out: list[Turn] = []
    for purpose, now in weights.items():
        bare = with_share(weights, purpose, 0.0)

        def line(s: Scored, p: Purpose = purpose, rest: Mapping[Purpose, float] = bare) -> tuple[float, float]:
            return score(s.purposes, rest), s.purposes.get(p, 0.0)

        low, high = line(lead)
        found: list[tuple[float, str]] = []
        for other in able[1:]:
            rest, own = line(other)
            slope = (own - rest) - (high - low)
            if abs(slope) < EVEN:
                continue
            at = (low - rest) / slope
            if EVEN < at < 1.0 - EVEN:
                found.append((at, other.row.letter))
        above = min((row for row in found if row[0] > now + EVEN), default=None)
        below = max((row for row in found if row[0] < now - EVEN), default=None)
        out += [Turn(purpose, row[0], now, row[1]) for row in (above, below) if row is not None]
    return tuple(sorted(out, key=lambda turn: abs(turn.share - turn.now)))


@dataclass(frozen=True)
class Standing:
    """All that is known of the plans for one state of the job; ranges and twenty years come after the first year."""

    results: Mapping[str, PlanResult]
    twenty: Mapping[str, TwentyYears]
    ranges: Ranges | None
    rows: tuple[PlanRow, ...]
    verdict: Verdict
    fault: str = ""


def standing_of(
    job: Job, results: Mapping[str, PlanResult], twenty: Mapping[str, TwentyYears], ranges: Ranges | None, fault: str = ""
) -> Standing:
    """Return how the plans stand by what is known of them; `results` are in the job's order."""
    rows = compare_plans(job, [(job.plan(i), r.facts, r.bill, r.findings) for i, r in results.items()], twenty)
    verdict = choose(job, results, rows, twenty, ranges)
    return Standing(results=results, twenty=twenty, ranges=ranges, rows=rows, verdict=verdict, fault=fault)


def choose(
    job: Job,
    results: Mapping[str, PlanResult],
    rows: Sequence[PlanRow],
    twenty: Mapping[str, TwentyYears],
    ranges: Ranges | None = None,
    weights: Mapping[Purpose, float] | None = None,
) -> Verdict:
    """Return the plans by the brief's weights, or by others that are handed in; today's system takes part."""
    used = dict(weights or weights_of(job.brief))
    today = rows[0]
    scored = []
    for row in rows:
        plan = job.plan(row.plan_id)
        values = valued(Weighed(job=job, plan=plan, row=row, today=today, result=results[row.plan_id]))
        purposes = purpose_scores(values)
        scored.append(Scored(row, values, purposes, score(purposes, used)))
    first = {row.plan_id: i for i, row in enumerate(rows)}
    order = tuple(sorted(scored, key=lambda s: (not s.open, -s.score, first[s.row.plan_id])))
    leader = order[0] if order and order[0].open else None
    turns = turning_points(order, used)
    because = tuple(_because(job, order, leader, turns, used, twenty, ranges))
    return Verdict(used, order, leader, turns, because)


def _because(
    job: Job, order: Sequence[Scored], leader: Scored | None, turns: Sequence[Turn], weights: Mapping[Purpose, float],
    twenty: Mapping[str, TwentyYears], ranges: Ranges | None,
) -> list[str]:  # fmt: skip
    if len(order) < 2:
        return ["There is nothing to compare yet."]
    out: list[str] = []
    if leader is None:
        out.append("No plan has an open gate, so none is recommended.")
    else:
        out.append(_lead_words(leader, [s for s in order if s.open], weights))
        against = _against(leader, [s for s in order if s.open], weights)
        if against:
            out.append(f"Against {leader.row.letter}: {against}.")
        if turns:
            parts = [f"{t.words}; then {t.letter}" for t in turns[:2]]
            out.append(f"{leader.row.letter} leads unless {', or '.join(parts)}.")
        elif len([s for s in order if s.open]) > 1 and not _level(order):
            out.append(f"No weight by itself turns the order: {leader.row.letter} leads whatever counts.")
    out += money_words(job, [s.row for s in order], twenty, ranges)
    out += [
        f"{s.row.letter} is not to be recommended as it stands: {s.row.gate}."
        for s in order
        if not s.open and s.row.plan_id != job.plans[0].id
    ]
    return out


def _level(order: Sequence[Scored]) -> bool:
    """Return whether the two best plans that may lead stand level."""
    able = [s for s in order if s.open]
    return len(able) > 1 and abs(able[0].score - able[1].score) < EVEN


def _lead_words(leader: Scored, able: Sequence[Scored], weights: Mapping[Purpose, float]) -> str:
    others = [s for s in able if s is not leader]
    if not others:
        return f"{leader.row.letter} is the only plan with an open gate."
    best = max(others, key=lambda s: s.score)
    if _level(able):
        return f"{leader.row.letter} and {best.row.letter} stand level by the weights of the brief."
    gains = sorted(((weights[p] * (leader.purposes.get(p, 0.0) - best.purposes.get(p, 0.0)), p) for p in weights), reverse=True)
    for_it = [COUNTED_AS[p] for gain, p in gains[:2] if gain > 0.005]
    why = f", for {' and '.join(for_it)}" if for_it else ""
    points = f"{leader.score * 100:.0f} of 100 points against {best.score * 100:.0f}"
    return f"{leader.row.letter} leads {best.row.letter} by the weights of the brief{why}: {points}."


def _against(leader: Scored, able: Sequence[Scored], weights: Mapping[Purpose, float]) -> str:
    """Return the strongest point against a plan: where, by the weights, another plan is furthest ahead of it."""
    shares: dict[Purpose, int] = {}
    for value in leader.values:
        if value.value is not None:
            shares[value.purpose] = shares.get(value.purpose, 0) + 1
    worst: tuple[float, str] = (0.005, "")
    for other in able:
        if other is leader:
            continue
        for mine, theirs in zip(leader.values, other.values, strict=True):
            if mine.value is None or theirs.value is None or (mine.criterion == "cost" and theirs.figure == 0):
                continue  # that doing nothing costs nothing is no news
            behind = weights[mine.purpose] * (theirs.value - mine.value) / max(1, shares.get(mine.purpose, 1))
            if behind > worst[0]:
                name = mine.words[:1].lower() + mine.words[1:]
                worst = behind, f"{name} {mine.text}, where {other.row.letter} has {theirs.text}"
    return worst[1]


def money_words(job: Job, rows: Sequence[PlanRow], twenty: Mapping[str, TwentyYears], ranges: Ranges | None) -> list[str]:
    """Return what the money says: what pays back, within which warranty, what would turn the order, how often each plan leads."""
    out: list[str] = []
    today = job.plans[0].id
    currency = job.tariff.currency
    others = [row for row in rows if row.plan_id != today and not row.gate]
    whole = [row for row in others if row.cost is not None and not row.cost_at_least]
    if not others or not twenty:
        return out
    if all(job.plan(row.plan_id).off_grid for row in rows):
        return ["Nothing is bought from a grid here, and fuel is not counted, so nothing is said of what pays."]
    paying = sorted((r for r in whole if r.payback_years is not None), key=lambda r: r.payback_years or 0.0)
    within = [r for r in paying if r.warranty_years is not None and (r.payback_years or 0.0) <= r.warranty_years]
    if whole and not paying:
        out.append(f"Nothing pays back within {LIFE_YEARS} years: in money alone, leaving things as they are costs least.")
    elif paying:
        first = paying[0]
        words = f"{first.letter} pays back soonest, after {show(first.payback_years or 0.0, 'years')}"
        if first.npv is not None:
            words += f", and is worth {currency} {show(first.npv, 'money')} today over {LIFE_YEARS} years"
        out.append(f"{words}.")
        if not within:
            known = [r for r in paying if r.warranty_years is not None]
            out.append(
                "Nothing pays back within its warranty."
                if len(known) == len(paying)
                else "Nothing pays back within a warranty that is known."
            )
    lacking = [r.letter for r in others if r not in whole]
    if lacking:
        out.append(f"Without a full price, so left out of what pays: {', '.join(sorted(lacking))}.")
    out += _money_turns(job, rows, twenty)
    if ranges is not None and ranges.plans:
        leads = sorted((r for r in ranges.plans if r.leads), key=lambda r: -r.leads)
        letters = {row.plan_id: row.letter for row in rows}
        said = ", ".join(f"{letters[r.plan_id]} in {r.leads}" for r in leads if r.plan_id in letters)
        if said:
            out.append(f"In money, of {count_words(leads[0].cases, 'case')} of sun, load and prices: {said} the best.")
    return out


def _money_turns(job: Job, rows: Sequence[PlanRow], twenty: Mapping[str, TwentyYears]) -> list[str]:
    """Return what would have to be true of prices or cost for the best plan in money to be another."""
    rate = job.finance.discount_frac
    able = {row.plan_id: row for row in rows if not row.gate or row.plan_id == job.plans[0].id}
    found: dict[str, tuple[float, float]] = {}
    for plan_id in able:
        years = twenty.get(plan_id)
        if years is None or years.first_cost is None or years.at_least:
            continue
        saved = sum(row.saving / (1.0 + rate) ** row.year for row in years.years)
        found[plan_id] = (years.worth.npv if years.worth else 0.0, saved)
    if len(found) < 2:
        return []
    best = max(found, key=lambda plan_id: found[plan_id][0])
    npv, saved = found[best]
    turns = []
    for plan_id, (other, its) in found.items():
        if plan_id == best or abs(its - saved) < 1e-6:
            continue
        factor = 1.0 + (npv - other) / (its - saved)
        if 0.0 < factor <= 5.0:
            turns.append((abs(factor - 1.0), factor, plan_id))
    if not turns:
        return []
    _, factor, plan_id = min(turns)
    more = "more" if factor > 1 else "less"
    less = show(npv - found[plan_id][0], "money")
    letter, first = able[plan_id].letter, able[best].letter
    currency = job.tariff.currency
    dearer = f"{first} cost {currency} {less} more" if plan_id == job.plans[0].id else f"{letter} cost {currency} {less} less"
    return [
        f"In money {letter} would pass {first} if every bill were {abs(factor - 1.0) * 100:.0f} % {more} in all years, "
        f"or if {dearer}."
    ]
