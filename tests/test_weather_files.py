"""Weather files: each format read back, labels and zones, refinement that keeps every hour's energy, and bad files."""

from __future__ import annotations

import csv
import hashlib
import io
import json
import time
from functools import lru_cache

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from calm_relay.calendar import year_calendar
from calm_relay.cli import main
from calm_relay.demo import demo_job, demo_path
from calm_relay.errors import BadInput
from calm_relay.job.container import read_job, save_job
from calm_relay.job.series import SeriesStore
from calm_relay.study import Study
from calm_relay.weather.files import read_weather
from calm_relay.weather.into_job import distance_words, great_circle_km, monthly_means, with_weather
from calm_relay.weather.plausible import night_share_frac
from calm_relay.weather.refine import FileYear, refine_year
from calm_relay.weather.solar import Sun, sun_year

HOURS = 8760
PLACE = (50.0, 8.0, 110.0)


@pytest.fixture(scope="module")
def hourly() -> dict[str, np.ndarray]:
    """A year of hours in UTC+1 with the sun where it belongs, broken by seeded cloud."""
    sun = sun_year(year_calendar(2025, "Etc/GMT-1", 3600), *PLACE)
    cloud = np.random.default_rng(3).uniform(0.15, 1.0, HOURS)
    ghi = np.round(sun.clear_ghi_w_per_m2 * cloud)
    dhi = np.round(ghi * np.clip(1.2 - cloud, 0.15, 1.0))
    cos = np.cos(np.radians(sun.apparent_zenith_deg))
    dni = np.round(np.where(cos > 0.07, (ghi - dhi) / np.maximum(cos, 0.07), 0.0))
    hours = np.arange(HOURS)
    air = np.round(9 - 9 * np.cos(2 * np.pi * (hours / 24 - 15) / 365) + 4 * np.cos(2 * np.pi * (hours % 24 - 15) / 24), 1)
    return {"ghi": ghi, "dni": dni, "dhi": dhi, "air": air}


def as_epw(h: dict[str, np.ndarray]) -> str:
    head = ["LOCATION,Nowhere,-,XXX,made up,000000,50.0,8.0,1.0,110.0"] + [f"FILLER {i}" for i in range(7)]
    calendar = year_calendar(2025, "Etc/GMT-1", 3600)
    day_of_month = np.concatenate([np.repeat(np.arange(1, n + 1), 24) for n in (31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31)])
    rows = []
    for i in range(HOURS):
        row = [
            2019,
            calendar.month[i],
            day_of_month[i],
            i % 24 + 1,
            60,
            "?",
            h["air"][i],
            5,
            60,
            101300,
            0,
            0,
            300,
            h["ghi"][i],
            h["dni"][i],
            h["dhi"][i],
        ]
        rows.append(",".join(str(v) for v in row + [0] * 19))
    return "\n".join(head + rows) + "\n"


def as_plain(h: dict[str, np.ndarray], delimiter: str = ",") -> str:
    out = io.StringIO()
    writer = csv.writer(out, delimiter=delimiter)
    writer.writerow(["ghi", "dni", "dhi", "air_c"])
    for row in zip(h["ghi"], h["dni"], h["dhi"], h["air"], strict=True):
        writer.writerow([f"{v:.1f}".replace(".", "," if delimiter == ";" else ".") for v in row])
    return out.getvalue()


def pvgis_rows(h: dict[str, np.ndarray]) -> list[dict[str, object]]:
    utc = {name: np.roll(values, -1) for name, values in h.items()}  # UTC is an hour behind UTC+1
    calendar = year_calendar(2025, "UTC", 3600)
    days = np.concatenate([np.repeat(np.arange(1, n + 1), 24) for n in (31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31)])
    stamps = [f"{2019 + int(calendar.month[i]) % 3}{calendar.month[i]:02d}{days[i]:02d}:{i % 24:02d}00" for i in range(HOURS)]
    return [
        {"time(UTC)": s, "T2m": float(a), "RH": 50.0, "G(h)": float(g), "Gb(n)": float(b), "Gd(h)": float(d), "WS10m": 2.0}
        for s, a, g, b, d in zip(stamps, utc["air"], utc["ghi"], utc["dni"], utc["dhi"], strict=True)
    ]


def as_pvgis_json(h: dict[str, np.ndarray]) -> str:
    location = {"latitude": 50.0, "longitude": 8.0, "elevation": 110.0}
    return json.dumps({"inputs": {"location": location}, "outputs": {"tmy_hourly": pvgis_rows(h)}})


def as_pvgis_csv(h: dict[str, np.ndarray]) -> str:
    rows = pvgis_rows(h)
    head = ["Latitude (decimal degrees): 50.000", "Longitude (decimal degrees): 8.000", "Elevation (m): 110.0"]
    lines = [",".join(rows[0])] + [",".join(str(v) for v in row.values()) for row in rows]
    return "\n".join([*head, *lines, "", "T2m: 2-m air temperature (degree Celsius)"]) + "\n"


@pytest.mark.parametrize(
    ("name", "write", "form", "offset"),
    [
        ("a.epw", as_epw, "EPW", 1.0),
        ("a.csv", as_plain, "CSV", None),
        ("b.csv", lambda h: as_plain(h, ";"), "CSV", None),
        ("a.json", as_pvgis_json, "PVGIS", 0.0),
        ("c.csv", as_pvgis_csv, "PVGIS", 0.0),
    ],
)
def test_each_format_read_back(name, write, form, offset, hourly, tmp_path):
    path = tmp_path / name
    path.write_text(write(hourly), encoding="utf-8")
    read = read_weather(path)
    assert read.format == form
    assert sum(read.monthly_kwh_per_m2()) == pytest.approx(hourly["ghi"].sum() / 1000, rel=1e-6)
    assert np.isnan(read.year.utc_offset_h) if offset is None else read.year.utc_offset_h == offset
    shifted = np.roll(hourly["ghi"], -1) if offset == 0.0 else hourly["ghi"]
    np.testing.assert_allclose(read.year.ghi_w_per_m2, shifted, atol=0.06)
    np.testing.assert_allclose(read.year.air_c, np.roll(hourly["air"], -1) if offset == 0.0 else hourly["air"], atol=0.06)


def test_a_file_in_another_zone_gives_the_same_sun_on_the_job(hourly, tmp_path):
    """The same year as UTC+1 rows and as UTC rows: after the shift both give the job the same hours."""
    job = demo_job()
    place = job.site.place.model_copy(
        update={"latitude_deg": 50.0, "longitude_deg": 8.0, "altitude_m": 110.0, "time_zone": "Europe/Berlin"}
    )
    job = job.model_copy(update={"site": job.site.model_copy(update={"place": place})})
    made = []
    for name, text in (("a.epw", as_epw(hourly)), ("a.json", as_pvgis_json(hourly))):
        (tmp_path / name).write_text(text)
        store = SeriesStore()
        changed = with_weather(job, read_weather(tmp_path / name), store, 1.0)
        made.append(Study(store, step_s=900).weather(changed).ghi_w_per_m2)
    hours = [ghi.reshape(-1, 4).mean(axis=1) for ghi in made]  # the cloud within an hour is drawn in the file's own time
    np.testing.assert_allclose(hours[0], hours[1], atol=1e-6)
    np.testing.assert_allclose(hours[0], hourly["ghi"], atol=1e-6)


@lru_cache
def sun_at(step_s: int) -> Sun:
    return sun_year(year_calendar(2025, "Etc/GMT-1", step_s), *PLACE)


@given(st.integers(0, 2**31), st.sampled_from([300, 900, 1800]))
@example(7, 60)
@settings(max_examples=7, deadline=None, derandomize=True)
def test_refinement_keeps_every_hours_energy_below_the_cap(seed, step_s):
    calendar, sun = year_calendar(2025, "Etc/GMT-1", step_s), sun_at(step_s)
    per = 3600 // step_s
    clear = sun.clear_ghi_w_per_m2.reshape(-1, per)
    rng = np.random.default_rng(seed)
    ghi = clear.mean(axis=1) * rng.uniform(0.0, 1.15, HOURS)
    made = refine_year(FileYear(1.0, ghi, None, None, np.zeros(HOURS)), calendar, sun, seed)
    fine = made.weather.ghi_w_per_m2
    np.testing.assert_allclose(fine.reshape(-1, per).mean(axis=1), ghi, atol=1e-6)
    assert made.unplaced_wh_per_m2 < 1e-6
    assert np.all(fine <= 1.2 * sun.clear_ghi_w_per_m2 + 1e-9)
    assert np.all(fine[sun.clear_ghi_w_per_m2 <= 0] == 0)
    again = refine_year(FileYear(1.0, ghi, None, None, np.zeros(HOURS)), calendar, sun, seed).weather.ghi_w_per_m2
    np.testing.assert_array_equal(fine, again)
    if per > 1:
        smooth = np.abs(np.diff(np.repeat(ghi, per))).mean()
        assert np.abs(np.diff(fine)).mean() > smooth, "broken cloud is brought back"


def test_energy_that_has_no_sun_is_counted_not_hidden():
    calendar = year_calendar(2025, "Etc/GMT-1", 900)
    sun = sun_year(calendar, *PLACE)
    ghi = np.zeros(HOURS)
    ghi[0] = 100.0  # midnight in January
    made = refine_year(FileYear(1.0, ghi, None, None, np.zeros(HOURS)), calendar, sun, 1)
    assert made.unplaced_wh_per_m2 == pytest.approx(100.0)


def test_a_shifted_zone_shows_as_sun_at_night(hourly, tmp_path):
    (tmp_path / "a.csv").write_text(as_plain(hourly))
    read = read_weather(tmp_path / "a.csv")
    zenith = sun_year(year_calendar(2025, "Etc/GMT-1", 3600), *PLACE).apparent_zenith_deg
    assert night_share_frac(read.year.ghi_w_per_m2, zenith) < 0.01
    assert night_share_frac(read.year.ghi_w_per_m2, np.roll(zenith, 6)) > 0.1


@pytest.mark.parametrize("hours", [-9, -3, 5, 11])
def test_a_wrong_zone_is_refused_with_the_shift_that_would_fit(hours, hourly, tmp_path, capsys):
    moved = {name: np.roll(values, hours) for name, values in hourly.items()}
    path, job = tmp_path / "a.epw", tmp_path / "job.crjob"
    path.write_text(as_epw(moved))
    save_job(job, demo_job(), SeriesStore())
    before = job.read_bytes()
    assert main(["set-weather", str(job), "--file", str(path), "--out", str(job)]) == 2
    err = capsys.readouterr().err
    assert "while the sun is down" in err
    assert f"rows {abs(hours)} h {'earlier' if hours > 0 else 'later'} would fit" in err
    assert job.read_bytes() == before


def test_short_gaps_are_filled_from_the_days_around_and_said(hourly, tmp_path):
    lines = as_plain(hourly).split("\n")
    for i in (700, 701, 4000):
        lines[i] = ("nan" if i == 700 else "") + lines[i][lines[i].index(",") :]
    (tmp_path / "a.csv").write_text("\n".join(lines))
    read = read_weather(tmp_path / "a.csv")
    ghi = hourly["ghi"]
    assert read.year.ghi_w_per_m2[699] == pytest.approx((ghi[699 - 24] + ghi[699 + 24]) / 2)  # row 700 of the file
    assert "3 rows were missing" in read.notes[-1]
    untouched = np.setdiff1d(np.arange(HOURS), (699, 700, 3999))
    np.testing.assert_array_equal(read.year.ghi_w_per_m2[untouched], ghi[untouched])


def test_extremes_of_a_file_stand_in_for_what_nobody_typed(hourly, tmp_path):
    """A typical year's minimum is no record low: 5 K of margin, and marked assumed; typed values stay."""
    (tmp_path / "a.epw").write_text(as_epw(hourly))
    read, job = read_weather(tmp_path / "a.epw"), demo_job()
    assert with_weather(job, read, SeriesStore(), 1.0).site.record_low_c == job.site.record_low_c
    bare = job.model_copy(update={"site": job.site.model_copy(update={"record_low_c": None})})
    made = with_weather(bare, read, SeriesStore(), 1.0)
    assert made.site.record_low_c == np.floor(hourly["air"].min() - 5)
    assert made.mark_of("site.record_low_c") == "assumed"
    assert made.mark_of("site.design_high_c") == "typed"


def test_monthly_means_of_a_file_make_a_synthetic_year_like_it(hourly):
    means = monthly_means(hourly["ghi"], hourly["air"])
    days = np.array([31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31])
    assert (np.array(means.ghi_wh_per_m2_day) * days).sum() == pytest.approx(hourly["ghi"].sum(), rel=1e-4)


def test_distance_is_said_and_far_is_warned_of(hourly, tmp_path):
    # One degree of latitude is 111.2 km on a sphere of 6371 km (arithmetic).
    assert great_circle_km(50, 8, 51, 8) == pytest.approx(111.19, abs=0.02)
    (tmp_path / "a.epw").write_text(as_epw(hourly))
    read = read_weather(tmp_path / "a.epw")
    assert "far enough" not in distance_words(read, 50.2, 8.0, 100.0)
    assert "far enough" in distance_words(read, 51.0, 8.0, 100.0)
    assert "far enough" in distance_words(read, 50.0, 8.0, 600.0)


# --- bad files: one clear line, nothing changed


def broken(kind: str, text: str) -> bytes:
    lines = text.split("\n")
    if kind == "empty":
        return b""
    if kind == "binary":
        return b"\x00\xff\xfe rubbish"
    if kind == "not utf-8":
        return text.encode("utf-8").replace(b"ghi", b"gh\xe9", 1)
    if kind == "no ghi":
        lines[0] = lines[0].replace("ghi", "sun")
    if kind == "short":
        lines = lines[:5000]
    if kind == "text in it":
        lines[700] = "cloudy" + lines[700][lines[700].index(",") :]
    if kind == "gap":
        for i in range(700, 730):
            lines[i] = "nan" + lines[i][lines[i].index(",") :]
    if kind == "negative":
        lines[700] = "-5" + lines[700][lines[700].index(",") :]
    if kind == "kilowatts":
        lines = [lines[0]] + [",".join(str(float(v) / 1000) for v in line.split(",")) for line in lines[1:] if line.strip()]
    if kind == "joules":
        lines = [lines[0]] + [",".join(str(float(v) * 3.6) for v in line.split(",")) for line in lines[1:] if line.strip()]
    if kind == "month gone":
        lines = [line if i < 1 or i > 744 else "0,0,0,5" for i, line in enumerate(lines)]
    if kind == "days doubled":
        body = lines[1:8761]
        lines = [lines[0]] + [body[(i // 48) * 48 % 8736 + i % 24] for i in range(8760)]
    return "\n".join(lines).encode()


@pytest.mark.parametrize(
    ("kind", "words"),
    [
        ("empty", "the file is empty"), ("binary", "not UTF-8"), ("not utf-8", "not UTF-8"), ("no ghi", "no column 'ghi'"),
        ("short", "a year has 8760 hours"), ("text in it", "'cloudy' is not a number"), ("gap", "missing for 30 rows, 30 h on end"),
        ("negative", "lies between 0 and 1600"), ("kilowatts", "these look like kW"), ("joules", "check the units"),
        ("month gone", "the month is missing"), ("days doubled", "repeat the day before"),
    ],
)  # fmt: skip
def test_a_bad_file_gives_one_clear_line_and_changes_nothing(kind, words, hourly, tmp_path, capsys):
    path, job = tmp_path / "bad.csv", tmp_path / "job.crjob"
    path.write_bytes(broken(kind, as_plain(hourly)))
    save_job(job, demo_job(), SeriesStore())
    before = hashlib.sha256(job.read_bytes()).hexdigest()
    assert main(["set-weather", str(job), "--file", str(path), "--out", str(job)]) == 2
    err = capsys.readouterr().err
    assert len(err.strip().splitlines()) == 1
    assert words in err
    assert "bad.csv" in err
    assert hashlib.sha256(job.read_bytes()).hexdigest() == before


def test_ten_million_rows_are_refused_quickly(tmp_path):
    path = tmp_path / "big.csv"
    with path.open("w") as out:
        out.write("ghi,air_c\n")
        for _ in range(100):
            out.write("100,5\n" * 100_000)
    begin = time.monotonic()
    with pytest.raises(BadInput, match=r"more rows than a year|more than a year"):
        read_weather(path)
    assert time.monotonic() - begin < 10


def test_a_weather_file_goes_through_command_line_and_container(hourly, tmp_path, capsys):
    source, out = tmp_path / "a.epw", tmp_path / "job.crjob"
    source.write_text(as_epw(hourly))
    assert main(["weather", str(source), "--json"]) == 0
    data = json.loads(capsys.readouterr().out)
    assert data["ghi_annual_kwh_per_m2"] == pytest.approx(hourly["ghi"].sum() / 1000)
    assert len(data["ghi_monthly_kwh_per_m2"]) == 12
    assert main(["set-weather", str(demo_path()), "--file", str(source), "--out", str(out)]) == 0
    capsys.readouterr()
    opened = read_job(out)
    assert opened.job.site.weather.kind == "file"
    np.testing.assert_array_equal(opened.store.get(opened.job.site.weather.ghi.sha256), hourly["ghi"])
    study = Study(opened.store, step_s=3600)
    assert study.plan_result(opened.job, opened.job.plan("B")).bill.total > 0
