"""The rise along a job's own runs against the flow that pandapower solves (a reference library, for tests only)."""

from __future__ import annotations

import warnings

import numpy as np
import pytest

from calm_relay.demo import demo_job
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.plant.resolve import plant_of
from calm_relay.plant.runs import TO_SUPPLY, rises, run_rows

with warnings.catch_warnings():
    warnings.simplefilter("ignore")
    import pandapower

VN_KV = 0.23 * 3**0.5
HOT = 1 + 0.00393 * 50  # copper of the IEC table runs at 70 °C
OHM_PER_KM = {"4 mm²": 4.61, "6 mm²": 3.08, "10 mm²": 1.83, "16 mm²": 1.15, "25 mm²": 0.727, "35 mm²": 0.524}  # IEC 60228


def power_flow(supply_m: float, supply: str, branches: list[tuple[float, str, float]]) -> np.ndarray:
    """Rise at each inverter on three phases of 230 V [1]: branches of (length, size, watts) behind one run to the supply."""
    net = pandapower.create_empty_network()
    source, board = (pandapower.create_bus(net, vn_kv=VN_KV) for _ in range(2))
    pandapower.create_ext_grid(net, source)

    def line(a: int, b: int, metres: float, size: str) -> None:
        pandapower.create_line_from_parameters(
            net, a, b, metres / 1000, r_ohm_per_km=OHM_PER_KM[size] * HOT, x_ohm_per_km=1e-6, c_nf_per_km=0, max_i_ka=1
        )

    line(source, board, supply_m, supply)
    ends = []
    for metres, size, watts in branches:
        ends.append(pandapower.create_bus(net, vn_kv=VN_KV))
        line(board, ends[-1], metres, size)
        pandapower.create_sgen(net, ends[-1], p_mw=watts / 1e6)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        pandapower.runpp(net, numba=False)
    return np.array([net.res_bus.vm_pu[end] - 1.0 for end in ends])


@pytest.mark.parametrize("seed", range(6))
def test_rises_of_two_inverters_behind_one_supply_run(seed):
    """Sums at nominal volts (definitions D21) lie above the solved flow by about the rise itself: within 1 % of it up to 1 %."""
    rng = np.random.default_rng(seed)
    sizes = list(OHM_PER_KM)
    supply = (float(rng.uniform(5, 20)), str(rng.choice(sizes[3:])))
    runs = [(float(rng.uniform(3, 12)), str(rng.choice(sizes[1:4]))) for _ in range(2)]
    # plan C of the demo: a 5 kW and a 6 kW inverter, both made three-phase
    job = apply_edits(demo_job(), [
        Edit("site.supply.kind", "three_phase"), Edit("site.supply.voltage_v", 230.0), Edit("site.export_limit_w", None),
        Edit("pack", "international"), *(Edit(f"library[{card}].phases", 3) for card in ("string-inverter-5k", "hybrid-6k")),
        Edit("site.supply_run", {"length_m": supply[0], "size": supply[1]}),
        *(Edit(f"plans[hybrid-alongside].nodes[{node}].run", {"length_m": m, "size": size})
          for node, (m, size) in zip(("old", "hyb"), runs, strict=True)),
    ])  # fmt: skip
    rows = run_rows(plant_of(job, job.plan("C")), job.rules())
    assert [row.id for row in rows] == ["old", "hyb", TO_SUPPLY]
    ours = np.array([rise.frac for rise in rises(rows)])
    theirs = power_flow(*supply, [(*runs[0], 5000.0), (*runs[1], 6000.0)])
    assert ours.max() < 0.012
    assert np.all(ours >= theirs - 1e-9)
    assert ours == pytest.approx(theirs, rel=0.01)
