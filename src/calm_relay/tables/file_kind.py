"""What a file that someone drops on a window is: job, tariff, weather, prices or meter data. By its first bytes, not its name."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Literal

from calm_relay.handed_in import first_bytes
from calm_relay.job.container import is_job_file

FileKind = Literal["job", "tariff", "weather", "prices", "meter"]
LOOKED_AT = 6000
SUFFIXES = (".crjob", ".json", ".epw", ".csv", ".txt", ".xml")
WEATHER = re.compile(r"^location,|\bghi\b|\bdni\b|\bdhi\b|irradi|g\(h\)|gb\(n\)|\bt2m\b|air_c|dry.?bulb|tmy|global horizontal")
JOB = re.compile(r'"(?:plans|site|faces|house|brief)"\s*:')
ENERGY = re.compile(r"(?<![a-z])k?wh(?![a-z])|(?<![a-z])kw(?![a-z])|import|export|consumption|usage|verbrauch|bezug|nem12")
PRICES = re.compile(r"price|preis|prix|prijs|spot|/ ?[km]wh|ct/|per [km]wh")


def kind_of_file(path: Path) -> FileKind:
    """Return what a file looks like; what is nothing else is taken for a meter file, whose reader says what is wrong."""
    if is_job_file(path):
        return "job"
    raw = first_bytes(path, LOOKED_AT) or b""
    head = raw.replace(b"\0", b"").decode("utf-8", errors="replace").lstrip("\ufeff\ufffd").casefold()
    if path.suffix.lower() == ".epw":
        return "weather"
    if head.lstrip().startswith(("{", "[")):
        if JOB.search(head):  # a job without its mark: its reader says what is missing
            return "job"
        return "weather" if WEATHER.search(head) else "tariff"
    if head.lstrip().startswith("<"):
        return "meter"
    words = "\n".join(line for line in head.splitlines()[:40] if re.search(r"[a-z]{2}", line))
    if PRICES.search(words) and not re.search(r"import|consumption|usage|cost", words):
        return "prices"
    if WEATHER.search(words) and not ENERGY.search(words):
        return "weather"
    return "meter"
