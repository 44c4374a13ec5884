"""Two days of four one-hour steps, worked out by hand from the definitions, one DC-coupled and one AC-coupled."""

from __future__ import annotations

import numpy as np

from tests.hand import check, day, unit
from tests.reference_step import Around, Slot


def test_a_dc_coupled_day_by_hand():
    ac = np.zeros((4, 9))
    ac[:, 1] = [800, 2500, 200, 0]  # house, grid side
    slots = [Slot(), Slot("charge_from_grid", power=1000, target=0.5)]
    flow = day(unit("g", 0, 1500, 3000), slots, [0, 0, 1, 0], [3000, 0, 0, 5000], ac, Around(0, 0, 0, cap=300), 1000)
    # 1: 800 W take 1000 W DC; 1500 W of the 2000 W left charge; export to the cap of 300 W: 1100 W out take 1375 W DC;
    # 3000 − 1375 − 1500 = 125 W held by the cap. X = 3000 − 2000·1.25 = 500 W, all of it caught. E = 1000 + 0.9·1500.
    check(
        flow, 0, ac_out_w=1100, pv_to_inverter_w=1375, pv_to_battery_w=1500, export_w=300, import_w=0, lost_cap_w=125,
        clip_potential_w=500, caught_w=500, lost_ac_limit_w=0, energy_wh=2350, energy_pv_wh=1350,
    )  # fmt: skip
    # 2: 2350 Wh give 2115 W DC for an hour, 1692 W at AC (below 2000); 808 W imported; 1350/2350 of it stems from PV.
    check(
        flow, 1, discharge_w=2115, ac_out_w=1692, import_w=808, battery_to_house_w=1692,
        battery_pv_to_house_w=1692 * 1350 / 2350, energy_wh=0,
    )  # fmt: skip
    # 3: 1000 W at AC are 800 W DC (the same form, ends exchanged), 720 Wh in the cells, all from the grid.
    check(flow, 2, ac_in_w=1000, charge_from_ac_w=800, import_w=1200, grid_to_battery_w=1000, energy_wh=720, energy_pv_wh=0)
    # 4: 1500 W charge; 300 W out take 375 W; X = 2500 W, 1500 caught, 1000 clipped, the rest 2125 W held by the cap.
    check(
        flow, 3, pv_to_battery_w=1500, export_w=300, clip_potential_w=2500, caught_w=1500, lost_ac_limit_w=1000,
        lost_cap_w=2125, energy_wh=2070, energy_pv_wh=1350,
    )  # fmt: skip


def test_an_ac_coupled_day_by_hand():
    ac = np.zeros((4, 9))
    ac[:, 0] = [300, 600, 100, 100]  # house, backup side
    ac[:, 1] = [500, 400, 0, 0]  # house, grid side
    ac[:, 4] = [2000, 0, 0, 0]  # controllable PV-only inverter, grid side
    slots = [Slot(), Slot("hold"), Slot("charge_from_grid", power=3000, target=1.0)]
    around = Around(0, 0, 0, device=1200, import_limit=1000)
    flow = day(unit("b", 10, 1500, 1500), slots, [0, 0, 1, 2], [0, 0, 0, 0], ac, around, 0.0)
    # 1: surplus 2000 − 800 = 1200 W, but the transfer device lets 1200 − 300 = 900 W through to the charger: 720 W DC,
    # 648 Wh; 300 W exported. The charger runs, so it draws no standby.
    check(
        flow, 0, ac_in_w=900, charge_from_ac_w=720, export_w=300, transfer_w=1200, own_draw_w=0, pv_to_battery_w=0,
        charge_ac_w=900, energy_wh=648, energy_pv_wh=648,
    )  # fmt: skip
    # 2: 648 Wh give 583.2 W DC, 466.56 W AC; 1000 − 466.56 imported; all of it PV.
    check(flow, 1, ac_out_w=466.56, import_w=533.44, battery_pv_to_house_w=466.56, energy_wh=0)
    # 3: hold: nothing flows, the AC bus pays the standby of 10 W.
    check(flow, 2, ac_out_w=0, ac_in_w=0, own_draw_w=10, import_w=110, grid_to_own_w=10)
    # 4: 3000 W wanted; the import limit leaves 1000 − 100 = 900 W (the device would let 1100 W through).
    check(flow, 3, ac_in_w=900, import_w=1000, charge_from_ac_w=720, energy_wh=648, energy_pv_wh=0)
