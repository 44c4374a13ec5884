"""Every check: an over, a within and a not-known case, and each remedy that can be applied clears what it was for."""

from __future__ import annotations

import pytest

from calm_relay.job.models import Job
from calm_relay.rules.edits import Edit, apply_edits
from calm_relay.rules.pack import international, parse_pack
from calm_relay.rules.registry import REGISTRY, CheckContext, Finding, check, judge, run_checks
from calm_relay.study import Study

A, B, C, D, TODAY = "ac-add-on", "hybrid-swap", "hybrid-alongside", "array-only", "today"
HYB, OLD_D = f"plans[{B}].nodes[hyb]", f"plans[{D}].nodes[old]"
OLD_INVERTER, STACK, CHARGER = "library[string-inverter-5k]", "library[stack-3k]", "library[battery-inverter-5k]"

# check → (plan, edits) for each verdict; no edits: as the demo job stands.
CASES: dict[str, dict[str, tuple[str, list[Edit]]]] = {
    "string.cold-voc": {
        "over": (B, [Edit(f"plans[{B}].nodes[hyb].strings[ne1].modules_per_string", 13)]),
        "within": (B, []),
        "not known": (B, [Edit("site.record_low_c", None)]),
    },
    "string.hot-vmp": {
        "over": (B, [Edit(f"plans[{B}].nodes[hyb].strings[ne1].modules_per_string", 2)]),
        "within": (B, []),
        "not known": (B, [Edit("site.design_high_c", None)]),
    },
    "tracker.short-circuit": {
        "over": (D, []),
        "within": (TODAY, []),
        "not known": (TODAY, [Edit(f"{OLD_INVERTER}.trackers[0].short_circuit_current_a", None)]),
    },
    "array.dc-ac-ratio": {
        "over": (D, []),
        "within": (B, []),
        "not known": (TODAY, [Edit(f"{OLD_INVERTER}.dc_ac_ratio_max", None)]),
    },
    "battery.charge-chain": {
        "over": (A, [Edit(f"plans[{A}].controls.slots[0].power_w", 6000.0)]),
        "within": (A, []),
        "not known": (A, [Edit(f"{STACK}.charge_max_a", None)]),
    },
    "battery.window-fill": {
        "over": (A, [Edit(f"plans[{A}].controls.slots[0].power_w", 1000.0)]),
        "within": (C, []),
        "not known": (A, [Edit(f"plans[{A}].controls.slots[0].power_w", 0.0)]),
    },
    "battery.evening-peak": {
        "over": (A, [Edit("house.appliances[heat-pump].running_w", 3500.0)]),
        "within": (C, []),
        "not known": (A, [Edit(f"{STACK}.discharge_max_a", None)]),
    },
    "battery.array-fills": {
        "over": (A, [Edit(f"plans[{A}].nodes[bat].battery.modules", 6)]),
        "within": (A, []),
        "not known": (A, [Edit(f"plans[{A}].nodes[old].strings", [])]),
    },
    "backup.offgrid-power": {
        "over": (A, [Edit(f"plans[{A}].transfer.backed_up", "whole_house")]),
        "within": (A, []),
        "not known": (A, [Edit(f"{CHARGER}.offgrid_continuous_va", None)]),
    },
    "backup.motor-start": {
        "over": (A, [Edit("house.appliances[well-pump].motor.lra_a", 60.0)]),
        "within": (A, []),
        "not known": (A, [Edit(f"{CHARGER}.offgrid_peak_va", None)]),
    },
    "backup.ac-pv-absorb": {
        "over": (A, [Edit(f"{CHARGER}.absorb_max_w", 3000.0)]),
        "within": (A, [Edit(f"{CHARGER}.absorb_ratio", 1.5)]),
        "not known": (A, [Edit(f"{CHARGER}.absorb_max_w", None)]),
    },
    "string.start-voltage": {
        "over": (B, [Edit(f"{HYB}.strings[ne1].modules_per_string", 2)]),
        "within": (B, []),
        "not known": (B, [Edit("site.design_high_c", None)]),
    },
    "string.cold-vmp": {
        "tight": (B, [Edit(f"{HYB}.strings[ne1].modules_per_string", 12)]),
        "within": (B, []),
        "not known": (B, [Edit("site.record_low_c", None)]),
    },
    "tracker.working-current": {"tight": (D, []), "within": (TODAY, [])},
    "tracker.power": {
        "tight": (B, [Edit("library[hybrid-5k].trackers[0].power_max_w", 2000.0)]),
        "within": (B, [Edit("library[hybrid-5k].trackers[0].power_max_w", 8000.0)]),
    },
    "tracker.reverse-current": {
        "over": (D, [Edit(f"{OLD_D}.strings[ne].parallel_strings", 4)]),
        "within": (D, []),
        "not known": (D, [Edit("library[module-385].series_fuse_max_a", None)]),
    },
    "string.fuse-size": {
        "over": (D, [Edit(f"{OLD_D}.strings[ne].fuse_a", 40.0)]),
        "within": (D, [Edit(f"{OLD_D}.strings[ne].fuse_a", 16.0)]),
        "not known": (D, [Edit(f"{OLD_D}.strings[ne].fuse_a", 16.0), Edit("library[module-385].series_fuse_max_a", None)]),
    },
    "tracker.strings-alike": {
        "over": (B, [Edit(f"{HYB}.strings[ne2].tracker", 1), Edit(f"{HYB}.strings[ne2].modules_per_string", 9)]),
        "within": (B, [Edit(f"{HYB}.strings[ne2].tracker", 1)]),
    },
    "tracker.one-face": {
        "tight": (B, [Edit(f"{HYB}.strings[ne2].tracker", 1), Edit(f"{HYB}.strings[ne2].face", "north-west")]),
        "within": (D, []),
    },
    "roof.room": {
        "over": (C, [Edit(f"plans[{C}].nodes[hyb].strings[nw1].modules_per_string", 15)]),
        "within": (C, []),
        "not known": (C, [Edit("faces[north-west].room_modules", None)]),
    },
    "array.under-used": {
        "tight": (B, [Edit(f"{HYB}.strings[{s}].modules_per_string", 4) for s in ("ne1", "ne2")]),
        "within": (B, []),
    },
    "array.network-ratio": {
        "over": (B, [Edit("site.network.dc_ac_ratio_max", 1.0)]),
        "within": (B, [Edit("site.network.dc_ac_ratio_max", 1.33)]),
    },
    "array.clipped-share": {
        "tight": (D, [Edit(f"{OLD_D}.strings[nw].modules_per_string", 13)]),
        "within": (B, []),
    },
    "network.inverter-sum": {
        "over": (C, []),
        "within": (B, []),
        "not known": (C, [Edit("site.network.sum_limit_w", None)]),
    },
}


@pytest.fixture(scope="module")
def quarter_hours() -> Study:
    return Study(step_s=900)


def findings(study: Study, job: Job, plan: str, check_id: str) -> list[Finding]:
    return [f for f in study.plan_result(job, job.plan(plan)).findings if f.check == check_id]


def test_every_registered_check_has_its_cases(demo):
    run_checks(CheckContext(demo, demo.plan("A"), demo.cards(), None), needs_year=False)
    assert set(CASES) == set(REGISTRY)
    assert all("within" in cases and ("over" in cases) != ("tight" in cases) for cases in CASES.values())


NO_REMEDY = (
    "tracker.working-current",
    "tracker.power",
    "tracker.one-face",
    "array.under-used",
    "array.network-ratio",
    "array.clipped-share",
)


@pytest.mark.parametrize(("check_id", "verdict"), [(check_id, verdict) for check_id, cases in CASES.items() for verdict in cases])
def test_verdict_and_remedies(check_id, verdict, demo, quarter_hours):
    """'tight' stands for what only costs energy: past its limit it warns and closes no gate."""
    plan, edits = CASES[check_id][verdict]
    job = apply_edits(demo, edits)
    found = [f for f in findings(quarter_hours, job, plan, check_id) if f.verdict == verdict]
    assert found, (check_id, [f.verdict for f in findings(quarter_hours, job, plan, check_id)])
    for f in found:
        assert f.source
        assert f.arithmetic
        assert any(ch.isdigit() for ch in f.arithmetic) or verdict == "not known"
        if verdict == "over":
            assert f.remedies
        if verdict in ("over", "tight"):
            assert f.margin is not None
            assert f.margin < 0
        for remedy in f.remedies:
            if not remedy.edits:
                continue
            mended = findings(quarter_hours, apply_edits(job, remedy.edits), plan, check_id)
            still = [
                m for m in mended if m.subject == f.subject and (m.verdict in ("over", "not known") or (m.margin or 0) < -1e-9)
            ]
            assert not still, (check_id, remedy.text, [(m.verdict, m.arithmetic) for m in still])
    if verdict in ("over", "tight") and check_id not in NO_REMEDY:
        assert any(remedy.edits for f in found for remedy in f.remedies), f"{check_id}: nothing can be applied"


def test_a_soft_starter_clears_a_compressor_but_is_not_offered_for_a_pump(demo, quarter_hours):
    listed = Edit(f"plans[{A}].transfer.listed", ["heat-pump"])
    off = Edit("house.appliances[heat-pump].motor.soft_starter", value=False)
    lra = Edit("house.appliances[heat-pump].motor.lra_a", 45.0)
    job = apply_edits(demo, [listed, off, lra])
    (found,) = findings(quarter_hours, job, A, "backup.motor-start")
    soft = [r for r in found.remedies if "soft starter" in r.text]
    assert found.verdict == "over"
    assert soft
    assert findings(quarter_hours, apply_edits(job, soft[0].edits), A, "backup.motor-start")[0].verdict == "within"


def test_a_peak_too_short_for_the_start_counts_as_continuous_power(demo, quarter_hours):
    # Definitions D15: a pump takes 1.5 s to start, a compressor 0.5 s.
    short = apply_edits(demo, [Edit(f"{CHARGER}.offgrid_peak_s", 1.0)])
    (found,) = findings(quarter_hours, short, A, "backup.motor-start")
    assert found.limit == 5000
    assert found.verdict == "over"


def test_own_dc_strings_leave_less_room_for_ac_coupled_pv(demo, quarter_hours):
    on_backup = Edit(f"plans[{C}].nodes[old].side", "backup")
    (found,) = findings(quarter_hours, apply_edits(demo, [on_backup]), C, "backup.ac-pv-absorb")
    # By hand: 6000 W at the terminals (the inverter's) less 5160 W of its own strings is 840 W DC; at AC
    # 840 + 38 + 0.010·840 + 0.017·840²/6000 = 888.4 W.
    assert found.limit == pytest.approx(888.4, abs=0.1)
    assert found.verdict == "over"


@pytest.mark.parametrize(
    ("quantity", "value", "limit", "sense", "expected", "margin"),
    [
        # Definitions D13: margins are fractions of the limit; equality is within (shown as tight); below 3 % volts, 10 % watts.
        ("voltage_v", 600, 600, "most", "tight", 0.0),
        ("voltage_v", 583, 600, "most", "tight", 17 / 600),
        ("voltage_v", 581, 600, "most", "within", 19 / 600),
        ("voltage_v", 601, 600, "most", "over", -1 / 600),
        ("power_w", 4600, 5000, "most", "tight", 0.08),
        ("power_w", 4400, 5000, "most", "within", 0.12),
        ("voltage_v", 100, 105, "least", "over", -5 / 105),
        ("ratio", 1.5, 1.5, "most", "tight", 0.0),
        ("ratio", 1.49, 1.5, "most", "within", 0.01 / 1.5),
        ("power_w", 1, 0, "most", "over", None),
        ("power_w", float("nan"), 5, "most", "not known", None),
        ("power_w", 5, float("nan"), "most", "not known", None),
    ],
)
def test_margins(quantity, value, limit, sense, expected, margin):
    verdict, found = judge(international(), quantity, value, limit, sense)
    assert verdict == expected
    assert found == (pytest.approx(margin) if margin is not None else None)


def test_a_check_that_fails_inside_is_not_known_with_the_reason(demo):
    @check("test.broken", "Broken", needs={"plan"}, source="none")
    def broken(_: CheckContext) -> list[Finding]:
        raise ZeroDivisionError("by zero")

    try:
        rows = run_checks(CheckContext(demo, demo.plan("A"), demo.cards(), None), needs_year=False)
    finally:
        del REGISTRY["test.broken"]
    (row,) = [r for r in rows if r.check == "test.broken"]
    assert row.verdict == "not known"
    assert "by zero" in row.arithmetic


def test_a_waived_over_keeps_its_verdict_and_opens_the_gate(demo, quarter_hours):
    waived = Edit(f"plans[{C}].waived", [{"check": "network.inverter-sum", "reason": "the operator wrote yes"}])
    (found,) = findings(quarter_hours, apply_edits(demo, [waived]), C, "network.inverter-sum")
    assert found.verdict == "over"
    assert found.waived == "the operator wrote yes"


def test_a_pack_names_the_parameter_that_is_wrong():
    with pytest.raises(Exception, match=r"parameter\.x"):
        parse_pack('id = "a"\n[parameter]\nx = { value = "many", source = "s" }\n', "a.toml")
