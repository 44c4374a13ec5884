"""Rule packs: what they extend, faults by line, the same job under several of them, figures changed for one job, and runs."""

from __future__ import annotations

import json

import numpy as np
import pytest

from calm_relay.cli import main
from calm_relay.errors import BadInput
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.packs.pack import SHIPPED, pack_named, parse_pack
from calm_relay.plant.resolve import plant_of
from calm_relay.plant.runs import rises, run_rows
from calm_relay.rules.network_rule import rule_in_force
from calm_relay.rules.registry import CheckContext, Finding
from calm_relay.rules.runner import run_checks

A, B = "ac-add-on", "hybrid-swap"
UNTYPED = Edit("site.network", {})


def found(job, plan: str, *checks: str) -> dict[str, Finding]:
    rows = run_checks(CheckContext(job, job.plan(plan), job.cards(), None), {"plan"})
    return {f.check + "/" + f.subject: f for f in rows if f.check in checks}


def test_every_shipped_pack_stands_on_another_and_says_where_its_figures_come_from():
    for pack_id in SHIPPED:
        pack = pack_named(pack_id)
        assert pack.id == pack_id
        assert pack.place
        assert set(pack_named("international").parameter) <= set(pack.parameter)
        for _, source in (*pack.parameter.values(), *pack.list_.values()):
            assert source
    nec = pack_named("north-america")
    assert nec.value("continuous_factor") == 1.25
    assert nec.value("clipped_share_most") == pack_named("international").value("clipped_share_most"), "what it does not say itself"


def test_one_job_under_three_packs_gets_three_answers_each_with_its_rule(demo):
    """10 kW of inverters on a single phase, nothing typed: not known, over 4.6 kW, within 10 kW, two allowances of 5 kW each."""
    said = {}
    for pack in ("international", "germany", "australia-new-zealand", "australia-new-zealand-separate", "great-britain"):
        job = apply_edits(demo, [Edit("pack", pack), UNTYPED])
        said[pack] = found(job, A, "network.inverter-sum", "network.notify")
    one = {pack: [f.verdict for f in rows.values() if f.check == "network.inverter-sum"] for pack, rows in said.items()}
    assert one["international"] == ["not known"]
    assert one["germany"] == ["over"]
    assert one["australia-new-zealand"] == ["tight"]
    assert one["australia-new-zealand-separate"] == ["tight", "tight"]
    germany = next(f for f in said["germany"].values())
    assert germany.limit == 4600
    assert "VDE-AR-N 4105" in germany.source
    assert germany.pack == "germany"
    notice = said["great-britain"]["network.notify/supply"]
    assert notice.value == pytest.approx(10_000 / 230)
    assert notice.verdict == "tight"
    assert "before work begins" in notice.arithmetic
    typed = rule_in_force(demo, pack_named("germany"))
    assert typed.rule.sum_limit_w == 10_000, "a typed limit goes before the pack's"


def test_phases_apart_are_held_to_the_pack():
    from calm_relay.demo import DEMOS, demo_path
    from calm_relay.job.container import read_job

    assert "demo-kvist" in DEMOS
    job = apply_edits(read_job(demo_path("demo-kvist")).job, [Edit("pack", "germany")])
    rows = [
        f
        for plan in job.plans
        for f in run_checks(CheckContext(job, plan, job.cards(), None), {"plan"})
        if f.check == "network.imbalance"
    ]
    assert rows
    assert {f.limit for f in rows} == {4600}


def test_a_figure_changed_for_one_job_shows_in_its_finding_and_in_the_job(demo):
    reason = "the network's letter of March"
    job = apply_edits(demo, [Edit("overrides", [{"parameter": "rise_most_frac", "value": 0.03, "reason": reason}])])
    (before,) = [f for f in found(demo, "today", "cable.rise").values() if f.limit is not None]
    (after,) = [f for f in found(job, "today", "cable.rise").values() if f.limit is not None]
    assert (before.verdict, after.verdict) == ("tight", "within")
    assert reason in after.source
    assert "the pack says 0.02" in after.source
    with pytest.raises(BadInput, match="no parameter 'rise_most'"):
        apply_edits(demo, [Edit("overrides", [{"parameter": "rise_most", "value": 1.0, "reason": "x"}])]).rules()


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ('id = "a"\nname = "a"\nversion = "1"\n[parameter]\nx = { value = "many", source = "s" }\n', "parameter.x, line 5"),
        ('id = "a"\nname = "a"\nversion = "1"\n[parameter]\nx = { value = 1 }\n', "parameter.x, line 5"),
        ('id = "a"\nname = "a"\n', "version"),
        ('id = "a"\nname = "a"\nversion = "1"\nextends = "atlantis"\n', "no pack"),
        ('id = "a"\nname = "a"\nversion = "1"\n[rules]\nx = 1\n', "no such part"),
        ('id = "a"\nname = "a"\nversion = "1"\nparameter = 3\n', "no table of names"),
        ("id = ", "not TOML"),
    ],
)
def test_a_wrong_pack_names_line_and_key(text, says):
    with pytest.raises(BadInput, match=says):
        parse_pack(text, "a.toml", pack_named)


def test_fuzzed_packs_give_faults_and_nothing_else():
    from importlib import resources

    text = resources.files("calm_relay.packs").joinpath("great-britain.toml").read_text(encoding="utf-8")
    rng = np.random.default_rng(5)
    for _ in range(300):
        letters = list(text)
        for _ in range(int(rng.integers(1, 8))):
            letters[int(rng.integers(0, len(letters)))] = str(rng.choice(list('x[]"=,{}0. \n')))
        try:
            parse_pack("".join(letters), "fuzzed.toml", pack_named)
        except BadInput as error:
            assert error.faults


def test_the_runs_of_the_demo_by_hand(demo):
    """21.74 A over 22 m of 4 mm² and 14 m of 16 mm², copper at 70 °C: 5.28 and 0.84 V; 244 V measured make 250.1 V at noon."""
    rows = {row.id: row for row in run_rows(plant_of(demo, demo.plan("today")), demo.rules())}
    amps, hot = 5000 / 230, 1 + 0.00393 * 50
    assert rows["old"].change_v == pytest.approx(2 * amps * 22 * 4.61e-3 * hot)
    assert rows["supply"].change_v == pytest.approx(2 * amps * 14 * 1.15e-3 * hot)
    (rise,) = rises(tuple(rows.values()))
    by_hand = 2 * amps * hot * (22 * 4.61e-3 + 14 * 1.15e-3)
    assert rise.volts_v == pytest.approx(by_hand)
    noon = found(demo, "today", "cable.volts")
    (f,) = noon.values()
    assert (f.value, f.limit) == (pytest.approx(244 + by_hand), 258.0)
    three = apply_edits(demo, [Edit("site.supply.kind", "three_phase"), Edit("site.supply.voltage_v", 230.0)])
    (lonely,) = rises(run_rows(plant_of(three, three.plan("today")), three.rules()))
    assert lonely.parts[0][1] == pytest.approx(rows["old"].change_v), "a single-phase unit keeps its own way there and back"
    with pytest.raises(BadInput, match="no '5 mm²' in this table"):
        run_rows(plant_of(apply_edits(demo, [Edit("site.supply_run.size", "5 mm²")]), demo.plan("today")), demo.rules())


def test_the_command_line_prints_packs_and_runs(capsys):
    assert main(["measure", "demo-clinic", "--plan", "A", "--json"]) == 0
    pages = json.loads(capsys.readouterr().out)["plans"][0]["measure"]
    assert any("length and size of the run" in words for _, words in pages["At the board and along the cables"])
    assert main(["packs"]) == 0
    assert "great-britain" in capsys.readouterr().out
    assert main(["pack", "germany", "--against", "great-britain", "--json"]) == 0
    differ = {row[0] for row in json.loads(capsys.readouterr().out)["differ"]}
    assert {"notify_most_a", "phase_imbalance_most_va"} <= differ
    assert main(["pack", "north-america", "--file"]) == 0
    assert 'extends = "international"' in capsys.readouterr().out
    assert main(["pack", "atlantis"]) == 2
    assert "there is no pack" in capsys.readouterr().err
    assert main(["runs", "demo", "--plan", "Today", "--json"]) == 0
    (plan,) = json.loads(capsys.readouterr().out)["plans"]
    assert plan["rises"][0]["volts_v"] == pytest.approx(6.11, abs=0.01)
