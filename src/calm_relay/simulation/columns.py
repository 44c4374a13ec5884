"""Names and order of the flow table's columns: the one meaning of each, for kernel, sums, files and screens.

Powers are means over the step in W. AC unless 'DC' is said. Rules: docs/flow-table.md.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

# One row a step for the whole plan.
SYSTEM_COLUMNS: tuple[tuple[str, str], ...] = (
    ("load_w", "house load, both sides of the transfer device"),
    ("own_draw_w", "standby and auxiliaries taken from the AC bus, PV-only inverters included"),
    ("import_w", "at the meter, from the grid"),
    ("export_w", "at the meter, to the grid"),
    ("pv_only_w", "AC output of PV-only inverters, after any cut"),
    ("pv_ac_w", "AC power that stems from PV in this step: PV-only plus the PV part of DC nodes' output"),
    ("battery_ac_w", "AC power that stems from batteries in this step"),
    ("charge_ac_w", "AC power taken in by chargers"),
    ("transfer_w", "through the transfer device, + towards the backup side"),
    ("pv_to_house_w", "PV serving the house"),
    ("pv_to_own_w", "PV serving own draws on the AC bus"),
    ("pv_to_battery_w", "PV over the AC bus into chargers"),
    ("pv_to_grid_w", "PV exported"),
    ("battery_to_house_w", "batteries serving the house"),
    ("battery_to_own_w", "batteries serving own draws on the AC bus"),
    ("battery_to_grid_w", "batteries exported"),
    ("battery_to_battery_w", "batteries into other nodes' chargers"),
    ("grid_to_house_w", "import serving the house"),
    ("grid_to_own_w", "import serving own draws"),
    ("grid_to_battery_w", "import into chargers"),
    ("battery_pv_to_house_w", "the PV-origin part of battery_to_house_w"),
    ("battery_pv_to_own_w", "the PV-origin part of battery_to_own_w"),
    ("battery_pv_to_grid_w", "the PV-origin part of battery_to_grid_w"),
    ("pv_only_lost_device_w", "PV-only output cut for the transfer device's limit"),
    ("pv_only_lost_cap_w", "PV-only output cut for the export cap"),
    ("pv_only_lost_island_w", "PV-only output cut where no grid is: neither used nor stored"),
    ("unserved_w", "house that could not be served where no grid is"),
    ("cap_exceeded_w", "export above the true cap that nothing could cut"),
    ("import_exceeded_w", "import above the import limit that nothing could cut"),
    ("peak_exceeded_w", "import above the peak-shaving target"),
    ("device_exceeded_w", "flow above the transfer device's limit that nothing could cut"),
)

# One row a step for each DC node. The energies stand at the end of the step.
NODE_COLUMNS: tuple[tuple[str, str], ...] = (
    ("pv_available_w", "DC, after the trackers"),
    ("pv_to_inverter_w", "DC"),
    ("pv_to_battery_w", "DC, own PV into the own battery"),
    ("pv_standby_w", "DC, own PV paying the standby draw"),
    ("pv_to_car_w", "DC, own PV into a car charger on the DC side"),
    ("car_ac_w", "AC that a car charger on the DC side draws through the node's charger; part of the house"),
    ("car_from_ac_w", "DC of it that reaches the car charger"),
    ("car_short_w", "DC that a car charger asked for and did not get"),
    ("clip_potential_w", "DC above what the AC limit can pass (X)"),
    ("caught_w", "the part of X that went into the battery"),
    ("lost_ac_limit_w", "DC, clipped: X − caught"),
    ("lost_below_start_w", "DC, too little to start the inverter and nothing else to do"),
    ("lost_device_w", "DC, held by the transfer device's limit"),
    ("lost_cap_w", "DC, held by the export cap"),
    ("lost_island_w", "DC, where no grid is: neither used nor stored"),
    ("ac_out_w", "AC output"),
    ("ac_in_w", "AC input of the charger"),
    ("charge_from_ac_w", "DC, from the charger into the battery"),
    ("discharge_w", "DC, battery to inverter"),
    ("battery_standby_w", "DC, battery paying the standby draw"),
    ("auxiliary_w", "DC, battery auxiliaries paid by the battery"),
    ("ac_own_w", "standby and auxiliaries of this node taken from the AC bus"),
    ("inverter_loss_w", "DC in − AC out"),
    ("charger_loss_w", "AC in − DC out"),
    ("cell_loss_w", "terminals to cells and back"),
    ("energy_wh", "in the cells at the end of the step"),
    ("energy_pv_wh", "the PV-origin part of it"),
)

# What enters the kernel at AC, one row a step.
AC_COLUMNS: tuple[tuple[str, str], ...] = (
    ("load_b_w", "house on the backup side"),
    ("load_g_w", "house on the grid side"),
    ("never_w", "the part of the house that batteries never feed"),
    ("pv_b_w", "controllable PV-only inverters, backup side"),
    ("pv_g_w", "controllable PV-only inverters, grid side"),
    ("pv_b_fixed_w", "PV-only inverters that nobody can throttle, backup side"),
    ("pv_g_fixed_w", "the same, grid side"),
    ("own_b_w", "standby of PV-only inverters from the AC bus, backup side"),
    ("own_g_w", "the same, grid side"),
)

SYSTEM = tuple(name for name, _ in SYSTEM_COLUMNS)
NODE = tuple(name for name, _ in NODE_COLUMNS)
AC = tuple(name for name, _ in AC_COLUMNS)
ENERGY_COLUMNS = ("energy_wh", "energy_pv_wh")
SIGNED = ("transfer_w",)  # of the plan; all other powers are never below nothing
# What a year keeps of itself: columns that its facts, its bill and its checks read. All others are run again when asked for.
KEPT_SYSTEM = (
    "load_w", "import_w", "export_w", "pv_only_w", "pv_ac_w", "charge_ac_w", "transfer_w", "pv_to_house_w", "pv_to_battery_w",
    "pv_to_grid_w", "battery_to_house_w", "grid_to_house_w", "grid_to_battery_w", "pv_only_lost_device_w", "pv_only_lost_cap_w",
    "pv_only_lost_island_w", "unserved_w", "cap_exceeded_w", "import_exceeded_w", "peak_exceeded_w", "device_exceeded_w",
)  # fmt: skip
KEPT_NODE = (
    "pv_to_battery_w", "car_ac_w", "caught_w", "lost_ac_limit_w", "lost_below_start_w", "lost_device_w", "lost_cap_w",
    "lost_island_w", "ac_out_w", "ac_in_w", "charge_from_ac_w", "discharge_w", "ac_own_w", "energy_wh",
)  # fmt: skip
# Names of loss in their order (definitions D7): columns `lost_<name>_w` of a node; PV-only inverters lose to the last three.
LOSS_NAMES = ("ac_limit", "below_start", "device", "cap", "island")
PV_ONLY_LOSS_NAMES = ("device", "cap", "island")
LOSS_COLUMNS = tuple(f"lost_{name}_w" for name in LOSS_NAMES)
PV_ONLY_LOSS_COLUMNS = tuple(f"pv_only_lost_{name}_w" for name in PV_ONLY_LOSS_NAMES)


def _place(names: Sequence[str], name: str) -> np.int64:
    """Return where a column stands, for compiled code: plain numbers would be types of their own there, and all that takes one
    compiled for each.
    """
    return np.int64(names.index(name))


SYS_LOAD = _place(SYSTEM, "load_w")
SYS_OWN_DRAW = _place(SYSTEM, "own_draw_w")
SYS_IMPORT = _place(SYSTEM, "import_w")
SYS_EXPORT = _place(SYSTEM, "export_w")
SYS_PV_ONLY = _place(SYSTEM, "pv_only_w")
SYS_PV_AC = _place(SYSTEM, "pv_ac_w")
SYS_BATTERY_AC = _place(SYSTEM, "battery_ac_w")
SYS_CHARGE_AC = _place(SYSTEM, "charge_ac_w")
SYS_TRANSFER = _place(SYSTEM, "transfer_w")
SYS_PV_TO_HOUSE = _place(SYSTEM, "pv_to_house_w")
SYS_PV_TO_OWN = _place(SYSTEM, "pv_to_own_w")
SYS_PV_TO_BATTERY = _place(SYSTEM, "pv_to_battery_w")
SYS_PV_TO_GRID = _place(SYSTEM, "pv_to_grid_w")
SYS_BATTERY_TO_HOUSE = _place(SYSTEM, "battery_to_house_w")
SYS_BATTERY_TO_OWN = _place(SYSTEM, "battery_to_own_w")
SYS_BATTERY_TO_GRID = _place(SYSTEM, "battery_to_grid_w")
SYS_BATTERY_TO_BATTERY = _place(SYSTEM, "battery_to_battery_w")
SYS_GRID_TO_HOUSE = _place(SYSTEM, "grid_to_house_w")
SYS_GRID_TO_OWN = _place(SYSTEM, "grid_to_own_w")
SYS_GRID_TO_BATTERY = _place(SYSTEM, "grid_to_battery_w")
SYS_BATTERY_PV_TO_HOUSE = _place(SYSTEM, "battery_pv_to_house_w")
SYS_BATTERY_PV_TO_OWN = _place(SYSTEM, "battery_pv_to_own_w")
SYS_BATTERY_PV_TO_GRID = _place(SYSTEM, "battery_pv_to_grid_w")
SYS_PV_ONLY_LOST_DEVICE = _place(SYSTEM, "pv_only_lost_device_w")
SYS_PV_ONLY_LOST_CAP = _place(SYSTEM, "pv_only_lost_cap_w")
SYS_PV_ONLY_LOST_ISLAND = _place(SYSTEM, "pv_only_lost_island_w")
SYS_UNSERVED = _place(SYSTEM, "unserved_w")
SYS_CAP_EXCEEDED = _place(SYSTEM, "cap_exceeded_w")
SYS_IMPORT_EXCEEDED = _place(SYSTEM, "import_exceeded_w")
SYS_PEAK_EXCEEDED = _place(SYSTEM, "peak_exceeded_w")
SYS_DEVICE_EXCEEDED = _place(SYSTEM, "device_exceeded_w")

NODE_PV_AVAILABLE = _place(NODE, "pv_available_w")
NODE_PV_TO_INVERTER = _place(NODE, "pv_to_inverter_w")
NODE_PV_TO_BATTERY = _place(NODE, "pv_to_battery_w")
NODE_PV_STANDBY = _place(NODE, "pv_standby_w")
NODE_PV_TO_CAR = _place(NODE, "pv_to_car_w")
NODE_CAR_AC = _place(NODE, "car_ac_w")
NODE_CAR_FROM_AC = _place(NODE, "car_from_ac_w")
NODE_CAR_SHORT = _place(NODE, "car_short_w")
NODE_CLIP_POTENTIAL = _place(NODE, "clip_potential_w")
NODE_CAUGHT = _place(NODE, "caught_w")
NODE_LOST_AC_LIMIT = _place(NODE, "lost_ac_limit_w")
NODE_LOST_BELOW_START = _place(NODE, "lost_below_start_w")
NODE_LOST_DEVICE = _place(NODE, "lost_device_w")
NODE_LOST_CAP = _place(NODE, "lost_cap_w")
NODE_LOST_ISLAND = _place(NODE, "lost_island_w")
NODE_AC_OUT = _place(NODE, "ac_out_w")
NODE_AC_IN = _place(NODE, "ac_in_w")
NODE_CHARGE_FROM_AC = _place(NODE, "charge_from_ac_w")
NODE_DISCHARGE = _place(NODE, "discharge_w")
NODE_BATTERY_STANDBY = _place(NODE, "battery_standby_w")
NODE_AUXILIARY = _place(NODE, "auxiliary_w")
NODE_AC_OWN = _place(NODE, "ac_own_w")
NODE_INVERTER_LOSS = _place(NODE, "inverter_loss_w")
NODE_CHARGER_LOSS = _place(NODE, "charger_loss_w")
NODE_CELL_LOSS = _place(NODE, "cell_loss_w")
NODE_ENERGY = _place(NODE, "energy_wh")
NODE_ENERGY_PV = _place(NODE, "energy_pv_wh")

AC_LOAD_B = AC.index("load_b_w")
AC_LOAD_G = AC.index("load_g_w")
AC_NEVER = AC.index("never_w")
AC_PV_B = AC.index("pv_b_w")
AC_PV_G = AC.index("pv_g_w")
AC_PV_B_FIXED = AC.index("pv_b_fixed_w")
AC_PV_G_FIXED = AC.index("pv_g_fixed_w")
AC_OWN_B = AC.index("own_b_w")
AC_OWN_G = AC.index("own_g_w")


def given_wh(node_sums: Mapping[str, float]) -> float:
    """Return what a node's battery gave at its terminals in a year: to the inverter, for standby, for its auxiliaries. [Wh]"""
    return node_sums["discharge_w"] + node_sums["battery_standby_w"] + node_sums["auxiliary_w"]
