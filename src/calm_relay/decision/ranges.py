"""Ranges instead of one figure: other years of weather, another house, other prices, the same for every plan in each case.

Each case draws the sun of its year (a normal spread, stratified), the house's load and the growth of import prices (even spreads,
stratified), all by one seed. Up to five years of weather are made: the job's own with other clouds. What a case changes is
simulated at the coarser step and added to the first year's figures.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from statistics import NormalDist
from typing import Any

import numpy as np
from numpy.typing import NDArray

from calm_relay.decision.compare import gate_reason
from calm_relay.decision.twenty import COARSE_S, YEARS, TwentyYears
from calm_relay.errors import Cancelled
from calm_relay.job.models import Job, Plan
from calm_relay.money.cash import net_present_value, payback
from calm_relay.study import PlanResult, Study
from calm_relay.tariff.bill import Bill
from calm_relay.tariff.growth import yearly_totals

WEATHER_YEARS = 5
QUANTILES = (0.1, 0.5, 0.9)
Cancel = Callable[[], bool]


def _never() -> bool:
    return False


@dataclass(frozen=True)
class Case:
    """One case: its year of weather (0: the job's own), how many times the sun and the load, and growth added. [1/year]"""

    weather: int
    sun: float
    load: float
    growth: float


def drawn_cases(job: Job) -> tuple[Case, ...]:
    """Return the job's cases; the same seed gives the same ones."""
    finance = job.finance
    n = finance.cases
    rng = np.random.default_rng(finance.seed)
    years = min(WEATHER_YEARS, n) if finance.sun_spread_frac > 0 else 1
    spread = [NormalDist().inv_cdf((i + 0.5) / years) for i in range(years)]
    scale = (sum(z * z for z in spread) / years) ** 0.5 if years > 1 else 1.0  # so few strata lack the tails
    suns = [1.0 + finance.sun_spread_frac * z / scale for z in spread]
    even = (2.0 * (np.arange(n) + 0.5) / n - 1.0).tolist()
    loads, growths = rng.permutation(even), rng.permutation(even)
    return tuple(
        Case(
            weather=i % years + 1 if years > 1 else 0,
            sun=max(0.1, suns[i % years]) if years > 1 else 1.0,
            load=1.0 + finance.load_spread_frac * float(loads[i]),
            growth=finance.growth_spread_frac * float(growths[i]),
        )
        for i in range(n)
    )


@dataclass(frozen=True)
class Spread:
    """The 10th, 50th and 90th percentile; None where that case never comes, as a payback that is never reached."""

    p10: float | None
    p50: float | None
    p90: float | None


def spread_of(values: Sequence[float | None]) -> Spread:
    """Return the percentiles of values, straight between ranks; None counts as beyond all others."""
    rows = sorted(float("inf") if value is None else value for value in values)
    out: list[float | None] = []
    for q in QUANTILES:
        at = q * (len(rows) - 1)
        low, high = rows[int(at)], rows[min(int(at) + 1, len(rows) - 1)]
        value = low if at == int(at) else low + (at - int(at)) * (high - low) if np.isfinite(high) else float("inf")
        out.append(value if np.isfinite(value) else None)
    return Spread(*out)


@dataclass(frozen=True)
class PlanRange:
    """A plan's spread of the first year's saving, of what twenty years are worth and of payback, and how often it leads in money
    among plans with an open gate and today's system."""

    plan_id: str
    saving: Spread
    npv: Spread | None
    payback_years: Spread | None
    leads: int
    cases: int

    def as_dict(self) -> dict[str, Any]:
        """Return the range as plain data."""
        rows = {"saving": self.saving, "npv": self.npv, "payback_years": self.payback_years}
        spreads = {name: None if row is None else dict(vars(row)) for name, row in rows.items()}
        return {"plan": self.plan_id, **spreads, "leads": self.leads, "cases": self.cases}


@dataclass(frozen=True)
class Ranges:
    """All plans' spreads over the cases run so far, and the cases."""

    plans: tuple[PlanRange, ...]
    cases: tuple[Case, ...]
    of: int

    def of_plan(self, plan_id: str) -> PlanRange | None:
        """Return a plan's spread; None where it has none."""
        return next((row for row in self.plans if row.plan_id == plan_id), None)


def _job_of(job: Job, number: int) -> Job:
    """Return the job in another year of weather: the same means, other clouds."""
    if number == 0:
        return job
    weather = job.site.weather
    seed = (weather.seed + 7919 * number) % 2**31
    return job.model_copy(update={"site": job.site.model_copy(update={"weather": weather.model_copy(update={"seed": seed})})})


class _Runs:
    """Savings of each plan in each case, simulated as they are asked for."""

    def __init__(self, coarse: Study, job: Job, twenty: Sequence[TwentyYears], results: Sequence[tuple[Plan, PlanResult]]) -> None:
        self._coarse, self.job, self.results = coarse, job, results
        self.twenty = {row.plan_id: row for row in twenty}
        self.calm = {plan.id: coarse.bill(job, plan) for plan, _ in results}

    def bills(self, case: Case, cancelled: Cancel) -> dict[str, Bill]:
        """Return every plan's bill in a case, at the coarser step."""
        job = _job_of(self.job, case.weather)
        plain = case.sun == 1.0 and case.load == 1.0
        out = {}
        for plan, _ in self.results:
            if cancelled():
                raise Cancelled("the cases were stopped")
            made = self._coarse.bill(job, plan) if plain else self._coarse.case_bill(job, plan, case.sun, case.load, cancelled)
            out[plan.id] = made
        return out

    def totals(self, case: Case, bills: dict[str, Bill]) -> dict[str, NDArray[np.float64]]:
        """Return what each plan's years cost in a case: the first year's bill, what the case changes, ageing. (20,) each [money]"""
        growth = self.job.tariff.import_growth_frac + case.growth
        tariff = self.job.tariff.model_copy(update={"import_growth_frac": growth})
        out = {}
        for plan, result in self.results:
            fine, base, here = (
                np.array(yearly_totals(bill, tariff, YEARS)) for bill in (result.bill, self.calm[plan.id], bills[plan.id])
            )
            out[plan.id] = fine + here - base + np.array([row.aged for row in self.twenty[plan.id].years])
        return out


def ranges(
    study: Study,
    job: Job,
    results: Sequence[tuple[Plan, PlanResult]],
    twenty: Sequence[TwentyYears],
    *,
    coarse: Study | None = None,
    cancelled: Cancel = _never,
    told: Callable[[int, int], None] = lambda _done, _all: None,
) -> Ranges:
    """Return the spread of every plan's money over the job's cases.

    Raises
    ------
    Cancelled
        When `cancelled` said so.
    """
    pack, today = job.rules(), results[0][0].id
    able = {plan.id for plan, result in results if plan.id == today or not gate_reason(result.findings, pack)}
    runs = _Runs(coarse or study.at_step(COARSE_S), job, twenty, results)
    cases = drawn_cases(job)
    by_plan: dict[str, list[tuple[float, float | None, float | None]]] = {plan.id: [] for plan, _ in results}
    leads: Counter[str] = Counter()
    done = 0
    with ThreadPoolExecutor(max_workers=2) as pool:  # the kernel and NumPy let go of the interpreter
        for case, bills in zip(cases, pool.map(lambda case: runs.bills(case, cancelled), cases), strict=True):
            if cancelled():
                raise Cancelled("the cases were stopped")
            worth: dict[str, float] = {}
            totals = runs.totals(case, bills)
            for plan, _ in results:
                savings = totals[results[0][0].id] - totals[plan.id]
                flows = _flows(runs.twenty[plan.id], savings)
                npv = None if flows is None else net_present_value(job.finance.discount_frac, flows)
                by_plan[plan.id].append((float(savings[0]), npv, None if flows is None else payback(flows)))
                if npv is not None and plan.id in able:
                    worth[plan.id] = npv
            if worth:
                leads[max(worth, key=lambda plan_id: (worth[plan_id], plan_id == today))] += 1
            done += 1
            told(done, len(cases))
    rows = tuple(_range(plan.id, by_plan[plan.id], leads[plan.id], is_today=plan is results[0][0]) for plan, _ in results)
    return Ranges(rows, cases, len(cases))


def _flows(years: TwentyYears, savings: NDArray[np.float64]) -> tuple[float, ...] | None:
    """Return the cash of a case: the plan's own, with other savings."""
    if years.first_cost is None:
        return None
    rest = [row.cash - row.saving for row in years.years]
    return (-years.first_cost, *(float(saving) + other for saving, other in zip(savings, rest, strict=True)))


def _range(plan_id: str, rows: Sequence[tuple[float, float | None, float | None]], leads: int, *, is_today: bool) -> PlanRange:
    known = all(npv is not None for _, npv, _ in rows)
    return PlanRange(
        plan_id=plan_id,
        saving=spread_of([saving for saving, _, _ in rows]),
        npv=spread_of([npv for _, npv, _ in rows]) if known else None,
        payback_years=spread_of([years for _, _, years in rows]) if known and not is_today else None,
        leads=leads,
        cases=len(rows),
    )
