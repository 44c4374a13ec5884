"""A plan's inputs where no grid is: what forms one runs all the time, nothing comes in or goes out, slots and reserve are off."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from calm_relay.errors import NotFeasible
from calm_relay.job.control_models import Controls
from calm_relay.plant.station import Converter
from calm_relay.simulation.columns import AC_LOAD_G, AC_OWN_G, AC_PV_B, AC_PV_B_FIXED, AC_PV_G, AC_PV_G_FIXED
from calm_relay.simulation.kernel.records import BACKUP, OWN_USE, SLOT_DTYPE
from calm_relay.simulation.pack import Packed, sharing


def islanded(packed: Packed, forming: NDArray[np.bool_], *, in_proportion: bool = True, restart: float = 0.0) -> Packed:
    """Return the inputs without a grid (definitions D4, D16; docs/decisions 92).

    Parameters
    ----------
    forming : ndarray (nodes,) of bool
        Which nodes form voltage and frequency: without AC power they draw p_self in place of standby.
    in_proportion : bool
        Batteries share by usable energy and by room; else as the plan's order says.
    restart : float
        Charge below which loads are not served, so that what forms the grid is there in the morning. [0 to 1]

    Raises
    ------
    NotFeasible
        When something stands on the grid side.
    """
    beyond = any(packed.ac[:, column].any() for column in (AC_LOAD_G, AC_PV_G, AC_PV_G_FIXED, AC_OWN_G))
    if beyond or (packed.nodes["side"] != BACKUP).any():
        raise NotFeasible("without a grid nothing can stand on the grid side", "put every inverter and load on the backup side")
    nodes = packed.nodes.copy()
    nodes["forms"] = forming
    nodes["night_w"] = np.where(forming, nodes["p_self_w"], nodes["night_w"])
    nodes["reserve"], nodes["peak_hold"] = 0.0, np.minimum(restart, nodes["soc_max"])
    slots = np.zeros((len(nodes), 1), SLOT_DTYPE)
    slots["kind"] = OWN_USE
    plant = packed.plant.copy()
    plant["island"], plant["export_w"], plant["bias_w"], plant["at_device"] = 1.0, 0.0, 0.0, 0.0
    plant["import_w"] = plant["transfer_w"] = plant["target_w"] = math.inf
    ac = packed.ac
    if ac[:, AC_PV_B_FIXED].any():  # what nobody can throttle is held back by the frequency, or by its trips
        ac = ac.copy(order="F")
        ac[:, AC_PV_B] += ac[:, AC_PV_B_FIXED]
        ac[:, AC_PV_B_FIXED] = 0.0
    take, give = sharing(nodes, "in_proportion") if in_proportion else (packed.take, packed.give)
    codes = np.zeros_like(packed.codes)
    return replace(packed, nodes=nodes, slots=slots, plant=plant, ac=ac, take=take, give=give, codes=codes, reserves=1)


def plan_island(packed: Packed, converters: Sequence[Converter], controls: Controls, restart: float | None = None) -> Packed:
    """Return a plan's inputs without a grid, at the figures its cards have for that: off-grid rating, what a former absorbs.

    The plan's reserve is what is kept for the morning, unless `restart` says otherwise: below it loads are not served, and what
    forms the grid stays on. In an outage it is 0, for reserves are off (D16). [0 to 1]
    Apparent power counts as real power: loads' power factor is not in the mean of a step (assumed). Raises NotFeasible.
    """
    forming = {station.id: station.unit for station in converters if station.forms}
    assumed = set(packed.assumed)
    nodes = packed.nodes.copy()
    switched = {station.id for station in converters if station.switched}
    for k, node_id in enumerate(packed.node_ids):
        if node_id in switched:
            nodes[k]["ac_in_w"] = 0.0  # a time switch has no grid to charge from
        unit = forming.get(node_id)
        if unit is None:
            continue
        if unit.offgrid_continuous_va is None:
            assumed.add(f"nodes[{node_id}]: what it makes without a grid, the AC rating")
        else:
            nodes[k]["ac_out_w"] = unit.offgrid_continuous_va
        if unit.absorb_max_w is None:
            assumed.add(f"nodes[{node_id}]: what it takes in while it forms the grid, the AC input limit")
        else:
            nodes[k]["ac_in_w"] = min(nodes[k]["ac_in_w"], unit.absorb_max_w)
    which = np.array([node_id in forming for node_id in packed.node_ids], dtype=bool)
    like = controls.battery_order == "like_units"
    kept = controls.reserve_soc_frac if restart is None else restart
    return islanded(replace(packed, nodes=nodes, assumed=frozenset(assumed)), which, in_proportion=like, restart=kept)
