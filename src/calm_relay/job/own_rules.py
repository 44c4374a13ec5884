"""A user's own pack and own tables of conductors: read from a file, checked, and put into a job."""

from __future__ import annotations

import math
from datetime import datetime
from pathlib import Path

from calm_relay.errors import BadInput, Fault
from calm_relay.handed_in import bad, handed_in
from calm_relay.job.edits import Edit
from calm_relay.job.models import Job, LogEntry
from calm_relay.job.site_models import OwnFile, PackOverride
from calm_relay.packs.conductors import ConductorTable, own_tables, parse_tables, shipped_tables
from calm_relay.packs.pack import OWN, SHIPPED, Pack, own_pack, pack_named, parse_pack
from calm_relay.packs.written import pack_text

MOST_BYTES = 200_000
LEAST_REASON = 3


def _text(path: Path, what: str) -> OwnFile:
    data = handed_in(path, MOST_BYTES, f"{{mb:.1f}} MB are no {what}", f"hand in a {what}, as TOML")
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise bad(path, "", "it is no text in UTF-8", "save it as UTF-8") from None
    if not text.strip():
        raise bad(path, "", "it is empty", f"hand in a {what}, as TOML")
    return OwnFile(name=path.name[:120], text=text)


def read_pack_file(path: Path) -> tuple[OwnFile, Pack]:
    """Return a pack file and the pack it holds; raises BadInput with every fault by line and key."""
    file = _text(path, "rule pack")
    return file, parse_pack(file.text, str(path), pack_named)


def read_tables_file(path: Path) -> tuple[OwnFile, dict[str, ConductorTable]]:
    """Return a file of conductor tables and what it holds; raises BadInput with every fault."""
    file = _text(path, "table of conductors")
    return file, parse_tables(file.text, str(path))


def pack_by(name: str) -> Pack:
    """Return a pack by its id, or by the path of its file; raises BadInput."""
    if name in SHIPPED:
        return pack_named(name)
    path = Path(name)
    return read_pack_file(path)[1] if path.suffix == ".toml" or path.exists() else pack_named(name)


def with_pack_edits(file: OwnFile) -> list[Edit]:
    """Return the edits that put an own pack in force."""
    return [Edit("own_pack", file.model_dump()), Edit("pack", OWN)]


def with_tables_edits(job: Job, file: OwnFile, tables: dict[str, ConductorTable]) -> list[Edit]:
    """Return the edits that put own tables into a job; the first is taken where the present choice is none of them."""
    now = job.cable_table or job.rules().choice("cable_table") or ""
    chosen = now if now in tables else next(iter(tables))
    return [Edit("own_tables", file.model_dump()), Edit("cable_table", chosen)]


def without_tables_edits(job: Job) -> list[Edit]:
    """Return the edits that put the shipped tables back in force."""
    kept = job.cable_table if job.cable_table in shipped_tables() else ""
    return [Edit("cable_table", kept), Edit("own_tables", None)]


def known_tables(job: Job) -> dict[str, ConductorTable]:
    """Return every table a job may choose, its own before the shipped ones of the same id."""
    own = {} if job.own_tables is None else own_tables(job.own_tables.text, job.own_tables.name)
    return {**shipped_tables(), **own}


def known_packs(job: Job) -> dict[str, Pack]:
    """Return every pack a job may choose, its own included."""
    out = {pack_id: pack_named(pack_id) for pack_id in SHIPPED}
    return out if job.own_pack is None else {**out, OWN: own_pack(job.own_pack.text, job.own_pack.name)}


def with_override(job: Job, parameter: str, value: float, reason: str, now: datetime, author: str = "") -> Job:
    """Return the job with a figure of its pack changed, and a line in its log.

    Raises
    ------
    BadInput
        When the pack has no such figure, the value is none, or no reason is given.
    """
    said = " ".join(reason.split())
    if not math.isfinite(value):
        raise BadInput([Fault("", parameter, "this is no figure", "write a number")])
    if not LEAST_REASON <= len(said) <= 400:
        raise BadInput([Fault("", "reason", "a changed figure needs its reason", "write why in a sentence, up to 400 characters")])
    bare = job.model_copy(update={"overrides": tuple(o for o in job.overrides if o.parameter != parameter)})
    before = bare.rules()
    before.with_overrides([(parameter, value, said)])  # which says where there is no such figure
    made = PackOverride(parameter=parameter, value=value, reason=said)
    text = f"{parameter} is {value:g} here, {before.value(parameter):g} in {before.name}: {said}"
    entry = LogEntry(time=now.isoformat(timespec="minutes"), author=author, text=text)
    return bare.model_copy(update={"overrides": (*bare.overrides, made), "log": (*job.log, entry)})


def without_override(job: Job, parameter: str, now: datetime, author: str = "") -> Job:
    """Return the job with a figure as its pack says, and a line in its log."""
    text = f"{parameter} is as {job.model_copy(update={'overrides': ()}).rules().name} says again"
    entry = LogEntry(time=now.isoformat(timespec="minutes"), author=author, text=text)
    left = tuple(o for o in job.overrides if o.parameter != parameter)
    return job.model_copy(update={"overrides": left, "log": (*job.log, entry)})


def rules_text(job: Job) -> str:
    """Return the rules in force as a pack file of their own, what was changed for this job included."""
    pack = job.rules()
    copied = "" if not pack.overridden else f"{pack.name}, as changed for {job.name}"
    return pack_text(pack, pack_id=pack.id if not copied else f"{pack.id}-{job.id}"[:60], name=copied)


def write_rules(job: Job, path: Path) -> None:
    """Write the rules in force to a file; raises BadInput where it cannot be written."""
    try:
        path.write_text(rules_text(job), encoding="utf-8")
    except OSError as error:
        raise bad(path, "", f"it cannot be written ({error.strerror})", "choose another folder") from error
