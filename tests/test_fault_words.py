"""Fifty kinds of rubbish in every kind of field: each fault is in our words, and says what would be right."""

from __future__ import annotations

import re

import pytest

from calm_relay.demo import demo_job
from calm_relay.errors import BadInput
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.fault_words import kind_of_name

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
