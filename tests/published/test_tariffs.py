"""Bills worked by hand: seasons, daylight saving, tiers, demand, least bill, settlement, phases; periods sum to the year."""

from __future__ import annotations

import contextlib
import json
import re
from collections.abc import Iterator

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from calm_relay.calendar import year_calendar
from calm_relay.demo import demo_job
from calm_relay.errors import BadInput
from calm_relay.job.common_models import SeriesRef
from calm_relay.job.container import read_job, save_job
from calm_relay.job.series import SeriesStore
from calm_relay.job.tariff_models import DemandCharge, Period, Season, Tariff, Tier
from calm_relay.study import Study
from calm_relay.tariff.bill import Bill, bill_of, year_bill
from calm_relay.tariff.counted import counted_of, shape_of
from calm_relay.tariff.growth import bill_in_year, yearly_totals
from calm_relay.tariff.price_file import read_prices, with_prices
from calm_relay.tariff.prices import Hourly, clock_days, net_of_phases, settled
from calm_relay.tariff.templates import read_tariff, tariff_json, templates, week_of
from tests.fuzz import damaged, read_or_explained
from tests.reference_bill import reference_months

UTC, BERLIN, AUCKLAND = (year_calendar(2025, zone, 900) for zone in ("UTC", "Europe/Berlin", "Pacific/Auckland"))
STEPS = 365 * 96


def tariff(**more: object) -> Tariff:
    base = {
        "name": "t", "import_price_per_kwh": 0.3, "cheap_price_per_kwh": 0.3, "cheap_start_h": 0.0, "cheap_end_h": 0.0,
        "export_price_per_kwh": 0.1, "standing_per_day": 0.0,
    }  # fmt: skip
    return Tariff.model_validate({**base, **more})


def bill(t: Tariff, taken: np.ndarray | float, given_: np.ndarray | float = 0.0, calendar=UTC) -> Bill:
    return year_bill(t, calendar, np.broadcast_to(taken, STEPS).astype(float) - given_)


def amounts(made: Bill) -> dict[str, float]:
    return {line.name: line.amount for line in made.lines}


def test_one_price_by_hand():
    # By hand: 1 kW all year is 8760 kWh × 0.30 = 2628; export 0.5 kW is 4380 kWh × 0.10 = 438; 365 days × 0.80 = 292.
    taken, given_ = np.tile([2000.0, 0.0], STEPS // 2), np.tile([0.0, 1000.0], STEPS // 2)
    made = bill(tariff(standing_per_day=0.8), taken, given_)
    assert amounts(made) == pytest.approx({"import": 2628.0, "export": -438.0, "standing charge": 292.0})
    assert made.total == pytest.approx(2628 - 438 + 292)
    assert made.by_month[1] == pytest.approx(28 * 24 * 0.3 - 28 * 12 * 0.1 + 28 * 0.8)


WINTER_WEEK = week_of(["lo"] * 16 + ["hi"] * 4 + ["lo"] * 4, ["lo"] * 24)


def seasons() -> dict[str, object]:
    return {
        "periods": [Period(id="lo", name="low", import_price_per_kwh=0.2), Period(id="hi", name="high", import_price_per_kwh=0.5)],
        "seasons": [
            Season(id="summer", name="summer", months=(4, 5, 6, 7, 8, 9), week=week_of(["lo"] * 24)),
            Season(id="winter", name="winter", months=(10, 11, 12, 1, 2, 3), week=WINTER_WEEK),
        ],
    }  # fmt: skip


def test_a_season_change_by_hand():
    # By hand, 1 kW, UTC, 2025: winter months have 182 days, of them 130 weekdays (Jan 23, Feb 20, Mar 21, Oct 23, Nov 20, Dec 23);
    # 4 h each are high: 520 kWh × 0.5 = 260. The rest is 8760 − 520 = 8240 kWh × 0.2 = 1648.
    made = amounts(bill(tariff(**seasons()), 1000.0))
    assert made["import, high"] == pytest.approx(260.0)
    assert made["import, low"] == pytest.approx(1648.0)
    # 25 December, a Thursday, priced like a Sunday: 4 kWh fewer at the high price.
    kept = amounts(bill(tariff(**seasons(), holidays=["12-25"]), 1000.0))
    assert kept["import, high"] == pytest.approx(258.0)


@pytest.mark.parametrize("calendar", [BERLIN, AUCKLAND], ids=["north", "south"])
def test_daylight_saving_moves_the_window_with_the_clock(calendar):
    """A load only from 18 to 19 h by the clock, all year, is wholly in a window of that hour; of 365 such hours none is lost."""
    week = week_of(["lo"] * 18 + ["hi"] + ["lo"] * 5)
    year = Season(id="y", name="y", months=tuple(range(1, 13)), week=week)
    t = tariff(periods=seasons()["periods"], seasons=[year])
    at = np.floor(calendar.clock_hour) == 18
    made = amounts(bill(t, np.where(at, 1000.0, 0.0), 0.0, calendar))
    assert made["import, high"] == pytest.approx(365 * 0.5)
    assert made["import, low"] == pytest.approx(0.0)
    # By hand: the hour from 2 to 3 is gone on the spring day and comes twice on the autumn day: 365 of them all the same.
    hours = np.floor(calendar.clock_hour).reshape(365, 96) == 2
    assert sorted(set((hours.sum(axis=1) / 4).tolist())) == [0.0, 1.0, 2.0]
    assert hours.sum() == 4 * 365


def test_weekdays_follow_the_clock_past_midnight():
    # Auckland, 23:30 of standard time on 5 January 2025, a Sunday, is 00:30 on Monday by the clock.
    weekday, _ = clock_days(AUCKLAND)
    step = 4 * 96 + 94
    assert AUCKLAND.clock_hour[step] == pytest.approx(0.5)
    assert weekday[step] == 0
    assert weekday[step - 4] == 6


def test_tiers_by_hand():
    # By hand: 1 kW is 744 kWh in January. To 300 kWh +0.00, 300 to 500 +0.05, above +0.20: 200·0.05 + 244·0.20 = 58.8; February has
    # 672: 10 + 172·0.2 = 44.4. All year: 12·10 + 0.2·(8760 − 12·500) = 120 + 552 = 672.
    tiers = [Tier(up_to_wh=300_000, add_per_kwh=0.0), Tier(up_to_wh=500_000, add_per_kwh=0.05), Tier(add_per_kwh=0.2)]
    made = bill(tariff(tiers=tiers), 1000.0)
    assert made.amount("tier") == pytest.approx(672.0)
    months = np.sum([line.months for line in made.lines if line.name.startswith("tier")], axis=0)
    assert (months[0], months[1]) == pytest.approx((58.8, 44.4))
    assert "300 to 500 kWh" in next(line.arithmetic for line in made.lines if line.name == "tier from 300 kWh")


def test_a_demand_charge_by_hand():
    # By hand: 2 kW all year, 6 kW for half an hour on 15 March at 18:00. Over 30 min March's peak is 6 kW, over 60 min 4 kW; the
    # other months 2 kW: (11·2 + 6)·9 = 252, and (11·2 + 4)·9 = 234.
    load = np.full(STEPS, 2000.0)
    start = (31 + 28 + 14) * 96 + 18 * 4
    load[start : start + 2] = 6000.0
    charge = DemandCharge(price_per_kw_month=9.0)
    assert bill(tariff(demand=charge, settlement_min=30), load).amount("demand") == pytest.approx(252.0)
    assert bill(tariff(demand=charge, settlement_min=60), load).amount("demand") == pytest.approx(234.0)
    night = charge.model_copy(update={"start_h": 22.0, "end_h": 6.0})
    assert bill(tariff(demand=night), load).amount("demand") == pytest.approx(12 * 2 * 9.0)
    # 15 March 2025 is a Saturday: counted on weekdays only the peak does not count.
    weekdays = charge.model_copy(update={"weekdays_only": True})
    assert bill(tariff(demand=weekdays), load).amount("demand") == pytest.approx(12 * 2 * 9.0)
    # 31 January 23:15 of standard time is 1 February 00:15 of a clock an hour ahead: February's peak, not January's.
    late = np.full(STEPS, 2000.0)
    late[31 * 96 - 3] = 5000.0
    assert year_bill(tariff(demand=charge), AUCKLAND, late).lines[-1].months[:2] == pytest.approx((18.0, 45.0))


def test_a_least_bill_and_tax_by_hand():
    # By hand: 10 W is 7.44 kWh in January, 2.232 of money; with 15 % tax 2.5668; the least of 12 adds 9.4332; the year is 12 · 12.
    made = bill(tariff(minimum_per_month=12.0, tax_frac=0.15), 10.0)
    assert made.total == pytest.approx(144.0)
    lines = {line.name: line.months[0] for line in made.lines}
    assert lines["tax"] == pytest.approx(0.3348)
    assert lines["up to the least a month"] == pytest.approx(9.4332)


def test_settlement_nets_within_its_interval():
    # By hand: 1 kW in for a quarter, 1 kW out for the next: at once 0.25 kWh each way, over 30 min nothing.
    taken, given_ = np.tile([1000.0, 0.0], STEPS // 2), np.tile([0.0, 1000.0], STEPS // 2)
    once, half = bill(tariff(), taken, given_), bill(tariff(settlement_min=30), taken, given_)
    assert (once.import_wh, once.export_wh) == pytest.approx((8760 * 500.0, 8760 * 500.0))
    assert (half.import_wh, half.export_wh) == pytest.approx((0.0, 0.0))


def test_three_phases_netted_both_ways():
    # By hand: loads 1, 2, 3 kW on three phases, 5 kW of PV on the first. Each by itself: 0 + 2 + 3 = 5 kW in and 4 kW out; summed:
    # 6 − 5 = 1 kW in, nothing out.
    load, made = np.array([[1000.0, 2000.0, 3000.0]]), np.array([[5000.0, 0.0, 0.0]])
    each = [float(v[0]) for v in net_of_phases(load, made, summed=False)]
    both = [float(v[0]) for v in net_of_phases(load, made, summed=True)]
    assert each == [5000.0, 4000.0]
    assert both == [1000.0, 0.0]


@given(st.integers(0, 10_000), st.sampled_from(range(len(templates()))), st.sampled_from([0, 15, 30, 60]))
@settings(max_examples=40, deadline=None, derandomize=True)
def test_periods_and_months_sum_to_the_year(seed, which, minutes):
    rng = np.random.default_rng(seed)
    net = rng.normal(300.0, 1500.0, STEPS)
    t = templates()[which].model_copy(update={"settlement_min": minutes})
    made = year_bill(t, AUCKLAND, net)
    energy = sum(line.energy_wh or 0.0 for line in made.lines if line.name.startswith("import"))
    expected = settled(net, AUCKLAND, minutes)[0].sum() * 0.25
    assert energy == pytest.approx(expected, rel=1e-9)
    assert made.import_wh + made.import_cheap_wh == pytest.approx(expected, rel=1e-9)
    assert made.total == pytest.approx(sum(line.amount for line in made.lines), abs=1e-6)
    assert made.total == pytest.approx(sum(made.by_month), abs=1e-6)


def test_an_hourly_price_is_paid_hour_by_hour(tmp_path):
    prices = np.round(np.random.default_rng(2).uniform(-0.05, 0.6, 8760), 4)
    (tmp_path / "p.csv").write_text("hour;price\n" + "".join(f"{i};{p:.4f}\n".replace(".", ",") for i, p in enumerate(prices)))
    read = read_prices(tmp_path / "p.csv", "UTC").per_kwh
    np.testing.assert_allclose(read, prices)
    t = tariff(hourly_import={"sha256": "0" * 64, "rows": 8760, "step_s": 3600, "unit": "per_kwh", "column": "price"})
    load = np.random.default_rng(3).uniform(0, 3000, STEPS)
    made = year_bill(t, UTC, load, Hourly(read))
    assert made.import_cost == pytest.approx(float((load.reshape(-1, 4).sum(axis=1) * 0.25 / 1000 * prices).sum()))


def test_hourly_prices_below_nothing_live_in_the_job_file(tmp_path):
    prices = np.round(np.random.default_rng(5).uniform(-0.2, 0.5, 8760), 4)
    store = SeriesStore()
    ref = SeriesRef(sha256=store.put(prices), rows=8760, step_s=3600, unit="per_kwh", column="price_per_kwh")
    job = demo_job()
    job = job.model_copy(update={"tariff": job.tariff.model_copy(update={"hourly_import": ref})})
    save_job(tmp_path / "job.crjob", job, store)
    opened = read_job(tmp_path / "job.crjob")
    assert opened.job == job
    study = Study(opened.store, step_s=3600)
    load = study.house(job).total_w()
    made = study.bill_without_system(opened.job)
    assert made.import_cost == pytest.approx(float((load / 1000 * prices).sum()))


def test_prices_with_stamps_are_put_into_standard_time_and_their_unit_is_the_headings(tmp_path):
    stamps = pd.date_range("2025-01-01", periods=365 * 96, freq="15min", tz="Etc/GMT-1").tz_convert("Europe/Berlin")
    quarters = np.round(np.random.default_rng(6).normal(90, 80, len(stamps)), 2)
    year = list(zip(stamps, quarters, strict=True))
    path = tmp_path / "p.csv"
    rows = [f"{t:%d.%m.%Y %H:%M};X;" + f"{p:.2f}".replace(".", ",") for t, p in year]
    path.write_text("\n".join(["Zeit;Zone;Preis [EUR/MWh]", *rows]))
    made = read_prices(path, "Europe/Berlin", 2024)
    assert made.notes == ("prices of 2025 stand on their dates in the job's calendar of 2024: weekdays part",)
    hours = quarters.reshape(-1, 4).mean(axis=1) / 1000
    np.testing.assert_allclose(made.per_kwh, hours, atol=1e-9)
    said = dict(made.guesses)
    assert said["column 'Preis [EUR/MWh]'"] == "per MWh"
    assert said["clock"] == "daylight saving, the autumn hour twice"
    assert said["hours"] == "means of 4 prices"
    path.write_text("\n".join(["t,spot ct/kWh", *(f"{t.isoformat()},{p:.2f}" for t, p in year[::-1])]))
    np.testing.assert_allclose(read_prices(path, "Etc/GMT-1").per_kwh, hours * 10, atol=1e-9)
    path.write_text("\n".join(["t,spot", *(f"{t.isoformat()},{p:.2f}" for t, p in year)]))
    with pytest.raises(BadInput, match=r"column 'spot': prices are about .*of what unit is not said"):
        read_prices(path, "UTC")


def test_export_paid_by_the_hour():
    prices = np.random.default_rng(7).uniform(-0.1, 0.3, 8760)
    ref = {"sha256": "0" * 64, "rows": 8760, "step_s": 3600, "unit": "per_kwh", "column": "price"}
    net = np.random.default_rng(8).normal(0, 1000, STEPS)
    made = year_bill(tariff(hourly_export=ref), UTC, net, Hourly(sold=prices))
    given = np.maximum(-net, 0).reshape(-1, 4).sum(axis=1) * 0.25 / 1000
    assert made.export_credit == pytest.approx(float((given * prices).sum()))
    assert made.import_cost == year_bill(tariff(), UTC, net).import_cost


def test_prices_of_both_ways_live_in_the_job_file(tmp_path):
    (tmp_path / "p.csv").write_text("price\n" + "".join(f"{i % 7 / 10}\n" for i in range(8760)))
    store = SeriesStore()
    job = with_prices(store, demo_job(), read_prices(tmp_path / "p.csv", "UTC"), "both")
    save_job(tmp_path / "job.crjob", job, store)
    opened = read_job(tmp_path / "job.crjob")
    assert opened.job == job
    bills = [Study(s, step_s=3600).bill(j, job.plans[0]) for s, j in ((opened.store, job), (store, demo_job()))]
    assert bills[0].export_credit != bills[1].export_credit


@given(st.data())
@settings(max_examples=8, deadline=None, derandomize=True)
def test_any_tariff_equals_the_bill_worked_step_by_step(data):
    zone = data.draw(st.sampled_from(("UTC", "Europe/Berlin", "Pacific/Auckland", "Australia/Lord_Howe", "Asia/Kathmandu")))
    step_s, year = data.draw(st.sampled_from((1800, 3600))), data.draw(st.sampled_from((2023, 2025)))
    hours = st.sampled_from((0.0, 7.0, 19.0, 22.0))
    charge = DemandCharge(
        price_per_kw_month=4.0, start_h=data.draw(hours), end_h=data.draw(hours), weekdays_only=data.draw(st.booleans())
    )
    t = data.draw(st.sampled_from(templates())).model_copy(
        update={
            "settlement_min": data.draw(st.sampled_from((0, 30, 60))), "netting": data.draw(st.sampled_from(("summed", "each"))),
            "tax_frac": data.draw(st.sampled_from((0.0, 0.15))), "tax_on_export": data.draw(st.booleans()),
            "credit_over": data.draw(st.sampled_from(("nothing", "month", "year"))),
            "minimum_per_month": data.draw(st.sampled_from((0.0, 40.0))),
            "demand": data.draw(st.sampled_from((None, charge))), "holidays": data.draw(st.sampled_from(((), ("12-25", "01-01")))),
        }
    )  # fmt: skip
    rng = np.random.default_rng(data.draw(st.integers(0, 1000)))
    net = rng.normal(300.0, 1500.0, (365 * 86_400 // step_s, data.draw(st.sampled_from((1, 3)))))
    made = year_bill(t, year_calendar(year, zone, step_s), net)
    np.testing.assert_allclose(made.by_month, reference_months(t, year, zone, step_s, net), rtol=1e-9, atol=1e-6)


def test_what_a_meter_counts_hangs_on_nothing_that_its_shape_leaves_out():
    """Each field of each tariff moved: where the shape stays, what was counted before makes the bill that the year makes anew."""
    net = np.random.default_rng(4).normal(300.0, 1500.0, (STEPS, 3))
    stayed = 0
    for template in templates():
        t = template.model_copy(update={"holidays": ("12-25",)})
        before, shape = counted_of(t, AUCKLAND, net), shape_of(t)
        fields = leaves(t.model_dump(mode="json"), "")
        for path, moved in [(name, moved) for name, value in fields for moved in moved_tariffs(t, name, value)]:
            if shape_of(moved) != shape:
                continue
            stayed += 1
            got, fresh = bill_of(moved, before), year_bill(moved, AUCKLAND, net)
            assert [(x.name, x.arithmetic) for x in got.lines] == [(x.name, x.arithmetic) for x in fresh.lines], path
            assert got.by_month == pytest.approx(fresh.by_month), path
    assert stayed > 30


def moved_tariffs(t: Tariff, path: str, value: object) -> Iterator[Tariff]:
    """Yield tariffs with one field moved, as far as they are any."""
    *way, last = [int(step) if step.isdigit() else step for step in re.findall(r"[^.\[\]]+", path)]
    numbers = (value + 0.25, 60) if isinstance(value, int | float) else (f"{value}x", "each", "month", "07-07")
    for other in (not value,) if isinstance(value, bool) else numbers:
        place = data = t.model_dump(mode="json")
        for step in way:
            place = place[step]
        place[last] = other
        with contextlib.suppress(ValidationError):
            yield Tariff.model_validate(data)


def leaves(value: object, path: str) -> list[tuple[str, object]]:
    if isinstance(value, dict):
        return [row for key, item in value.items() for row in leaves(item, f"{path}.{key}")]
    if isinstance(value, list):
        return [row for i, item in enumerate(value) for row in leaves(item, f"{path}[{i}]")]
    return [(path, value)]


def test_a_tariff_is_written_and_read_back(tmp_path):
    for t in templates():
        (tmp_path / "t.json").write_text(tariff_json(t), encoding="utf-8")
        assert read_tariff(tmp_path / "t.json") == t


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "not readable as JSON"),
        ("[]", "write a group of fields in braces"),
        (json.dumps({"name": "x"}), "import_price_per_kwh"),
        (tariff_json(templates()[1]).replace('"week"', '"weak"'), "weak"),
    ],
)
def test_a_bad_tariff_is_told_field_by_field(text, words, tmp_path):
    (tmp_path / "t.json").write_text(text)
    with pytest.raises(BadInput) as caught:
        read_tariff(tmp_path / "t.json")
    assert any(words in fault.line() for fault in caught.value.faults)


@given(st.data())
@settings(max_examples=60, deadline=None, derandomize=True)
def test_damaged_tariffs_and_prices(tmp_path_factory, data):
    path = tmp_path_factory.mktemp("t") / "t.json"
    read_or_explained(read_tariff, path, data.draw(damaged(tariff_json(templates()[2]).encode())), most_faults=500)
    stamped = b"time,EUR/MWh\n" + b"".join(b"2025-01-01T%02d:00:00Z,%d\n" % (h, h) for h in range(24))
    good = data.draw(st.sampled_from((b"price\n" + b"0.31\n" * 50, stamped)))
    read_or_explained(lambda p: read_prices(p, "UTC"), path, data.draw(damaged(good)))


def test_prices_grow_from_the_second_year():
    # By hand: 8760 kWh × 0.3 + 292 = 2920; 5 % a year: year 2 3066, year 20 × 1.05^19 = 2.526950. Export 438 at 2 %: 446.76.
    taken, given_ = np.tile([2000.0, 0.0], STEPS // 2), np.tile([0.0, 1000.0], STEPS // 2)
    t = tariff(standing_per_day=0.8, import_growth_frac=0.05, export_growth_frac=0.02)
    made = bill(t, taken, given_)
    assert bill_in_year(made, t, 1).by_month == pytest.approx(made.by_month)
    assert bill_in_year(made, t, 2).total == pytest.approx(2920 * 1.05 - 438 * 1.02)
    assert yearly_totals(made, t, 20)[-1] == pytest.approx(2920 * 1.05**19 - 438 * 1.02**19)
    # 1 kWh a day costs 0.30 × 30 = 9 in April, 10 % tax: 9.90, the least is 12: 2.10 more; in year 2 all of it ×1.1.
    t = tariff(tax_frac=0.1, minimum_per_month=12.0, import_growth_frac=0.1)
    second = bill_in_year(bill(t, 1000.0 / 24), t, 2)
    assert {line.name: line.months[3] for line in second.lines if line.name != "export"} == pytest.approx(
        {"import": 9.9, "tax": 0.99, "up to the least a month": 13.2 - 10.89}
    )
    with pytest.raises(ValueError, match="before the first"):
        bill_in_year(made, t, 0)


@given(st.integers(0, 10_000), st.sampled_from([0, 15, 30, 60]))
@settings(max_examples=20, deadline=None, derandomize=True)
def test_phases_each_by_themselves_never_cost_less_than_summed(seed, minutes):
    """Equal prices both ways make netting worth nothing; else each by itself counts more of both. Net energy is the same."""
    net = np.random.default_rng(seed).normal(200.0, 1500.0, (STEPS, 3))
    made = {n: year_bill(tariff(netting=n, settlement_min=minutes), UTC, net) for n in ("summed", "each")}
    assert made["each"].total >= made["summed"].total - 1e-6
    for b in made.values():
        assert b.import_wh - b.export_wh == pytest.approx(float(net.sum()) * 0.25, rel=1e-9)
    assert made["summed"].import_wh == pytest.approx(year_bill(tariff(settlement_min=minutes), UTC, net.sum(axis=1)).import_wh)
