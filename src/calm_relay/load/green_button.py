"""Green Button XML (ESPI, NAESB REQ.21): interval readings of energy in an Atom feed, entity tricks refused."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from calm_relay.handed_in import Watch, bad, unwatched
from calm_relay.load.meter import Readings, meter_bytes

ESPI, ATOM = "{http://naesb.org/espi}", "{http://www.w3.org/2005/Atom}"
WATT_HOURS = 72  # unit of measure, ESPI's own number
FLOWS = {1: "import", 4: "net", 19: "export"}  # flow direction: delivered to the customer, net, received from it
COUNTED = (1, 3)  # accumulation behaviour of registers, whose readings are no intervals
LONGEST_S = 3600
MOST_WH, LATEST_S = 1e12, 1e11
PIECE_BYTES = 250_000
TIME_PERIOD, VALUE = f"{ESPI}timePeriod", f"{ESPI}value"


def read_green_button(path: Path, watch: Watch = unwatched) -> Readings:
    """Read a Green Button file; begins are seconds since 1970 in UTC, so that no clock is guessed.

    Raises
    ------
    BadInput
        One clear line: broken XML, entities, another unit, no readings, intervals that change.
    """
    root = _parsed(path, meter_bytes(path), watch)
    types, owners = _types(root)
    found: dict[str, list[tuple[int, int, float]]] = {}
    left: set[str] = set()
    last: Any = None
    entries = list(root.iter(f"{ATOM}entry"))
    for number, entry in enumerate(entries):
        watch("its readings", 0.6 + 0.3 * number / len(entries))
        kind = entry.find(f".//{ESPI}ReadingType")
        last = kind if kind is not None else last
        for block in entry.iter(f"{ESPI}IntervalBlock"):
            reading_type = types.get(owners.get(_link(entry, "up").rpartition("/IntervalBlock")[0], ""), last)
            meaning = _meaning(path, reading_type)
            if isinstance(meaning, str):
                left.add(meaning)
                continue
            channel, factor, length = meaning
            found.setdefault(channel, []).extend(_readings(path, block, factor, length, signed=channel == "net"))
    if not found and left:
        raise bad(path, "ReadingType", f"it holds only {', '.join(sorted(left))}", "export energy of intervals, not power or volts")
    if not found:
        raise bad(path, "", "there is no interval reading in it", "export interval usage, not only the bill")
    if "net" in found:
        for name, sign in (("import", 1.0), ("export", -1.0)):
            found.setdefault(name, []).extend((s, d, max(0.0, sign * v)) for s, d, v in found["net"])
        del found["net"]
    return _merged(path, found, left)


def _parsed(path: Path, raw: bytes, watch: Watch) -> Any:
    """Return the root of XML without a document type or entities, read piece by piece so that it can be stopped."""
    from defusedxml import DefusedXmlException
    from defusedxml.ElementTree import ParseError, XMLParser

    parser = XMLParser(forbid_dtd=True)
    try:
        for at in range(0, len(raw), PIECE_BYTES):
            watch("its XML", 0.05 + 0.55 * at / len(raw))
            parser.feed(raw[at : at + PIECE_BYTES])
        return parser.close()
    except DefusedXmlException as error:
        problem = f"its XML declares entities or a document type ({type(error).__name__})"
        raise bad(path, "", problem, "export it again without") from error
    except (ParseError, ValueError, LookupError) as error:
        raise bad(path, "", f"it is not readable as XML ({error})", "export it again as Green Button XML") from error


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


def _meaning(path: Path, reading_type: Any) -> tuple[str, float, int] | str:
    """Return a reading type's channel, what turns its numbers into Wh, and its interval (0: unsaid); or why it is left out. [s]"""
    if reading_type is None:
        return "import", 1.0, 0

    def number(name: str, default: int) -> int:
        text = reading_type.findtext(f"{ESPI}{name}")
        try:
            return default if text is None else int(text)
        except ValueError:
            raise bad(path, f"ReadingType/{name}", f"'{text[:20]}' is no whole number", "export it again") from None

    unit = number("uom", WATT_HOURS)
    if unit != WATT_HOURS:
        return f"unit {unit} (watt-hours are {WATT_HOURS})"
    if number("accumulationBehaviour", 4) in COUNTED:
        return "registers"
    length = number("intervalLength", 0)
    if length > LONGEST_S:
        return f"intervals of {length} s"
    flow = number("flowDirection", 1)
    if flow not in FLOWS:
        return f"flow direction {flow}"
    return FLOWS[flow], 10.0 ** number("powerOfTenMultiplier", 0), length


def _readings(path: Path, block: Any, factor: float, length: int, *, signed: bool) -> list[tuple[int, int, float]]:
    out = []
    for count, reading in enumerate(block.findall(f"{ESPI}IntervalReading"), start=1):
        texts = {"start": "", "duration": str(length), "value": ""}
        for part in reading:
            if part.tag == TIME_PERIOD:
                texts |= {inner.tag.removeprefix(ESPI): inner.text or "" for inner in part}
            elif part.tag == VALUE:
                texts["value"] = part.text or ""
        try:
            start, duration, value = int(texts["start"]), int(texts["duration"]), float(texts["value"])
            if not (abs(value) < MOST_WH and 0 < start < LATEST_S):
                raise ValueError
        except ValueError:
            problem = f"start, duration, value are {[texts[name][:20] for name in ('start', 'duration', 'value')]}"
            raise bad(path, f"IntervalReading {count}", problem, "export it again") from None
        if value < 0 and not signed:
            raise bad(path, f"IntervalReading {count}", f"its value is {value:g}", "give import and export as flows of their own")
        out.append((start, duration, value * factor))
    return out


def _merged(path: Path, found: dict[str, list[tuple[int, int, float]]], left: set[str]) -> Readings:
    durations = {duration for rows in found.values() for _, duration, _ in rows}
    if any(d <= LONGEST_S for d in durations) and any(d > LONGEST_S for d in durations):  # sums of days beside intervals
        left |= {f"intervals of {d} s" for d in durations if d > LONGEST_S}
        found = {name: [row for row in rows if row[1] <= LONGEST_S] for name, rows in found.items()}
        found = {name: rows for name, rows in found.items() if rows}
        durations = {d for d in durations if d <= LONGEST_S}
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
    guesses = [("time", "seconds since 1970, UTC"), ("channels", ", ".join(energies)), ("label", "label begins the interval")]
    if left:
        guesses.append(("left out", ", ".join(sorted(left))))
    return Readings(
        file=path.name,
        format="Green Button",
        begin_utc=begins.astype("datetime64[s]"),
        interval_s=durations.pop(),
        energy_wh=energies,
        guesses=tuple(guesses),
    )
