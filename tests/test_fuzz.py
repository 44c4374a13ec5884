"""Damaged files under the one harness: jobs, weather of each format, horizons and tables of shade."""

from __future__ import annotations

import json

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from calm_relay.cli import main
from calm_relay.demo import demo_job, demo_path
from calm_relay.job.container import read_job, save_job
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.series import SeriesStore
from calm_relay.pv.shade_files import read_shade, shade_text
from calm_relay.weather.files import read_weather
from tests.fuzz import damaged, heads, read_or_explained

HORIZON = b"azimuth_deg,elevation_deg\n0,5\n90,12.5\n180,0\n270,8\n"
TABLE = "\n".join(" ".join("0.25" if 7 <= h < 9 else "0" for h in range(24)) for _ in range(12)).encode()
EPW = b"LOCATION,a,b,c,d,e,1,2,3,4\n" + b"FILLER\n" * 7 + b"2019,1,1,1,60,?,5,5,60,101300,0,0,300,0,0,0\n" * 40
PLAIN = b"ghi,air_c\n" + b"120,5\n" * 60
WEATHER_HEADS = heads(b"LOCATION,a,b,c\n", b"Latitude (decimal degrees): 1\n", b'{"outputs": ', b"ghi,air_c\n")


@given(st.data())
@settings(max_examples=120, deadline=None, derandomize=True)
def test_a_damaged_job(tmp_path_factory, data):
    good = demo_path().read_bytes()
    path = tmp_path_factory.mktemp("job") / "x.json"
    opened = read_or_explained(read_job, path, data.draw(damaged(good)), most_faults=200)
    assert opened is None or opened.job.plans


@given(st.data())
@settings(max_examples=120, deadline=None, derandomize=True)
def test_damaged_weather(tmp_path_factory, data):
    path = tmp_path_factory.mktemp("weather") / "x.epw"
    content = data.draw(damaged(data.draw(st.sampled_from([EPW, PLAIN]))))
    for head in WEATHER_HEADS:
        read_or_explained(read_weather, path, head + content)


@given(st.data())
@settings(max_examples=200, deadline=None, derandomize=True)
def test_damaged_shade(tmp_path_factory, data):
    path = tmp_path_factory.mktemp("shade") / "x.csv"
    read = read_or_explained(read_shade, path, data.draw(damaged(data.draw(st.sampled_from([HORIZON, TABLE])))))
    if read is not None:  # what is taken fits the document
        apply_edits(demo_job(), [Edit(f"faces[north-west].{name}", value) for name, value in read.items()])


@pytest.mark.parametrize("content", [HORIZON, TABLE])
def test_shade_is_written_as_it_is_read(content, tmp_path):
    path = tmp_path / "shade.csv"
    read = read_or_explained(read_shade, path, content)
    face = demo_job().face("north-west").model_copy(update={"horizon": (), **read})
    again = read_or_explained(read_shade, path, shade_text(face).encode())
    assert again == read


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (b"0,5\n400,10\n", "azimuth lies between 0 and 360"),
        (b"0,5\n90,89\n", "elevation lies between 0 and 85"),
        (b"0,5\n0,9\n", "stands twice"),
        (b"1 2 3\n" * 12, "row 1 has 3 numbers"),
        (TABLE + b"\n" + TABLE, "give 12 rows of 24"),
        (TABLE.replace(b"0.25", b"1.25"), "between 0 and 1"),
        (b"month,hour\n", "no numbers"),
        (b"", "no numbers"),
        (b"\xff\xfe", "not UTF-8"),
    ],
)
def test_bad_shade_is_one_line_and_changes_nothing(content, words, tmp_path, capsys):
    path, job = tmp_path / "bad.csv", tmp_path / "job.crjob"
    path.write_bytes(content)
    save_job(job, demo_job(), SeriesStore())
    before = job.read_bytes()
    assert main(["set-shade", str(job), "--face", "north-west", "--file", str(path), "--out", str(job)]) == 2
    err = capsys.readouterr().err
    assert len(err.strip().splitlines()) == 1
    assert words in err
    assert "bad.csv" in err
    assert job.read_bytes() == before


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda d: d["faces"][0].update(azimuth_deg=400), "faces[north-east].azimuth_deg"),
        (lambda d: d["faces"][0].update(shade_table=[[0.0] * 24] * 11), "faces[north-east].shade_table"),
        (lambda d: d["faces"][0].update(shade_table=[[0.0] * 24] * 11 + [[2.0] * 24]), "faces[north-east].shade_table"),
        (lambda d: d["faces"][0].update(horizon=[{"azimuth_deg": 10, "elevation_deg": 5}] * 2), "2 points at 10"),
        (lambda d: d["plans"][0]["nodes"][0]["strings"][0].update(modules_per_string=0), "modules_per_string"),
        (lambda d: d["plans"][0]["nodes"][0]["strings"][0].update(optimizer="stack-3k"), "not an optimizer"),
        (lambda d: d["plans"][0]["nodes"][0]["strings"][0].update(optimizer="none-such"), "no card 'none-such'"),
    ],
)
def test_a_roof_that_cannot_be_is_said_in_clear_lines(change, words, tmp_path, capsys):
    data = json.loads(demo_path().read_text())
    change(data)
    path = tmp_path / "job.json"
    path.write_text(json.dumps(data))
    assert main(["strings", str(path)]) == 2
    err = capsys.readouterr().err
    assert words in err
    assert len(err.strip().splitlines()) <= 24  # a row of 24 wrong hours is at most a line each
