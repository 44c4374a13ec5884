"""Rule packs as plain data and text: what each is for, its figures with their sources, two packs side by side; runs of cable."""

from __future__ import annotations

from typing import Any

from calm_relay.job.models import Job, Plan
from calm_relay.packs.pack import OWN, SHIPPED, Pack, pack_named
from calm_relay.plant.resolve import plant_of
from calm_relay.plant.runs import rises, run_rows, table_of
from calm_relay.rules.network_rule import rule_in_force
from calm_relay.rules.runs_dc import dc_rows


def pack_rows() -> list[tuple[str, str, str, str]]:
    """Return id, name, edition and place of every shipped pack."""
    return [(p.id, p.name, p.version, p.place) for p in (pack_named(pack_id) for pack_id in SHIPPED)]


def pack_figures(pack: Pack) -> dict[str, tuple[str, str]]:
    """Return every parameter and list of a pack as words, with its source."""
    out = {name: (f"{value:g}", source) for name, (value, source) in pack.parameter.items()}
    for name, (items, source) in pack.list_.items():
        out[name] = (", ".join(f"{item:g}" if isinstance(item, float) else str(item) for item in items), source)
    return dict(sorted(out.items()))


RULES_CHANGE = "Figures are from memory where they say so; rules change, and the network operator decides."
UNITS = (
    ("_frac_per_min", "% a minute", 100.0), ("_frac", "%", 100.0), ("_per_ah", "a Ah", 1.0), ("_wh_per_w", "Wh a W", 1.0),
    ("_wh", "kWh", 0.001), ("_va", "kVA", 0.001), ("_w", "kW", 0.001), ("_v", "V", 1.0), ("_a", "A", 1.0), ("_m", "m", 1.0),
    ("_k", "K", 1.0), ("_c", "°C", 1.0), ("_h", "h", 1.0), ("_s", "s", 1.0), ("_hz", "Hz", 1.0), ("_years", "years", 1.0),
)  # fmt: skip


def figure_words(name: str, value: str) -> tuple[str, str]:
    """Return a figure's name and value as people read them: the unit with the value, 'most' and 'least' as words."""
    bare, shown = name, value.replace("_", " ")
    for suffix, unit, factor in UNITS:
        if name.endswith(suffix):
            bare = name.removesuffix(suffix)
            try:
                shown = f"{float(value) * factor:g} {unit}"
            except ValueError:
                bare = name
            break
    words = bare.replace("_", " ")
    for end, said in ((" most", ", at most"), (" least", ", at least")):
        words = words.removesuffix(end) + said if words.endswith(end) else words
    return words, shown


def pack_difference(one: Pack, other: Pack) -> list[tuple[str, str, str]]:
    """Return the figures in which two packs differ: name, what the first says, what the other says."""
    a, b = pack_figures(one), pack_figures(other)
    nothing = ("nothing", "")
    rows = ((name, a.get(name, nothing), b.get(name, nothing)) for name in sorted({*a, *b}))
    return [(name, mine[0], theirs[0]) for name, mine, theirs in rows if mine[0] != theirs[0]]


def rules_data(job: Job) -> dict[str, Any]:
    """Return the rules in force in a job as plain data: pack, why, changed figures, tables, what of the network the pack says."""
    pack, rule = job.rules(), rule_in_force(job, job.rules())
    return {
        "pack": pack.id, "name": pack.name, "version": pack.version, "place": pack.place, "reason": job.pack_reason,
        "own_file": "" if job.own_pack is None or job.pack != OWN else job.own_pack.name,
        "changed": [o.model_dump() for o in job.overrides], "cable_table": table_of(pack).name,
        "own_tables": "" if job.own_tables is None else job.own_tables.name,
        "log": [{"time": e.time, "author": e.author, "text": e.text} for e in job.log],
        "network_by_pack": [
            {"field": field, "value": getattr(rule.rule, field), "source": source} for field, source in rule.from_pack
        ],
    }  # fmt: skip


def rules_lines(data: dict[str, Any]) -> list[str]:
    """Return the rules in force as lines."""
    out = [f"   {data['name']}, {data['version']}: {data['place']}"]
    out += [f"   from the file {data['own_file']}"] if data["own_file"] else []
    out += [f"   because: {data['reason']}"] if data["reason"] else []
    out.append(f"   conductors: {data['cable_table']}" + (f", from {data['own_tables']}" if data["own_tables"] else ""))
    out += [f"   changed here: {o['parameter']} is {o['value']:g}: {o['reason']}" for o in data["changed"]]
    out += [f"   log {row['time']}: {row['text']}" for row in data["log"]]
    out += [f"   network, by the pack: {row['field']} {row['value']} ({row['source']})" for row in data["network_by_pack"]]
    return out


def runs_data(job: Job, plan: Plan) -> dict[str, Any]:
    """Return the runs of a plan and the volts along the way as plain data."""
    pack = job.rules()
    ac = run_rows(plant_of(job, plan), pack)
    rows = (*dc_rows(job, plant_of(job, plan), pack), *ac)
    return {
        "plan": plan.id, "letter": plan.letter, "pack": pack.id, "table": table_of(pack).name,
        "runs": [
            {
                "id": r.id, "name": r.name, "way": r.way, "amps_a": r.amps, "design_a": r.design_a,
                "size": "" if r.run is None else r.run.size, "length_m": None if r.run is None else r.run.length_m,
                "carries_a": None if r.held is None else r.held.amps, "protected_a": None if r.run is None else r.run.protected_a,
                "change_v": r.change_v, "missing": r.missing,
            }
            for r in rows
        ],
        "rises": [{"name": one.name, "volts_v": one.volts_v, "frac": one.frac, "words": one.words} for one in rises(ac)],
    }  # fmt: skip


def runs_text(job: Job, plan: Plan) -> list[str]:
    """Return the runs of a plan as lines."""
    pack = job.rules()
    ac = run_rows(plant_of(job, plan), pack)
    out = [f"{plan.letter}  {plan.name}: {table_of(pack).name}"]
    for row in (*dc_rows(job, plant_of(job, plan), pack), *ac):
        if row.held is None or row.run is None:
            out.append(f"   {row.name}: {row.amps:.1f} A; not known: {row.missing}")
            continue
        protected = f", {'fuse' if row.way == 'dc' else 'breaker'} {row.run.protected_a:g} A" if row.run.protected_a else ""
        change = "" if row.change_v is None else f", {row.change_v:.2f} V over {row.run.length_m:g} m"
        out.append(f"   {row.name}: {row.amps:.1f} A on {row.held.words}{protected}{change}")
    out += [f"   rise: {one.words}" for one in rises(ac)]
    return out
