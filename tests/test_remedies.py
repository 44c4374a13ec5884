"""Every remedy of every check, applied to a dozen jobs and both demos: it clears its finding and puts no other check over."""

from __future__ import annotations

import pytest

from calm_relay.demo import demo_job, demo_path
from calm_relay.job.container import read_job
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.study import Study

A, B, C = "plans[ac-add-on]", "plans[hybrid-swap]", "plans[hybrid-alongside]"
SLOT = f"{A}.controls.slots[0]"
JOBS: dict[str, list[Edit]] = {
    "as it is": [],
    "a cap of 2 kW and an inverter nobody throttles": [
        Edit("site.export_limit_w", 2000.0), Edit("library[string-inverter-5k].controllable", value=False),
    ],
    "no export": [Edit("site.export_limit_w", 0.0)],
    "three phases on 25 A": [Edit("site.supply.kind", "three_phase"), Edit("site.supply.service_a", 25.0)],
    "a split phase": [Edit("site.supply.kind", "split_phase"), Edit("site.supply.voltage_v", 240.0)],
    "a service of 25 A": [Edit("site.supply.service_a", 25.0)],
    "the whole house backed up": [Edit(f"{p}.transfer.backed_up", "whole_house") for p in (A, B, C)],
    "a large battery": [Edit(f"{A}.nodes[bat].battery.modules", 7), Edit(f"{B}.nodes[hyb].battery.modules", 7)],
    "a large pump": [Edit("house.appliances[well-pump].motor.lra_a", 60.0)],
    "a slot in the evening": [Edit(f"{SLOT}.start_h", 20.0), Edit(f"{SLOT}.end_h", 22.0), Edit(f"{SLOT}.power_w", 800.0)],
    "a weak battery": [Edit("library[stack-3k].discharge_max_a", 12.0)],
    "old PV on the backup side": [Edit(f"{C}.nodes[old].side", "backup"), Edit("library[hybrid-6k].absorb_max_w", 3000.0)],
    "long strings in parallel": [
        Edit(f"{B}.nodes[hyb].strings[ne1].modules_per_string", 13), Edit(f"{B}.nodes[hyb].strings[ne2].tracker", 1),
        Edit("library[hybrid-5k].trackers[0].short_circuit_current_a", 20.0),
    ],
    "a network of 5 kW": [Edit("site.network.sum_limit_w", 5000.0)],
}  # fmt: skip


def _bad(study: Study, job, plan) -> tuple[list[str], int]:
    before = study.plan_result(job, plan).findings
    over, bad, tried = {(f.check, f.subject) for f in before if f.verdict == "over"}, [], 0
    for f in before:
        for remedy in (r for r in f.remedies if r.edits):
            tried += 1
            mended = apply_edits(job, remedy.edits)
            after = study.plan_result(mended, mended.plan(plan.id)).findings
            mine = [m for m in after if (m.check, m.subject) == (f.check, f.subject)]
            if any(m.verdict in ("over", "not known") or (m.margin or 0.0) < -1e-9 for m in mine):
                bad.append(f"{plan.letter} {f.check}: '{remedy.text}' does not clear it: {mine[0].arithmetic}")
            worse = [m.check for m in after if m.verdict == "over" and m.check != f.check and (m.check, m.subject) not in over]
            bad += [f"{plan.letter} {f.check}: '{remedy.text}' puts {check} over" for check in worse]
    return bad, tried


@pytest.mark.parametrize("name", [*JOBS, "the pottery"])
def test_remedies_clear_what_they_are_for_and_make_nothing_worse(name):
    if name == "the pottery":
        opened = read_job(demo_path("demo-kvist"))
        job, study = opened.job, Study(opened.store, step_s=1800)
    else:
        job, study = apply_edits(demo_job(), JOBS[name]), Study(step_s=1800)
    bad, tried = [], 0
    for plan in job.plans:
        found, count = _bad(study, job, plan)
        bad, tried = bad + found, tried + count
    assert not bad
    assert tried or name in ("no export", "a split phase", "the pottery")
