"""What changes at nodes from step to step: room kept for what will be clipped, limits by warmth, heating, cars on the DC side."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from calm_relay.library.base import LossTerms
from calm_relay.simulation.kernel.records import BANK_CAR, BANK_CHARGE, BANK_DISCHARGE, BANK_HEAT, BANK_KEEP
from calm_relay.simulation.pack import Packed, battery_limit_w, usual_bank
from calm_relay.simulation.storing import loss_of

Array = NDArray[np.float64]
Forecast = Literal["foresight", "yesterday"]


def clipped_potential_w(packed: Packed, k: int) -> Array:
    """Return the DC PV of node `k` above what its AC limit passes (X of definitions D7), (steps,). [W]"""
    r = packed.nodes[k]
    passes = LossTerms(p_self_w=r["p_self_w"], a=r["a"], b=r["b"]).in_w(float(r["ac_out_w"]), float(r["rated_w"]))
    over: Array = np.maximum(0.0, packed.pv_dc[:, k] - packed.bank[:, k, BANK_CAR] - passes)
    return over


def room_to_keep_wh(packed: Packed, forecast: Forecast) -> Array:
    """Return the room that each battery keeps for what is still to be clipped in the day, (steps, nodes), at the cells. [Wh]

    With `foresight` the day is known; with `yesterday` it is taken to be as the day before was, the last day of the year before the
    first. What the charge limit cannot take is not counted.
    """
    step_h = float(packed.plant["step_h"])
    per_day = round(24.0 / step_h)
    out = np.zeros_like(packed.pv_dc)
    for k in range(len(packed.nodes)):
        r = packed.nodes[k]
        if r["capacity_wh"] <= 0:
            continue
        stored = loss_of(r).arrives_w(np.minimum(clipped_potential_w(packed, k), battery_limit_w(r, "charge"))) * step_h
        days = stored.reshape(-1, per_day)
        if forecast == "yesterday":
            days = np.roll(days, 1, axis=0)
        later = days.sum(axis=1, keepdims=True) - np.cumsum(days, axis=1)
        most = (r["soc_max"] - r["soc_min"]) * r["capacity_wh"]
        out[:, k] = np.clip(later, 0.0, most).ravel()
    return out


def with_changes(
    packed: Packed,
    leave_room: Literal["no"] | Forecast,
    warmth: Mapping[str, tuple[Array, Array, Array]],
    cars: Mapping[str, Array] | None = None,
) -> Packed:
    """Return the inputs with what changes at their batteries.

    Parameters
    ----------
    leave_room : str
        Whether room is kept for what will be clipped, and by which forecast.
    warmth : mapping of node id → three of (steps,)
        What the cells' temperature leaves of charge and discharge limit, and heating. [0 to 1, 0 to 1, W]
    cars : mapping of node id → (steps,)
        What a car charger on the node's DC side asks. [W]
    """
    asked = cars or {}
    if leave_room == "no" and not warmth and not asked:
        return packed
    bank = np.tile(usual_bank(len(packed.nodes)), (len(packed.ac), 1, 1))
    for k, node_id in enumerate(packed.node_ids):
        if node_id in asked:
            bank[:, k, BANK_CAR] = asked[node_id]
    packed = replace(packed, bank=bank)
    if leave_room != "no":
        bank[:, :, BANK_KEEP] = room_to_keep_wh(packed, leave_room)
    for k, node_id in enumerate(packed.node_ids):
        if node_id in warmth:
            bank[:, k, BANK_CHARGE], bank[:, k, BANK_DISCHARGE], bank[:, k, BANK_HEAT] = warmth[node_id]
    return replace(packed, bank=bank)
