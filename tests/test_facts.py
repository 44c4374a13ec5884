"""Facts of a year, the comparison and the order of findings, each worked out anew from the series or by hand."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from calm_relay.decision.compare import compare_plans, gate_reason
from calm_relay.decision.limits import limit_costs
from calm_relay.decision.words import because, compare_text, difference_words
from calm_relay.job.cost_models import CostLine
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.history import Document
from calm_relay.money.costing import plan_costs
from calm_relay.packs.pack import pack_named
from calm_relay.rules.registry import VERDICT_ORDER, CheckContext, Finding
from calm_relay.rules.runner import run_checks
from calm_relay.simulation.columns import LOSS_NAMES
from calm_relay.tariff.growth import payback_years
from calm_relay.year.arithmetic import paired, value_words, year_figures
from calm_relay.year.boxes import box_uses
from calm_relay.year.pictures import lost_w

PACK = pack_named("international")
A, B = "ac-add-on", "hybrid-swap"


def test_self_sufficiency_is_one_less_what_the_grid_gave_the_house(demo, study, results):
    """Definitions D10: grid energy that went through a battery is still the grid's."""
    for letter, result in results.items():
        flow = study.flow(demo, demo.plan(letter)).flow
        wh = {n: float(flow.column(n).sum()) / 12 for n in (
            "load_w", "grid_to_house_w", "battery_to_house_w", "battery_pv_to_house_w", "pv_to_grid_w", "battery_pv_to_grid_w",
            "pv_to_house_w", "pv_to_own_w", "battery_pv_to_own_w", "grid_to_battery_w",
        )}  # fmt: skip
        through = wh["battery_to_house_w"] - wh["battery_pv_to_house_w"]
        by_hand = 1 - (wh["grid_to_house_w"] + through) / wh["load_w"]
        assert result.facts.self_sufficiency_frac == pytest.approx(by_hand, rel=1e-9)
        out = wh["pv_to_grid_w"] + wh["battery_pv_to_grid_w"]
        used = wh["pv_to_house_w"] + wh["pv_to_own_w"] + wh["battery_pv_to_house_w"] + wh["battery_pv_to_own_w"]
        assert result.facts.own_use_frac == pytest.approx(used / (used + out), rel=1e-9)
        if wh["grid_to_battery_w"] > 1000:
            assert through > 100, "so that the test can tell the two apart"


def test_every_figure_of_the_year_is_the_sum_that_its_arithmetic_says(demo, study, results):
    """Traced flows (D10) against totals that the kernel sums apart, and each inverter's PV against its parts (D7)."""
    for letter, result in results.items():
        plan, facts = demo.plan(letter), result.facts
        found = {figure.key: figure for figure in year_figures(facts, plan)}
        s = facts.system_wh
        assert found["import"].value == pytest.approx(s["import_w"], abs=1.0)
        assert found["export"].value == pytest.approx(s["export_w"], abs=1.0)
        assert found["bus"].value == pytest.approx(0.0, abs=1.0)
        assert found["bar:House"].value == pytest.approx(s["load_w"], abs=501.0), "flows below half a kWh are left out"
        for node_id, row in facts.nodes_wh.items():
            if row["pv_available_w"] > 0:
                assert found[f"pv:{node_id}"].value == pytest.approx(row["pv_available_w"], abs=1.0)
        for node_id, row in facts.pv_only_wh.items():
            assert found[f"pv:{node_id}"].value == pytest.approx(row["dc_available_w"], abs=1.0)
        for use in box_uses(facts):
            assert found[f"box:{use.node_id}"].value == pytest.approx(use.total_wh)
    pairs = {pair.name: pair for pair in paired(*(year_figures(results[x].facts, demo.plan(x)) for x in ("B", "A")))}
    more = results["B"].facts.system_wh["export_w"] - results["A"].facts.system_wh["export_w"]
    assert pairs["Export"].more_words == f"{'+' if more > 0 else '−'}{value_words('energy_wh', abs(more))}"
    assert pairs["Battery inverter, for itself"].more_words == "", "only one of the plans has that box"


def test_cycles_are_energy_drawn_over_usable(demo, study, results):
    flow = study.flow(demo, demo.plan("A")).flow
    drawn = sum(float(flow.node_column("bat", n).sum()) / 12 for n in ("discharge_w", "battery_standby_w", "auxiliary_w"))
    facts = results["A"].facts
    assert facts.usable_wh == pytest.approx(0.95 * 9900)
    assert facts.full_cycles == pytest.approx(drawn / (0.95 * 9900), rel=1e-9)


def test_hours_at_limits_and_what_they_held(demo, study):
    job = apply_edits(demo, [Edit("site.export_limit_w", 800.0)])
    facts, flow = study.facts(job, job.plan("B")), study.flow(job, job.plan("B")).flow
    held = flow.node_column("hyb", "lost_cap_w")
    assert facts.limits["export_cap"].held_wh == pytest.approx(float(held.sum()) / 12)
    assert facts.limits["export_cap"].hours_h == pytest.approx(np.count_nonzero(held > 1e-3) / 12)
    assert facts.held_by_cap_wh == pytest.approx(float(held.sum()) / 12)
    assert facts.held_by_cap_wh > 100_000
    out = flow.node_column("hyb", "ac_out_w")
    assert facts.limits["ac_limit:hyb"].hours_h == pytest.approx(np.count_nonzero(out >= 0.999 * 5000) / 12)
    charged = flow.node_column("hyb", "pv_to_battery_w") + flow.node_column("hyb", "charge_from_ac_w")
    assert facts.limits["charge:hyb"].hours_h == pytest.approx(np.count_nonzero(charged >= 0.999 * 4992) / 12)
    drawn = flow.node_column("hyb", "discharge_w")
    assert facts.limits["discharge:hyb"].hours_h == pytest.approx(np.count_nonzero(drawn >= 0.999 * 5200) / 12)
    assert sum(facts.lost_wh(n) for n in LOSS_NAMES) == pytest.approx(
        sum(float(flow.node_column("hyb", f"lost_{n}_w").sum()) / 12 for n in LOSS_NAMES)
    )


def test_costs_of_limits_stand_dearest_first(demo, study):
    job = apply_edits(demo, [Edit("site.export_limit_w", 800.0)])
    plan = job.plan("B")
    rows = limit_costs(plan, study.facts(job, plan))
    assert rows[0].key == "export_cap"
    assert [(-r.held_wh, -r.hours_h) for r in rows] == sorted((-r.held_wh, -r.hours_h) for r in rows)
    assert all(r.hours_h > 0 or r.held_wh > 0 for r in rows)


def test_months_sum_to_the_year(demo, study, results):
    for result in results.values():
        for name, months in result.facts.by_month_wh.items():
            assert sum(months) == pytest.approx(result.facts.system_wh[name], rel=1e-9)
    flow, calendar = study.flow(demo, demo.plan("B")).flow, study.calendar(demo)
    june = float(flow.column("import_w")[calendar.month == 6].sum()) / 12
    assert results["B"].facts.by_month_wh["import_w"][5] == pytest.approx(june, rel=1e-9)


def test_the_evening_by_hand(demo, study, results):
    made, calendar = study.flow(demo, demo.plan("A")), study.calendar(demo)
    ac = made.packed.ac
    demand = ac[:, 0] + ac[:, 1] - ac[:, 2] - ac[:, 3:7].sum(axis=1)
    demand = demand[(calendar.clock_hour >= 16) & (calendar.clock_hour < 22)]
    evening = results["A"].facts.evening
    assert evening.limit_w == 5000
    assert evening.peak_w == pytest.approx(float(demand.max()))
    assert evening.hours_over_h == pytest.approx(np.count_nonzero(demand > 5000) / 12)
    assert evening.over_wh == pytest.approx(float(np.maximum(0, demand - 5000).sum()) / 12)
    assert list(evening.largest_w[:50]) == pytest.approx(sorted(demand, reverse=True)[:50])


def test_how_often_the_array_fills_the_battery(demo, study, results):
    """Days on which the battery came within 2 % of full, by season, from its energies alone."""
    flow, calendar = study.flow(demo, demo.plan("B")).flow, study.calendar(demo)
    energy = flow.node_column("hyb", "energy_wh").reshape(365, -1).max(axis=1)
    month = calendar.month.reshape(365, -1)[:, 0]
    for season, months in (("summer", (12, 1, 2)), ("winter", (6, 7, 8))):
        full = np.mean(energy[np.isin(month, months)] >= 9900 - 0.02 * 0.95 * 9900)
        assert results["B"].facts.fill["hyb"][season].days_full_frac == pytest.approx(full)
    fill = results["B"].facts.fill["hyb"]
    assert fill["summer"].median_ratio > fill["winter"].median_ratio


def rows_of(demo, results, job=None):
    job = job or demo
    return compare_plans(job, [(p, results[p.letter].facts, results[p.letter].bill, results[p.letter].findings) for p in job.plans])


def test_the_comparison_by_hand(demo, results):
    rows = {row.letter: row for row in rows_of(demo, results)}
    today = results["Today"].bill.total
    for letter, row in rows.items():
        plan = demo.plan(letter)
        assert row.saving == pytest.approx(today - results[letter].bill.total)
        assert row.cost == pytest.approx(plan_costs(demo, plan).total)
        if letter != "Today" and row.cost and row.saving > 0:
            assert row.payback_years == pytest.approx(row.cost / row.saving), "simple: cost over a year's saving"
        assert row.over == sum(f.verdict == "over" for f in results[letter].findings)
        assert row.import_wh == results[letter].facts.system_wh["import_w"]
        assert row.export_wh == results[letter].facts.system_wh["export_w"]
    assert rows["Today"].saving == 0
    assert rows["Today"].payback_years is None
    assert rows["A"].boxes == 3
    assert rows["C"].network_sum_w == 11_000
    assert rows["B"].warranty_years == 10


def test_payback_with_growing_prices_by_hand(demo, results):
    """The plans' own bills year by year: savings at year ends, linear within the year that pays the rest."""
    tariff = demo.tariff.model_copy(update={"import_growth_frac": 0.1, "export_growth_frac": 0.0})
    today, bill = results["Today"].bill, results["B"].bill

    # Import and standing grow by a tenth a year, export does not: the saving of year n by hand.
    def saving(n: int) -> float:
        up = 1.1 ** (n - 1)
        paid = [b.total + b.export_credit for b in (today, bill)]
        return (paid[0] - paid[1]) * up - (today.export_credit - bill.export_credit)

    cost, years, left = 5000.0, 0, 5000.0
    while saving(years + 1) < left:
        left -= saving(years + 1)
        years += 1
    assert payback_years(cost, today, bill, tariff) == pytest.approx(years + left / saving(years + 1), rel=1e-9)
    assert payback_years(cost, today, bill, demo.tariff) == pytest.approx(cost / (today.total - bill.total))
    assert payback_years(cost, today, today, tariff) is None


def test_costs_of_other_equipment_are_not_used(demo, study):
    twice = [Edit("plans[hybrid-swap].nodes[hyb].battery.modules", 6)]
    whole = CostLine(text="All of it", amount=11_900.0).model_dump()
    demo = apply_edits(demo, [Edit("plans[hybrid-swap].costs", [whole]), Edit("rebates", [])])
    job = apply_edits(demo, twice)
    rows = {}
    for name, made in (("as it was", demo), ("twice the battery", job)):
        results = {p.letter: study.plan_result(made, p) for p in made.plans}
        rows[name] = {row.letter: row for row in rows_of(made, results)}
        text = because(list(rows[name].values()), "$")
        assert any("no cost of theirs holds: B" in line for line in text) == (name != "as it was")
    assert rows["as it was"]["B"].cost == 11_900
    stale = rows["twice the battery"]["B"]
    assert (stale.cost, stale.payback_years, compare_text(stale, "cost", "money")) == (None, None, "made for other equipment")


def test_doing_nothing_takes_part_in_the_choice(demo, results):
    rows = list(rows_of(demo, results))
    far = [replace(row, payback_years=64.0) if row.payback_years else row for row in rows]
    assert because(far, "$")[0].startswith("Doing nothing costs least")
    none = [replace(row, cost=None, cost_note="not entered", payback_years=None) if row.letter != "Today" else row for row in rows]
    assert because(none, "$")[0].startswith("What the plans with an open gate cost is not known")


def finding(**more) -> Finding:
    base = {
        "check": "string.cold-voc", "title": "Cold string voltage", "subject": "s", "verdict": "over", "quantity": "voltage_v",
        "value": 1.0, "limit": 1.0, "sense": "most", "arithmetic": "", "source": "", "margin": None,
    }  # fmt: skip
    return Finding(**{**base, **more})


def test_gates_close_for_over_and_for_what_must_be_known():
    assert gate_reason([finding(verdict="within")], PACK) == ""
    assert gate_reason([finding(), finding()], PACK) == "Cold string voltage is over, and 1 more"
    assert gate_reason([finding(waived="the maker wrote yes")], PACK) == ""
    assert gate_reason([finding(verdict="not known")], PACK) == "Cold string voltage is not known"
    assert gate_reason([finding(check="roof.room", title="Room", verdict="not known")], PACK) == ""
    assert gate_reason([finding(verdict="tight")], PACK) == ""


def test_findings_stand_tightest_first(demo):
    rows = run_checks(CheckContext(demo, demo.plan("D"), demo.cards(), None), {"plan"})
    places = [VERDICT_ORDER.index(f.verdict) for f in rows]
    assert places == sorted(places)
    assert len(set(places)) >= 3
    for verdict in ("over", "tight", "within"):
        margins = [f.margin for f in rows if f.verdict == verdict and f.margin is not None]
        assert margins == sorted(margins), f"within {verdict} the smallest margin first"
    over = [f.margin for f in rows if f.verdict == "over"]
    assert len(over) >= 2
    assert over[0] < over[-1]


def test_words_of_the_comparison_follow_the_figures(demo, results):
    rows = rows_of(demo, results)
    by_letter = {row.letter: row for row in rows}
    text = because(rows, "$")
    open_rows = [row for row in rows[1:] if not row.gate and row.payback_years]
    soonest = min(open_rows, key=lambda row: row.payback_years)
    assert soonest.payback_years > 20, "so that doing nothing leads"
    assert f"{soonest.letter} pays back soonest, and only after {soonest.payback_years:.0f} years" in text[0]
    soon = [replace(row, payback_years=row.payback_years / 2) if row.payback_years else row for row in rows]
    assert because(soon, "$")[0].startswith(f"{soonest.letter} pays back soonest")
    for row in rows[1:]:
        assert any(row.gate and row.gate in line for line in text) == bool(row.gate)
    assert compare_text(by_letter["Today"], "usable_wh", "energy_wh") == "–"
    more = difference_words(by_letter["Today"], by_letter["A"], "$")
    assert more.startswith("A against Today: ")
    assert f"import −{(by_letter['Today'].import_wh - by_letter['A'].import_wh) / 1000:.0f} kWh" in more
    assert difference_words(by_letter["A"], by_letter["A"], "$") == "A against A: no difference."


def test_history_keeps_to_its_limit_and_what_is_kept_can_all_be_undone(demo):
    document = Document(demo, limit=5)
    for i in range(9):
        document.edit(f"edit {i}", lambda job, i=i: job.model_copy(update={"name": f"Job {i}"}))
    names = []
    while document.undo_label:
        names.append(document.undo())
    assert names == ["edit 8", "edit 7", "edit 6", "edit 5"], "five states are four steps"
    assert document.job.name == "Job 4"
    assert document.redo() == "edit 5"


def test_what_limits_lost_is_the_same_by_sums_by_series_and_by_day(demo, study):
    made = study.flow(demo, demo.plan("C"))
    flow = made.flow
    for name in ("ac_limit", "below_start", "device", "cap"):
        assert flow.lost_wh(name) == pytest.approx(float(flow.lost_w(name).sum()) * flow.step_h, abs=1e-6)
        np.testing.assert_array_equal(flow.lost_w(name, slice(400, 700)), flow.lost_w(name)[400:700])
    for node_id in flow.node_ids:
        by_series = float(flow.node_column(node_id, "lost_ac_limit_w").sum()) * flow.step_h
        assert flow.node_wh(node_id, "lost_ac_limit_w") == pytest.approx(by_series, abs=1e-6)
    here = slice(100 * 288, 101 * 288)
    np.testing.assert_array_equal(lost_w(made, here), lost_w(made)[here])
