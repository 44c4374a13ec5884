"""The document: history, validated edits, migration, faults; and the job file in both forms."""

from __future__ import annotations

import json
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from calm_relay.demo import DEMOS, demo_job, demo_path, made_job
from calm_relay.errors import BadInput
from calm_relay.job.common_models import SeriesRef
from calm_relay.job.container import job_json, read_job, save_job
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.history import Document
from calm_relay.job.house_models import House, SeriesLoad
from calm_relay.job.models import Job, LogEntry
from calm_relay.job.plans import duplicate_plan, remove_plan
from calm_relay.job.series import SeriesStore
from calm_relay.study import Study
from calm_relay.units import SCALES, format_quantity, parse_quantity


def tilt(degrees: float) -> Any:
    return lambda job: apply_edits(job, [Edit("faces[north-west].tilt_deg", degrees)])


@pytest.mark.parametrize("name", DEMOS)
def test_a_shipped_demo_is_what_its_script_makes_and_has_a_plan_without_over(name):
    opened, store = read_job(demo_path(name)), SeriesStore()
    assert opened.job == made_job(name, store)
    for ref in opened.job.series_refs().values():
        np.testing.assert_array_equal(opened.store.get(ref.sha256), store.get(ref.sha256))
    study = Study(opened.store)
    results = [study.plan_result(opened.job, plan) for plan in opened.job.plans[1:]]
    assert any(not any(f.verdict == "over" for f in r.findings) for r in results)
    assert all(study.worst_open_balance(opened.job, plan) < 1e-6 for plan in opened.job.plans)


def test_undo_and_redo_are_named_and_bring_back_the_very_snapshot(demo):
    document = Document(demo)
    told: list[str | None] = []
    stop = document.observe(lambda: told.append(document.undo_label))
    assert document.edit("Tilt: 24° to 30°", tilt(30))
    assert not document.edit("Tilt: 30° to 30°", tilt(30)), "no difference is no entry"
    assert (document.undo_label, document.redo_label, document.dirty) == ("Tilt: 24° to 30°", None, True)
    assert document.undo() == "Tilt: 24° to 30°"
    assert document.job is demo
    assert not document.dirty
    assert document.redo() == "Tilt: 24° to 30°"
    assert document.job.face("north-west").tilt_deg == 30
    stop()
    document.undo()
    assert told == ["Tilt: 24° to 30°", None, "Tilt: 24° to 30°"]


def test_typing_in_one_field_is_one_entry_until_focus_leaves(demo):
    document = Document(demo)
    for degrees in (25, 26, 27):
        document.edit(f"Tilt to {degrees}", tilt(degrees), merge="tilt")
    document.end_merge()
    document.edit("Tilt to 28", tilt(28), merge="tilt")
    assert document.undo() == "Tilt to 28"
    assert document.job.face("north-west").tilt_deg == 27
    assert document.undo() == "Tilt to 27"
    assert document.job is demo


def test_the_log_is_append_only_and_outside_undo(demo):
    document = Document(demo)
    document.edit("Tilt to 30", tilt(30))
    document.append_log(LogEntry(time="2026-11-24", author="a", text="measured"))
    document.undo()
    assert [entry.text for entry in document.job.log] == ["measured"]
    assert document.job.face("north-west").tilt_deg == demo.face("north-west").tilt_deg


def test_an_edit_that_does_not_validate_changes_nothing(demo):
    document = Document(demo)
    with pytest.raises(BadInput, match=r"faces\[north-west\]\.tilt_deg"):
        document.edit(
            "bad", lambda job: job.model_copy(update={"faces": (*job.faces[:1], job.faces[1].model_copy(update={"tilt_deg": -4}))})
        )
    assert document.job is demo
    assert document.undo_label is None


def test_deleting_what_is_used_is_a_fault_with_the_remedy(demo):
    with pytest.raises(BadInput, match="there is no roof face 'north-west'"):
        Document(demo).edit("Remove face", lambda job: job.model_copy(update={"faces": job.faces[:1]}))
    with pytest.raises(BadInput, match="today's system cannot be removed"):
        remove_plan(demo, "today")


def test_a_duplicated_plan_has_its_own_id_and_letter(demo):
    plans, made = duplicate_plan(demo, "ac-add-on")
    again, second = duplicate_plan(demo.model_copy(update={"plans": plans}), "ac-add-on")
    assert (made, second) == ("ac-add-on-2", "ac-add-on-3")
    assert [p.letter for p in again[-2:]] == ["E", "F"]
    assert len({p.id for p in again}) == len(again)


def as_version_1(job: Job) -> dict[str, Any]:
    data: dict[str, Any] = json.loads(job_json(job))
    data["schema_version"] = 1
    data["tariff"]["feed_in_per_kwh"] = data["tariff"].pop("export_price_per_kwh")
    for plan in data["plans"]:
        plan["controls"]["reserve_soc_percent"] = 100 * plan["controls"].pop("reserve_soc_frac")
    return data


def test_a_version_1_file_is_migrated_to_the_same_job(demo, tmp_path):
    path = tmp_path / "old.json"
    path.write_text(json.dumps(as_version_1(demo)))
    opened = read_job(path)
    assert opened.came_in_version == 1
    assert opened.job == demo


def test_container_round_trip_with_a_metered_year(demo, tmp_path):
    store = SeriesStore()
    values = np.random.default_rng(1).random(8760) * 3000
    key = store.put(values)
    ref = SeriesRef(sha256=key, rows=8760, step_s=3600, column="house_w")
    job = demo.model_copy(update={"house": House(background=SeriesLoad(series=ref), appliances=demo.house.appliances)})
    path = tmp_path / "job.crjob"
    save_job(path, job, store)
    first = path.read_bytes()
    opened = read_job(path)
    assert opened.job == job
    np.testing.assert_array_equal(opened.store.get(key), values)
    save_job(path, opened.job, opened.store)
    assert path.read_bytes() == first, "the same job gives the same bytes"
    with zipfile.ZipFile(path) as archive:
        assert archive.namelist() == ["job.json", f"series/{key}.csv.gz"]
    with pytest.raises(BadInput, match=r"plain \.json cannot hold a series"):
        save_job(tmp_path / "job.json", job, store)
    assert not (tmp_path / "job.json").exists()


def faults_of(data: dict[str, Any] | bytes, folder: Path) -> list[str]:
    path = folder / "bad.json"
    path.write_bytes(data if isinstance(data, bytes) else json.dumps(data).encode())
    before = path.read_bytes()
    with pytest.raises(BadInput) as caught:
        read_job(path)
    assert path.read_bytes() == before
    assert all(fault.file == str(path) and fault.problem and fault.remedy for fault in caught.value.faults)
    return [fault.line() for fault in caught.value.faults]


def test_three_faults_are_named_at_once(demo, tmp_path):
    data = json.loads(job_json(demo))
    data["plans"][1]["nodes"][1]["card"] = "batery-inverter-5k"
    data["faces"][0]["tilt_deg"] = -5
    data["house"]["background"] = {"kind": "series", "series": {"path": "meter.csv", "rows": 8760, "step_s": 3600}}
    lines = faults_of(data, tmp_path)
    assert len(lines) == 3
    assert any("nodes[bat].card" in x and "did you mean 'battery-inverter-5k'" in x for x in lines)
    assert any("faces[north-east].tilt_deg: -5 is outside its range; use at least 0" in x for x in lines)
    assert any("house.background.series: the file 'meter.csv' is not there" in x for x in lines)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        (b"", "it is not JSON"),
        (b"[]", "no job object"),
        (b'{"schema_version": 99}', "newer than this program"),
        (b'{"schema_version": true}', "no usable schema version"),
        (b"\xff\xfe", "not UTF-8"),
        (b"PK\x03\x04rubbish", "damaged"),
        (b"[" * 100_000, "cannot be used"),
    ],
)
def test_what_is_no_job_is_said_in_one_line(text, words, tmp_path):
    (line,) = faults_of(text, tmp_path)
    assert words in line


@pytest.mark.parametrize(
    ("path", "value", "words"),
    [
        (("faces", 0, "tilt_deg"), float("nan"), "faces[north-east].tilt_deg: nan is not a number"),
        (("site", "export_limit_w"), float("inf"), "site.export_limit_w: inf is not a number"),
        (("plans",), [], "plans: it has 0 entries; use at least 1"),
        (("house",), [], "house: "),  # and nothing about the loads that plans name
        (("faces",), "flat", "faces: "),
        (("library",), {}, "library: "),
        (("plans", 3, "transfer", "listed"), 5, "plans[hybrid-alongside].transfer.listed: 5 does not fit"),
    ],
)
def test_one_fault_is_told_once_and_where_it_stands(demo, path, value, words, tmp_path):
    data = json.loads(job_json(demo))
    here = data
    for step in path[:-1]:
        here = here[step]
    here[path[-1]] = value
    (line,) = faults_of(data, tmp_path)
    assert words in line


def test_a_path_out_of_the_jobs_folder_is_a_fault(demo, tmp_path):
    data = json.loads(job_json(demo))
    for path in ("../meter.csv", "/etc/hostname"):
        data["house"]["background"] = {"kind": "series", "series": {"path": path, "rows": 8760, "step_s": 3600}}
        assert "leaves the job's folder" in faults_of(data, tmp_path)[0]


DEMO_DATA = json.loads(job_json(demo_job()))


@given(st.data())
@settings(max_examples=60, deadline=None, derandomize=True)
def test_a_damaged_job_is_read_or_explained_never_a_crash(tmp_path_factory, data):
    """Any one value of the file replaced by any other JSON: either a job comes out, or faults that name the file."""
    job = json.loads(json.dumps(DEMO_DATA))
    here: Any = job
    while True:
        keys = list(here) if isinstance(here, dict) else list(range(len(here)))
        key = data.draw(st.sampled_from(keys))
        inner = here[key]
        if not isinstance(inner, dict | list) or not inner or data.draw(st.booleans()):
            break
        here = inner
    here[key] = data.draw(st.sampled_from([None, -1, 1e30, "", "x", [], {}, True, [1], {"id": "x"}, "today"]))
    path = tmp_path_factory.mktemp("fuzz") / "job.json"
    path.write_text(json.dumps(job))
    try:
        read_job(path)
    except BadInput as error:
        assert error.faults
        assert all(fault.file for fault in error.faults)


@example("clock_h", 0.125)
@given(st.sampled_from(sorted(SCALES)), st.floats(-1e6, 1e6))
def test_what_is_shown_can_be_typed_back(kind, value):
    scale = SCALES[kind]
    if kind == "money":
        return  # shown with thousands separators, never typed
    shown = format_quantity(value * scale.factor, kind)
    clock = kind == "clock_h" and 0 <= value <= 24  # shown as hours and minutes
    rounded = round(value * 60) / 60 if clock else round(value, scale.decimals)
    assert parse_quantity(shown, kind) == pytest.approx(rounded * scale.factor, abs=1e-9 * scale.factor)


@pytest.mark.parametrize(
    ("text", "kind", "value"),
    [
        ("6.6kW", "power_w", 6600), ("6,6", "power_w", 6600), ("6600 W", "power_w", 6600), ("185 LRA", "current_a", 185),
        ("35°", "angle_deg", 35), ("−4", "temperature_c", -4), ("20 %", "fraction", 0.2), ("13,2 kWh", "energy_wh", 13200),
        ("0,340", "price_per_kwh", 0.34),
        ("0,34 €", "price_per_kwh", 0.34), ("34 ct", "price_per_kwh", 0.34), ("€0.34/kWh", "price_per_kwh", 0.34),
        ("11 pm", "clock_h", 23), ("12 am", "clock_h", 0), ("23:30", "clock_h", 23.5), ("7.5", "clock_h", 7.5),
        ("3h", "hours_h", 3),
        ("W", "angle_deg", 270), ("$ 1,200", "money", 1200), ("12,5", "money", 12.5), ("11,900", "money", 11_900),
    ],
)  # fmt: skip
def test_units_as_people_type_them(text, kind, value):
    assert parse_quantity(text, kind) == pytest.approx(value)


@pytest.mark.parametrize(
    ("text", "words"), [("", "not a number"), ("5 km", "does not fit here"), ("1.2.3", "does not fit"), ("x", "not a")]
)
def test_what_is_no_power_is_explained(text, words):
    with pytest.raises(BadInput, match=words):
        parse_quantity(text, "power_w")
