"""Weather files: EPW, TMY3, PVGIS CSV and JSON by pvlib, plain CSV by named columns; checked before anything is changed.

Every reader ends with one year of 365 days, rows labelled by their begin, in the file's own fixed UTC offset (definitions D1).
"""

from __future__ import annotations

import csv
import io
import json
import math
import warnings
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import DAYS, MONTH_DAYS
from calm_relay.errors import BadInput, Fault
from calm_relay.handed_in import handed_in
from calm_relay.weather.refine import FileYear

Array = NDArray[Any]
MOST_BYTES = 60_000_000
HOURS = DAYS * 24
COLUMNS = {  # names a plain CSV may use, folded
    "ghi": ("ghi", "ghi_w_per_m2", "ghi (w/m2)", "ghi (w/m²)", "g(h)", "global horizontal"),
    "dni": ("dni", "dni_w_per_m2", "dni (w/m2)", "dni (w/m²)", "gb(n)"),
    "dhi": ("dhi", "dhi_w_per_m2", "dhi (w/m2)", "dhi (w/m²)", "gd(h)"),
    "air": ("air_c", "temp_air", "temperature", "t2m", "dry-bulb (c)", "temp_c"),
}
MOST_MISSING_FRAC = 0.02
POLAR_DEG = 65.0
Format = Literal["EPW", "TMY3", "PVGIS", "CSV"]


@dataclass(frozen=True, eq=False)
class WeatherRead:
    """What a file held, ready to be put into a job."""

    name: str
    format: Format
    labels: str
    years: str
    latitude_deg: float | None
    longitude_deg: float | None
    altitude_m: float | None
    year: FileYear
    notes: tuple[str, ...] = field(default=())

    @property
    def step_h(self) -> float:
        """Length of a row. [h]"""
        return HOURS / len(self.year.ghi_w_per_m2)

    def monthly_kwh_per_m2(self) -> tuple[float, ...]:
        """Return global horizontal irradiation of each month. (12,) [kWh/m²]"""
        starts = np.concatenate(([0], np.cumsum(MONTH_DAYS)[:-1])) * (len(self.year.ghi_w_per_m2) // DAYS)
        return tuple(float(v) * self.step_h / 1000.0 for v in np.add.reduceat(self.year.ghi_w_per_m2, starts))


def read_weather(path: Path | str) -> WeatherRead:
    """Read a weather file of any known kind.

    Raises
    ------
    BadInput
        One clear line: what is wrong with the file, where, and what would be right.
    """
    path = Path(path)
    text = _text(path)
    head = text[:4000]
    if head.startswith("LOCATION,"):
        reader: Callable[[str, Path], WeatherRead] = _epw
    elif head.lstrip().startswith("{"):
        reader = _pvgis_json
    elif head.startswith("Latitude (decimal degrees)"):
        reader = _pvgis_csv
    elif "Date (MM/DD/YYYY)" in head:
        reader = _tmy3
    else:
        reader = _plain
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            read = reader(text, path)
    except BadInput:
        raise
    except Exception as error:
        raise _bad(
            path, "", f"it cannot be read as weather ({type(error).__name__}: {error})", "check the file, or export it again"
        ) from error
    read = _filled(read, path)
    _check(read, path)
    return read


def _bad(path: Path, where: str, problem: str, remedy: str) -> BadInput:
    return BadInput([Fault(str(path), where, " ".join(str(problem).split())[:300], remedy)])


def _text(path: Path) -> str:
    larger = "it has {mb:.0f} MB, more than a year of weather"
    raw = handed_in(path, MOST_BYTES, larger, "give one year, at most at one minute")
    if not raw.strip():
        raise _bad(path, "", "the file is empty", "give a weather file")
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        try:
            text = raw.decode("latin-1")
        except UnicodeDecodeError:
            text = ""
        if text.startswith("LOCATION,") or "Date (MM/DD/YYYY)" in text[:4000]:
            return text  # station names of these formats are often Latin-1
        raise _bad(path, "", f"it is not UTF-8 text (byte {error.start})", "save it as UTF-8") from error


def _tmy3(text: str, path: Path) -> WeatherRead:
    from pvlib import iotools

    frame, meta = iotools.read_tmy3(io.StringIO(text), map_variables=True)
    years = sorted(set(frame.index.year[:-1]))
    year = _year(path, float(meta["TZ"]), frame["ghi"], frame["dni"], frame["dhi"], frame["temp_air"])
    labels = "labels end the hour; each row was taken to cover the hour before its label"
    name = f"{years[0]}–{years[-1]}, typical" if years else "typical"
    return WeatherRead(
        name=path.name,
        format="TMY3",
        labels=labels,
        years=name,
        latitude_deg=meta["latitude"],
        longitude_deg=meta["longitude"],
        altitude_m=meta["altitude"],
        year=year,
    )


def _epw(text: str, path: Path) -> WeatherRead:
    from pvlib import iotools

    frame, meta = iotools.read_epw(io.StringIO(text))
    years = sorted(set(frame["year"]))
    frame, notes = _without_leap_day(frame, frame["month"].to_numpy(), frame["day"].to_numpy())
    year = _year(path, float(meta["TZ"]), frame["ghi"], frame["dni"], frame["dhi"], frame["temp_air"])
    labels = "labels end the hour; each row covers the hour before its label"
    shown = f"{years[0]}–{years[-1]}" if len(years) > 1 else str(years[0])
    return WeatherRead(
        name=path.name,
        format="EPW",
        labels=labels,
        years=shown,
        latitude_deg=meta["latitude"],
        longitude_deg=meta["longitude"],
        altitude_m=meta["altitude"],
        year=year,
        notes=notes,
    )


def _pvgis_json(text: str, path: Path) -> WeatherRead:
    data = json.loads(text)
    outputs = data.get("outputs", {}) if isinstance(data, dict) else {}
    rows = outputs.get("tmy_hourly") or outputs.get("hourly")
    if not isinstance(rows, list) or not rows:
        raise _bad(
            path,
            "outputs",
            "there is no 'tmy_hourly' or 'hourly' in it",
            "export the typical year, or one year, from the horizontal plane",
        )
    place = data.get("inputs", {}).get("location", {})
    return _pvgis(path, rows, place)


def _pvgis_csv(text: str, path: Path) -> WeatherRead:
    lines = text.splitlines()
    start = next((i for i, line in enumerate(lines) if line.startswith("time")), None)
    if start is None:
        raise _bad(path, "", "there is no row of column names that begins with 'time'", "export it again as CSV")
    place = {}
    for line in lines[:start]:
        for key, name in (("Latitude", "latitude"), ("Longitude", "longitude"), ("Elevation", "elevation")):
            if line.startswith(key):
                place[name] = float(line.split(":")[1].replace("(m)", "").split()[0])
    rows = [
        row for row in csv.DictReader(lines[start:]) if row.get(next(iter(row)), "") and len([v for v in row.values() if v]) > 3
    ]
    return _pvgis(path, rows, place)


def _pvgis(path: Path, rows: list[dict[str, Any]], place: dict[str, Any]) -> WeatherRead:
    stamp = next((name for name in ("time(UTC)", "time") if name in rows[0]), None)
    missing = [name for name in ("G(h)", "T2m") if name not in rows[0]]
    if stamp is None or missing:
        what = "time" if stamp is None else missing[0]
        raise _bad(
            path,
            "columns",
            f"there is no column '{what}'",
            f"its columns are: {', '.join(rows[0])}; the horizontal plane is needed",
        )
    kept = [row for row in rows if str(row[stamp])[4:8] != "0229"]
    notes = (f"29 February was dropped, {len(rows) - len(kept)} hours",) if len(kept) < len(rows) else ()

    def column(name: str) -> Array | None:
        return np.array([float(row[name]) for row in kept]) if name in kept[0] else None

    order = np.argsort([str(row[stamp])[4:] for row in kept], kind="stable")
    minute = int(str(kept[0][stamp])[-2:])
    series = {name: (None if (c := column(name)) is None else c[order]) for name in ("G(h)", "Gb(n)", "Gd(h)", "T2m")}
    years = sorted({str(row[stamp])[:4] for row in rows})
    shown = f"{years[0]}–{years[-1]}" + (", typical" if len(years) > 1 else "")
    year = _year(path, 0.0, series["G(h)"], series["Gb(n)"], series["Gd(h)"], series["T2m"])
    labels = f"labels in UTC at minute {minute:02d} of the hour they stand for; the row covers that hour"
    return WeatherRead(
        name=path.name,
        format="PVGIS",
        labels=labels,
        years=shown,
        latitude_deg=place.get("latitude"),
        longitude_deg=place.get("longitude"),
        altitude_m=place.get("elevation"),
        year=year,
        notes=notes,
    )


def _plain(text: str, path: Path) -> WeatherRead:
    dialect = ";" if text.split("\n", 1)[0].count(";") > text.split("\n", 1)[0].count(",") else ","
    rows = csv.reader(io.StringIO(text), delimiter=dialect)
    header = [name.strip().casefold() for name in next(rows, [])]
    at = {key: next((header.index(n) for n in names if n in header), None) for key, names in COLUMNS.items()}
    if at["ghi"] is None or at["air"] is None:
        missing = "ghi" if at["ghi"] is None else "air_c"
        raise _bad(
            path,
            "row 1",
            f"there is no column '{missing}'",
            f"its columns are: {', '.join(header)[:120] or 'none'}; name one ghi (W/m²) and one air_c (°C)",
        )
    values: dict[str, list[float]] = {key: [] for key, i in at.items() if i is not None}
    for number, row in enumerate(rows, start=2):
        if not any(cell.strip() for cell in row):
            continue
        if number > DAYS * 1440 + 2000:
            raise _bad(path, f"row {number}", "it has more rows than a year has minutes", "give one year")
        for key, held in values.items():
            index = at[key]
            assert index is not None
            cell = row[index].strip() if index < len(row) else ""
            try:
                held.append(float(cell.replace(",", ".") if dialect == ";" else cell) if cell else math.nan)
            except ValueError:
                raise _bad(
                    path,
                    f"row {number}, column '{header[index]}'",
                    f"'{cell}' is not a number",
                    "write a plain number, or fill the gap",
                ) from None
    arrays = {key: np.array(held) for key, held in values.items()}
    year = _year(path, math.nan, arrays["ghi"], arrays.get("dni"), arrays.get("dhi"), arrays["air"])
    return WeatherRead(
        name=path.name,
        format="CSV",
        labels="rows begin on 1 January 00:00, local standard time of the job",
        years="",
        latitude_deg=None,
        longitude_deg=None,
        altitude_m=None,
        year=year,
    )


def _without_leap_day(frame: Any, month: Array, day: Array) -> tuple[Any, tuple[str, ...]]:
    leap = (month == 2) & (day == 29)
    if not leap.any():
        return frame, ()
    return frame[~leap], (f"29 February was dropped, {int(leap.sum())} rows",)


def _year(path: Path, offset_h: float, ghi: Any, dni: Any, dhi: Any, air: Any) -> FileYear:
    """Return arrays of one whole year; raises BadInput for a wrong number of rows."""
    arrays = [None if column is None else np.asarray(column, dtype=float) for column in (ghi, dni, dhi, air)]
    count = len(arrays[0]) if arrays[0] is not None else 0
    steps = {HOURS: 3600, HOURS * 2: 1800, HOURS * 4: 900, HOURS * 12: 300, HOURS * 60: 60}
    if count not in steps:
        leap = {rows * 366 // 365: "a leap year" for rows in steps}
        hint = " (a leap year: drop 29 February)" if count in leap else ""
        raise _bad(
            path,
            "",
            f"it has {count} rows; a year has 8760 hours{hint}",
            "give one whole year of hours, half hours, quarters, 5 min or minutes",
        )
    assert arrays[0] is not None
    assert arrays[3] is not None
    return FileYear(offset_h, arrays[0], arrays[1], arrays[2], arrays[3])


def _filled(read: WeatherRead, path: Path) -> WeatherRead:
    """Fill short gaps from the same hour of the days around them, and say how many; long ones are refused.

    Raises
    ------
    BadInput
        When more than a day on end, or more than `MOST_MISSING_FRAC` of the year, is missing.
    """
    columns = {name: getattr(read.year, name) for name in ("ghi_w_per_m2", "dni_w_per_m2", "dhi_w_per_m2", "air_c")}
    per_day, filled, missing = len(read.year.ghi_w_per_m2) // DAYS, {}, 0
    for name, values in columns.items():
        gaps = np.isnan(values) if values is not None else np.zeros(0, dtype=bool)
        if not gaps.any():
            continue
        edges = np.flatnonzero(np.diff(np.concatenate(([0], gaps.astype(np.int8), [0]))))
        longest = int((edges[1::2] - edges[::2]).max())
        if longest > per_day or gaps.mean() > MOST_MISSING_FRAC:
            hours = longest * read.step_h
            raise _bad(
                path,
                f"data row {int(np.flatnonzero(gaps)[0]) + 1}",
                f"{name.split('_')[0]} is missing for {int(gaps.sum())} rows, {hours:.0f} h on end",
                f"fill the gap: up to a day on end and {MOST_MISSING_FRAC * 100:g} % of the year are filled from the days around",
            )
        days = values.reshape(DAYS, per_day)
        nearest = [np.roll(days, shift, axis=0) for shift in (1, -1, 2, -2, 3, -3)]
        around = np.nanmean(np.stack(nearest[:2]), axis=0)
        for other in nearest[2:]:
            around = np.where(np.isnan(around), other, around)
        filled[name] = np.where(gaps, around.ravel(), values)
        missing = max(missing, int(gaps.sum()))
    if not filled:
        return read
    note = f"{missing} rows were missing and are filled with the mean of the same hour of the days around"
    return replace(read, year=replace(read.year, **filled), notes=(*read.notes, note))


def _check(read: WeatherRead, path: Path) -> None:
    """Refuse what cannot be weather: gaps, impossible values, wrong units; raises BadInput with the row."""
    year = read.year
    named = (
        ("GHI", year.ghi_w_per_m2, 0, 1600),
        ("DNI", year.dni_w_per_m2, 0, 1500),
        ("DHI", year.dhi_w_per_m2, 0, 1200),
        ("air", year.air_c, -90, 65),
    )
    for name, values, low, high in named:
        if values is None:
            continue
        wrong = np.flatnonzero(~np.isfinite(values) | (values < low - 1e-9) | (values > high))
        if len(wrong):
            value = values[wrong[0]]
            unit = "°C" if name == "air" else "W/m²"
            remedy = (
                "fill the gap" if not np.isfinite(value) else f"{name} in {unit} lies between {low} and {high}; check the units"
            )
            problem = f"{name} is {value:g} {unit}" + (f", and {len(wrong) - 1} more rows like it" if len(wrong) > 1 else "")
            raise _bad(path, f"data row {int(wrong[0]) + 1}", problem, remedy)
    months = read.monthly_kwh_per_m2()
    if sum(months) < 50:
        raise _bad(path, "", f"the year has only {sum(months):.1f} kWh/m²", "GHI belongs in W/m²; these look like kW or MJ")
    polar = read.latitude_deg is not None and abs(read.latitude_deg) > POLAR_DEG  # where a month without sun is right
    empty = [] if polar else [i + 1 for i, kwh in enumerate(months) if kwh <= 0]
    if empty:
        raise _bad(path, f"month {empty[0]}", "it has no sun at all", "the month is missing: give a whole year")
    per_day = len(year.ghi_w_per_m2) // DAYS
    days = year.ghi_w_per_m2.reshape(DAYS, per_day)
    same = np.flatnonzero((days[1:] == days[:-1]).all(axis=1) & (days[1:].sum(axis=1) > 0))
    if len(same) > 10:
        raise _bad(
            path,
            f"day {int(same[0]) + 2}",
            f"{len(same)} days repeat the day before to the last digit",
            "duplicated hours: export it again",
        )
