"""A pack and tables of one's own: written out, read back, put into a job, refused by line and key; groups of checks."""

from __future__ import annotations

import json
from datetime import datetime
from importlib import resources

import numpy as np
import pytest

from calm_relay.cli import main
from calm_relay.errors import BadInput
from calm_relay.job.container import read_job
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.own_rules import known_tables, read_pack_file, read_tables_file, rules_text, with_tables_edits, without_override
from calm_relay.job.pages import page_of
from calm_relay.packs.conductors import parse_tables
from calm_relay.packs.pack import SHIPPED, pack_named, parse_pack
from calm_relay.packs.written import pack_text
from calm_relay.plant.resolve import plant_of
from calm_relay.plant.runs import run_rows
from calm_relay.report.check_page import check_page_html
from calm_relay.report.measure import PLACES, place_of
from calm_relay.rules.groups import GROUPS, by_group, filtered, group_of
from calm_relay.rules.runner import all_checks
from calm_relay.study import Study

TABLES = resources.files("calm_relay.packs").joinpath("conductors.toml").read_text(encoding="utf-8")


@pytest.mark.parametrize("pack_id", SHIPPED)
def test_a_pack_written_whole_reads_back_as_it_was(pack_id):
    pack = pack_named(pack_id)
    assert parse_pack(pack_text(pack), "again.toml") == pack  # it stands on no other


def test_figures_changed_for_one_job_go_into_the_file(demo, tmp_path):
    job = apply_edits(demo, [Edit("overrides", [{"parameter": "rise_most_frac", "value": 0.03, "reason": "their letter"}])])
    path = tmp_path / "ours.toml"
    path.write_text(rules_text(job), encoding="utf-8")
    file, pack = read_pack_file(path)
    assert pack.id == "australia-new-zealand-tern-point"
    assert pack.value("rise_most_frac") == 0.03
    assert "their letter" in pack.source("rise_most_frac")
    assert file.name == "ours.toml"


def test_a_changed_figure_stands_in_finding_file_and_log(demo, tmp_path, capsys):
    out = tmp_path / "job.json"
    args = ["rules", "demo", "--change", "rise_most_frac=0.03", "--because", "the network's letter", "--out", str(out)]
    assert main(args) == 0
    assert "rise_most_frac is 0.03 here, 0.02 in Australia and New Zealand: the network's letter" in capsys.readouterr().out
    job = read_job(out).job
    assert job.log[-1].text.endswith("the network's letter")
    (rise,) = [f for f in Study(step_s=3600).plan_result(job, job.plan("today")).findings if f.check == "cable.rise"]
    assert (rise.limit, "the network's letter" in rise.source) == (0.03, True)
    back = without_override(job, "rise_most_frac", datetime(2026, 11, 27))
    assert (back.overrides, back.log[-1].text) == ((), "rise_most_frac is as Australia and New Zealand says again")
    assert main(["rules", "demo", "--change", "rise_most_frac=x", "--out", str(out)]) == 2
    assert main(["rules", "demo", "--change", "rise_most=1", "--because", "because", "--out", str(out)]) == 2
    assert main(["rules", "demo", "--change", "rise_most_frac=0.03", "--out", str(out)]) == 2, "without a reason"


def test_a_job_carries_its_rules_from_file_to_file(tmp_path, capsys):
    pack, tables, out = tmp_path / "p.toml", tmp_path / "t.toml", tmp_path / "job.json"
    pack.write_text(pack_text(pack_named("great-britain"), pack_id="p", name="P"), encoding="utf-8")
    tables.write_text(TABLES.replace("[iec]", "[mine]"), encoding="utf-8")
    args = ["rules", "demo", "--pack", str(pack), "--tables", str(tables), "--table", "mine", "--because", "x", "--out", str(out)]
    assert main(args) == 0
    job = read_job(out).job
    assert (job.rules().id, job.rules().choice("cable_table"), job.pack_reason) == ("p", "mine", "x")
    capsys.readouterr()
    assert main(["rules", str(out), "--json"]) == 0
    said = json.loads(capsys.readouterr().out)
    assert (said["own_file"], said["own_tables"], said["name"]) == ("p.toml", "t.toml", "P")
    assert main(["rules", "demo", "--pack", "germany"]) == 2, "without a name nothing is saved"


@pytest.mark.parametrize(
    ("edits", "says"),
    [
        ([Edit("pack", "own")], "carries no pack of its own"),
        ([Edit("pack", "atlantis")], "there is no rule pack 'atlantis'"),
        ([Edit("cable_table", "iek")], "did you mean 'iec'"),
        ([Edit("own_pack", {"name": "p.toml", "text": "id = "})], r"own_pack: p\.toml"),
        ([Edit("own_tables", {"name": "t.toml", "text": "[a]\nname = 1"})], r"own_tables: t\.toml a\.columns"),
        ([Edit("site.circuits", [{"id": "a", "name": "A"}] * 2)], "the id 'a' stands 2 times"),
        ([Edit("site.spots", [{"place": "garage"}] * 2)], "the place 'garage' stands 2 times"),
        ([Edit("plans[ac-add-on].nodes[bat].reuses", "shed")], "use one of: shed-circuit"),
    ],
)
def test_wrong_rules_and_places_are_refused_by_name(edits, says, demo):
    with pytest.raises(BadInput, match=says):
        apply_edits(demo, edits)


@pytest.mark.parametrize(
    ("data", "says"),
    [(b"", "empty"), (b"\xff\xfe\x00", "UTF-8"), (b"a" * 200_001, r"0\.2 MB"), (None, "no such file")],
)
def test_a_file_that_is_none_is_told_so(data, says, tmp_path):
    path = tmp_path / "x.toml"
    if data is not None:
        path.write_bytes(data)
    for reader in (read_pack_file, read_tables_file):
        with pytest.raises(BadInput, match=says):
            reader(path)


def test_fuzzed_tables_give_faults_and_nothing_else():
    rng = np.random.default_rng(17)
    for _ in range(400):
        letters = list(TABLES)
        for _ in range(int(rng.integers(1, 9))):
            letters[int(rng.integers(0, len(letters)))] = str(rng.choice(list('x[]"=,{}0.- \n')))
        try:
            parse_tables("".join(letters), "fuzzed.toml")
        except BadInput as error:
            assert all(fault.problem and fault.remedy for fault in error.faults)


def test_own_tables_stand_before_the_shipped_ones(demo, tmp_path):
    path = tmp_path / "t.toml"
    path.write_text(TABLES.replace('["4 mm²", 4, 4.61, [32, 36]]', '["4 mm²", 4, 4.61, [10, 11]]'), encoding="utf-8")
    file, tables = read_tables_file(path)
    job = apply_edits(demo, with_tables_edits(demo, file, tables))
    assert known_tables(job)["iec"].size("4 mm²").amps == (10.0, 11.0)
    over = [f for f in Study(step_s=3600).plan_result(job, job.plan("today")).findings if f.check == "cable.ampacity"]
    assert (over[0].verdict, over[0].limit) == ("over", 11.0)


def test_every_check_has_a_group_and_every_gap_a_place(demo):
    assert {group_of(entry.id) for entry in all_checks()} == set(GROUPS)
    job = apply_edits(
        demo,
        [
            Edit("site.spots", []),
            Edit("site.supply_run", None),
            Edit("site.record_low_c", None),
            Edit("site.network.transfer_approved", "not_known"),
        ],
    )
    findings = Study(step_s=3600).plan_result(job, job.plan("A")).findings
    assert sum(len(rows) for rows in by_group(findings).values()) == len(findings)
    gaps = filtered(findings, verdict="not known")
    assert {place_of(f) for f in gaps} <= set(PLACES)
    assert len({place_of(f) for f in gaps}) >= 3
    assert filtered(findings, "network", "not known", "operator agrees") == tuple(f for f in gaps if f.check == "network.approval")
    html = check_page_html(job, job.plan("A"), findings)
    assert html.count("<tr>") == len(findings)
    assert "<script" not in html
    named = apply_edits(job, [Edit("plans[ac-add-on].name", "<b>A & B</b>")])
    assert "&lt;b&gt;A &amp; B&lt;/b&gt;" in check_page_html(named, named.plan("A"), findings)


def test_terminals_above_100_a_are_taken_as_75_degrees(demo):
    """NEC 110.14(C), from memory: 2 AWG carries 95 A on 60 °C terminals and 115 A on 75 °C ones; 1.25 × the amps decides."""
    runs = [Edit("pack", "north-america"), Edit("site.supply.kind", "split_phase"), Edit("site.supply.voltage_v", 240.0),
            Edit("site.supply_run", None), Edit("plans[today].nodes[old].run", {"length_m": 5.0, "size": "2 AWG"})]  # fmt: skip
    for watts, carried in ((19_000.0, 95.0), (19_400.0, 115.0)):  # 98.96 and 101.04 A with the factor
        job = apply_edits(demo, [*runs, Edit("library[string-inverter-5k].ac_rated_w", watts)])
        (row, _) = run_rows(plant_of(job, job.plan("today")), job.rules())
        assert row.held is not None
        assert (row.design_a > 100, row.held.amps) == (carried == 115.0, carried)


@pytest.mark.parametrize(
    "path",
    ["site.spots[0].clear_m", "site.circuits[0].breaker_a", "plans[a].nodes[0].string_run", "plans[a].nodes[0].reuses",
     "plans[a].nodes[0].plugged_in", "plans[a].protection.surge"],
)  # fmt: skip
def test_what_is_typed_on_the_site_page_is_gone_to_there(path):
    assert page_of(path) == "site"
