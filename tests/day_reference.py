"""A day of any plan's year, worked out again by the independent reference from what the plan was packed to."""

from __future__ import annotations

import math

from calm_relay.simulation.columns import NODE, SYSTEM
from calm_relay.simulation.flow import FlowTable
from calm_relay.simulation.kernel.records import BANK
from calm_relay.simulation.pack import Packed
from tests.cases import KINDS, ORDERS
from tests.reference_step import INF, Around, Slot, Step, Terms, Unit

NAMES = {number: name for name, number in KINDS.items()}
PAIRS = {
    "import": "import_w", "export": "export_w", "own": "own_draw_w", "pv_only": "pv_only_w", "pv_to_house": "pv_to_house_w",
    "pv_to_grid": "pv_to_grid_w", "battery_to_house": "battery_to_house_w", "grid_to_house": "grid_to_house_w",
    "lost_device": "pv_only_lost_device_w", "lost_cap": "pv_only_lost_cap_w", "lost_island": "pv_only_lost_island_w",
    "unserved": "unserved_w", "through": "transfer_w",
}  # fmt: skip


def units_of(packed: Packed) -> list[Unit]:
    """Return the nodes as the reference takes them."""
    made = []
    for r in packed.nodes:
        f = {name: float(r[name]) for name in packed.nodes.dtype.names or ()}
        follows = math.isfinite(f["charge_empty_w"]) or math.isfinite(f["discharge_empty_w"])
        end = "charge" if math.isfinite(f["charge_empty_w"]) else "discharge"
        made.append(
            Unit(
                side="g" if f["side"] else "b", out=Terms(f["p_self_w"], f["a"], f["b"], f["rated_w"]),
                charger=Terms(f["charge_p_self_w"], f["charge_a"], f["charge_b"], f["rated_w"]), ac_out=f["ac_out_w"],
                ac_in=f["ac_in_w"], night=f["night_w"], capacity=f["capacity_wh"], soc_min=f["soc_min"], soc_max=f["soc_max"],
                reserve=f["reserve"], charge=f["charge_w"], discharge=f["discharge_w"], eta_c=f["eta_c"], eta_d=f["eta_d"],
                taper_soc=f["taper_soc"], taper_end=f["taper_end"], aux=f["auxiliary_w"], grid_port=f["grid_port_w"],
                backup_port=f["backup_port_w"], pv_to_battery=f["pv_to_battery_w"], peak_hold=f["peak_hold"],
                volts=(f[f"{end}_empty_w"], f[f"{end}_full_w"]) if follows else None,
                charge_a=f["charge_empty_w"] / f[f"{end}_empty_w"] if follows else INF,
                discharge_a=f["discharge_empty_w"] / f[f"{end}_empty_w"] if follows else INF,
                take_square=f["take_square_per_w"], give_square=f["give_square_per_w"], store_self=f["store_self_w"],
                forms=bool(f["forms"]), restart=f["peak_hold"],
            )
        )  # fmt: skip
    return made


def compare_day(packed: Packed, flow: FlowTable, order: str, day: int, what: object) -> float:
    """Hold every traced flow and energy of a day to the reference's; returns what was moved, so that a still day shows. [W]"""
    p, units = packed.plant, units_of(packed)
    island = bool(p["island"])
    names = {theirs: ours for ours, theirs in ORDERS.items()}
    around = Around(
        0, 0, 0, cap=float(p["export_w"]), import_limit=float(p["import_w"]), device=float(p["transfer_w"]),
        bias=float(p["bias_w"]), target=float(p["target_w"]), at_device=bool(p["at_device"]), hours=float(p["step_h"]),
        island=island,
        order="proportion" if island and order == "like_units" else names[order],
    )  # fmt: skip
    per_day, moved = round(24.0 / around.hours), 0.0
    for t in range(day * per_day, (day + 1) * per_day):
        ac = [float(v) for v in packed.ac[t]]
        around.load_b, around.load_g, around.never, around.pv_b, around.pv_g = ac[:5]
        around.pv_b_fixed, around.pv_g_fixed, around.own_b, around.own_g = ac[5:]
        now = packed.bank[t if len(packed.bank) > 1 else 0]
        slots = []
        for k, u in enumerate(units):
            u.energy, u.energy_pv = (float(flow.nodes[t - 1, k, NODE.index(name)]) for name in ("energy_wh", "energy_pv_wh"))
            u.keep, u.charge_part, u.discharge_part, u.heat, u.car = (float(v) for v in now[k, : len(BANK)])
            row = packed.slots[k, packed.codes[t, k]]
            slots.append(Slot(NAMES[int(row["kind"])], float(row["power_w"]), float(row["target"]), float(row["floor"])))
        step = Step(units, slots, [float(v) for v in packed.pv_dc[t]], around)
        expected, got = step.settle(), dict(zip(SYSTEM, flow.system[t], strict=True))
        for mine, theirs in PAIRS.items():
            assert abs(expected[mine] - got[theirs]) < 2e-4, (what, t, theirs, expected[mine], got[theirs])
        for k, u in enumerate(units):
            for name, value in (("energy_wh", u.energy), ("ac_out_w", step.s[k].ac_out), ("ac_in_w", step.s[k].ac_in)):
                assert abs(value - flow.nodes[t, k, NODE.index(name)]) < 2e-4, (what, t, k, name)
        moved += got["load_w"] + got["pv_ac_w"]
    return moved
