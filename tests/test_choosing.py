"""Twenty years whose parts add up, ranges that keep their seed, and turning points that turn."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime

import numpy as np
import numpy_financial as npf
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from calm_relay.decision.choosing import Scored, choose, score, turning_points, weights_of, with_share
from calm_relay.decision.chosen import with_choice
from calm_relay.decision.compare import compare_plans
from calm_relay.decision.ranges import drawn_cases, ranges, spread_of
from calm_relay.decision.twenty import twenty_years
from calm_relay.errors import BadInput
from calm_relay.job.brief_models import Brief
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.money.costing import plan_costs
from calm_relay.study import Study
from calm_relay.tariff.growth import bill_in_year, yearly_totals

PURPOSES = tuple(weights_of(Brief()))


@pytest.fixture(scope="module")
def quarter() -> Study:
    return Study(step_s=900)


def results_of(study, job, *letters):
    return [(p, study.plan_result(job, p)) for p in job.plans if not letters or p.letter in letters]


def years_of(study, job, *letters):
    return {y.plan_id: y for y in twenty_years(study, job, results_of(study, job, *letters), coarse=study)}


# --- twenty years
def test_the_years_by_another_way(demo, quarter):
    """Year 10 simulated by itself: modules nine years older, the battery as old as it is; the flows by numpy-financial."""
    job = apply_edits(demo, [Edit("tariff.import_growth_frac", 0.03), Edit("tariff.export_growth_frac", -0.02)])
    found = years_of(quarter, job, "Today", "A")
    years = found["ac-add-on"]
    plan = job.plan("A")
    nodes = []
    for node in plan.nodes:
        strings = tuple(g.model_copy(update={"age_years": g.age_years + 9}) for g in node.strings)
        battery = node.battery
        if battery is not None:
            health = years.ageing[0].ageing.years[8].capacity_frac
            battery = battery.model_copy(update={"state_of_health_frac": health})
        nodes.append(node.model_copy(update={"strings": strings, "battery": battery}))
    older = quarter.bill(job, plan.model_copy(update={"nodes": tuple(nodes)}))
    assert years.years[9].bill == pytest.approx(bill_in_year(older, job.tariff, 10).total, rel=1e-9)
    assert years.years[0].bill == pytest.approx(quarter.bill(job, plan).total, rel=1e-9)
    first, tenth, twentieth = (years.years[i] for i in (0, 9, 19))
    assert first.aged == pytest.approx(0.0, abs=1e-9)
    assert tenth.aged > 0
    flows = [-plan_costs(job, plan).total, *(row.cash for row in years.years)]
    assert years.worth.npv == pytest.approx(npf.npv(job.finance.discount_frac, flows), rel=1e-9)
    assert twentieth.running == pytest.approx(sum(flows))
    for row in years.years:
        assert row.cash == pytest.approx(row.today_bill - row.bill - row.upkeep - row.replaced - row.later + row.resilience)


def test_upkeep_resilience_and_a_later_visit_by_hand(demo, quarter):
    edits = [Edit("finance.upkeep_per_year", 0.0), Edit("finance.discount_frac", 0.05)]
    plain = apply_edits(demo, edits)
    before = years_of(quarter, plain, "Today", "A", "D")
    visit = {"text": "Second visit", "amount": 900.0, "kind": "visit", "after_years": 3}
    more = apply_edits(
        plain,
        [
            Edit("finance.upkeep_per_year", 100.0),
            Edit("finance.resilience_per_year", 250.0),
            Edit("plans[ac-add-on].costs[+]", visit),
        ],
    )
    after = years_of(quarter, more, "Today", "A", "D")
    annuity = (1 - 1.05**-20) / 0.05
    gain = after["ac-add-on"].worth.npv - before["ac-add-on"].worth.npv
    assert gain == pytest.approx((250 - 100) * annuity - 900 / 1.05**3)
    assert after["array-only"].worth.npv - before["array-only"].worth.npv == pytest.approx(-100 * annuity), "nothing stays lit in D"
    assert all(row.cash == 0 for row in after["today"].years)


def test_a_battery_is_replaced_when_it_ends_and_begins_anew(demo, quarter):
    found = years_of(quarter, demo, "Today", "A")["ac-add-on"]
    ((year, _, cost),) = found.replaced
    ageing = found.ageing[0].ageing
    assert ageing.years[year - 1].capacity_frac < demo.finance.battery_end_frac <= ageing.years[year - 2].capacity_frac
    assert cost == pytest.approx(3 * 1630 * 0.97**year)
    assert found.years[year - 1].replaced == pytest.approx(cost)
    assert found.years[year].saving > found.years[year - 1].saving + 20, "a new battery saves more than a tired one"
    kept = years_of(quarter, apply_edits(demo, [Edit("finance.replace_batteries", value=False)]), "Today", "A")["ac-add-on"]
    assert kept.replaced == ()
    assert kept.years[19].saving < found.years[19].saving


def test_a_load_to_come_is_counted_from_its_year(demo, quarter):
    load = demo.house.appliances[-1].model_dump() | {
        "id": "car",
        "name": "Car",
        "running_w": 3000.0,
        "run_h": 2.0,
        "from_year": 2029,
    }
    load |= {"in_metered": False, "never_from_battery": False}
    job = apply_edits(demo, [Edit("house.appliances[+]", load)])
    years = years_of(quarter, job, "Today", "B")["hybrid-swap"].years
    bills = [row.today_bill for row in years]
    assert bills[4] - bills[3] > 200, "it comes in the fifth year"
    assert abs(bills[3] - bills[2]) < 20
    assert abs(bills[5] - bills[4]) < 20
    assert years[0].today_bill == pytest.approx(quarter.bill(demo, demo.plans[0]).total)


def test_cost_not_known_leaves_worth_unsaid_and_a_missing_price_makes_it_a_bound(demo, quarter):
    none = apply_edits(demo, [Edit("plans[array-only].costs", []), Edit("plans[array-only].costs_for", {})])
    assert years_of(quarter, none, "Today", "D")["array-only"].worth is None
    some = apply_edits(demo, [Edit("plans[array-only].costs[1].amount", None)])
    found = years_of(quarter, some, "Today", "D")["array-only"]
    assert found.at_least
    row = compare_plans(some, [(p, r.facts, r.bill, r.findings) for p, r in results_of(quarter, some)], {"array-only": found})[-1]
    assert row.cost_at_least
    assert "Scaffold" in row.cost_note


@settings(max_examples=40, deadline=None, derandomize=True)
@given(st.floats(-0.1, 0.2), st.floats(-0.1, 0.1), st.floats(0, 0.25), st.booleans(), st.floats(0, 150))
def test_all_years_at_once_are_each_year_by_itself(demo, quarter, up, given_up, tax, on_export, least):
    change = {"import_growth_frac": up, "export_growth_frac": given_up, "tax_frac": tax, "tax_on_export": on_export}
    job = demo.model_copy(update={"tariff": demo.tariff.model_copy(update=change | {"minimum_per_month": least})})
    bill = quarter.bill(job, job.plan("C"))
    assert yearly_totals(bill, job.tariff, 20) == pytest.approx([bill_in_year(bill, job.tariff, y).total for y in range(1, 21)])


# --- ranges
def with_finance(job, **more):
    return job.model_copy(update={"finance": job.finance.model_copy(update=more)})


def spreads(study, job, *letters):
    results = results_of(study, job, *letters)
    return ranges(study, job, results, twenty_years(study, job, results, coarse=study), coarse=study)


def test_cases_keep_their_seed_and_their_spread(demo):
    cases = drawn_cases(demo)
    assert cases == drawn_cases(demo)
    assert cases != drawn_cases(with_finance(demo, seed=2))
    suns = [case.sun for case in cases]
    assert np.mean(suns) == pytest.approx(1.0)
    assert np.std(suns) == pytest.approx(demo.finance.sun_spread_frac)
    assert np.mean([case.load for case in cases]) == pytest.approx(1.0)
    assert max(case.load for case in cases) <= 1.1
    assert np.mean([case.growth for case in cases]) == pytest.approx(0.0, abs=1e-12)
    assert len({case.weather for case in cases}) == 5
    assert len(drawn_cases(with_finance(demo, cases=40))) == 40


def test_percentiles_by_hand():
    found = spread_of([5.0, 1.0, 3.0, 2.0, 4.0])
    assert (found.p10, found.p50, found.p90) == pytest.approx((1.4, 3.0, 4.6))
    never = spread_of([2.0, None, None, 1.0, 3.0])
    assert (never.p10, never.p50, never.p90) == (1.4, 3.0, None)


def test_without_spread_there_is_none_and_equal_prices_know_no_load(demo, quarter):
    still = with_finance(demo, sun_spread_frac=0.0, load_spread_frac=0.0, growth_spread_frac=0.0, cases=5)
    found = spreads(quarter, still, "Today", "A", "D")
    for row in found.plans:
        assert row.saving.p10 == pytest.approx(row.saving.p90, abs=1e-9)
        assert row.npv.p10 == pytest.approx(row.npv.p90, abs=1e-6)
    # at one price for import and export a kWh of PV is worth the same whoever draws it: load alone moves nothing
    flat = {"import_price_per_kwh": 0.3, "cheap_price_per_kwh": 0.3, "export_price_per_kwh": 0.3}
    job = still.model_copy(
        update={"tariff": demo.tariff.model_copy(update=flat), "site": demo.site.model_copy(update={"export_limit_w": None})}
    )
    lossless = spreads(quarter, with_finance(job, load_spread_frac=0.2), "Today", "D")
    assert lossless.plans[1].saving.p10 == pytest.approx(lossless.plans[1].saving.p90, abs=1e-6)
    loads = spreads(quarter, with_finance(demo, sun_spread_frac=0.0, growth_spread_frac=0.0, cases=5), "Today", "A")
    assert loads.plans[1].saving.p90 > loads.plans[1].saving.p10 + 1


def test_more_sun_saves_more_in_every_case_and_leads_are_counted(demo, quarter):
    found = spreads(quarter, with_finance(demo, load_spread_frac=0.0, growth_spread_frac=0.0, cases=5), "Today", "A", "D")
    assert sum(row.leads for row in found.plans) == 5
    assert found.of_plan("today").npv.p50 == pytest.approx(0.0, abs=1e-9)
    array = found.of_plan("array-only")
    assert array.saving.p10 < array.saving.p50 < array.saving.p90
    assert array.leads == 0, "its gate is closed"
    job = with_finance(demo, load_spread_frac=0.0, growth_spread_frac=0.0, cases=5)
    assert spreads(quarter, job, "Today", "A", "D") == found, "the same seed, the same figures"


# --- choosing
def plans_of(table):
    base = replace(ROW, gate="")
    out = []
    for i, (values, closed) in enumerate(table):
        purposes = dict(zip(PURPOSES, values, strict=True))
        out.append((replace(base, plan_id=f"p{i}", letter=chr(65 + i), gate="over" if closed else ""), purposes))
    return out


ROW = None


@pytest.fixture(autouse=True, scope="module")
def _row(demo, quarter):
    global ROW
    results = results_of(quarter, demo, "Today", "A")
    ROW = compare_plans(demo, [(p, r.facts, r.bill, r.findings) for p, r in results])[1]


def ordered(made, weights):
    scored = [Scored(row, (), purposes, score(purposes, weights)) for row, purposes in made]
    return sorted(scored, key=lambda s: (not s.open, -s.score))


VALUES = st.lists(st.floats(0, 1), min_size=len(PURPOSES), max_size=len(PURPOSES))


@settings(max_examples=150, deadline=None, derandomize=True)
@given(st.lists(st.tuples(VALUES, st.booleans()), min_size=2, max_size=5), VALUES.filter(lambda v: sum(v) > 0.05))
def test_past_a_turning_point_the_other_leads_and_before_it_not(table, raw):
    weights = {p: w / sum(raw) for p, w in zip(PURPOSES, raw, strict=True)}
    made = plans_of(table)
    order = ordered(made, weights)
    able = [s for s in order if s.open]
    if len(able) < 2 or able[0].score - able[1].score < 1e-6:
        return
    turns = turning_points(order, weights)
    for turn in turns:
        way = 1.0 if turn.share > turn.now else -1.0
        for step, leads in ((1e-5, turn.letter), (-1e-5, able[0].row.letter)):
            share = turn.share + way * step
            if not 0.0 <= share <= 1.0 or (way * (share - turn.now) <= 0):
                continue
            then = ordered(made, with_share(weights, turn.purpose, share))
            close = then[0].score - next(s.score for s in then if s.row.letter == leads)
            assert close < 1e-7, (turn, then[0].row.letter)
    # where no turn is told, no share of that purpose turns the order
    for purpose in PURPOSES:
        told = {turn.share > turn.now for turn in turns if turn.purpose == purpose}
        for above in {True, False} - told:
            for share in np.linspace(weights[purpose], 1.0 if above else 0.0, 9):
                then = ordered(made, with_share(weights, purpose, float(share)))
                mine = next(s.score for s in then if s.row.letter == able[0].row.letter)
                assert max(s.score for s in then if s.open) - mine < 1e-7


def test_the_demo_is_told_with_its_gates_and_its_money(demo, quarter):
    results = results_of(quarter, demo)
    years = {y.plan_id: y for y in twenty_years(quarter, demo, results, coarse=quarter)}
    rows = compare_plans(demo, [(p, r.facts, r.bill, r.findings) for p, r in results], years)
    verdict = choose(demo, {p.id: r for p, r in results}, rows, years)
    said = "\n".join(verdict.because)
    assert verdict.leader.row.letter in ("A", "B")
    assert "C is not to be recommended" in said
    assert "Nothing pays back within 20 years" in said
    for plan in verdict.plans:
        assert plan.score == pytest.approx(sum(verdict.weights[p] * plan.purposes[p] for p in verdict.weights))
        for value in plan.values:
            assert value.value is None or 0.0 <= value.value <= 1.0
            assert "worth nothing at" in value.line
    for purpose in PURPOSES:
        alone = with_share(verdict.weights, purpose, 1.0)
        led = choose(demo, {p.id: r for p, r in results}, rows, years, weights=alone)
        assert led.leader is not None, purpose
        assert led.leader.row.gate == "", "C is the most self-sufficient, and its gate is closed"
    brief = [Edit("brief.weights", [{"purpose": "simple", "weight": 4}]), Edit("brief.purposes", ["simple"])]
    plain = choose(apply_edits(demo, brief), {p.id: r for p, r in results}, rows, years)
    assert plain.leader.row.letter == "Today", "who wants nothing but simplicity keeps what stands"


def test_a_choice_needs_a_reason_and_is_logged(demo):
    when = datetime(2026, 11, 27, 14, 5)
    job = with_choice(demo, "B", "  the roof is   done anyway ", "saving 511", when)
    assert (job.choice.plan, job.choice.reason, job.choice.time) == ("hybrid-swap", "the roof is done anyway", "2026-11-27T14:05")
    assert "saving 511" in job.log[-1].text
    for plan, reason in (("B", " "), ("Z", "because it is good")):
        with pytest.raises(BadInput):
            with_choice(demo, plan, reason, "", when)
