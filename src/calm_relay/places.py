"""Places by name, offline: a list cut from GeoNames (CC BY 4.0), towns of 5,000 people and more, and seats of districts."""

from __future__ import annotations

import csv
import gzip
import io
import unicodedata
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from importlib import resources

ATTRIBUTION = "Place names and coordinates: GeoNames (geonames.org), CC BY 4.0, cut down; without warranty."


@dataclass(frozen=True)
class Town:
    """A place of the list. Its altitude is not in it."""

    name: str
    country: str
    region: str
    latitude_deg: float
    longitude_deg: float
    time_zone: str
    population: int

    @property
    def words(self) -> str:
        """Name, region and country in one line."""
        return ", ".join(part for part in (self.name, self.region, self.country) if part)


def folded(text: str) -> str:
    """Return text without accents, case and doubled spaces, for comparing."""
    if text.isascii():
        return " ".join(text.casefold().split())
    plain = unicodedata.normalize("NFKD", text)
    return " ".join("".join(c for c in plain if not unicodedata.combining(c)).casefold().split())


@lru_cache(maxsize=1)
def _towns() -> tuple[tuple[str, ...], tuple[tuple[str, ...], ...]]:
    """Return folded names and rows, most people first."""
    raw = resources.files("calm_relay.assets").joinpath("places", "places.csv.gz").read_bytes()
    rows = tuple(tuple(row) for row in csv.reader(io.StringIO(gzip.decompress(raw).decode("utf-8"))))[1:]
    return tuple(folded(row[0]) for row in rows), rows


def find_towns(text: str, most: int = 12) -> tuple[Town, ...]:
    """Return towns whose name begins with the words typed, the largest first; then those that hold them elsewhere.

    What stands after a comma narrows by region or country: ``nelson, new zealand``.
    """
    name, _, where = folded(text).partition(",")
    name, where = name.strip(), where.strip()
    if len(name) < 2:
        return ()
    names, rows = _towns()
    first: list[int] = []
    second: list[int] = []
    for i, known in enumerate(names):
        if name in known and (not where or _within(rows[i], where)):
            (first if known.startswith(name) else second).append(i)
            if len(first) >= most:
                break
    exact = [i for i in first if names[i] == name]
    order = exact + [i for i in first if names[i] != name] + second
    return tuple(_town(rows[i]) for i in order[:most])


def _within(row: Sequence[str], where: str) -> bool:
    return any(folded(part).startswith(where) for part in (row[1], row[2]) if part)


def _town(row: Sequence[str]) -> Town:
    return Town(
        name=row[0],
        country=row[1],
        region=row[2],
        latitude_deg=float(row[3]),
        longitude_deg=float(row[4]),
        time_zone=row[5],
        population=int(row[6]),
    )
