"""One door to meter files: which reader a file wants, and its year in the job's time."""

from __future__ import annotations

from pathlib import Path

from calm_relay.errors import BadInput, Cancelled
from calm_relay.handed_in import Watch, bad, first_bytes, unwatched
from calm_relay.load.green_button import read_green_button
from calm_relay.load.meter import MeterYear, Readings, place_in_year
from calm_relay.load.meter_csv import read_meter_csv
from calm_relay.load.nem12 import read_nem12


def read_meter(path: Path | str, time_zone: str, watch: Watch = unwatched, year: int | None = None) -> MeterYear:
    """Read a meter file of any known kind into a year of the zone's local standard time: the one asked for, else its latest.

    Raises
    ------
    BadInput
        One clear line: what is wrong with the file, where, and what would be right.
    Cancelled
        When `watch` said so; nothing is kept.
    """
    path = Path(path)
    try:
        readings = read_readings(path, time_zone, watch)
        watch("placed in its year", 0.95)
        return place_in_year(readings, time_zone, year)
    except (BadInput, Cancelled):
        raise
    except Exception as error:
        problem = f"it cannot be read as meter data ({type(error).__name__}: {error})"
        raise bad(path, "", problem, "check the file, or export it again") from error


def read_readings(path: Path, time_zone: str, watch: Watch = unwatched) -> Readings:
    """Return what a meter file holds; raises BadInput."""
    head = (first_bytes(path, 2000) or b"").lstrip(b"\xef\xbb\xbf \r\n\t")  # the reader says why there are none
    if head.startswith(b"<"):
        return read_green_button(path, watch)
    if head.startswith((b"100,NEM12", b"200,")):
        return read_nem12(path, watch)
    return read_meter_csv(path, time_zone, watch)
