"""Meter files as portals write them: every style below says the same year, and must be read as that year."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable
from functools import cache
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from calm_relay.errors import BadInput
from calm_relay.job.series import SeriesStore
from calm_relay.load.gross import gross_load
from calm_relay.load.meter_files import read_meter, read_readings
from calm_relay.tables.file_kind import kind_of_file
from calm_relay.tariff.price_file import read_prices
from tests.fuzz import damaged, read_or_explained

ZONE = "Europe/Berlin"
STAMPS = pd.date_range(
    pd.Timestamp("2025-01-01", tz="Etc/GMT-1"), pd.Timestamp("2026-01-01", tz="Etc/GMT-1"), freq="30min", inclusive="left"
).tz_convert(ZONE)
RNG = np.random.default_rng(11)
IMPORT = RNG.integers(1, 3000, len(STAMPS)).astype(float)  # whole Wh
EXPORT = RNG.integers(0, 900, len(STAMPS)).astype(float)


def kwh(wh: float, mark: str = ".") -> str:
    return f"{wh / 1000:.3f}".replace(".", mark)


def american() -> str:
    """Lines above the table, a column of words first, begin and end in columns of their own, money and remarks."""
    rows = [
        f"Electric usage,{t:%m/%d/%Y},{t:%I:%M %p},{t + pd.Timedelta('29min'):%I:%M %p},{kwh(a)},$0.10,"
        for t, a in zip(STAMPS, IMPORT, strict=True)
    ]
    return "\n".join(["Name,Made up", "From,01/01/2025", "", "TYPE,DATE,START TIME,END TIME,USAGE (kWh),COST,NOTES", *rows])


def quoted_newest_first() -> str:
    """Decimal commas in quotes between commas, rows from the latest back."""
    rows = [f'"{t.isoformat()}","{kwh(a, ",")}"' for t, a in zip(STAMPS, IMPORT, strict=True)]
    return "\n".join(['"Datum","Verbrauch kWh"', *rows[::-1]])


def channels_in_rows() -> str:
    """Import and export one under the other, told apart by a word; the autumn hour twice."""
    rows = [
        f"{t:%Y-%m-%d %H:%M}|{name}|{v:.0f}|Wh"
        for t, a, b in zip(STAMPS, IMPORT, EXPORT, strict=True)
        for name, v in (("Import", a), ("Export", b))
    ]
    return "\n".join(["time|register|value|unit", *rows])


def periods() -> str:
    """Half hours counted within their local day, through the change of the clock."""
    days = defaultdict(list)
    for t, a in zip(STAMPS, IMPORT, strict=True):
        days[f"{t:%Y-%m-%d}"].append(a)
    rows = [f"{day},{i},{kwh(a)}" for day, values in days.items() for i, a in enumerate(values, start=1)]
    return "\n".join(["Settlement Date,Settlement Period,Consumption (kWh)", *rows])


def wide_with_channels() -> str:
    """A row a day and channel, intervals counted, in standard time."""
    rows = []
    for i, day in enumerate(pd.date_range("2025-01-01", periods=365)):
        for name, year in (("Import", IMPORT), ("Export", EXPORT)):
            rows.append(f"M1;{day:%d.%m.%Y};{name};kWh;" + ";".join(kwh(v, ",") for v in year[i * 48 : i * 48 + 48]))
    return "\n".join(["Meter;Date;Register;Unit;" + ";".join(f"P{i}" for i in range(1, 49)), *rows])


def days_from_the_latest_back() -> str:
    """A row a day in standard time, the latest day first."""
    rows = []
    for i, day in enumerate(pd.date_range("2025-01-01", periods=365)):
        rows.append(f"{day:%Y-%m-%d}," + ",".join(kwh(v) for v in IMPORT[i * 48 : i * 48 + 48]))
    return "\n".join(["Date," + ",".join(f"{h:02d}:{m:02d}" for h in range(24) for m in (0, 30)), *rows[::-1]])


def two_prices() -> str:
    """One channel in two columns by price, short years, a line of units under the heading, a sum at the foot."""
    rows = [
        f"{t:%d/%m/%y %H:%M},{kwh(a if 8 <= t.hour < 20 else 0)},{kwh(0 if 8 <= t.hour < 20 else a)},{kwh(b)}"
        for t, a, b in zip(STAMPS, IMPORT, EXPORT, strict=True)
    ]
    return "\n".join(["Start,Peak import,Off-peak import,Feed-in", ",kWh,kWh,kWh", *rows, "", "Total,1,2,3"])


def end_of_day() -> str:
    """Labels end their interval; midnight bears the date of the day it ends."""
    late = STAMPS + pd.Timedelta("30min")
    rows = [f"{t:%Y/%m/%d},{e:%H:%M},{a:.0f}" for t, e, a in zip(STAMPS, late, IMPORT, strict=True)]
    return "\n".join(["Date,End time,Usage Wh", *rows])


def clock_names() -> str:
    """Power in W after seconds, clocks by their names, export below zero."""
    rows = [
        f"{t:%Y-%m-%d %H:%M:%S} {t.tzname()}\t{a * 2:.0f}\t{-b * 2:.0f}" for t, a, b in zip(STAMPS, IMPORT, EXPORT, strict=True)
    ]
    return "\n".join(["Time\tGrid import power [W]\tGrid export power [W]", *rows])


STYLES = (
    american,
    quoted_newest_first,
    channels_in_rows,
    periods,
    wide_with_channels,
    days_from_the_latest_back,
    two_prices,
    end_of_day,
    clock_names,
)


@cache
def text_of(write: Callable[[], str]) -> str:
    """Return a style's file, written once."""
    return write()


@pytest.mark.parametrize(
    "write",
    STYLES,
    ids=lambda w: w.__name__,
)
def test_a_portals_style_is_read_to_the_last_digit(write: Callable[[], str], tmp_path):
    path = tmp_path / "x.csv"
    path.write_text(text_of(write), encoding="utf-8")
    read = read_meter(path, ZONE)
    np.testing.assert_allclose(read.power_w["import"] * 0.5, IMPORT, rtol=1e-9, atol=1e-9)
    if "export" in read.power_w:
        np.testing.assert_allclose(read.power_w["export"] * 0.5, EXPORT, rtol=1e-9, atol=1e-9)
    assert not read.filled.any()
    assert read.year == 2025


@pytest.mark.parametrize("encoding", ["utf-16", "cp1252", "utf-8-sig"])
def test_text_of_another_machine_is_read(encoding, tmp_path):
    path = tmp_path / "x.csv"
    rows = [f"{t:%d.%m.%Y %H:%M};{kwh(a, ',')}" for t, a in zip(STAMPS, IMPORT, strict=True)]
    path.write_bytes("\n".join(["Zähler 42", "Zeit;Bezug kWh", *rows]).encode(encoding))
    np.testing.assert_allclose(read_meter(path, ZONE).power_w["import"] * 0.5, IMPORT, rtol=1e-9)


def test_a_register_gives_what_it_rose_by_and_keeps_its_sum_over_a_gap(tmp_path):
    path = tmp_path / "x.csv"
    stood = 5_000_000 + np.concatenate([[0], np.cumsum(IMPORT)])
    at = [*STAMPS, STAMPS[-1] + pd.Timedelta("30min")]
    rows = [f"{t.isoformat()},{kwh(s)}" for i, (t, s) in enumerate(zip(at, stood, strict=True)) if not 5000 < i < 5020]
    path.write_text("\n".join(["time,1.8.0 kWh", *rows]))
    read = read_meter(path, ZONE)
    made = read.power_w["import"] * 0.5
    np.testing.assert_allclose(np.delete(made, np.arange(5000, 5020)), np.delete(IMPORT, np.arange(5000, 5020)), atol=1e-6)
    assert made.sum() == pytest.approx(IMPORT.sum())
    np.testing.assert_allclose(made[5000:5020], IMPORT[5000:5020].mean())
    assert "what a register rose by, evenly over 19 readings" in dict(read.guesses)["column '1.8.0 kWh'"]


def test_signed_columns_are_parted_by_night_and_by_losses_and_a_metered_house_is_the_house(tmp_path):
    hour = (STAMPS.tz_convert("Etc/GMT-1").hour + 0.5).to_numpy()
    solar = np.where((hour > 7) & (hour < 18), 4000.0, 0.0)
    charge, discharge = np.where((hour > 10) & (hour < 14), 1000.0, 0.0), np.where(hour > 19, 700.0, 0.0)
    house = IMPORT / 3
    grid = house + charge - discharge - solar
    jitter = RNG.integers(0, 20, len(STAMPS))
    rows = [
        f"{(t + pd.Timedelta(seconds=int(j))).isoformat()},{s:.3f},{c - d:.3f},{-g:.6f},{h:.6f},50"
        for t, j, s, c, d, g, h in zip(STAMPS, jitter, solar, charge, discharge, grid, house, strict=True)
    ]
    path = tmp_path / "x.csv"
    path.write_text("\n".join(["Time,Solar (W),Battery power (W),Grid power (W),House load (W),SoC (%)", *rows]))
    read = read_meter(path, ZONE)
    np.testing.assert_allclose(read.power_w["import"], np.maximum(grid, 0), atol=1e-5)
    np.testing.assert_allclose(read.power_w["export"], np.maximum(-grid, 0), atol=1e-5)
    np.testing.assert_allclose(read.power_w["charge"], charge)
    np.testing.assert_allclose(read.power_w["discharge"], discharge)
    made = gross_load(read)
    np.testing.assert_allclose(made.power_w, house, atol=1e-5)
    assert made.how == "the house as it was metered"
    assert made.notes == ()
    assert not any("look whether its zone" in note for note in read.notes)
    path.write_text(
        "\n".join(
            [
                "time,solar kWh,import kWh",
                *(
                    f"{t.tz_convert('Etc/GMT-12'):%Y-%m-%dT%H:%M+00:00},{s / 2000:.3f},0.1"
                    for t, s in zip(STAMPS, solar, strict=True)
                ),
            ]
        )
    )
    late = read_meter(path, "UTC")
    assert any("the middle of its solar lies at" in note for note in late.notes)
    del read.power_w["house"]
    np.testing.assert_allclose(gross_load(read).power_w, house, atol=1e-4)


@given(st.data())
@settings(max_examples=40, deadline=None, derandomize=True)
def test_damaged_files_of_portals(tmp_path_factory, data):
    path: Path = tmp_path_factory.mktemp("meter") / "x.csv"
    good = "\n".join(text_of(data.draw(st.sampled_from(STYLES))).split("\n", 60)[:60])
    read_or_explained(lambda p: read_readings(p, ZONE), path, data.draw(damaged(good.encode())))


@pytest.mark.parametrize("write", STYLES, ids=lambda w: w.__name__)
def test_a_meter_file_is_known_for_one(write: Callable[[], str], tmp_path):
    (tmp_path / "x.csv").write_text(text_of(write)[:8000])
    assert kind_of_file(tmp_path / "x.csv") == "meter"


@pytest.mark.parametrize(
    ("text", "kind"),
    [
        ("ghi,air_c\n500,10\n", "weather"),
        ("LOCATION,Nowhere,-,-,TMY,1\nDESIGN CONDITIONS,0\n", "weather"),
        ("time(UTC),T2m,RH,G(h),Gb(n),Gd(h)\n20050101:0010,1,2,0,0,0\n", "weather"),
        ("Time,GHI (W/m2),Temperature\n2025-01-01 00:00,0,1\n", "weather"),
        ("Time,Temperature,Import kWh\n2025-01-01 00:00,1,1\n", "meter"),
        ("Zeit;Preis [EUR/MWh]\n01.01.2025 00:00;31,2\n", "prices"),
        ("hour,spot ct/kWh\n0,12\n", "prices"),
        ("<?xml version='1.0'?><feed/>", "meter"),
        ("100,NEM12,200506081149,X,Y\n200,NMI,E1,,E1,,,kWh,30,\n", "meter"),
        ('{"name": "x", "import_price_per_kwh": 0.3}', "tariff"),
        ('{"outputs": {"tmy_hourly": [{"G(h)": 0}]}}', "weather"),
        ('{"schema_version": 4}', "job"),
    ],
)
def test_a_dropped_file_is_known_by_its_first_bytes(text, kind, tmp_path):
    (tmp_path / "x.txt").write_text(text)
    assert kind_of_file(tmp_path / "x.txt") == kind


def nem(rows: list[str]) -> str:
    return "\n".join(["100,NEM12,202601010000,X,X", *rows, "900"]) + "\n"


def nem_days(suffix: str, minutes: int, wh: float, days: range, quality: str = "A") -> list[str]:
    count = 1440 // minutes
    first = pd.Timestamp("2025-01-01")
    cells = ",".join([f"{wh / 1000:.4f}"] * count)
    head = f"200,NMI1,E1E2,1,{suffix},N1,M,KWH,{minutes},"
    return [head, *(f"300,{first + pd.Timedelta(days=d):%Y%m%d},{cells},{quality},,," for d in days)]


def test_market_files_add_registers_sum_changed_intervals_and_leave_out_null_readings(tmp_path):
    path = tmp_path / "x.csv"
    rows = [*nem_days("E1", 30, 600, range(100)), *nem_days("E1", 5, 100, range(100, 365)), *nem_days("E2", 30, 60, range(365))]
    rows[3] = rows[3].replace(",A,,,", ",V,,,")
    rows.insert(4, "400,5,8,N,,")
    rows[10] = rows[10].replace(",A,,,", ",N,,,")
    path.write_text(nem(rows))
    read = read_meter(path, "Australia/Brisbane")
    assert read.interval_s == 1800
    assert read.filled.sum() == 4 + 48
    np.testing.assert_allclose(read.power_w["import"] * 0.5, 660.0)
    assert dict(read.guesses)["interval"] == "changes in the file, all summed to 30 min"
    path.write_text(nem([*rows, *nem_days("E2", 30, 60, range(3))]))
    with pytest.raises(BadInput, match="2025-01-01 stands twice for register E2"):
        read_meter(path, "Australia/Brisbane")
    path.write_text(nem([*rows, *(row.replace("NMI1", "NMI2") for row in nem_days("E1", 30, 1, range(365)))]))
    with pytest.raises(BadInput, match="2 meter points are mixed"):
        read_meter(path, "Australia/Brisbane")


def test_green_button_takes_net_flow_and_leaves_gas_and_sums_of_days(tmp_path):
    def series(number: int, kind: str, readings: str) -> str:
        base = f"https://nowhere/MeterReading/{number}"
        return (
            f'<entry><link rel="self" href="{base}"/><link rel="related" href="t/ReadingType/{number}"/><content><e:MeterReading/>'
            f'</content></entry><entry><link rel="self" href="t/ReadingType/{number}"/><content><e:ReadingType>{kind}'
            f'</e:ReadingType></content></entry><entry><link rel="up" href="{base}/IntervalBlock"/><content><e:IntervalBlock>'
            f"{readings}</e:IntervalBlock></content></entry>"
        )

    def reading(start: int, value: float, duration: str = "") -> str:
        long = f"<e:duration>{duration}</e:duration>" if duration else ""
        period = f"<e:timePeriod>{long}<e:start>{start}</e:start></e:timePeriod>"
        return f"<e:IntervalReading>{period}<e:value>{value:.0f}</e:value></e:IntervalReading>"

    start = int(STAMPS[0].timestamp())
    net = IMPORT - 2 * EXPORT
    half = "".join(reading(start + 1800 * i, v) for i, v in enumerate(net))
    energy = "<e:uom>72</e:uom><e:flowDirection>4</e:flowDirection><e:intervalLength>1800</e:intervalLength>"
    days = "".join(reading(start + 86_400 * d, 1, "86400") for d in range(365))
    gas = "<e:uom>119</e:uom>"
    head = '<?xml version="1.0"?><feed xmlns="http://www.w3.org/2005/Atom" xmlns:e="http://naesb.org/espi">'
    parts = [series(1, energy, half), series(2, "<e:uom>72</e:uom>", days), series(3, gas, days)]
    path = tmp_path / "x.xml"
    path.write_text(head + "".join(parts) + "</feed>")
    read = read_meter(path, ZONE)
    np.testing.assert_allclose(read.power_w["import"] * 0.5, np.maximum(net, 0))
    np.testing.assert_allclose(read.power_w["export"] * 0.5, np.maximum(-net, 0))
    assert dict(read.guesses)["left out"] == "intervals of 86400 s, unit 119 (watt-hours are 72)"
    path.write_text(head + parts[2] + "</feed>")
    with pytest.raises(BadInput, match="it holds only unit 119"):
        read_meter(path, ZONE)


def bare(tmp_path, lines):
    path = tmp_path / "prices.csv"
    path.write_text("\n".join(lines) + "\n")
    return path


def test_bare_prices_with_decimal_commas_are_no_two_columns(tmp_path):
    values = [0.05 + (h % 24) / 100 for h in range(8760)]
    commas = [f"{v:.2f}".replace(".", ",") for v in values]
    for lines in (commas, ["price per kWh", *commas]):
        np.testing.assert_allclose(read_prices(bare(tmp_path, lines), "UTC").per_kwh, values, atol=1e-9)
    with pytest.raises(BadInput, match="of what unit is not said"):
        read_prices(bare(tmp_path, [f"{14 + h % 3},03" for h in range(8760)]), "UTC")
    cents = ["ct/kWh", *(f"{14 + h % 3},03" for h in range(8760))]
    assert read_prices(bare(tmp_path, cents), "UTC").per_kwh[1] == pytest.approx(0.1503)


def test_a_column_that_counts_the_rows_is_no_part_of_the_price(tmp_path):
    counted = [f"{h},{h % 3}" for h in range(8760)]
    assert read_prices(bare(tmp_path, counted), "UTC").per_kwh[2] == pytest.approx(2.0)
    named = ["hour,price per kWh", *(f"{h},0.{h % 3}5" for h in range(8760))]
    assert read_prices(bare(tmp_path, named), "UTC").per_kwh[1] == pytest.approx(0.15)


@pytest.mark.parametrize("word", ["nan", "NaN", "inf", "-inf"])
def test_what_is_no_number_never_reaches_a_job(word, tmp_path):
    lines = ["price per kWh", *["0.2"] * 100, word, *["0.2"] * 8659]
    with pytest.raises(BadInput, match=r"row 102, column 1: .* is not a number"):
        read_prices(bare(tmp_path, lines), "UTC")
    store = SeriesStore()
    with pytest.raises(BadInput, match="cannot be kept"):
        store.put(np.array([1.0, float("nan")]))
    with pytest.raises(BadInput, match="0 or more"):
        store.put(np.array([1.0, -1.0]), "W")
    assert store.put(np.array([1.0, -1.0]), "per_kwh")
