"""The compiled kernel against the independent slow reference, on random days with one to four nodes in every mode."""

from __future__ import annotations

import os
import pickle
import subprocess
import sys
from dataclasses import replace
from pathlib import Path

import numpy as np
from hypothesis import example, given, settings
from hypothesis import strategies as st

from calm_relay.simulation.columns import NODE, SYSTEM
from calm_relay.simulation.flow import open_balances, run_case
from calm_relay.simulation.island import islanded
from tests.cases import packed_case, plain_inputs
from tests.reference_step import INF, Around, Slot, Step, Terms, Unit

STEPS = 48
SEEN: dict[str, float] = {}


def random_case(seed: int, n: int) -> tuple[list[Unit], list[list[Slot]], np.ndarray, np.ndarray, Around]:
    """Draw units, a slot table per unit, PV per step and unit, AC inputs per step, and the limits."""
    r = np.random.default_rng(seed)

    def pick(*options: float) -> float:
        return float(r.choice(options))

    units = []
    for _ in range(n):
        rated = pick(1500, 3000, 5000, 8000)
        battery = r.random() < 0.85
        low, high = (pick(0, 0.1, 0.2), pick(0.9, 1.0)) if battery else (0.0, 1.0)
        capacity = pick(2500, 5000, 13500) if battery else 0.0
        eta = pick(0.95, 0.97, 0.985, 1.0)
        unit = Unit(
            side="b" if r.random() < 0.5 else "g",
            out=Terms(pick(0, 10, 40), pick(0, 0.01, 0.03), pick(0, 0.01, 0.02), rated),
            charger=Terms(pick(0, 15, 30), pick(0, 0.02), pick(0, 0.015), rated),
            ac_out=rated,
            ac_in=pick(1000, rated),
            night=0.0,
            capacity=capacity,
            soc_min=low,
            soc_max=high,
            reserve=pick(0, 0.3) if battery else 0.0,
            charge=pick(800, 2500, 5000) if battery else 0.0,
            discharge=pick(1000, 3000, 6000) if battery else 0.0,
            eta_c=eta,
            eta_d=eta,
            taper_soc=pick(0.8, 1.0),
            taper_end=0.05,
            aux=pick(0, 8) if battery else 0.0,
            grid_port=pick(1200, INF),
            backup_port=pick(2000, INF, INF),
            pv_to_battery=pick(1500, INF, INF),
            peak_hold=pick(0.4, 0.7, 1.0),
            volts=(42.0, 56.0) if r.random() < 0.25 else None,
            charge_a=pick(20, 60),
            discharge_a=pick(20, 60),
        )
        if r.random() < 0.4:  # storing loss that follows the power
            unit.take_square, unit.give_square = pick(0, 2e-6, 8e-6), pick(0, 2e-6, 2e-5)
            unit.store_self = pick(0, 12)
        unit.night = pick(0, unit.out.p_self / 3, unit.out.p_self + 5)
        unit.energy = capacity * float(r.uniform(low, high))
        unit.energy_pv = unit.energy * float(r.random())
        units.append(unit)
    for k in range(1, n):  # like units, on whichever side and with whatever reserve
        if r.random() < 0.4:
            twin = units[int(r.integers(k))]
            units[k] = replace(twin, side=units[k].side, reserve=units[k].reserve if twin.capacity else 0.0)
            units[k].energy = twin.capacity * float(r.uniform(twin.soc_min, twin.soc_max))
            units[k].energy_pv = units[k].energy * float(r.random())
    slots = [
        [
            Slot(),
            Slot("charge_from_grid", pick(500, 2000, 6000), pick(0.5, 0.9, 1.0), 0.0),
            Slot("surplus_only", 0.0, pick(0.4, 0.9), 0.0),
            Slot("hold"),
            Slot("own_use", 0.0, 0.0, pick(0.3, 0.6)),
            Slot("clipped_only", 0.0, 0.0, pick(0, 0.3)),
            Slot("discharge_to_grid", pick(700, 2500, 6000), 0.0, pick(0, 0.2)),
            Slot("timer", pick(500, 2500), pick(0.6, 1.0), 0.0),
            Slot("own_pv_only", 0.0, 0.0, pick(0, 0.3)),
        ]
        for _ in range(n)
    ]
    sun = np.maximum(0, np.sin(np.linspace(-0.6, 3.7, STEPS)))[:, None]
    pv = sun * r.uniform(0.2, 1.3, (STEPS, n)) * r.choice([0, 60, 2500, 7000, 11000], n)
    ac = np.zeros((STEPS, 9))
    ac[:, 0] = r.uniform(0, 1, STEPS) ** 2 * pick(0, 2500, 9000)
    ac[:, 1] = r.uniform(0, 1, STEPS) ** 2 * pick(0, 2500, 7000)
    ac[:, 2] = r.uniform(0, 0.6) * (ac[:, 0] + ac[:, 1]) * (r.random(STEPS) < 0.3)
    ac[:, 3:7] = sun * r.uniform(0, 1, (STEPS, 4)) * r.choice([0, 3000, 6000], 4) * r.choice([0, 1], 4)
    ac[:, 7:9] = r.choice([0, 5], 2)
    around = Around(
        0, 0, 0,
        cap=pick(0, 0, 20, 1000, 5000, INF),
        import_limit=pick(1500, 4000, INF, INF),
        device=pick(800, 1500, 4000, INF),
        bias=pick(0, 30, 200),
        order=str(r.choice(["like", "like", "like", "priority", "best_round_trip", "proportion"])),
        hours=pick(1 / 12, 0.25, 0.5),
        target=pick(500, 2000, INF, INF, INF),
    )  # fmt: skip
    if r.random() < 0.2:  # a sensor at the device: grid-side nodes are not allowed with it
        around.at_device = True
        for u in units:
            u.side = "b"
    return units, slots, pv, ac, around


def compare(seed: int, n: int) -> None:
    """Run one random day both ways and hold every traced flow, loss name and energy to each other."""
    units, slots, pv, ac, around = random_case(seed, n)
    r = np.random.default_rng(seed + 1)
    codes = np.repeat(r.choice([0, 0, *range(9)], (STEPS // 8, n)), 8, axis=0)
    bank = np.tile(np.array([0.0, 1.0, 1.0, 0.0, 0.0]), (STEPS, n, 1))
    if r.random() < 0.3:  # cars on the DC side, now and then
        bank[:, :, 4] = r.choice([0, 1500, 4000], n) * (r.random((STEPS, n)) < 0.3)
    if r.random() < 0.5:
        bank[:, :, 0] = r.uniform(0, 6000, (STEPS, n)) * (r.random((STEPS, n)) < 0.5)
        bank[:, :, 1:3] = r.choice([0, 0.4, 1], (STEPS, n, 2), p=[0.1, 0.3, 0.6])
        bank[:, :, 3] = r.choice([0, 60], (STEPS, n))
    packed = packed_case(units, slots, codes, pv, ac, around, bank)
    start = np.array([u.energy for u in units])
    flow = run_case(packed, start, np.array([u.energy_pv for u in units]))
    assert open_balances(flow, packed).worst < 1e-6
    for t in range(STEPS):
        names = ("load_b", "load_g", "never", "pv_b", "pv_g", "pv_b_fixed", "pv_g_fixed", "own_b", "own_g")
        for name, value in zip(names, ac[t], strict=True):
            setattr(around, name, float(value))
        for k, u in enumerate(units):
            u.keep, u.charge_part, u.discharge_part, u.heat, u.car = (float(v) for v in bank[t, k])
        step = Step(units, [slots[k][codes[t, k]] for k in range(n)], [float(p) for p in pv[t]], around)
        expected = step.settle()
        got = dict(zip(SYSTEM, flow.system[t], strict=True))
        pairs = {
            "import": "import_w", "export": "export_w", "own": "own_draw_w", "pv_only": "pv_only_w",
            "pv_to_house": "pv_to_house_w", "pv_to_own": "pv_to_own_w", "pv_to_battery": "pv_to_battery_w",
            "pv_to_grid": "pv_to_grid_w", "battery_to_house": "battery_to_house_w", "battery_to_own": "battery_to_own_w",
            "grid_to_house": "grid_to_house_w", "grid_to_battery": "grid_to_battery_w",
            "battery_pv_to_house": "battery_pv_to_house_w", "lost_device": "pv_only_lost_device_w",
            "lost_cap": "pv_only_lost_cap_w", "through": "transfer_w", "cap_exceeded": "cap_exceeded_w",
            "import_exceeded": "import_exceeded_w", "peak_exceeded": "peak_exceeded_w", "device_exceeded": "device_exceeded_w",
            "unserved": "unserved_w", "lost_island": "pv_only_lost_island_w",
        }  # fmt: skip
        assert set(pairs) == set(expected)
        for mine, theirs in pairs.items():
            assert abs(expected[mine] - got[theirs]) < 2e-5, (seed, n, t, theirs, expected[mine], got[theirs])
            SEEN[theirs] = max(SEEN.get(theirs, 0.0), got[theirs])
        for k, s in enumerate(step.s):
            node = dict(zip(NODE, flow.nodes[t, k], strict=True))
            wanted = {
                "ac_out_w": s.ac_out, "ac_in_w": s.ac_in, "pv_to_inverter_w": s.pv_used, "pv_to_battery_w": s.pv_stored,
                "charge_from_ac_w": s.ac_stored, "discharge_w": s.drawn, "lost_ac_limit_w": s.names["ac_limit"],
                "lost_below_start_w": s.names["below_start"], "lost_device_w": s.names["device"],
                "lost_cap_w": s.names["cap"], "caught_w": s.names["caught"], "ac_own_w": s.names["ac_own"],
                "pv_to_car_w": s.names["car"], "car_short_w": s.names["car_short"],
                "energy_wh": units[k].energy, "energy_pv_wh": units[k].energy_pv,
            }  # fmt: skip
            for name, value in wanted.items():
                assert abs(value - node[name]) < 2e-5, (seed, n, t, k, name, value, node[name])
            for name in NODE:
                SEEN[name] = max(SEEN.get(name, 0.0), node[name])


@example(seed=200340, n=2)  # a slot's draw makes room under a cap that bias has lowered: seen in one day of sixty
@given(seed=st.integers(0, 2**31), n=st.integers(1, 4))
@settings(max_examples=150, deadline=None, derandomize=True)
def test_kernel_equals_the_reference_on_random_days(seed, n):
    compare(seed, n)


def test_every_named_loss_and_record_occurs_in_the_random_days():
    for seed in range(24):
        compare(seed, 1 + seed % 4)
    for name in (
        "lost_ac_limit_w", "lost_below_start_w", "lost_device_w", "lost_cap_w", "caught_w", "pv_only_lost_device_w",
        "pv_only_lost_cap_w", "cap_exceeded_w", "import_exceeded_w", "device_exceeded_w", "peak_exceeded_w", "inverter_loss_w",
        "charger_loss_w", "cell_loss_w",
        "pv_to_car_w", "car_ac_w", "car_from_ac_w", "car_short_w", "pv_standby_w", "battery_standby_w", "auxiliary_w", "ac_own_w",
    ):  # fmt: skip
        assert SEEN[name] > 0.01, name
    assert SEEN["lost_island_w"] == 0.0, "with a grid nothing is lost for want of one"
    for seed in range(24):
        compare_island(seed, 1 + seed % 4)
    for name in ("lost_island_w", "pv_only_lost_island_w", "unserved_w", "lost_ac_limit_w"):
        assert SEEN[f"island {name}"] > 0.01, name


def test_plain_python_gives_the_same_as_compiled(tmp_path):
    """The source undecorated against what the compiler made of it: an index out of bounds, or a type that narrows, shows here."""
    units, slots, pv, ac, around = random_case(5, 3)
    codes = np.repeat(np.random.default_rng(6).choice([0, 0, *range(9)], (STEPS // 8, 3)), 8, axis=0)
    packed = packed_case(units, slots, codes, pv, ac, around)
    start = np.array([u.energy for u in units])
    flow = run_case(packed, start, start.copy())
    given, answer = tmp_path / "given", tmp_path / "answer"
    given.write_bytes(pickle.dumps((plain_inputs(packed), start)))
    script = Path(__file__).parents[1] / "benchmarks" / "plain.py"
    subprocess.run([sys.executable, script, given, answer], check=True, env={**os.environ, "NUMBA_DISABLE_JIT": "1"})
    _, system, rows = pickle.loads(answer.read_bytes())
    np.testing.assert_allclose(system, flow.system, rtol=0, atol=1e-9)
    np.testing.assert_allclose(rows, flow.nodes, rtol=0, atol=1e-9)


def compare_island(seed: int, n: int) -> None:
    """One random day without a grid, both ways: every traced flow, what is not served, and what the island cannot use."""
    units, slots, pv, ac, around = random_case(seed, n)
    r = np.random.default_rng(seed + 2)
    ac[:, [1, 4, 6, 8]] = 0.0
    ac[:, 2] = np.minimum(ac[:, 2], ac[:, 0])
    restart = float(r.choice([0.0, 0.25, 0.5]))
    for u in units:
        u.side, u.forms, u.restart = "b", bool(r.random() < 0.6), restart
        u.energy = u.capacity * float(r.choice([u.soc_min, r.uniform(u.soc_min, u.soc_max)]))
        u.energy_pv = u.energy * float(r.random())
    packed = packed_case(units, slots, r.integers(0, 8, (STEPS, n)), pv, ac, around)
    island = islanded(packed, np.array([u.forms for u in units]), in_proportion=around.order == "like", restart=restart)
    if around.order == "like":
        around.order = "proportion"
    around.island, around.cap, around.bias, around.at_device = True, 0.0, 0.0, False
    around.import_limit = around.device = around.target = INF
    start = np.array([u.energy for u in units])
    flow = run_case(island, start, np.array([u.energy_pv for u in units]))
    assert open_balances(flow, island).worst < 1e-6
    for t in range(STEPS):
        around.load_b, around.never, around.pv_b, around.pv_b_fixed, around.own_b = (float(ac[t, i]) for i in (0, 2, 3, 5, 7))
        around.load_g = 0.0
        around.never = min(around.never, around.load_b)
        step = Step(units, [Slot()] * n, [float(p) for p in pv[t]], around)
        expected = step.settle()
        got = dict(zip(SYSTEM, flow.system[t], strict=True))
        for mine, theirs in {
            "import": "import_w", "export": "export_w", "own": "own_draw_w", "pv_only": "pv_only_w", "unserved": "unserved_w",
            "pv_to_house": "pv_to_house_w", "pv_to_own": "pv_to_own_w", "battery_to_house": "battery_to_house_w",
            "battery_to_own": "battery_to_own_w", "lost_island": "pv_only_lost_island_w", "lost_cap": "pv_only_lost_cap_w",
        }.items():  # fmt: skip
            assert abs(expected[mine] - got[theirs]) < 2e-5, (seed, n, t, theirs, expected[mine], got[theirs])
            SEEN[f"island {theirs}"] = max(SEEN.get(f"island {theirs}", 0.0), got[theirs])
        for k, s in enumerate(step.s):
            node = dict(zip(NODE, flow.nodes[t, k], strict=True))
            wanted = {
                "ac_out_w": s.ac_out, "ac_in_w": s.ac_in, "pv_to_battery_w": s.pv_stored, "discharge_w": s.drawn,
                "lost_ac_limit_w": s.names["ac_limit"], "lost_below_start_w": s.names["below_start"],
                "lost_island_w": s.names["island"], "energy_wh": units[k].energy, "energy_pv_wh": units[k].energy_pv,
            }  # fmt: skip
            for name, value in wanted.items():
                assert abs(value - node[name]) < 2e-5, (seed, n, t, k, name, value, node[name])
                SEEN[f"island {name}"] = max(SEEN.get(f"island {name}", 0.0), node[name])


@given(seed=st.integers(0, 2**31), n=st.integers(1, 4))
@settings(max_examples=100, deadline=None, derandomize=True)
def test_an_island_equals_the_reference_on_random_days(seed, n):
    compare_island(seed, n)
    for name in ("import_w", "export_w", "pv_only_lost_cap_w"):
        assert SEEN[f"island {name}"] < 1e-5
