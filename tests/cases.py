"""Turns cases written for the plain reference into the kernel's inputs."""

from __future__ import annotations

import numpy as np

from calm_relay.simulation.kernel.records import BANK, NODE_DTYPE, PLANT_DTYPE, SLOT_DTYPE, rules_of, terms_of
from calm_relay.simulation.pack import Packed, sharing, usual_bank
from tests.reference_step import INF, Around, Slot, Unit

ORDERS = {"like": "like_units", "priority": "priority", "best_round_trip": "best_round_trip", "proportion": "in_proportion"}
KINDS = {
    "own_use": 0,
    "charge_from_grid": 1,
    "surplus_only": 2,
    "hold": 3,
    "clipped_only": 4,
    "discharge_to_grid": 5,
    "timer": 6,
    "own_pv_only": 7,
}


def packed_case(units: list[Unit], slots: list[list[Slot]], codes: np.ndarray, pv: np.ndarray, ac: np.ndarray, a: Around,
    bank: np.ndarray | None = None,
) -> Packed:  # fmt: skip
    """Return the same case as the kernel takes it."""
    nodes = np.zeros(len(units), NODE_DTYPE)
    for row, u in zip(nodes, units, strict=True):
        values = {
            "side": float(u.side == "g"), "ac_out_w": u.ac_out, "ac_in_w": u.ac_in, "rated_w": u.out.rated,
            "p_self_w": u.out.p_self, "a": u.out.a, "b": u.out.b, "charge_p_self_w": u.charger.p_self,
            "charge_a": u.charger.a, "charge_b": u.charger.b, "night_w": u.night, "grid_port_w": u.grid_port,
            "backup_port_w": u.backup_port, "pv_to_battery_w": u.pv_to_battery, "capacity_wh": u.capacity,
            "soc_min": u.soc_min, "soc_max": u.soc_max, "reserve": u.reserve, "charge_w": u.charge,
            "discharge_w": u.discharge, "eta_c": u.eta_c, "eta_d": u.eta_d, "taper_soc": u.taper_soc,
            "take_square_per_w": u.take_square, "give_square_per_w": u.give_square, "store_self_w": u.store_self,
            "taper_end": u.taper_end, "auxiliary_w": u.aux, "peak_hold": u.peak_hold, "forms": float(u.forms),
            **{f"{end}_{at}_w": INF if u.volts is None else amps * u.volts[at == "full"]
               for end, amps in (("charge", u.charge_a), ("discharge", u.discharge_a)) for at in ("empty", "full")},
        }  # fmt: skip
        assert set(values) == set(NODE_DTYPE.names or ())
        for name, value in values.items():
            row[name] = value
    table = np.zeros((len(units), len(slots[0])), SLOT_DTYPE)
    for k, row in enumerate(slots):
        for i, s in enumerate(row):
            table[k, i] = (KINDS[s.kind], s.power, s.target, s.floor)
    plant = np.zeros(1, PLANT_DTYPE)[0]
    for name, value in zip(PLANT_DTYPE.names or (), (
        a.hours, a.cap, a.import_limit, a.device, a.bias, a.target, float(a.at_device), 0.0
    ), strict=True):  # fmt: skip
        plant[name] = value
    take, give = sharing(nodes, ORDERS[a.order])
    ids = tuple(f"n{k}" for k in range(len(units)))
    changes = usual_bank(len(units)) if bank is None else np.pad(bank, ((0, 0), (0, 0), (0, len(BANK) - bank.shape[2])))
    return Packed(ids, nodes, table, plant, take, give, codes.astype(np.int8), pv, changes, ac, frozenset())


def plain_inputs(packed: Packed) -> dict[str, np.ndarray]:
    """Return what the kernel's loop takes of a case, as plain arrays, for a process of its own."""
    terms = terms_of(packed.nodes, float(packed.plant["step_h"]), packed.take, packed.give)
    series = {name: getattr(packed, name) for name in ("codes", "pv_dc", "bank", "ac")}
    return {"terms": terms, "rules": rules_of(packed.nodes, packed.slots), "plant": np.array([packed.plant]), **series}
