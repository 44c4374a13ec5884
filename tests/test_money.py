"""Cost lines that follow their plan, rebates by hand, the price list, and twenty years whose parts add up."""

from __future__ import annotations

import json

import openpyxl
import pytest

from calm_relay.cli import main
from calm_relay.errors import BadInput
from calm_relay.job.container import read_job
from calm_relay.job.cost_models import CostLine, Rebate
from calm_relay.job.costs import with_costs_kept
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.money.costing import plan_costs
from calm_relay.money.price_list import keep_price_list, kept_price_list, read_price_list
from calm_relay.money.ready import lacking_work, ready_lines, repriced

A, B, C = "ac-add-on", "hybrid-swap", "hybrid-alongside"
MODULES = f"plans[{A}].nodes[bat].battery.modules"


def priced(job, plan):
    return plan_costs(job, job.plan(plan))


def test_twice_the_battery_costs_more_by_the_lines_that_scale_and_nothing_else(demo):
    plain = apply_edits(demo, [Edit("rebates", [])])
    twice = apply_edits(plain, [Edit(MODULES, 6)])
    before, after = priced(plain, A), priced(twice, A)
    assert after.total - before.total == pytest.approx(3 * 1630)
    changed = [(x.text, y.amount - x.amount) for x, y in zip(before.lines, after.lines, strict=True) if x.amount != y.amount]
    assert changed == [("Battery module 3.3 kWh", pytest.approx(3 * 1630))]
    # per kWh, per usable kWh, per kW, per hour: each by hand, 3.3 kWh a module of which 95 % is used, 5 kW
    kinds = [
        ("per_kwh", 100, 3 * 3.3 * 100),
        ("per_usable_kwh", 100, 3 * 3.3 * 0.95 * 100),
        ("per_kw", 10, 5 * 10),
        ("per_hour", 50, 350),
    ]
    lines = [CostLine(text=b, amount=price, basis=b, hours_h=7.0).model_dump() for b, price, _ in kinds]
    other = apply_edits(plain, [Edit(f"plans[{A}].costs", lines)])
    assert [line.amount for line in priced(other, A).lines[:4]] == pytest.approx([hand for *_, hand in kinds])
    larger = apply_edits(other, [Edit(MODULES, 6)])
    more = priced(larger, A).total - priced(other, A).total
    assert more == pytest.approx(kinds[0][2] + kinds[1][2]), "the kW and the hours stay"


def test_a_line_nobody_priced_is_named_and_a_stale_one_is_not_used(demo):
    bare = apply_edits(demo, [Edit(f"plans[{A}].costs", []), Edit(f"plans[{A}].costs_for", {})])
    nothing = priced(bare, A)
    assert nothing.total is None
    assert set(nothing.missing) == {"Battery inverter 5 kW", "Transfer device 63 A", "LFP stack module 3.3 kWh, 64 V"}
    open_ = apply_edits(demo, [Edit(f"plans[{A}].costs[0].amount", None)])
    some = priced(open_, A)
    assert some.missing == ("Battery inverter 5 kW",)
    assert not some.complete
    assert some.total == pytest.approx(priced(demo, A).total - 2600)
    # a new card that no line stands for appears by itself, without a price
    card = apply_edits(demo, [Edit(f"plans[{A}].costs", demo.plan(A).model_dump()["costs"][1:])])
    assert "Battery inverter 5 kW" in priced(card, A).missing[0]
    # an amount typed as a whole for other equipment says nothing; one for scaffold goes on
    whole = with_costs_kept(demo.plan(A).model_copy(update={"costs": (CostLine(text="All of it", amount=9000.0),)}))
    job = demo.model_copy(update={"plans": tuple(whole if p.id == A else p for p in demo.plans)})
    assert priced(job, A).complete
    assert priced(apply_edits(job, [Edit(MODULES, 6)]), A).total is None
    assert priced(apply_edits(demo, [Edit(MODULES, 6)]), A).total is not None


def test_what_is_taken_out_is_counted_and_what_stays_is_not(demo):
    lines = {line.text: line for line in priced(demo, B).lines}
    assert lines["Shed inverter, value left"].amount == -300
    keep = apply_edits(demo, [Edit(f"plans[{A}].costs[+]", demo.plan(B).costs[-1].model_dump())])
    assert priced(keep, A).lines[-1].amount == 0, "A keeps the inverter, so nothing is paid for it"
    assert priced(demo, "today").total == 0


@pytest.mark.parametrize(
    ("rebate", "modules", "pays"),
    [
        ({"per_kwh": 300.0}, 3, 300 * 3 * 3.3 * 0.95),
        ({"per_kwh": 300.0, "counts": "nominal"}, 3, 300 * 9.9),
        ({"per_kwh": 300.0, "paid_up_to_wh": 5000.0}, 3, 1500.0),
        ({"per_kwh": 300.0, "most": 1200.0}, 3, 1200.0),
        ({"share_frac": 0.3, "share_of": ("battery",)}, 3, 0.3 * 3 * 1630),
        ({"share_frac": 0.3, "share_of": ("battery", "inverter"), "most": 2000.0}, 3, 2000.0),
        ({"share_frac": 0.1}, 3, 0.1 * 12150),
        ({"share_frac": 0.1, "per_kwh": 100.0, "paid_up_to_wh": 2000.0}, 3, 0.1 * 12150 + 200),
        ({"per_kwh": 300.0, "conditions": [{"rule": "least_usable_wh", "energy_wh": 10_000.0}]}, 3, 0.0),
        ({"per_kwh": 300.0, "conditions": [{"rule": "least_usable_wh", "energy_wh": 10_000.0}]}, 4, 300 * 4 * 3.3 * 0.95),
        ({"per_kwh": 300.0, "conditions": [{"rule": "least_usable_wh", "energy_wh": 9405.0}]}, 3, 300 * 9.405),
        ({"per_kwh": 300.0, "conditions": [{"rule": "stated", "text": "owner lives there"}]}, 3, 0.0),
        ({"per_kwh": 300.0, "conditions": [{"rule": "stated", "text": "owner lives there", "met": "yes"}]}, 3, 300 * 9.405),
        ({"per_kwh": 300.0, "conditions": [{"rule": "modules_added"}]}, 3, 0.0),
        ({"per_kwh": 300.0, "conditions": [{"rule": "ratio_most", "ratio": 1.2}]}, 3, 0.0),
        ({"per_kwh": 300.0, "conditions": [{"rule": "ratio_most", "ratio": 1.24}]}, 3, 300 * 9.405),
    ],
)
def test_rebates_by_hand(demo, rebate, modules, pays):
    """3.3 kWh a module, 95 % of it used; cost lines of plan A come to 12,150; 6.16 kWp on 5 kW are 1.232."""
    made = Rebate(name="Grant", **rebate)
    job = apply_edits(demo, [Edit("rebates", [made.model_dump()]), Edit(MODULES, modules)])
    (found,) = priced(job, A).rebates
    assert found.amount == pytest.approx(pays)
    assert priced(job, "today").rebates == ()


def test_a_contract_that_the_plan_ends_is_a_cost_line(demo):
    contract = {"name": "Old tariff", "ends": "2027", "ends_with": ["battery_added"], "pays_per_year": 500.0}
    job = apply_edits(demo, [Edit("brief.contracts", [contract]), Edit("finance.discount_frac", 0.1)])
    more = priced(job, A).total - priced(demo, A).total
    # three years from 2025: 500/1.1 + 500/1.21 + 500/1.331, a day of a leap year more or less
    assert more == pytest.approx(500 / 1.1 + 500 / 1.21 + 500 / 1.331, rel=2e-3)
    assert priced(job, "array-only").total == priced(demo, "array-only").total, "it adds no battery, so the contract goes on"
    silent = apply_edits(job, [Edit("brief.contracts[0].pays_per_year", 0.0)])
    assert not priced(silent, A).complete


def test_ready_lines_name_the_work_and_a_further_battery_needs_less(demo):
    bare = apply_edits(demo, [Edit(f"plans[{C}].costs", [])])
    ready = ready_lines(bare, bare.plan(C))
    kinds = [line.kind for line in ready]
    assert {"inverter", "battery", "modules", "transfer", "wiring", "approvals", "drawings", "scaffold", "labour"} <= set(kinds)
    assert all(line.amount is None for line in ready)
    assert lacking_work(demo, demo.plan(C)) == ()
    # today's system with a battery already: the second one brings neither approvals nor wiring
    had = demo.model_copy(update={"plans": (demo.plan(A).model_copy(update={"id": "today", "letter": "Today"}), demo.plan(A))})
    more = apply_edits(had, [Edit(f"plans[{A}].nodes[bat].battery.modules", 5), Edit(f"plans[{A}].costs", [])])
    assert {line.kind for line in ready_lines(more, more.plan(A))} == {"battery", "cabling", "labour"}


CSV = "card,kind,basis,text,price,currency,date\nstack-3k,battery,,Module,1500,NZD,2026-10-01\n,scaffold,fixed,,800,NZD,\n"


def test_the_price_list_is_kept_apart_and_copied_with_its_date(demo, tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    assert kept_price_list() is None
    path = tmp_path / "autumn.csv"
    path.write_text(CSV, encoding="utf-8")
    keep_price_list(path)
    prices = kept_price_list()
    assert (prices.name, prices.date, prices.currency, len(prices.rows)) == ("autumn", "2026-10-01", "NZD", 2)
    lines = {line.text: line for line in repriced(demo.plan(C).costs, prices)}
    assert (lines["Battery module 3.3 kWh"].amount, lines["Scaffold"].amount) == (1500, 800)
    assert lines["Scaffold"].source == "autumn, 2026-10-01"
    assert lines["Hybrid 6 kW"] == next(line for line in demo.plan(C).costs if line.text == "Hybrid 6 kW")
    sheet = tmp_path / "winter.xlsx"
    book = openpyxl.Workbook()
    for row in (["Price", "Card", "Date"], [1400.5, "stack-3k", "2026-11-01"]):
        book.active.append(row)
    book.save(sheet)
    keep_price_list(sheet)
    assert kept_price_list().row_of("stack-3k", "battery", "per_piece").price == 1400.5
    comma = tmp_path / "comma.csv"
    comma.write_text("card;price\nstack-3k;1.450,50\n", encoding="utf-8")
    assert read_price_list(comma).rows[0].price == 1450.5


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "empty"),
        ("a,b\n1,2\n", "no column 'price'"),
        ("price\n3\n", "neither"),
        ("card,price\nstack-3k,dear\n", "row 2, price"),
        ("card,price\nstack-3k,nan\n", "row 2, price"),
        ("card,price\nstack-3k,inf\n", "row 2, price"),
        ("kind,price\nspaceship,3\n", "row 2, kind"),
        ("card,basis,price\nstack-3k,per_moon,3\n", "row 2, basis"),
        ("card,price,date\nstack-3k,3,2026-02-30\n", "row 2, date"),
        ("card,price,currency\na,3,EUR\nb,3,USD\n", "EUR and USD"),
        ("card,price\n,3\n", "not what the price is of"),
        ("card,price\n", "no price"),
    ],
)
def test_a_list_that_cannot_be_read_says_where_and_keeps_the_last(tmp_path, monkeypatch, text, says):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    good = tmp_path / "good.csv"
    good.write_text(CSV, encoding="utf-8")
    keep_price_list(good)
    path = tmp_path / "bad.csv"
    path.write_text(text, encoding="utf-8")
    with pytest.raises(BadInput) as error:
        keep_price_list(path)
    assert says in str(error.value)
    assert "bad.csv" in str(error.value)
    assert kept_price_list().name == "good"


def test_the_command_line_prints_all_of_it_as_json(capsys, tmp_path, monkeypatch):
    """Costs with their rebates, a line added, prices kept and put in, twenty years, ranges and the choice with its reason."""
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))

    def told(*words):
        assert main([*words, "--json"]) == 0
        return json.loads(capsys.readouterr().out)

    costs = {row["plan"]: row for row in told("cost", "demo")["plans"]}
    assert costs[A]["rebates"][0]["conditions"][0]["met"] == "yes"
    assert costs[A]["complete"]
    out = str(tmp_path / "one.json")
    (added,) = told("cost", "add", "demo", "Trench", "--plan", "A", "--amount", "700", "--kind", "cabling", "--out", out)["plans"]
    assert added["total"] == pytest.approx(costs[A]["total"] + 700)
    path = tmp_path / "autumn.csv"
    path.write_text(CSV, encoding="utf-8")
    assert told("cost", "list", str(path))["rows"][0]["price"] == 1500
    (repriced_,) = told("cost", "reprice", out, "--plan", "A", "--out", str(tmp_path / "two.json"))["plans"]
    assert repriced_["total"] == pytest.approx(added["total"] - 3 * 130)
    years = {row["letter"]: row for row in told("finance", "demo", "--plan", "D")["plans"]}["D"]
    assert len(years["years"]) == 20
    chosen = str(tmp_path / "three.json")
    made = told("decide", "demo", "--choose", "B", "--reason", "the roof is done", "--out", chosen)
    assert made["choice"]["reason"] == "the roof is done"
    assert made["leader"] in {row["plan_id"] for row in made["rows"]}
    assert {row["plan"]: row for row in made["ranges"]}[A]["cases"] == 15
    assert read_job(chosen).job.choice.plan == "hybrid-swap"
    assert main(["cost", "list", str(tmp_path / "none.csv")]) == 2
    assert main(["decide", "demo", "--choose", "B", "--out", chosen]) == 2
