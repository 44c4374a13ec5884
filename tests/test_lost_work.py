"""Work that is recovered never overwrites a newer file unasked; windows and meters that hold nothing; a long history."""

from __future__ import annotations

import json

import numpy as np
import pytest

from calm_relay.errors import BadInput
from calm_relay.job.container import OpenedJob, read_job, save_job
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.history import Document
from calm_relay.job.recovery import Recovery, find_recoverable, unsaved_of
from calm_relay.job.series import SeriesStore
from calm_relay.load.meter_files import read_meter

A = "ac-add-on"
BATTERY = f"plans[{A}].nodes[bat].battery"


def kept(folder, job, path, stamp=None):
    work = Recovery(folder)
    assert work.keep(job, SeriesStore(), path, stamp)
    work.release()
    return work


def test_an_entry_keeps_the_files_stamp_and_is_found_by_the_files_path(demo, tmp_path):
    path = tmp_path / "a.json"
    stamp = save_job(path, demo, SeriesStore())
    changed = apply_edits(demo, [Edit("name", "Changed")])
    kept(tmp_path / "r", changed, path, stamp)
    (found,) = find_recoverable(tmp_path / "r")
    assert found.opened.stamp == stamp
    assert unsaved_of(path, tmp_path / "r").opened.job.name == "Changed"
    assert unsaved_of(tmp_path / "other.json", tmp_path / "r") is None


def test_an_entry_of_an_older_version_is_found(demo, tmp_path):
    work = kept(tmp_path, demo, None)
    file = tmp_path / f"{work.id}.json"
    entry = json.loads(file.read_text())
    entry["job"]["schema_version"] = 4
    del entry["job"]["pack"], entry["stamp"]
    for plan in entry["job"]["plans"]:
        plan["controls"]["battery_order"] = "best_round_trip"
        plan["controls"]["meter_bias_w"] = -10.0
    file.write_text(json.dumps(entry))
    (found,) = find_recoverable(tmp_path)
    assert found.opened.came_in_version == 4
    assert {p.controls.battery_order for p in found.opened.job.plans} == {"like_units"}
    assert {p.controls.meter_bias_w for p in found.opened.job.plans} == {0.0}


@pytest.mark.parametrize(
    ("edits", "words"),
    [
        ([(f"{BATTERY}.soc_max_frac", 0.04)], "from 5 % to 4 % with the card's own end holds nothing"),
        ([(f"{BATTERY}.soc_min_frac", 1.0)], "from 100 % to 100 %"),
        ([(f"{BATTERY}.soc_min_frac", 0.6), (f"{BATTERY}.soc_max_frac", 0.5)], "from 60 % to 50 % holds nothing"),
        ([("library[stack-3k].soc_max_frac", 0.9), (f"{BATTERY}.soc_min_frac", 0.9)], "from 90 % to 90 %"),
    ],
)
def test_a_window_that_holds_nothing_is_refused_by_either_end(edits, words, demo):
    with pytest.raises(BadInput, match=words):
        apply_edits(demo, [Edit(path, value) for path, value in edits])


def meter_file(tmp_path, values):
    path = tmp_path / "meter.csv"
    stamps = np.datetime64("2025-01-01T00:00") + np.arange(8760) * np.timedelta64(60, "m")
    rows = [f"{str(t).replace('T', ' ')},{v}" for t, v in zip(stamps, values, strict=True)]
    path.write_text("time,import kWh\n" + "\n".join(rows) + "\n")
    return path


def test_meter_values_that_no_supply_carries_are_refused(tmp_path):
    values = np.full(8760, 0.5)
    assert read_meter(meter_file(tmp_path, values), "UTC").year_wh("import") == pytest.approx(4_380_000)
    values[100] = 1e9
    with pytest.raises(BadInput, match=r"2025-01-05 04:00 UTC: 1e\+09 kWh in 60 min are"):
        read_meter(meter_file(tmp_path, values), "UTC")
    with pytest.raises(BadInput, match="every value of the year is 0"):
        read_meter(meter_file(tmp_path, np.zeros(8760)), "UTC")


def test_a_thousand_edits_can_all_be_undone_and_share_what_did_not_change(demo):
    document = Document(demo)
    for i in range(1000):
        document.edit(f"edit {i}", lambda job, i=i: job.model_copy(update={"name": f"Job {i}"}))
    assert document.job.plans is demo.plans, "an edit of the name keeps all else"
    assert document.job.library is demo.library
    undone = 0
    while document.undo():
        undone += 1
    assert undone == 1000
    assert document.forgotten == 0
    assert document.job == demo


def test_an_edit_in_one_plan_shares_the_others(demo):
    document = Document(demo)
    path = f"{BATTERY}.modules"
    document.edit("modules", lambda job: apply_edits(job, [Edit(path, 4)]), validated=True)
    assert [a is b for a, b in zip(document.job.plans, demo.plans, strict=True)] == [True, False, True, True, True]
    assert document.job.house is demo.house


def test_a_read_job_knows_its_file(demo, tmp_path):
    path = tmp_path / "a.json"
    save_job(path, demo, SeriesStore())
    opened = read_job(path)
    assert isinstance(opened, OpenedJob)
    assert opened.stamp == (path.stat().st_mtime_ns, path.stat().st_size)
