"""Caches that cannot lie: keys hold the code, one entry is made once, memory and disk are bounded, two equal plans differ by id."""

from __future__ import annotations

import threading
import time
from collections import Counter
from pathlib import Path

import numpy as np
import pytest

from calm_relay import cache as cache_module
from calm_relay.cache import StageCache, content_key, digest_of_code, on_disk, trim_disk
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.report.plans import comparison
from calm_relay.study import Study


def test_a_changed_line_of_physics_is_another_key(tmp_path):
    package = tmp_path / "package"
    (package / "pv").mkdir(parents=True)
    (package / "ui").mkdir()
    (package / "pv" / "cells.py").write_text("LOSS = 0.01\n")
    (package / "pv" / "pack.toml").write_text("a = 1\n")
    (package / "ui" / "window.py").write_text("SIZE = 1\n")
    first = digest_of_code(package)
    (package / "ui" / "window.py").write_text("SIZE = 2\n")
    assert digest_of_code(package) == first, "a window's look computes nothing"
    (package / "pv" / "cells.py").write_text("LOSS = 0.02\n")
    second = digest_of_code(package)
    (package / "pv" / "pack.toml").write_text("a = 2\n")
    assert len({first, second, digest_of_code(package)}) == 3


def test_keys_hold_the_digest_of_the_code(monkeypatch):
    now = content_key("sun", 1)
    monkeypatch.setattr(cache_module, "code_digest", lambda: "other code")
    assert content_key("sun", 1) != now


def test_threads_that_ask_for_one_key_make_it_once_and_a_failure_is_tried_again():
    kept, made = StageCache(), Counter()
    start = threading.Barrier(8)

    def make(key: str) -> str:
        made[key] += 1
        time.sleep(0.002)
        return key

    def ask() -> None:
        start.wait()
        for key in map(str, range(40)):
            assert kept.get(key, lambda key=key: make(key)) == key

    threads = [threading.Thread(target=ask) for _ in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert set(made.values()) == {1}

    with pytest.raises(ZeroDivisionError):
        kept.get("x", lambda: 1 // 0)
    assert kept.get("x", lambda: "made") == "made"


def test_who_asks_just_before_a_result_is_kept_waits_for_it():
    kept, made = StageCache(), []
    asked: list[threading.Thread] = []

    def size(_: object) -> int:
        if not asked:  # the first result is made, and not kept yet
            asked.append(threading.Thread(target=lambda: kept.get("k", lambda: made.append(2) or "second", size)))
            asked[0].start()
            asked[0].join(0.2)
        return 1

    assert kept.get("k", lambda: made.append(1) or "first", size) == "first"
    asked[0].join()
    assert made == [1]


def test_memory_is_bounded_in_both_rooms():
    kept = StageCache(((10, 100), (float("inf"), 1000)))
    for i in range(50):
        kept.get(f"large {i}", lambda: "x", lambda _: 300)
        kept.get(f"small {i}", lambda: "x", lambda _: 9)
        assert kept.nbytes <= 1100
    assert kept.peek("large 49")
    assert kept.peek("small 40")
    assert kept.peek("large 45") is None
    assert kept.peek("small 30") is None


def test_the_disk_keeps_what_was_used_last(tmp_path, monkeypatch):
    monkeypatch.setenv("CALM_RELAY_CACHE", str(tmp_path))
    monkeypatch.setattr(cache_module, "DISK_LIMIT_BYTES", 25_000)
    for i in range(6):
        on_disk(f"key{i}", lambda: {"a": np.zeros(1000)})
        time.sleep(0.02)
        on_disk("key0", lambda: {"a": np.ones(1)})
        time.sleep(0.02)
    assert sorted(p.stem for p in tmp_path.glob("*.npz")) == ["key0", "key4", "key5"]
    assert on_disk("key0", lambda: {"a": np.ones(1)})["a"].size == 1000, "kept from the first time, since it was used each time"
    (tmp_path / "other.txt").write_text("not ours")
    trim_disk(tmp_path, 0)
    assert [p.name for p in tmp_path.iterdir()] == ["other.txt"]


def test_two_equal_plans_whose_ids_differ_are_both_answered(demo, quarter):
    """Their flows are alike, and each is read by its own ids."""
    other = demo.plan("A").model_dump()
    other |= {"id": "twin", "letter": "Z"}
    other["nodes"] = [{**node, "id": f"{node['id']}-2"} for node in other["nodes"]]
    job = apply_edits(demo, [Edit("plans", [*(p.model_dump() for p in demo.plans), other])])
    rows = {row.letter: row for row in comparison(quarter, job, job.plans)}
    assert rows["A"].bill == rows["Z"].bill
    assert rows["A"].over == rows["Z"].over
    assert set(quarter.facts(job, job.plan("Z")).nodes_wh) == {"bat-2"}
    assert quarter.flow(job, job.plan("Z")).flow.node_ids == ("bat-2",)


def test_a_price_edit_runs_only_the_bill_though_the_series_are_gone(demo):
    """At 5 min a flow is 45 MB and soon pushed out: the bill stands on what the meter saw, which is small."""
    study = Study(cache=StageCache(((3_000_000, 30_000_000), (float("inf"), 1))))
    for plan in demo.plans:
        study.plan_result(demo, plan)
    before = Counter(study.runs)
    dearer = apply_edits(demo, [Edit("tariff.import_price_per_kwh", 0.5)])
    for plan in dearer.plans:
        study.plan_result(dearer, plan)
    assert dict(study.runs - before) == {"bill": len(demo.plans)}


def test_the_kernel_is_kept_by_the_content_of_its_folder(tmp_path):
    (tmp_path / "a.py").write_text("x = 1\n")
    one = cache_module.code_cache_folder(tmp_path)
    (tmp_path / "a.py").write_text("x = 2\n")
    assert cache_module.code_cache_folder(tmp_path) != one
    assert cache_module.code_cache_folder(tmp_path, tmp_path / "a.py") != cache_module.code_cache_folder(tmp_path)
    assert Path(one).name.startswith("compiled-")
