"""Twenty years of a plan against today's system: batteries and modules age, prices grow, loads come; and what that is worth.

The first year is the one simulated in full. Later ones are simulated at a coarser step where something changes, and only the
difference to the first year at that step is taken from them; between two simulated years the bill goes in a straight line.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

from calm_relay.job.cost_models import MOST_LATER_YEARS
from calm_relay.job.models import Job, Plan
from calm_relay.money.cash import Worth, worth_of
from calm_relay.money.costing import PlanCosts, plan_costs
from calm_relay.money.wear import Wear, wear_of
from calm_relay.plant.resolve import plant_of
from calm_relay.study import PlanResult, Study
from calm_relay.tariff.bill import Bill
from calm_relay.tariff.growth import yearly_totals
from calm_relay.year.ageing import BatteryAgeing, battery_ageing

YEARS = MOST_LATER_YEARS
LOOKED_AT = (1, 10, 20)  # years simulated at least
COARSE_S = 900
Cancel = Callable[[], bool]


def _never() -> bool:
    return False


@dataclass(frozen=True)
class PlanYear:
    """One year of a plan beside today's system, money at the year's end. [money]

    `aged` is how far the plan's bill lies above what it would be if nothing aged and no load came.
    """

    year: int
    calendar_year: int
    today_bill: float
    bill: float
    saving: float
    upkeep: float
    replaced: float
    later: float
    resilience: float
    cash: float
    running: float
    aged: float

    def as_dict(self) -> dict[str, Any]:
        """Return the year as plain data."""
        return dict(vars(self))


@dataclass(frozen=True)
class TwentyYears:
    """A plan's twenty years. `worth` is None while its cost is not known; `at_least` while a line of it has no price."""

    plan_id: str
    costs: PlanCosts
    first_cost: float | None
    years: tuple[PlanYear, ...]
    worth: Worth | None
    at_least: bool
    ageing: tuple[BatteryAgeing, ...]
    replaced: tuple[tuple[int, str, float], ...]
    wear: Wear | None
    co2_kg_per_year: float | None
    simulated: tuple[int, ...]
    is_today: bool = False
    notes: tuple[str, ...] = ()

    @property
    def flows(self) -> tuple[float, ...]:
        """Cash from time 0 on, against today's system; empty while the cost is not known. (21,) [money]"""
        return () if self.first_cost is None else (-self.first_cost, *(row.cash for row in self.years))

    def as_dict(self) -> dict[str, Any]:
        """Return the years as plain data."""
        return {
            "plan": self.plan_id, "costs": self.costs.as_dict(), "cost_above_today": self.first_cost,
            "years": [row.as_dict() for row in self.years],
            "npv": None if self.worth is None else self.worth.npv,
            "irr_frac": None if self.worth is None else self.worth.irr_frac,
            "payback_years": None if self.worth is None else self.worth.payback_years,
            "discounted_payback_years": None if self.worth is None else self.worth.discounted_payback_years,
            "cost_without_a_price": self.at_least,
            "batteries": [row.as_dict() for row in self.ageing],
            "replaced": [{"year": year, "what": what, "cost": cost} for year, what, cost in self.replaced],
            "wear_per_kwh": None if self.wear is None else self.wear.per_kwh,
            "cost_per_kwh_cycled": None if self.wear is None else self.wear.all_per_kwh,
            "co2_kg_per_year": self.co2_kg_per_year, "simulated_years": list(self.simulated), "notes": list(self.notes),
        }  # fmt: skip


@dataclass(frozen=True)
class _Later:
    """How a plan stands in later years: batteries as old as they are, and when each is replaced."""

    plan: Plan
    ageing: tuple[BatteryAgeing, ...]
    replaced_after: dict[str, tuple[int, ...]] = field(default_factory=dict)

    def health(self, row: BatteryAgeing, year: int) -> float | None:
        """Return the capacity that a year begins with; of a new battery from the year it was replaced. [0 to 1]"""
        if row.ageing is None:
            return None
        before = [end for end in self.replaced_after.get(row.node, ()) if end < year]
        if not before:
            return row.ageing.capacity_at(year)
        return min(1.0, row.ageing.capacity_at(year - before[-1]) / row.ageing.begins_frac)

    def at(self, year: int) -> Plan:
        """Return the plan as it stands when a year begins, modules aged as well."""
        if year == 1:
            return self.plan
        by_node = {row.node: self.health(row, year) for row in self.ageing}
        nodes = []
        for node in self.plan.nodes:
            strings = tuple(g.model_copy(update={"age_years": min(50.0, g.age_years + year - 1)}) for g in node.strings)
            update: dict[str, Any] = {"strings": strings}
            health = by_node.get(node.id)
            if node.battery is not None and health is not None:
                update["battery"] = node.battery.model_copy(update={"state_of_health_frac": max(0.01, health)})
            nodes.append(node.model_copy(update=update))
        return self.plan.model_copy(update={"nodes": tuple(nodes)})

    def turns(self) -> set[int]:
        """Return the years that begin with a new battery."""
        return {end + 1 for ends in self.replaced_after.values() for end in ends if end < YEARS}


def _later_of(job: Job, plan: Plan, ageing: tuple[BatteryAgeing, ...]) -> _Later:
    if not job.finance.replace_batteries:
        return _Later(plan, ageing)
    ends: dict[str, tuple[int, ...]] = {}
    for row in ageing:
        end, found = job.finance.battery_end_frac, []
        first, life = row.ends_in_year(end), row.ends_in_year(end, new=True)
        at = first
        while at is not None and at < YEARS:
            found.append(at)
            at = None if life is None else at + life
        ends[row.node] = tuple(found)
    return _Later(plan, ageing, ends)


def _house_years(job: Job) -> tuple[int, ...]:
    """Return the years, 1 to 20, in which a load to come is there for the first time."""
    first = job.finance.first_year or job.calendar_year
    return tuple(sorted({year for a in job.house.later if a.from_year and 1 < (year := a.from_year - first + 1) <= YEARS}))


def _job_in(job: Job, year: int) -> Job:
    """Return the job with the house of a year: loads that have come by then are counted."""
    if not job.house.later:
        return job
    calendar_year = (job.finance.first_year or job.calendar_year) + year - 1
    shown = max(calendar_year, job.house.shown_year or 0) if job.house.shown_year or year > 1 else calendar_year
    return job.model_copy(update={"house": job.house.model_copy(update={"shown_year": shown})})


class Bills:
    """A plan's bills by year, simulated at a coarser step where something changes."""

    def __init__(self, coarse: Study, job: Job, later: _Later, fine: Bill, cancelled: Cancel = _never) -> None:
        self._coarse, self._job, self._later, self._cancelled = coarse, job, later, cancelled
        turns = {y for first in (*_house_years(job), *later.turns()) for y in (first - 1, first)}
        self.looked_at = tuple(sorted({y for y in {*LOOKED_AT, *turns} if 1 <= y <= YEARS}))
        self._fine = yearly_totals(fine, job.tariff, YEARS)
        self._base = yearly_totals(coarse.bill(job, later.plan, cancelled=cancelled), job.tariff, YEARS)
        self._found: dict[int, tuple[float, ...]] = {}

    def _totals(self, year: int) -> tuple[float, ...]:
        """Return what the plan as it stands in a year would cost in each of the twenty. (20,) [money]"""
        if year not in self._found:
            bill = self._coarse.bill(_job_in(self._job, year), self._later.at(year), cancelled=self._cancelled)
            self._found[year] = yearly_totals(bill, self._job.tariff, YEARS)
        return self._found[year]

    def aged(self, year: int) -> float:
        """Return how far a year's bill lies above that of a plan which does not age, in that year's prices. [money]"""

        def at(seen: int) -> float:
            return self._totals(seen)[year - 1] - self._base[year - 1]

        after = next(y for y in self.looked_at if y >= year)
        if after == year:
            return at(year)
        before = max(y for y in self.looked_at if y < year)
        share = (year - before) / (after - before)
        return (1.0 - share) * at(before) + share * at(after)

    def total(self, year: int) -> float:
        """Return a year's bill. [money]"""
        return self._fine[year - 1] + self.aged(year)


def _replacements(job: Job, later: _Later, costs: PlanCosts) -> dict[int, list[tuple[str, float | None]]]:
    """Return what is replaced at the end of each year, and what it costs then; None where no price is known. [money]"""
    out: dict[int, list[tuple[str, float | None]]] = {}
    rows = {row.node: row for row in later.ageing}
    priced = costs.of_kind("battery")
    whole = sum(row.usable_new_wh for row in later.ageing)
    for node, ends in later.replaced_after.items():
        for end in ends:
            share = rows[node].usable_new_wh / whole if whole > 0 else 0.0
            known = priced > 0 and costs.usable_wh > 0
            each = priced / costs.usable_wh * whole * share if known else 0.0
            price = each * (1.0 + job.finance.battery_price_change_frac) ** end if known else None
            out.setdefault(end, []).append((rows[node].name, price))
    life = job.finance.inverter_life_years
    inverters = costs.of_kind("inverter")
    if life is not None and inverters > 0:
        for end in range(life, YEARS, life):
            out.setdefault(end, []).append(("inverters that the plan adds", inverters))
    return out


def twenty_years(
    study: Study,
    job: Job,
    results: Sequence[tuple[Plan, PlanResult]],
    *,
    coarse: Study | None = None,
    cancelled: Cancel = _never,
    told: Callable[[TwentyYears], None] = lambda _: None,
) -> tuple[TwentyYears, ...]:
    """Return twenty years of every plan against the first, which is today's system; each is `told` as it comes.

    Raises
    ------
    Cancelled
        When `cancelled` said so.
    """
    coarse = coarse or study.at_step(COARSE_S)
    today, today_result = results[0]
    before = _later_of(job, today, battery_ageing(plant_of(job, today), job.rules(), today_result.facts))
    today_bills = Bills(coarse, job, before, today_result.bill, cancelled)
    today_costs = plan_costs(job, today)
    out = []
    for plan, result in results:
        made = _one(coarse, job, (plan, result), (today_result, before, today_bills, today_costs), cancelled)
        told(made)
        out.append(made)
    return tuple(out)


def _one(
    coarse: Study, job: Job, this: tuple[Plan, PlanResult],
    today: tuple[PlanResult, _Later, Bills, PlanCosts], cancelled: Cancel,
) -> TwentyYears:  # fmt: skip
    (plan, result), finance = this, job.finance
    today_result, before, today_bills, today_costs = today
    is_today = plan.id == before.plan.id
    ageing = before.ageing if is_today else battery_ageing(plant_of(job, plan), job.rules(), result.facts)
    later = before if is_today else _later_of(job, plan, ageing)
    bills = today_bills if is_today else Bills(coarse, job, later, result.bill, cancelled)
    costs = today_costs if is_today else plan_costs(job, plan)
    new, old = _replacements(job, later, costs), _replacements(job, before, today_costs)
    lit = plan.has_backup_side and not before.plan.has_backup_side
    first = None if costs.total is None else costs.total - (today_costs.total or 0.0)
    running, years = -(first or 0.0), []
    for year in range(1, YEARS + 1):
        was, now = today_bills.total(year), bills.total(year)
        upkeep = 0.0 if is_today else finance.upkeep_per_year
        replaced = 0.0 if is_today else sum(c or 0.0 for _, c in new.get(year, [])) - sum(c or 0.0 for _, c in old.get(year, []))
        more = costs.later.get(year, 0.0) - today_costs.later.get(year, 0.0)
        resilience = finance.resilience_per_year if lit else 0.0
        cash = was - now - upkeep - replaced - more + resilience
        running += cash
        years.append(
            PlanYear(
                year=year, calendar_year=(finance.first_year or job.calendar_year) + year - 1, today_bill=was, bill=now,
                saving=was - now, upkeep=upkeep, replaced=replaced, later=more, resilience=resilience, cash=cash, running=running,
                aged=bills.aged(year),
            )
        )  # fmt: skip
    notes = [f"how {row.name} ages is not known, so it stays as it is" for row in ageing if row.ageing is None]
    unpriced = [(year, name) for year, rows in new.items() for name, cost in rows if cost is None]
    notes += [f"{name} is replaced after {year} years, and nobody priced that" for year, name in unpriced]
    as_today = sum(cost is None for rows in old.values() for _, cost in rows)
    factor = finance.co2_kg_per_kwh
    co2 = None
    if factor is not None:
        co2 = (today_result.facts.system_wh["import_w"] - result.facts.system_wh["import_w"]) / 1000.0 * factor
    made = TwentyYears(
        plan_id=plan.id, costs=costs, first_cost=first, years=tuple(years), worth=None,
        at_least=bool(costs.missing) or len(unpriced) > as_today, ageing=ageing,
        replaced=tuple((year, name, c or 0.0) for year, rows in sorted(new.items()) for name, c in rows),
        wear=wear_of(job, plan, result.facts, ageing), co2_kg_per_year=co2, simulated=bills.looked_at, is_today=is_today,
        notes=tuple(notes),
    )  # fmt: skip
    if first is None or is_today:
        return made
    return TwentyYears(**{**vars(made), "worth": worth_of(made.flows, finance.discount_frac)})
