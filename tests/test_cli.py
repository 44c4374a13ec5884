"""The command line: JSON as documented, exit statuses, faults, and energies recomputed from the step-by-step file."""

from __future__ import annotations

import csv
import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from calm_relay.cli import main
from calm_relay.demo import demo_path
from calm_relay.job.container import read_job

ROOT = Path(__file__).parent.parent


def run(capsys, *arguments: str) -> tuple[int, dict, str]:
    status = main(list(arguments))
    out, err = capsys.readouterr()
    return status, json.loads(out) if out.startswith("{") else {}, err


def test_check_lists_everything_a_finding_holds(capsys):
    status, data, _ = run(capsys, "check", "demo", "--json")
    assert status == 1, "a demo plan is over"
    assert data["made_up"] is True
    assert [plan["letter"] for plan in data["plans"]] == ["Today", "A", "B", "C", "D"]
    for plan in data["plans"]:
        for f in plan["findings"]:
            assert {"check", "verdict", "value", "limit", "unit", "margin_frac", "arithmetic", "remedies", "source", "pack"} <= set(
                f
            )
            assert f["verdict"] != "over" or f["remedies"]
    assert run(capsys, "check", "demo", "--plan", "B", "--json")[0] == 0, "B alone has nothing over"
    assert run(capsys, "check", "demo", "--plan", "Today", "--json")[0] == 0


def test_simulate_energies_close_against_the_step_by_step_file(capsys, tmp_path):
    path = tmp_path / "c.csv"
    status, data, _ = run(capsys, "simulate", "demo", "--plan", "C", "--csv", str(path), "--json")
    assert status == 0
    (plan,) = data["plans"]
    with path.open(encoding="utf-8", newline="") as source:
        rows = csv.reader(source)
        names = next(rows)
        table = np.array([[float(v) for v in row[1:]] for row in rows])
    column = {name: table[:, i] for i, name in enumerate(names[1:])}
    assert len(table) == 105_120
    hours = data["step_s"] / 3600
    for name in ("load_w", "import_w", "export_w", "pv_only_w", "pv_to_house_w", "grid_to_battery_w"):
        assert plan["energies"][f"{name[:-2]}_wh"] == pytest.approx(column[name].sum() * hours, rel=1e-5)
    hyb = {name.partition(".")[2]: values for name, values in column.items() if name.startswith("hyb.")}
    bus = column["pv_only_w"] + hyb["ac_out_w"] + column["import_w"] - hyb["ac_in_w"] - column["load_w"] - column["own_draw_w"]
    moved = np.maximum(1.0, column["load_w"] + column["export_w"] + hyb["ac_in_w"])
    assert np.max(np.abs(bus - column["export_w"]) / moved) < 1e-4, "the file holds six digits"
    assert plan["worst_open_balance_frac"] < 1e-6
    assert plan["nodes"]["hyb"]["lost_cap_wh"] > 1000


def test_compare_gives_one_row_a_plan_and_words(capsys):
    status, data, _ = run(capsys, "compare", "demo", "--json")
    assert status == 0
    today = data["plans"][0]
    for row in data["plans"]:
        assert row["saving"] == pytest.approx(today["bill"] - row["bill"])
    assert any("C is not to be recommended" in line for line in data["because"])
    assert run(capsys, "compare", "demo", "--plan", "B")[0] == 0


def test_schema_describes_the_demo_job(capsys):
    assert main(["schema"]) == 0
    schema = json.loads(capsys.readouterr().out)
    assert schema["title"] == "Job"
    assert set(json.loads(demo_path().read_text())) == set(schema["properties"])


def test_three_faults_in_one_job_and_exit_2(capsys, tmp_path):
    data = json.loads(demo_path().read_text())
    data["plans"][2]["nodes"][0]["card"] = "hybrid-99k"
    data["faces"][1]["tilt_deg"] = -12
    data["house"]["background"] = {"kind": "series", "series": {"path": "load.csv", "rows": 8760, "step_s": 3600}}
    path = tmp_path / "job.json"
    path.write_text(json.dumps(data))
    status, said, err = run(capsys, "check", str(path), "--json")
    assert status == 2
    assert len(said["faults"]) == 3
    assert len(err.splitlines()) == 3
    for words in ("hybrid-99k", "tilt_deg", "load.csv"):
        assert words in err
    assert all(str(path) in line for line in err.splitlines())


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("check", "nowhere.json"), "there is no such file"),
        (("check", "/"), "this is a folder"),
        (("simulate", "demo", "--plan", "Z"), "there is no plan 'Z'"),
        (("simulate", "demo", "--csv", "x.csv"), "one --plan"),
        (("simulate", "demo", "--plan", "A", "--csv", "/nowhere/x.csv"), "cannot be written"),
        (("remedy", "demo", "--plan", "B", "--check", "string.cold-voc", "--out", "x.json"), "0 remedies"),
    ],
)
def test_bad_input_is_one_line_and_exit_2(arguments, words, capsys):
    status, _, err = run(capsys, *arguments)
    assert status == 2
    assert words in err
    assert "Traceback" not in err


def test_remedy_writes_a_job_in_which_the_check_is_clear(capsys, tmp_path):
    out = tmp_path / "mended.json"
    assert main(["remedy", "demo", "--plan", "C", "--check", "network.inverter-sum", "--out", str(out)]) == 0
    capsys.readouterr()
    assert run(capsys, "check", str(out), "--plan", "C", "--json")[0] == 0
    assert read_job(out).job.plan("C") != read_job(demo_path()).job.plan("C")


def test_demo_job_is_written_in_both_forms(capsys, tmp_path):
    for name in ("a.json", "a.crjob"):
        assert main(["demo-job", str(tmp_path / name)]) == 0
        assert read_job(tmp_path / name).job == read_job(demo_path()).job
    capsys.readouterr()


def test_a_year_of_metered_load_that_is_too_short_is_a_fault(capsys, tmp_path):
    data = json.loads(demo_path().read_text())
    data["house"]["background"] = {"kind": "series", "series": {"path": "load.csv", "rows": 24, "step_s": 3600}}
    (tmp_path / "job.json").write_text(json.dumps(data))
    (tmp_path / "load.csv").write_text("power_w\n" + "500\n" * 24)
    status, _, err = run(capsys, "simulate", str(tmp_path / "job.json"))
    assert status == 2
    assert "not a year of 365 days" in err


def test_pages_print_what_they_show(capsys, tmp_path):
    _, data, _ = run(capsys, "strings", "demo", "--plan", "B", "--json")
    (plan,) = data["plans"]
    # By hand: 8 × 48.6 V × (1 − 0.0028·(−4 − 25)) = 388.8 × 1.0812 = 420.4 V.
    assert plan["strings"][0]["cold_voc_v"] == pytest.approx(420.37, abs=0.01)
    _, data, _ = run(capsys, "load", "demo", "--json")
    assert sum(row["year_wh"] for row in data["parts"]) == pytest.approx(data["year_wh"], rel=1e-9)
    assert sum(sum(row["months_wh"]) for row in data["parts"]) == pytest.approx(data["year_wh"], rel=1e-9)
    _, data, _ = run(capsys, "limits", "demo", "--plan", "C", "--json")
    (plan,) = data["plans"]
    assert plan["limits"][0]["key"] == "export_cap"
    assert plan["raised"][0]["saving"] > 0
    into = sum(row["year_wh"] for row in plan["flows"] if row["to"] == "Battery")
    out = sum(row["year_wh"] for row in plan["flows"] if row["from"] == "Battery")
    assert into == pytest.approx(out, rel=1e-6), "what was lost in storing is a flow of its own"
    _, data, _ = run(capsys, "order", "demo", "--json")
    assert {row["page"]: row["state"] for row in data["pages"]}["site"] == "over"
    for command in ("strings", "load", "limits", "order"):
        assert main([command, "demo", "--plan", "A"]) == 0
        assert capsys.readouterr().out.strip()


def test_strings_are_proposed_for_one_inverter(capsys):
    _, data, _ = run(capsys, "strings", "demo", "--plan", "C", "--propose", "hyb", "--json")
    best = data["layouts"][0]
    assert best["modules"] == 14, "the free face has room for 14"
    assert all(g["face"] == "north-west" for g in best["strings"]), "the other face is taken by the old inverter"
    assert any("at least 4 in series" in line for line in data["why"])
    assert run(capsys, "strings", "demo", "--plan", "A", "--propose", "bat")[0] == 2
    assert run(capsys, "strings", "demo", "--plan", "C", "--propose", "none")[0] == 2
    assert run(capsys, "strings", "demo", "--propose", "hyb")[0] == 2


def test_from_an_empty_job_to_a_comparison_by_command_line(capsys, tmp_path):
    job, drafted = tmp_path / "job.json", tmp_path / "drafted.json"
    assert main(["new-job", str(job), "--latitude", "-41"]) == 0
    assert main(["draft", str(job), "--pattern", "hybrid-alongside", "--out", str(drafted)]) == 0
    assert main(["draft", str(job), "--pattern", "hybrid-swap", "--out", str(drafted)]) == 2
    assert "no PV inverter to swap" in capsys.readouterr().err
    status, data, _ = run(capsys, "compare", str(drafted), "--json")
    assert status == 0
    assert [row["letter"] for row in data["plans"]] == ["Today", "A"]
    assert main(["new-job", str(job), "--latitude", "85"]) == 2


def test_core_works_with_qt_blocked_and_the_window_starts_light():
    blocked = "import sys; sys.modules['PySide6'] = None; import calm_relay.cli, calm_relay.study, calm_relay.relay.layout"
    light = (
        "import sys, calm_relay.ui.window, calm_relay.ui.start;"
        "heavy = [m for m in ('pvlib', 'pandas', 'numba', 'scipy') if m in sys.modules]; assert not heavy, heavy"
    )
    # PySide 6.12 under Python 3.11 lost a reference to None on each call that returns nothing, and aborted.
    many = (
        "from PySide6.QtWidgets import QApplication, QLabel; a = QApplication([]); w = QLabel();"
        "[w.setText(str(i)) for i in range(20_000)]"
    )
    for code in (blocked, light, many):
        env = {"QT_QPA_PLATFORM": "offscreen", "PATH": "/usr/bin:/bin"}
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, env=env, check=False)
        assert done.returncode == 0, done.stderr


def test_one_value_is_set_as_one_would_type_it(tmp_path, capsys):
    out = str(tmp_path / "job.json")
    assert main(["set", "demo", "house.appliances[oven].running_w", "2,5 kW", "--out", out]) == 0
    assert capsys.readouterr().out.startswith("Runs at: 2.10 kW to 2.50 kW")
    job = read_job(out).job
    assert next(a for a in job.house.appliances if a.id == "oven").running_w == 2500
    assert main(["set", out, "site.export_limit_w", "none", "--out", out]) == 0
    assert read_job(out).job.site.export_limit_w is None
    for path, value in (
        ("site.record_low_c", "warm"),
        ("site.supply.kind", "two"),
        ("nowhere", "1"),
        ("house.appliances[oven].months", "x"),
    ):
        assert main(["set", "demo", path, value, "--out", str(tmp_path / "no.json")]) == 2
        assert path in capsys.readouterr().err
    assert not (tmp_path / "no.json").exists()
    assert main(["cards", "--json"]) == 0
    assert {card["kind"] for card in json.loads(capsys.readouterr().out)["cards"]} >= {"hybrid", "battery", "module", "transfer"}


def test_the_page_of_checks_is_made_from_the_registry(capsys):
    assert main(["checks"]) == 0
    table = capsys.readouterr().out.strip()
    assert (ROOT / "docs/checks.md").read_text(encoding="utf-8").strip().endswith(table), (
        "./run cli checks prints what belongs there"
    )
    assert main(["checks", "--json"]) == 0
    assert len(json.loads(capsys.readouterr().out)["checks"]) == table.count("\n") - 1
