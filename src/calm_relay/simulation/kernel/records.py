"""Records the kernel reads and works with: a node, a slot, the plant; terms worked out once a run; what one step keeps.

Nothing here is compiled, and nothing here imports the compiler.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

WISH_W = 1e-6  # a wish below this is none (D6)
OWN_USE, CHARGE_FROM_GRID, SURPLUS_ONLY, HOLD, CLIPPED_ONLY, DISCHARGE_TO_GRID, TIMER = range(7)
OWN_PV_ONLY = 7  # own use of a bank whose charger hears no meter: it takes no AC surplus
BACKUP, GRID = 0, 1
MOST_NODES = 4


def most_passes(nodes: int) -> int:
    """Return how many passes a step is given at most: each node goes on, off, and to the usual order once. [number]"""
    return 4 * nodes + 2


# Numbers of the nodes in calls: plain ones would be types of their own, and each function would be compiled for each.
FIRST, SECOND, THIRD, FOURTH = np.int64(0), np.int64(1), np.int64(2), np.int64(3)
# What a plan asks of the step, known to the compiler: slots that charge from the grid, slots that discharge to it, a peak target, a
# transfer device that may bind, no grid at all, cars on the DC side, turns in charging and giving that a node's terms tell. Node by
# node: whether it has DC PV; and as many entries as groups charge, or give, before its own, where its terms are not asked. An empty
# tuple leaves out what only that would need, and nothing else. The last says that the step stands in a loop over lanes: no loop
# inside it, and what would need one is left to the ordinary settling.
EACH_NONE = ((),) * MOST_NODES
ALL_KINDS = ((0,), (0,), (0,), (0,), (0,), (0,), (0,), ((0,),) * MOST_NODES, EACH_NONE, EACH_NONE, ())
SLOTS, SENDS, PEAKS, DEVICE, ISLAND, CARS, TURNS, PV, TAKES, GIVES, LANE = range(11)
ZERO, ONE = np.uint64(0), np.uint64(1)  # unsigned, for places in tables


def _record(*names: str) -> np.dtype[np.void]:
    return np.dtype([(name, "f8") for name in names], align=True)


NODE_DTYPE = _record(
    "side", "ac_out_w", "ac_in_w", "rated_w", "p_self_w", "a", "b", "charge_p_self_w", "charge_a", "charge_b", "night_w",
    "grid_port_w", "backup_port_w", "pv_to_battery_w", "capacity_wh", "soc_min", "soc_max", "reserve", "charge_w", "discharge_w",
    "eta_c", "eta_d", "take_square_per_w", "give_square_per_w", "store_self_w", "taper_soc", "taper_end", "auxiliary_w",
    "peak_hold", "charge_empty_w", "charge_full_w", "discharge_empty_w", "discharge_full_w", "forms",
)  # fmt: skip
SLOT_DTYPE = _record("kind", "power_w", "target", "floor")
# `target_w`: peak shaving; `at_device`: 1 where the sensor stands at the transfer device, 0 at the meter (D8); `island`: 1 where
# no grid is.
PLANT_DTYPE = _record("step_h", "export_w", "import_w", "transfer_w", "bias_w", "target_w", "at_device", "island")
# What changes from step to step at a battery: room kept for what will be clipped, parts of the limits that the cells' temperature
# leaves, heating at the terminals; and what a car charger on its DC side asks.
BANK = ("keep_wh", "charge_part", "discharge_part", "heat_w", "car_w")
BANK_KEEP, BANK_CHARGE, BANK_DISCHARGE, BANK_HEAT, BANK_CAR = range(5)
USUAL_BANK = (0.0, 1.0, 1.0, 0.0, 0.0)

# A node's constants as the step needs them: nothing is divided by a constant twice.
TERMS_DTYPE = _record(
    "backup", "ac_out", "ac_in", "p_self", "slope", "curve", "charge_p_self", "charge_slope", "charge_curve", "night",
    "grid_port", "backup_port", "pv_to_battery", "capacity", "full", "charge", "discharge", "eta_c", "eta_d", "auxiliary",
    "taper_from", "taper_slope", "give_per_wh", "wh_per_give", "take_per_wh", "wh_per_take", "take_turn", "give_turn", "hold",
    "charge_empty", "charge_more", "discharge_empty", "discharge_more", "take_square", "give_square", "store_self", "give_less",
    "spare_per_wh", "forms",
)  # fmt: skip
# A slot of a node, its levels in Wh.
RULE_DTYPE = _record("kind", "power", "target", "floor")

# What a node does in one step. `energy` and `energy_pv` go from step to step; `kind` to `car` are what the step is given; `car_pv`
# to `timer` hold for the whole step, the rest for one pass over it. `charge` is the most the battery takes, `free` the most without
# what would be clipped; `give` and `level` are of the energy that (7) may use just now, above the peak-hold or, for what is above
# the target, above the floor.
WORK_DTYPE = _record(
    "energy", "energy_pv",
    "kind", "floor", "target", "power", "pv", "keep", "charge_part", "discharge_part", "heat",
    "car", "car_pv", "car_in", "car_dc", "busy",
    "e1", "charge", "free", "give_usual", "give_peak", "level_usual", "ac_max", "below", "off_ac", "pv_pay", "bat_pay", "aux_dc",
    "aux_ac", "most", "timer",
    "usual", "on", "out", "taken", "pv_inv", "c_pv", "c_ac", "dis", "device", "grant", "weight", "give", "level", "still", "mix",
)  # fmt: skip
# What enters the step at AC, and what its nodes share: D without what slots draw, P_T likewise, controllable PV-only of both sides,
# the slots' grid charging, what was lost, own draws, surplus charging at work. While a node sends to others: what it can, what it
# has so far, its side, and what the bias kept back from the house. Beyond: what a sensor at the device does not see. Dark: 1 in an
# island that nothing can start. Open: 1 where a lane leaves something to the ordinary settling. Groups: how many groups of
# batteries take turns; it holds for the run. Last, what the settled step brought to AC, by origin, and what chargers took.
BUS_DTYPE = _record(
    "load_b", "load_g", "never", "in_pv_b", "in_pv_g", "pv_b_fixed", "pv_g_fixed", "in_own_b", "in_own_g",
    "demand", "through", "pv_b", "pv_g", "slots", "slots_b", "lost_device", "lost_cap", "own_b", "own_g", "surplus",
    "best", "sent", "sender_b", "house", "beyond", "dark", "open", "groups", "pv_ac", "battery_ac", "battery_pv", "charge_ac",
)  # fmt: skip


def terms_of(
    nodes: NDArray[np.void], step_h: float, take_turn: NDArray[np.int64], give_turn: NDArray[np.int64]
) -> NDArray[np.void]:
    """Return the constants of each node: Wh for shares of capacity, W per Wh of a step, no divisors. (nodes,) [W, Wh]"""
    out = np.zeros(len(nodes), TERMS_DTYPE)
    wh = nodes["capacity_wh"]
    out["backup"] = nodes["side"] == BACKUP
    for mine, theirs in (
        ("ac_out", "ac_out_w"), ("ac_in", "ac_in_w"), ("p_self", "p_self_w"), ("charge_p_self", "charge_p_self_w"),
        ("night", "night_w"), ("grid_port", "grid_port_w"), ("backup_port", "backup_port_w"),
        ("pv_to_battery", "pv_to_battery_w"), ("capacity", "capacity_wh"), ("charge", "charge_w"), ("discharge", "discharge_w"),
        ("eta_c", "eta_c"), ("eta_d", "eta_d"), ("auxiliary", "auxiliary_w"), ("charge_empty", "charge_empty_w"),
        ("discharge_empty", "discharge_empty_w"), ("take_square", "take_square_per_w"), ("give_square", "give_square_per_w"),
        ("store_self", "store_self_w"), ("forms", "forms"),
    ):  # fmt: skip
        out[mine] = nodes[theirs]
    out["slope"], out["curve"] = 1.0 + nodes["a"], nodes["b"] / nodes["rated_w"]
    out["charge_slope"], out["charge_curve"] = 1.0 + nodes["charge_a"], nodes["charge_b"] / nodes["rated_w"]
    out["full"] = nodes["soc_max"] * wh
    tapers = (nodes["taper_soc"] < nodes["soc_max"]) & (wh > 0)
    span = np.where(tapers, (nodes["soc_max"] - nodes["taper_soc"]) * wh, 1.0)
    out["taper_from"] = np.where(tapers, nodes["taper_soc"] * wh, np.inf)
    out["taper_slope"] = np.where(tapers, (1.0 - nodes["taper_end"]) / span, 0.0)
    out["hold"] = nodes["peak_hold"] * wh
    for end in ("charge", "discharge"):  # power is amps × volts, and volts follow the charge
        follows = np.isfinite(nodes[f"{end}_empty_w"]) & (wh > 0)
        more = np.where(follows, nodes[f"{end}_full_w"], 0.0) - np.where(follows, nodes[f"{end}_empty_w"], 0.0)
        out[f"{end}_more"] = more / np.where(follows, wh, 1.0)
    # What is left is never passed: it is shared out at the loss of the most that may be drawn (storing loss by power).
    square = nodes["give_square_per_w"]
    most = np.where(square > 0, np.minimum(nodes["discharge_w"], nodes["discharge_full_w"]), 0.0)
    worst = nodes["eta_d"] / (1.0 + square * most * nodes["eta_d"])
    out["give_per_wh"], out["wh_per_give"] = worst / step_h, step_h / nodes["eta_d"]
    out["spare_per_wh"] = nodes["eta_d"] / step_h
    out["give_less"] = nodes["store_self_w"] * worst
    out["take_per_wh"], out["wh_per_take"] = 1.0 / (nodes["eta_c"] * step_h), nodes["eta_c"] * step_h
    out["take_turn"], out["give_turn"] = take_turn, give_turn
    return out


def rules_of(nodes: NDArray[np.void], slots: NDArray[np.void]) -> NDArray[np.void]:
    """Return each node's slots with their levels in Wh, the floor in force among them (D9). (nodes, slots) [Wh]"""
    out = np.zeros(slots.shape, RULE_DTYPE)
    out["kind"], out["power"] = slots["kind"], slots["power_w"]
    wh = nodes["capacity_wh"][:, None]
    out["target"] = slots["target"] * wh
    floor = np.maximum(np.maximum(nodes["soc_min"], nodes["reserve"])[:, None], slots["floor"])
    to_target = np.isin(slots["kind"], (CHARGE_FROM_GRID, SURPLUS_ONLY, TIMER))
    out["floor"] = np.where(to_target, np.maximum(floor, slots["target"]), floor) * wh
    return out
