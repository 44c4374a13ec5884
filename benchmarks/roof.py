"""Times the roof half in a process and a cache of its own; prints one line of JSON. Run by ``bench.py``."""

from __future__ import annotations

import json
import os
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ["XDG_CACHE_HOME"] = tempfile.mkdtemp(prefix="calm-relay-bench-")

from calm_relay.decision.roofs import direction_map
from calm_relay.demo import demo_job
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.models import Job
from calm_relay.job.sky_models import Face
from calm_relay.library.cards import HybridCard, ModuleCard
from calm_relay.library.shipped import shipped_card
from calm_relay.load.meter_files import read_meter
from calm_relay.plant.resolve import string_row
from calm_relay.pv.array import group_dc_w
from calm_relay.pv.voltage import lit_face
from calm_relay.study import Study
from calm_relay.year import stages


def seconds(work: Callable[[], object]) -> float:
    """Return how long one call takes."""
    begin = time.perf_counter()
    work()
    return time.perf_counter() - begin


def one_face_dc(study: Study, job: Job) -> object:
    """Weather to DC power of one string group on one face, at 5 min."""
    group = job.plan("C").nodes[1].strings[0]
    made = stages.group_input(
        string_row(group, job.cards()), lit_face(job.face(group.face)), study.light(job, group.face), study.calendar(job)
    )
    assert made is not None
    return group_dc_w(made, study.weather(job).air_c)


def planner(study: Study, job: Job) -> object:
    """Forty modules on three faces and four trackers."""
    card = shipped_card("hybrid-10k")
    assert isinstance(card, HybridCard)
    four = card.model_copy(update={"trackers": (*card.trackers, card.trackers[0]), "dc_ac_ratio_max_with_battery": 2.0})
    faces = tuple(
        Face(id=f"f{i}", name=f"Face {i}", tilt_deg=20, azimuth_deg=az, room_modules=room)
        for i, (az, room) in enumerate(((0, 16), (90, 12), (270, 12)))
    )
    library = tuple(four if c.id == four.id else c for c in (*job.library, four) if c.id != four.id or c is four)
    node = job.plan("B").nodes[0].model_copy(update={"card": four.id, "strings": ()})
    plan = job.plan("B").model_copy(update={"nodes": (node,)})
    job = job.model_copy(update={"faces": faces, "library": library, "plans": (plan,)})
    module = shipped_card("module-430")
    assert isinstance(module, ModuleCard)
    study.propose_strings(job, plan, node.id, module)  # light of the three faces is made once
    return seconds(lambda: study.propose_strings(job, plan, node.id, module))


def meter_file() -> float:
    """A year of minutes in a CSV of about 35 MB."""
    import numpy as np
    import pandas as pd

    stamps = pd.date_range("2025-01-01", periods=525_600, freq="min").strftime("%Y-%m-%d %H:%M:%S")
    values = np.random.default_rng(1).integers(0, 5000, 525_600)
    path = Path(tempfile.mkdtemp(prefix="calm-relay-bench-")) / "minutes.csv"
    rows = (f"{t},{v},{v},{'.' * 34}\n" for t, v in zip(stamps, values, strict=True))
    path.write_text("time,import power (W),exported power (W),note\n" + "".join(rows))
    return seconds(lambda: read_meter(path, "UTC"))


def main() -> None:
    """Measure and print."""
    study, job = Study(), demo_job()
    imports = seconds(lambda: __import__("pvlib"))
    first = seconds(lambda: one_face_dc(study, job))
    tilts = []
    for i in range(9):
        turned = apply_edits(job, [Edit("faces[north-west].tilt_deg", 20.0 + i)])
        tilts.append(seconds(lambda j=turned: one_face_dc(study, j)))
    found = {
        "import_s": imports,
        "first_s": first,
        "tilt_s": sorted(tilts)[len(tilts) // 2],
        "planner_s": min(planner(study, job) for _ in range(5)),  # type: ignore[type-var]
        "map_s": seconds(lambda: direction_map(study, job, "north-east")),
        "meter_s": meter_file(),
    }
    print(json.dumps(found))


if __name__ == "__main__":
    main()
