"""String limits: one module for checks, ladder and planner; any pack's figures reach all three alike."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from calm_relay.errors import BadInput
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.parts import put_strings, with_cards
from calm_relay.library.cards import ModuleCard, OptimizerCard
from calm_relay.library.shipped import shipped_card, shipped_cards
from calm_relay.packs.pack import SHIPPED, Pack, pack_named
from calm_relay.pv.ladder import string_ladders, tracker_amps
from calm_relay.pv.limits import Extremes, fuse_for, reverse_current_a, string_amps
from calm_relay.rules.network_rule import BY_SUPPLY
from calm_relay.rules.registry import CheckContext
from calm_relay.rules.runner import run_checks

SRC = Path(__file__).parents[1] / "src" / "calm_relay"
PACK = pack_named("international")
B = "hybrid-swap"
MODULES = [c for c in shipped_cards() if isinstance(c, ModuleCard)]
OPTIMIZERS = [None, *(c for c in shipped_cards() if isinstance(c, OptimizerCard))]
OF_STRINGS = ("string.", "tracker.", "optimizer.", "roof.", "array.")


def with_figures(**figures: float) -> Pack:
    return replace(PACK, parameter={**PACK.parameter, **{name: (value, "a test's") for name, value in figures.items()}})


def over(job, plan_id: str, pack: Pack) -> list[str]:
    plan = job.plan(plan_id)
    rows = run_checks(CheckContext(job, plan, job.cards(), None, pack), {"plan"})
    return [f"{f.check}: {f.subject}: {f.arithmetic}" for f in rows if f.verdict == "over" and f.check.startswith(OF_STRINGS)]


def propose(study, job, plan_id, module, pack, optimizer=None):
    job = with_cards(job, [module, *([optimizer] if optimizer else [])])
    made = study.propose_strings(job, job.plan(plan_id), "hyb", module, optimizer=optimizer.id if optimizer else "", pack=pack)
    for lay in made.layouts:
        rows = [(o.tracker, o.face, o.modules, o.strings, o.fuse_a) for o in lay.options]
        yield put_strings(job, plan_id, "hyb", module, rows, optimizer=optimizer)


proposed: list[int] = []


@given(
    factor=st.sampled_from([1.0, 1.25, 1.56]),
    margin=st.sampled_from([0.0, 0.05, 0.30]),
    fuse=st.sampled_from([1.25, 1.5625, 2.2]),
    module=st.sampled_from(MODULES),
    optimizer=st.sampled_from(OPTIMIZERS),
    joined=st.booleans(),
    network=st.sampled_from([None, 1.0, 1.4]),
    low=st.sampled_from([-45.0, -20.0, -4.0]),
    short=st.sampled_from([18.0, 45.0, 70.0]),
)
@settings(max_examples=40, deadline=None, derandomize=True)
def test_with_any_pack_every_proposed_layout_passes_its_checks(
    demo, quarter, factor, margin, fuse, module, optimizer, joined, network, low, short
):
    pack = with_figures(short_circuit_factor=factor, hot_voltage_margin_frac=margin, string_fuse_factor=fuse)
    edits = [Edit("site.network.dc_ac_ratio_max", network), Edit("site.record_low_c", low)]
    edits += [Edit("library[hybrid-5k].trackers_paralleled", joined), Edit("library[hybrid-5k].back_feed_a", 3.0)]
    for name, amps in (("short_circuit_current_a", short), ("working_current_a", 0.8 * short)):
        edits += [Edit(f"library[hybrid-5k].trackers[{n}].{name}", amps) for n in (0, 1)]
    job = apply_edits(demo, edits)
    assert job.card(job.plan(B).nodes[0].card).id == "hybrid-5k"
    for done in propose(quarter, job, B, module, pack, optimizer):
        assert not over(done, B, pack)
        proposed.append(max(g.parallel_strings for g in done.plan(B).nodes[0].strings))


def test_the_layouts_looked_at_were_many_and_some_in_parallel():
    assert len(proposed) > 200
    assert max(proposed) >= 3


def test_strings_that_stay_count_in_the_ratio(demo, quarter):
    # By hand: the hybrid may have 2.0 × 5000 W; with 8 × 385 W kept on tracker 1, 16 of 430 W fit (3080 + 6880 = 9960 W), not 23.
    module = shipped_card("module-430")
    roomy = [Edit(f"faces[{face.id}].room_modules", 60) for face in demo.faces]
    kept = Edit(f"plans[{B}].nodes[hyb].strings", [demo.plan(B).nodes[0].strings[0].model_dump()])
    volts = [Edit(f"library[hybrid-5k].{name}", 1400.0) for name in ("dc_voltage_max_v", "trackers[1].mppt_max_v")]
    job = apply_edits(with_cards(demo, [module]), [*roomy, kept, *volts])
    made = quarter.propose_strings(job, job.plan(B), "hyb", module, mode="keep")
    assert max(lay.modules for lay in made.layouts) == 16
    assert all(o.tracker == 2 for lay in made.layouts for o in lay.options)


def test_a_sharper_pack_turns_a_layout_over_and_the_planner_follows(demo, quarter):
    """The figures that were fixed in the planner: 1.56 for short circuit and 0.30 for hot volts."""
    module = shipped_card("module-430")

    job = with_cards(demo, [module])

    def why(pack: Pack) -> str:
        return " ".join(quarter.propose_strings(job, job.plan(B), "hyb", module, pack=pack).why)

    assert "at least 4 in series" in why(PACK)
    assert "at least 5 in series" in why(with_figures(hot_voltage_margin_frac=0.30))
    assert "no string of this module suits" in why(with_figures(short_circuit_factor=1.56)), "13.97 A × 1.56 is above 18 A"


def test_ladder_and_check_show_the_same_amps_and_volts(demo):
    pack = with_figures(short_circuit_factor=1.4)
    plan = demo.plan(B)
    found = {(f.check, f.subject): f for f in run_checks(CheckContext(demo, plan, demo.cards(), None, pack), {"plan"})}
    for amps in tracker_amps(demo, plan, pack):
        assert amps.short_circuit_a == found["tracker.short-circuit", f"{amps.node}, tracker {amps.tracker}"].value
        assert amps.working_a == found["tracker.working-current", f"{amps.node}, tracker {amps.tracker}"].value
    for ladder in string_ladders(demo, plan, pack):
        subject = f"{ladder.node}, tracker {ladder.tracker}"
        for check, value in (("cold-voc", ladder.cold_voc_v), ("hot-vmp", ladder.hot_vmp_v), ("start-voltage", ladder.hot_voc_v)):
            assert found[f"string.{check}", subject].value == pytest.approx(value, rel=1e-12)


def test_reverse_current_and_fuse_by_hand(demo):
    # By hand: three strings of 14.0 A: (3 − 1)·14.0·1.25 = 35.0 A, with 2 A fed back 37.0 A.
    # Fuse: 1.5625 × 10.1 = 15.8 A → 16 A; with a module of 15 A none fits; at most 2.4 × 6 = 14.4 A for 6 A: 10 A.
    module = next(m for m in MODULES if m.bifaciality_frac is None)
    group = demo.plan(B).nodes[0].strings[0].model_copy(update={"parallel_strings": 3, "optimizer": None})
    amps = string_amps(group, module.model_copy(update={"isc_stc_a": 14.0}), demo.faces[0], None, Extremes())
    assert reverse_current_a(PACK, [amps], amps, 0.0) == pytest.approx(35.0)
    assert reverse_current_a(PACK, [amps], amps, 2.0) == pytest.approx(37.0)
    assert fuse_for(PACK, 10.1, 20.0) == 16.0
    assert fuse_for(PACK, 10.1, 15.0) is None
    assert fuse_for(PACK, 6.0, 30.0) == 10.0
    assert fuse_for(with_figures(string_fuse_factor_most=1.6), 6.0, 30.0) is None, "no size between 9.4 and 9.6 A"


def test_a_missing_figure_is_a_fault_that_names_pack_and_key(demo):
    poor = replace(PACK, parameter={k: v for k, v in PACK.parameter.items() if k != "short_circuit_factor"})
    with pytest.raises(BadInput, match=r"pack international 2026\.2: parameter\.short_circuit_factor: this figure is missing"):
        poor.value("short_circuit_factor")
    rows = run_checks(CheckContext(demo, demo.plan(B), demo.cards(), None, poor), {"plan"})
    broken = [f for f in rows if f.check == "tracker.short-circuit"]
    assert [f.verdict for f in broken] == ["not known"]
    assert "short_circuit_factor" in broken[0].arithmetic
    with pytest.raises(BadInput, match="there is no pack 'nowhere'"):
        pack_named("nowhere")
    with pytest.raises(BadInput, match="there is no rule pack 'nowhere'"):
        apply_edits(demo, [Edit("pack", "nowhere")])


def test_every_figure_the_code_asks_for_is_in_the_pack_and_none_lies_unused():
    text = "\n".join(p.read_text(encoding="utf-8") for p in SRC.rglob("*.py"))
    asked = set(re.findall(r'(?:pack|rules|\))\.(?:value|source)\("(\w+)"\)', text))
    asked |= {f"start_{kind}_s" for kind in ("compressor", "pump", "tool")}
    asked |= set(re.findall(r'pack\.get\("(\w+)"\)', text)) | {name for names in BY_SUPPLY.values() for name in names}
    packs = [pack_named(pack_id) for pack_id in SHIPPED]
    assert asked == {name for pack in packs for name in pack.parameter}
    assert set(PACK.parameter) <= {name for name in asked if name not in BY_SUPPLY}
    assert set(re.findall(r'\.rows\("(\w+)"\)', text)) == set(PACK.table)
    listed = set(re.findall(r'pack\.(?:items|choice)\("(\w+)"\)', text)) | {"breaker_sizes_a"}
    assert listed == {name for pack in packs for name in pack.list_}


def test_no_factor_of_a_pack_stands_in_the_code():
    """1.25, 1.56 and their like come from the pack; what else is such a number says so here."""
    allowed = {"array.py", "profile.py", "commands.py", "catalogue.py"}
    for path in [*(SRC / "pv").glob("*.py"), *(SRC / "rules").glob("*.py"), *(SRC / "decision").glob("*.py")]:
        code = re.sub(r'""".*?"""|#.*|"[^"\n]*"', "", path.read_text(encoding="utf-8"), flags=re.S)
        assert path.name in allowed or not re.search(r"\b1\.(25|56|5625)\b", code), path.name


def test_the_packs_table_is_read_by_band():
    table = PACK.rows("cold_voc")
    temperatures = [low for low, _ in table]
    assert temperatures == sorted(temperatures, reverse=True)
    assert np.all(np.diff([f for _, f in table]) > 0)
