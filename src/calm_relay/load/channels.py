"""What the columns of a meter file are: channels by the words of their headings, registers, signed columns, parts of one."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from calm_relay.handed_in import bad
from calm_relay.load.meter_units import is_power, to_wh, unit_of
from calm_relay.tables.clock import Instants

Array = NDArray[np.float64]
# No energy: money, weather, volts, quality, and reactive or apparent energy.
OTHER = re.compile(
    r"cost|price|[$€£]|tariff rate|amount|\beur\b|temp|°|volt|\bv\b|current \(|amp|[\[(]a[\])]|soc\b|state of charge|%|quality|"
    r"status|flag|freq|\bhz\b|kva|\bva\b|\bvar|irradi|w/m|humid|factor|\bco2|\bid\b|number"
)
# Words of a heading that name a channel; the first that fits wins.
KINDS: tuple[tuple[str, re.Pattern[str]], ...] = (
    ("discharge", re.compile(r"discharg|(from|out of) (the )?batter|batter\w* out|entlad")),
    ("charge", re.compile(r"charg|(to|into) (the )?batter|batter\w* in\b|aufladung|batterieladung")),
    ("battery", re.compile(r"batter|storage")),
    ("export", re.compile(
        r"export|feed[- ]?in|\bfed\b|return|to (the )?grid|grid out|surplus|received by|sold|einspeis|inject|teruglever|vertid|"
        r"\b2\.8\b|\bb\d\b"
    )),
    ("solar", re.compile(r"solar|\bpv\b|generat|producti|produced|erzeug|opwek|photovolt")),
    ("import", re.compile(
        r"import|from (the )?grid|grid in\b|purchas|bought|deliver|bezug|soutir|afname|demand|\b1\.8\b|\be\d\b"
    )),
    ("net", re.compile(r"\bnet\b|netto|saldo|\bgrid\b")),
    ("house", re.compile(r"\bhouse|\bhome|\bload\b|site load")),
    ("use", re.compile(r"consum|usage|\buse\b|\bused\b|verbrauch|verbruik|consommation|general supply|controlled load")),
    ("plain", re.compile(r"energ|value|reading|(?<![a-z])k?wh\b|\bk?w\b|power|watt|leistung|total|electric|strom|zahler|zähler")),
)  # fmt: skip
PART = re.compile(
    r"\b(off[- ]?peak|peak|shoulder|t\d|ht|nt|hp|hc|day|night|low|high|general|controlled|tarif\w* ?\d|rate ?\d|e\d|b\d|l\d|"
    r"phase ?\d)\b"
)
NEGATIVE_FRAC = 0.02  # as many readings below zero are a meter's sign, fewer are faults
NOISE_FRAC = 0.02  # what a PV inverter draws at night, against its peak
REGISTER_ROWS = 48
REGISTER_FRAC = 0.999  # of a register's steps go up
USUAL_WH_A_DAY = (300.0, 500_000.0)


@dataclass(frozen=True, eq=False)
class Column:
    """A column of numbers with its heading; `rows` are the file's row numbers, `unit` what the file says of it elsewhere."""

    head: str
    values: Array
    rows: NDArray[np.int64]
    unit: str = ""


@dataclass
class Found:
    """Energies by channel [Wh an interval], and what was guessed."""

    energy_wh: dict[str, Array] = field(default_factory=dict)
    told: list[tuple[str, str]] = field(default_factory=list)
    heads: dict[str, str] = field(default_factory=dict)


def kind_of(head: str) -> str:
    """Return what a heading names, '' where it names no energy."""
    folded = head.casefold().replace("_", " ")
    if OTHER.search(folded):
        return ""
    return next((kind for kind, words in KINDS if words.search(folded)), "")


def is_register(values: Array) -> bool:
    """Return whether readings are those of a counter: they hardly ever fall, and stand far above what they rise by."""
    known = values[~np.isnan(values)]
    if len(known) < REGISTER_ROWS:
        return False
    rise = np.diff(known)
    up = float((rise >= 0).mean())
    return up >= REGISTER_FRAC and float(rise[rise > 0].sum()) > 0 and float(np.median(known)) > 20 * float(np.mean(np.abs(rise)))


def channels(path: Path, columns: Sequence[Column], interval_s: int, standard: Instants) -> Found:
    """Return the channels that columns are.

    Parameters
    ----------
    path : Path
    columns : sequence of Column
    interval_s : int
    standard : ndarray of datetime64[s], (rows,)
        Begin of each row in standard time, for the sign of a net meter: PV gives nothing at night.

    Raises
    ------
    BadInput
        No column is known, or a reading below zero stands where none can be.
    """
    kinds = [kind_of(column.head) for column in columns]
    if not any(kinds) and len(columns) == 1 and not OTHER.search(columns[0].head.casefold()):
        kinds = ["plain"]
    strong = set(kinds) - {"", "plain", "use", "house"}
    whole = "import" in strong or "net" in strong or ("solar" in strong and "export" not in strong)
    names = {"use": "house" if whole else "import", "house": "house" if strong else "import", "plain": "import"}
    if strong & {"import", "net"} or "use" in kinds or "house" in kinds:
        kinds = ["" if kind == "plain" else kind for kind in kinds]
    found, night = Found(), _night(standard)
    left = []
    for column, kind in zip(columns, kinds, strict=True):
        name = names.get(kind, kind)
        if not name or not _take(path, found, column, name, interval_s, night, alone="export" not in strong):
            left.append(column.head)
    if left:
        found.told.append(("left out", ", ".join(left)[:200]))
    if not set(found.energy_wh) & {"import", "house"}:
        heads = ", ".join(column.head for column in columns)[:120]
        raise bad(path, "row 1", f"no column of energy or power from the grid is known among: {heads}", "name one 'import kWh'")
    _say_size(found, interval_s)
    return found


def _night(standard: Instants) -> NDArray[np.bool_]:
    hour = (standard.astype("datetime64[s]").astype(np.int64) / 3600.0) % 24.0
    night: NDArray[np.bool_] = (hour < 4.0) | (hour >= 22.5)
    return night


def _take(path: Path, found: Found, column: Column, name: str, interval_s: int, night: NDArray[np.bool_], *, alone: bool) -> bool:
    """Put a column into its channel; return False where the channel is there already and this is no part of it."""
    unit = unit_of(column.head, column.unit)
    values, words = column.values, ""
    if not is_power(column.head, unit) and is_register(values):
        values, words = _steps(values)
    factor, told = to_wh(column.head, unit, values, interval_s)
    values = values * factor
    below = float((values < 0).mean())
    if name in ("import", "house", "net") and below > NEGATIVE_FRAC and alone:
        name = "net"
    if name in ("net", "battery"):
        pair = _split(values, name, night)
        if any(key in found.energy_wh for key in pair):
            return False
        found.energy_wh |= pair
        found.told.append((f"column '{column.head}'", f"{' less '.join(pair)} by its sign, {told}{words}"))
        return True
    if name in ("export", "charge", "discharge") and not (values > 0).any():
        values, words = -values, f"{words}, its sign turned"
    if name == "solar" and below and float(-np.nanmin(values)) <= NOISE_FRAC * float(np.nanmax(values)):
        values, words = np.where(values < 0, 0.0, values), f"{words}, what it draws at night left out"
    low = np.flatnonzero(values < 0)
    if len(low):
        at = int(low[0])
        where = f"row {column.rows[at]}, column '{column.head}'"
        raise bad(path, where, f"{column.values[at]:g} is below 0", "give import and export in columns of their own")
    if name in found.energy_wh:
        if not (PART.search(column.head.casefold()) and PART.search(found.heads[name].casefold())):
            return False
        values, words = values + found.energy_wh[name], f"{words}, added to '{found.heads[name]}'"
    found.energy_wh[name] = values
    found.heads[name] = column.head
    shown = {"house": "house (all it draws)"}.get(name, name)
    found.told.append((f"column '{column.head}'", f"{shown}, {told}{words}"))
    return True


def _steps(values: Array) -> tuple[Array, str]:
    """Return what a register rises by from each reading to the next, and that in words; NaN where it falls, and for the last.

    Readings that are missing on the way are taken on a straight line: what the register rose by meanwhile is spread evenly.
    """
    rows, known = np.arange(len(values)), ~np.isnan(values)
    rise = np.append(np.diff(np.interp(rows, rows[known], values[known], left=np.nan, right=np.nan)), np.nan)
    missing = int((~known).sum())
    spread = f", evenly over {missing} readings that are missing" if missing else ""
    return np.where(rise < 0, np.nan, rise), f", what a register rose by{spread}"


def with_gaps(columns: Sequence[Column], begin: Instants, interval_s: int) -> tuple[tuple[Column, ...], Instants]:
    """Return columns with empty rows where intervals are missing, if a register is among them: its rise goes on meanwhile."""
    steps = np.diff(begin).astype("timedelta64[s]").astype(np.int64) // interval_s
    if not (steps > 1).any() or (steps < 1).any() or not any(is_register(column.values) for column in columns):
        return tuple(columns), begin
    at = np.concatenate(([0], np.cumsum(steps)))
    full = begin[0] + np.arange(at[-1] + 1) * np.timedelta64(interval_s, "s")
    made = []
    for column in columns:
        values, rows = np.full(len(full), np.nan), np.zeros(len(full), dtype=np.int64)
        values[at], rows[at] = column.values, column.rows
        made.append(replace(column, values=values, rows=rows))
    return tuple(made), full


def _split(values: Array, name: str, night: NDArray[np.bool_]) -> dict[str, Array]:
    """Return the two channels of a signed column: a grid that gives by night, a battery that takes more than it gives."""
    plus, minus = np.maximum(values, 0.0), np.maximum(-values, 0.0)
    if name == "net":
        turned = float(np.nansum(minus[night])) > float(np.nansum(plus[night]))
        return {"import": minus, "export": plus} if turned else {"import": plus, "export": minus}
    turned = float(np.nansum(plus)) > float(np.nansum(minus))
    return {"discharge": minus, "charge": plus} if turned else {"discharge": plus, "charge": minus}


def _say_size(found: Found, interval_s: int) -> None:
    for name in ("import", "house"):
        if name in found.energy_wh:
            day = float(np.nanmean(found.energy_wh[name])) * 86_400 / interval_s
            if not USUAL_WH_A_DAY[0] <= day <= USUAL_WH_A_DAY[1]:
                found.told.append(("size", f"{name} of {day / 1000:,.1f} kWh a day: look whether its unit is right"))
