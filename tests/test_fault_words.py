"""Fifty kinds of rubbish in every kind of field: each fault is in our words, and says what would be right."""

from __future__ import annotations

import json
import re

import pytest

from calm_relay.cli import main
from calm_relay.demo import demo_job
from calm_relay.errors import BadInput
from calm_relay.job.container import validate_job
from calm_relay.job.edits import Edit, apply_edits, read_path
from calm_relay.job.fault_words import kind_of_name
from calm_relay.job.fields import all_fields, describe
from calm_relay.job.plausible import doubt

FIELDS = (
    "name", "calendar_year", "made_up", "site.place.latitude_deg", "site.supply.kind", "site.supply.service_a",
    "site.record_low_c",
    "site.weather.ghi_wh_per_m2_day", "site.weather.kind", "site.export_limit_w", "faces[north-east].tilt_deg", "faces",
    "house.appliances[oven].id", "house.appliances[oven].running_w", "house.appliances[oven].months",
    "house.appliances[well-pump].motor",
    "house.appliances[well-pump].motor.code_letter", "tariff.holidays", "tariff.import_price_per_kwh",
    "plans[today].nodes[old].count",
    "plans[ac-add-on].controls.slots", "plans[ac-add-on].transfer.listed", "library", "brief.weights",
)  # fmt: skip
RUBBISH = (
    None, "", " ", "x", "no", "0,34 €", "34 ct", "11 pm", "3h", "NaN", "-", "1e999", "x" * 500, "12-25-2", "13", True, -1, -5000.0,
    0,
    1e12, -1e12, float("nan"), float("inf"), 2.5, 61, 400, [], [1], ["x"], [None] * 12, [1] * 500, ["12-25", 3], {}, {"id": 1},
    {"kind": "x"}, {"kind": "weekly"}, [{}], [{"id": "a b"}], [[1, 2]], {"a": {"b": []}}, "true", "yes", [True], b"x", 1j,
    "2025-01-01", "[1]", "{}", "١٢", "\u0000",
)  # fmt: skip
LIBRARY = re.compile(
    r"Input|should|Extra inputs|Field required|[Vv]alid(ation| dictionary| list| tuple| string| number)|pattern '|String|Tuple|"
    r"Value error|greater than|less than or equal|type=|pydantic|parsing|literal|unable to"
)


@pytest.mark.parametrize("path", FIELDS)
def test_every_fault_is_in_our_words(path):
    job, told = demo_job(), 0
    for value in RUBBISH:
        try:
            apply_edits(job, [Edit(path, value)])
        except BadInput as error:
            for fault in error.faults:
                told += 1
                assert not LIBRARY.search(fault.line()), (value, fault.line())
                assert fault.problem
                assert fault.remedy
                assert fault.field
    assert len(RUBBISH) >= 50
    assert told > 10


def test_a_bound_stands_in_the_unit_that_people_see():
    with pytest.raises(BadInput) as caught:
        apply_edits(demo_job(), [Edit("house.appliances[oven].running_w", -5000.0)])
    assert "−5.00 kW is outside its range; use more than 0.00 kW" in caught.value.faults[0].line()
    with pytest.raises(BadInput, match="write month and day, such as 12-25"):
        apply_edits(demo_job(), [Edit("tariff.holidays", ["Christmas"])])
    with pytest.raises(BadInput, match="use one of single_phase, split_phase, three_phase"):
        apply_edits(demo_job(), [Edit("site.supply.kind", "two phases")])
    assert kind_of_name("tilt_deg") == "angle_deg"


def test_a_clock_in_a_file_is_read_and_a_figure_hardly_meant_is_asked_about(demo, tmp_path, capsys):
    data = json.loads(demo.model_dump_json())
    data["tariff"]["cheap_start_h"] = "23:30"
    data["house"]["appliances"][0]["window_end_h"] = "11 pm"
    job = validate_job(data, "")
    assert (job.tariff.cheap_start_h, job.house.appliances[0].window_end_h) == (23.5, 23.0)
    out = str(tmp_path / "out.json")
    assert main(["set", "demo", "site.supply.voltage_v", "23", "--out", out]) != 0
    assert "23 V is hardly meant here; usual is 100 V to 500 V; with --sure" in "".join(capsys.readouterr())
    assert main(["set", "demo", "site.supply.voltage_v", "23", "--out", out, "--sure"]) == 0


def test_no_figure_of_the_demos_is_doubted(demo):
    for path in all_fields(demo):
        value, info = read_path(demo, path), describe(demo, path)
        for one in value if isinstance(value, list | tuple) else [value]:
            if isinstance(one, int | float) and not isinstance(one, bool):
                assert doubt(path, info.kind, float(one)) is None, path
