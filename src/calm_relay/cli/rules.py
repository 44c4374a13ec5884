"""The commands about rules and wiring: packs, pack and runs."""

from __future__ import annotations

import argparse
from datetime import datetime
from importlib import resources
from pathlib import Path

from calm_relay.cli.shared import chosen_plans, open_job, print_json
from calm_relay.errors import BadInput, Fault
from calm_relay.job.container import save_job
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.own_rules import pack_by, read_pack_file, read_tables_file, with_override, with_pack_edits, with_tables_edits
from calm_relay.packs.pack import SHIPPED
from calm_relay.packs.written import pack_text
from calm_relay.report.head import CAUTION, head_of, title_text
from calm_relay.report.rules import (
    RULES_CHANGE,
    pack_difference,
    pack_figures,
    pack_rows,
    rules_data,
    rules_lines,
    runs_data,
    runs_text,
)


def packs_command(options: argparse.Namespace) -> int:
    """Run `packs`: the rule packs that come with the program."""
    rows = pack_rows()
    if options.json:
        print_json({"packs": [dict(zip(("id", "name", "version", "place"), row, strict=True)) for row in rows]})
        return 0
    print("\n".join(f"{pack_id:32} {name}, {version}: {place}" for pack_id, name, version, place in rows))
    print(f"\n{RULES_CHANGE}")
    return 0


def pack_command(options: argparse.Namespace) -> int:
    """Run `pack`: every figure of a pack with its source, its file, or where it differs from another."""
    pack = pack_by(options.id)
    if options.whole:
        print(pack_text(pack), end="")
        return 0
    if options.against:
        rows = pack_difference(pack, pack_by(options.against))
        if options.json:
            print_json({"packs": [options.id, options.against], "differ": [list(row) for row in rows]})
            return 0
        print(f"{options.id} against {options.against}")
        print("\n".join(f"   {name}: {mine} against {theirs}" for name, mine, theirs in rows) or "   they say the same")
        return 0
    if options.file:
        if pack.id not in SHIPPED:
            raise BadInput([Fault(options.id, "--file", "this pack is a file of its own", "read it, or print it with --whole")])
        print(resources.files("calm_relay.packs").joinpath(f"{pack.id}.toml").read_text(encoding="utf-8"), end="")
        return 0
    figures = pack_figures(pack)
    if options.json:
        rows_data = {name: {"value": value, "source": source} for name, (value, source) in figures.items()}
        print_json({"pack": pack.id, "version": pack.version, "figures": rows_data})
        return 0
    print(f"{pack.name}, {pack.version}: {pack.place}")
    print("\n".join(f"   {name}: {value} ({source})" for name, (value, source) in figures.items()))
    print(f"\n{RULES_CHANGE}")
    return 0


def rules_command(options: argparse.Namespace) -> int:
    """Run `rules`: the rules in force in a job; or put a pack, tables of conductors or the reason into it and save."""
    opened = open_job(options.job)
    job, edits = opened.job, []
    if options.pack:
        path = Path(options.pack)
        edits += [Edit("pack", options.pack)] if options.pack in SHIPPED else with_pack_edits(read_pack_file(path)[0])
    if options.tables:
        edits += with_tables_edits(job, *read_tables_file(Path(options.tables)))
    if options.table:
        edits.append(Edit("cable_table", options.table))
    if options.because and not options.change:
        edits.append(Edit("pack_reason", options.because))
    if options.change:
        name, _, value = options.change.partition("=")
        try:
            number = float(value)
        except ValueError:
            raise BadInput([Fault(options.job, "--change", f"'{value}' is no figure", "write NAME=FIGURE")]) from None
        job = with_override(job, name, number, options.because or "", datetime.now())
    if edits or options.change:
        if not options.out:
            raise BadInput([Fault(options.job, "--out", "there is no name to save the job under", "add --out FILE")])
        job = apply_edits(job, edits)
        save_job(options.out, job, opened.store)
    data = rules_data(job)
    if options.json:
        print_json({**head_of(job), **data})
        return 0
    print("\n".join([*title_text(job), *rules_lines(data)]))
    print(f"\n{RULES_CHANGE}" + (f" Saved as {options.out}." if edits or options.change else ""))
    return 0


def runs_command(options: argparse.Namespace) -> int:
    """Run `runs`: each plan's cables with amps, size, breaker and volts, and the rise to each inverter."""
    job = open_job(options.job).job
    plans = chosen_plans(job, options)
    if options.json:
        print_json({**head_of(job), "plans": [runs_data(job, plan) for plan in plans]})
        return 0
    print("\n".join(title_text(job)))
    for plan in plans:
        print("\n" + "\n".join(runs_text(job, plan)))
    print(f"\nAids for planning and quoting. {CAUTION}")
    return 0
