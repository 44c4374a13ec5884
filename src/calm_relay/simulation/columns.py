"""Names and order of the flow table's columns: the one meaning of each, for kernel, sums, files and screens.

Powers are means over the step in W. AC unless 'DC' is said. Rules: docs/flow-table.md.
"""

from __future__ import annotations

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
    ("pv_only_lost_island_w", "PV-only output cut in an island (grid down; zero with the grid up)"),
    ("unserved_w", "load not served (grid down; zero with the grid up)"),
    ("cap_exceeded_w", "export above the true cap that nothing could cut"),
    ("import_exceeded_w", "import above the import limit that nothing could cut"),
    ("device_exceeded_w", "flow above the transfer device's limit that nothing could cut"),
)

# One row a step for each DC node. The energies stand at the end of the step.
NODE_COLUMNS: tuple[tuple[str, str], ...] = (
    ("pv_available_w", "DC, after the trackers"),
    ("pv_to_inverter_w", "DC"),
    ("pv_to_battery_w", "DC, own PV into the own battery"),
    ("pv_standby_w", "DC, own PV paying the standby draw"),
    ("clip_potential_w", "DC above what the AC limit can pass (X)"),
    ("caught_w", "the part of X that went into the battery"),
    ("lost_ac_limit_w", "DC, clipped: X − caught"),
    ("lost_below_start_w", "DC, too little to start the inverter and nothing else to do"),
    ("lost_device_w", "DC, held by the transfer device's limit"),
    ("lost_cap_w", "DC, held by the export cap"),
    ("lost_island_w", "DC, curtailed in an island (zero with the grid up)"),
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

SYSTEM = tuple(name for name, _ in SYSTEM_COLUMNS)
NODE = tuple(name for name, _ in NODE_COLUMNS)
ENERGY_COLUMNS = ("energy_wh", "energy_pv_wh")
LOSS_NAMES = ("ac_limit", "below_start", "device", "cap", "island")
