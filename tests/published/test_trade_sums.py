"""Sums the trade does by hand: charge windows, network counting, motors. Sources beside each."""

from __future__ import annotations

import pytest

from calm_relay.job.house_models import Appliance, Motor
from calm_relay.job.models import Job, Node, Plan
from calm_relay.job.site_models import NetworkRule
from calm_relay.library.shipped import shipped_card
from calm_relay.load.motors import CODE_LETTER_KVA_PER_HP, motor_start
from calm_relay.rules.checks_network import network_sum_w
from calm_relay.rules.registry import CheckContext
from calm_relay.rules.runner import run_checks
from calm_relay.simulation.quick import window_draws_wh
from calm_relay.simulation.storing import StoringLoss


# Common practice: 3 kW × 4 h and 5 kW × 4 h at AC; 80 A × 59 V × 4 h at the terminals.
@pytest.mark.parametrize(("watts", "hours", "wh"), [(3000, 4, 12_000), (5000, 4, 20_000), (80 * 59, 4, 18_880)])
def test_window_sums(watts, hours, wh):
    assert window_draws_wh(watts, hours) == pytest.approx(wh)


def test_window_stores_less_than_it_draws():
    # By hand: 3000 W at AC through a lossless charger is 3000 W DC; times 4 h times √0.9025 = 11.4 kWh in the cells.
    assert 4.0 * StoringLoss(0.95, 0.95).arrives_w(3000.0) == pytest.approx(11_400.0)


def counted(demo: Job, nodes: list[Node]) -> tuple[float, str]:
    cards = ("module-inverter-380", "battery-inverter-11k", "hybrid-8k")
    job = demo.model_copy(update={"library": (*demo.library, *(shipped_card(i) for i in cards))})
    plan = Plan(id="p", letter="P", name="p", nodes=tuple(nodes))
    return network_sum_w(CheckContext(job, plan, job.cards(), None))


def test_network_counts_every_ac_rating_and_a_hybrid_once(demo):
    # Common practice: 20 module-level inverters of 380 W + 11.5 kW battery inverter = 19.1 kW; a hybrid with a 10 kW
    # battery behind an 8 kW AC limit counts 8 kW.
    small = Node(id="m", name="m", card="module-inverter-380", count=20)
    battery = Node(id="b", name="b", card="battery-inverter-11k")
    assert counted(demo, [small, battery])[0] == pytest.approx(19_100)
    assert counted(demo, [Node(id="h", name="h", card="hybrid-8k")])[0] == pytest.approx(8_000)


def counted_findings(
    demo: Job, nodes: list[Node], check: str = "network.inverter-sum", **rule: object
) -> list[tuple[float, float, str]]:
    """Value, limit and verdict of a counting rule on a plan of some inverters."""
    cards = ("module-inverter-380", "battery-inverter-11k", "hybrid-8k", "hybrid-10k-three")
    network = NetworkRule.model_validate(rule.pop("network"))
    site = demo.site.model_copy(update={"network": network, **rule})
    plan = Plan(id="p", letter="P", name="p", nodes=tuple(nodes))
    job = demo.model_copy(update={"library": (*demo.library, *(shipped_card(i) for i in cards)), "site": site, "plans": (plan,)})
    found = run_checks(CheckContext(job, plan, job.cards(), None), {"plan"})
    return [(f.value, f.limit, f.verdict) for f in found if f.check == check]


def test_the_network_counts_three_ways_and_by_phase(demo):
    # Definitions D22. A hybrid of 8 kW with a battery inverter of 11.5 kW and 20 module-level inverters of 0.38 kW: 27.1 kW in all;
    # by kind 15.6 kW have a PV input (a hybrid without strings too), 11.5 kW have none; registered export is the limiter's 5 kW,
    # or 7.6 kW where nobody can throttle the module-level ones.
    plan = [
        Node(id="h", name="h", card="hybrid-8k"), Node(id="b", name="b", card="battery-inverter-11k"),
        Node(id="m", name="m", card="module-inverter-380", count=20),
    ]  # fmt: skip
    (whole,) = counted_findings(demo, plan, network={"sum_limit_w": 27_100.0})
    assert whole == (27_100, 27_100, "tight")
    kinds = counted_findings(demo, plan, network={"counting": "by_kind", "pv_limit_w": 15_000.0, "battery_limit_w": 12_000.0})
    assert sorted(kinds) == [(11_500, 12_000, "tight"), (pytest.approx(15_600), 15_000, "over")]
    by_export = {"counting": "registered_export", "registered_w": 8_000.0}
    (free,) = counted_findings(demo, plan, network=by_export, export_limit_w=5_000.0)
    assert free == (pytest.approx(7_600), 8_000, "tight")
    (held,) = counted_findings(demo, plan[:2], network=by_export, export_limit_w=5_000.0)
    assert held == (5_000, 8_000, "within")
    (bare,) = counted_findings(demo, plan[:2], network=by_export, export_limit_w=None)
    assert bare == (19_500, 8_000, "over")
    # A three-phase unit of 10 kW counts 3.33 kW on each phase, a single-phase one of 8 kW on its own.
    three = demo.site.supply.model_copy(update={"kind": "three_phase"})
    mixed = [Node(id="t", name="t", card="hybrid-10k-three"), Node(id="h", name="h", card="hybrid-8k", line="2")]
    phases = counted_findings(demo, mixed, "network.phase-sum", network={"phase_limit_w": 5_000.0}, supply=three)
    assert sorted(phases) == [(pytest.approx(10_000 / 3), 5_000, "within")] * 2 + [
        (pytest.approx(8_000 + 10_000 / 3), 5_000, "over")
    ]


def start_va(**motor: object) -> float:
    appliance = Appliance(
        id="m", name="m", running_w=1000, run_h=1, motor=Motor.model_validate({"kind": "pump", "voltage_v": 230, **motor})
    )
    made = motor_start(appliance, 6.0, 0.5)
    assert made is not None
    return made.start_va


def test_motor_values_used():
    # NEC table 430.7(B), from memory: H is 6.3–7.09 kVA/hp, G 5.6–6.29, V 22.4 and more; definitions D15 take the top.
    assert start_va(code_letter="H", horsepower=2) == pytest.approx(2 * 7090)
    assert start_va(code_letter="G", horsepower=3) == pytest.approx(3 * 6290)
    assert start_va(code_letter="V", horsepower=1) == pytest.approx(22_400)
    # Nameplate LRA beats the letter (D15); ×√3 for three phases.
    assert start_va(lra_a=38, code_letter="H", horsepower=2) == pytest.approx(38 * 230)
    assert start_va(lra_a=38, voltage_v=400, phases=3) == pytest.approx(38 * 400 * 3**0.5)
    # Soft starter: half for a compressor; nothing for a pump unless its maker lists it (common practice).
    assert start_va(kind="compressor", lra_a=40, soft_starter=True) == pytest.approx(0.5 * 40 * 230)
    assert start_va(kind="pump", lra_a=40, soft_starter=True) == pytest.approx(40 * 230)
    assert start_va(kind="pump", lra_a=40, soft_starter=True, soft_starter_listed=True) == pytest.approx(0.5 * 40 * 230)
    # NEC table 430.248, from memory: 2 hp at 230 V draws 12 A; six times that where nothing else is known.
    assert start_va(horsepower=2) == pytest.approx(6 * 12 * 230)
    assert start_va() == pytest.approx(6 * 1000)
    assert list(CODE_LETTER_KVA_PER_HP) == list("ABCDEFGHJKLMNPRSTUV")
