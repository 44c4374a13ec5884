"""Green Button XML (ESPI, NAESB REQ.21): interval readings of energy in an Atom feed, entity tricks refused."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from calm_relay.handed_in import Watch, unwatched
from calm_relay.load.meter import Readings, bad, meter_bytes

ESPI, ATOM = "{http://naesb.org/espi}", "{http://www.w3.org/2005/Atom}"
WATT_HOURS = 72  # unit of measure, ESPI's own number
FLOWS = {1: "import", 19: "export"}  # flow direction: delivered to the customer, received from it


def read_green_button(path: Path, watch: Watch = unwatched) -> Readings:
    """Read a Green Button file; begins are seconds since 1970 in UTC, so that no clock is guessed.

    Raises
    ------
    BadInput
        One clear line: broken XML, entities, another unit, no readings, intervals that change.
    """
    from defusedxml import DefusedXmlException
    from defusedxml.ElementTree import ParseError, fromstring

    raw = meter_bytes(path)
    watch("its XML", 0.05)
    try:
        root = fromstring(raw, forbid_dtd=True)
    except DefusedXmlException as error:
        raise bad(
            path, "", f"its XML declares entities or a document type ({type(error).__name__})", "export it again without"
        ) from error
    except (ParseError, ValueError, LookupError) as error:
        raise bad(path, "", f"it is not readable as XML ({error})", "export it again as Green Button XML") from error
    types, owners = _types(root)
    found: dict[str, list[tuple[int, int, float]]] = {}
    last: Any = None
    entries = list(root.iter(f"{ATOM}entry"))
    for number, entry in enumerate(entries):
        watch("its readings", 0.3 + 0.6 * number / len(entries))
        kind = entry.find(f".//{ESPI}ReadingType")
        last = kind if kind is not None else last
        for block in entry.iter(f"{ESPI}IntervalBlock"):
            reading_type = types.get(owners.get(_link(entry, "up").rpartition("/IntervalBlock")[0], ""), last)
            channel, factor = _meaning(path, reading_type)
            found.setdefault(channel, []).extend(_readings(path, block, factor))
    if not found:
        raise bad(path, "", "there is no interval reading in it", "export interval usage, not only the bill")
    return _merged(path, found)


def _link(entry: Any, rel: str) -> str:
    for link in entry.findall(f"{ATOM}link"):
        if link.get("rel") == rel:
            return str(link.get("href", ""))
    return ""


def _types(root: Any) -> tuple[dict[str, Any], dict[str, str]]:
    """Return reading types by their own link, and which type each meter reading names."""
    types: dict[str, Any] = {}
    owners: dict[str, str] = {}
    for entry in root.iter(f"{ATOM}entry"):
        kind = entry.find(f".//{ESPI}ReadingType")
        if kind is not None:
            types[_link(entry, "self")] = kind
        if entry.find(f".//{ESPI}MeterReading") is not None:
            for link in entry.findall(f"{ATOM}link"):
                if link.get("rel") == "related" and "ReadingType" in str(link.get("href", "")):
                    owners[_link(entry, "self")] = str(link.get("href"))
    return types, owners


def _meaning(path: Path, reading_type: Any) -> tuple[str, float]:
    """Return a reading type's channel, and what turns its numbers into Wh."""
    if reading_type is None:
        return "import", 1.0

    def number(name: str, default: int) -> int:
        text = reading_type.findtext(f"{ESPI}{name}")
        try:
            return default if text is None else int(text)
        except ValueError:
            raise bad(path, f"ReadingType/{name}", f"'{text[:20]}' is no whole number", "export it again") from None

    unit = number("uom", WATT_HOURS)
    if unit != WATT_HOURS:
        raise bad(
            path, "ReadingType/uom", f"the unit is {unit}, not watt-hours ({WATT_HOURS})", "export energy, not power or volts"
        )
    return FLOWS.get(number("flowDirection", 1), "import"), 10.0 ** number("powerOfTenMultiplier", 0)


def _readings(path: Path, block: Any, factor: float) -> list[tuple[int, int, float]]:
    out = []
    for count, reading in enumerate(block.findall(f"{ESPI}IntervalReading"), start=1):
        texts = [reading.findtext(f"{ESPI}{name}") for name in ("timePeriod/", "value")]
        period = reading.find(f"{ESPI}timePeriod")
        texts = [None if period is None else period.findtext(f"{ESPI}{name}") for name in ("start", "duration")] + [texts[1]]
        try:
            start, duration, value = (int(text) for text in texts if text is not None)
        except ValueError:
            raise bad(path, f"IntervalReading {count}", f"start, duration, value are {texts}", "export it again") from None
        if value < 0:
            raise bad(path, f"IntervalReading {count}", f"its value is {value}", "give import and export as flows of their own")
        out.append((start, duration, value * factor))
    return out


def _merged(path: Path, found: dict[str, list[tuple[int, int, float]]]) -> Readings:
    durations = {duration for rows in found.values() for _, duration, _ in rows}
    if len(durations) != 1:
        raise bad(
            path, "IntervalReading/duration", f"intervals of {sorted(durations)[:4]} s are mixed", "give one interval throughout"
        )
    begins = np.unique(np.array([start for rows in found.values() for start, _, _ in rows], dtype="int64"))
    energies = {}
    for channel, rows in found.items():
        starts = np.array([start for start, _, _ in rows], dtype="int64")
        if len(np.unique(starts)) != len(starts):
            order = np.sort(starts)
            when = np.datetime64(int(order[1:][order[1:] == order[:-1]][0]), "s")
            raise bad(path, "IntervalReading/start", f"{when} UTC stands twice for {channel}", "keep one")
        row = np.full(len(begins), np.nan)
        row[np.searchsorted(begins, starts)] = [value for _, _, value in rows]
        energies[channel] = row
    guesses = (("time", "seconds since 1970, UTC"), ("channels", ", ".join(energies)), ("label", "label begins the interval"))
    return Readings(path.name, "Green Button", begins.astype("datetime64[s]"), durations.pop(), energies, guesses)
