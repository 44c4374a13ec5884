"""Each control by hand: steps of an hour, 0.8 through the inverter either way, 0.9 into and out of the cells (definitions D9)."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from tests.hand import around, check, day, unit
from tests.reference_step import Slot, Unit


def house(steps: int, b: list[float] | None = None, g: list[float] | None = None) -> np.ndarray:
    ac = np.zeros((steps, 9))
    ac[:, 0] = b or 0.0
    ac[:, 1] = g or 0.0
    return ac


def test_the_clipped_part_only():
    """X alone charges: 4000 W DC less the 2500 W that fill 2000 W at AC; below that nothing does, nor does AC surplus."""
    ac = house(3, g=[400, 400, 0])
    ac[2, 4] = 900  # AC-side PV
    flow = day(unit("g", 0, 3000, 3000), [Slot(), Slot("clipped_only")], [1, 1, 1], [4000, 2000, 0], ac, around(), 0)
    check(flow, 0, pv_to_battery_w=1500, caught_w=1500, lost_ac_limit_w=0, ac_out_w=2000, export_w=1600, energy_wh=1350)
    check(flow, 1, pv_to_battery_w=0, ac_out_w=1600, export_w=1200, energy_wh=1350)
    check(flow, 2, ac_in_w=0, export_w=900, battery_to_house_w=0)


def test_a_slot_discharges_to_the_grid():
    """W is all the battery gives, house included: 1200 W, 300 of them to the house; then the floor, then the cap."""
    slots = [Slot(), Slot("discharge_to_grid", power=1200, floor=0.25)]
    flow = day(unit("g", 0, 3000, 3000), slots, [1, 1], [0, 0], house(2, g=[300, 300]), around(), 3000)
    check(flow, 0, ac_out_w=1200, battery_to_house_w=300, battery_to_grid_w=900, export_w=900, discharge_w=1500)
    # 1500 W DC for an hour took 1666.7 Wh; 333.3 Wh above the floor of 1000 Wh give 300 W DC, 240 W AC, all to the house.
    check(flow, 1, ac_out_w=240, battery_to_grid_w=0, import_w=60, energy_wh=1000)
    capped = day(unit("g", 0, 3000, 3000), slots, [1], [0], house(1, g=[300]), around(cap=500, bias=40), 3000)
    check(capped, 0, ac_out_w=760, export_w=460)  # cap − s outwards, the house besides
    bound = day(unit("g", 0, 3000, 3000), slots, [1], [0], house(1, g=[1800]), around(), 4000)
    check(bound, 0, ac_out_w=1200, import_w=600, battery_to_grid_w=0)


def test_a_peak_is_shaved_and_energy_kept_for_it():
    """Target 1000 W, peak-hold 50 %: above it the house is served, below it only what is above the target."""
    a, slots = around(target=1000), [Slot(), Slot("charge_from_grid", power=2000, target=1.0)]
    u = unit("g", 0, 3000, 3000, peak_hold=0.5)
    flow = day(u, slots, [0, 0, 1], [0, 0, 0], house(3, g=[1900, 1900, 400]), a, 2400)
    # 400 Wh lie above the hold of 2000 Wh: 360 W DC, 288 W AC; 1612 W remain, 612 of them above the target, from below the hold.
    check(flow, 0, ac_out_w=900, import_w=1000, peak_exceeded_w=0, energy_wh=2400 - 900 / 0.8 / 0.9)
    # 1150 Wh left, all below the hold, for what is above the target: 1035 W DC, 828 W AC of the 900 W; 72 W stay above it.
    check(flow, 1, ac_out_w=828, import_w=1072, peak_exceeded_w=72, energy_wh=0)
    some = day(u, slots, [0], [0], house(1, g=[1300]), a, 1900)
    check(some, 0, ac_out_w=300, import_w=1000)
    # The charge slot draws up to the target: 1000 − 400 W.
    check(flow, 2, ac_in_w=600, import_w=1000, charge_from_ac_w=480)
    empty = day(u, slots, [0], [0], house(1, g=[1900]), a, 0)
    check(empty, 0, import_w=1900, peak_exceeded_w=900)


def test_a_sensor_at_the_device_serves_the_backup_side_alone():
    """Loads of the grid side get nothing, and nothing goes out through the device; the meter's limits are recorded, not held."""
    ac = house(3, b=[500, 500, 100], g=[700, 0, 0])
    ac[2, 4] = 600  # controllable PV of the grid side, which this controller does not see
    flow = day(unit("b", 0, 1500, 3000), [Slot()], [0, 0, 0], [0, 4000, 0], ac, around(at_device=True, cap=0), 2000)
    check(flow, 0, ac_out_w=500, battery_to_house_w=500, import_w=700, transfer_w=0)
    # 500 W of house take 625 W DC, 1500 W charge; X = 1500 W is caught, and what is left is held at the device's 0 W.
    check(flow, 1, ac_out_w=500, pv_to_battery_w=1500, lost_cap_w=4000 - 625 - 1500, export_w=0, transfer_w=0)
    check(flow, 2, ac_in_w=0, ac_out_w=100, export_w=600, cap_exceeded_w=600)


def test_a_timer_charges_by_the_clock():
    """700 W at AC whatever sun and meter say: no surplus is counted in, no import limit cuts it; at its target it stops."""
    ac = house(3, g=[900, 0, 0])
    ac[1, 4] = 2000
    slots = [Slot(), Slot("timer", power=700, target=0.3)]
    flow = day(unit("g", 0, 1500, 1500), slots, [1, 1, 1], [0, 0, 0], ac, around(import_limit=1000), 0)
    check(flow, 0, ac_in_w=700, import_w=1600, import_exceeded_w=600, charge_from_ac_w=560, energy_wh=504)
    check(flow, 1, ac_in_w=700, export_w=1300, pv_to_battery_w=0, charge_from_ac_w=560, energy_wh=1008, energy_pv_wh=504)
    # 192 Wh are missing to the target of 1200 Wh: 213.3 W DC, 266.7 W AC.
    check(flow, 2, charge_from_ac_w=192 / 0.9, ac_in_w=192 / 0.9 / 0.8, energy_wh=1200)


def test_room_is_kept_for_what_will_be_clipped():
    """1800 Wh kept of 2000 Wh of room: 200 Wh may charge now, 222 W DC; what would be clipped is stored all the same."""
    keep = np.array([[[1800.0, 1.0, 1.0, 0.0]], [[1800.0, 1.0, 1.0, 0.0]]])
    flow = day(unit("g", 0, 3000, 3000), [Slot()], [0, 0], [2000, 2000], house(2), around(), 2000, keep)
    check(flow, 0, pv_to_battery_w=200 / 0.9, energy_wh=2200)
    check(flow, 1, pv_to_battery_w=0, ac_out_w=1600)
    clipped = day(unit("g", 0, 3000, 3000), [Slot()], [0], [3000], house(1), around(), 3900, keep[:1])
    check(clipped, 0, pv_to_battery_w=100 / 0.9, clip_potential_w=500, caught_w=100 / 0.9)


def test_limits_by_warmth_and_by_volts():
    """At 40 % of its charge limit; then 50 A at volts that follow the charge: 48 V empty, 56 V full, 52 V at half."""
    bank = np.array([[[0.0, 0.4, 0.5, 60.0]], [[0.0, 0.0, 0.5, 60.0]]])
    flow = day(unit("g", 0, 1500, 1000), [Slot()], [0, 0], [3000, 3000], house(2), around(cap=0), 1000, bank)
    # The heater takes 60 W at the terminals from the battery, 66.7 Wh; charging is held at 600 W.
    check(flow, 0, pv_to_battery_w=600, auxiliary_w=60, energy_wh=1000 - 60 / 0.9 + 600 * 0.9, lost_cap_w=2400)
    check(flow, 1, pv_to_battery_w=0, auxiliary_w=60)
    give = day(unit("g", 0, 1500, 1000), [Slot()], [0], [0], house(1, g=[1500]), around(), 4000, bank[:1])
    check(give, 0, discharge_w=500, ac_out_w=400)
    volts: Unit = unit("g", 0, 9000, 9000, volts=(48.0, 56.0), charge_a=20.0, discharge_a=50.0)
    check(day(volts, [Slot()], [0], [3000], house(1), around(), 2000), 0, pv_to_battery_w=20 * 52)
    check(day(volts, [Slot()], [0], [0], house(1, g=[2000]), around(), 2000), 0, discharge_w=2000 * 0.9)
    full = replace(volts, discharge_a=30.0)
    check(day(full, [Slot()], [0], [0], house(1, g=[2000]), around(), 4000), 0, discharge_w=30 * 56)


def test_two_unequal_units_share_by_what_they_have():
    """In proportion: 2700 and 900 Wh at the terminals take 3 : 1 of 800 W, until the smaller meets its limit of 150 W DC."""
    one, two = unit("g", 0, 1500, 3000), unit("g", 0, 1500, 150)
    a = around(order="proportion")
    flow = day([one, two], [Slot()], [0], [[0, 0]], house(1, g=[800]), a, [3000, 1000])
    check(flow, 0, 0, ac_out_w=680, discharge_w=850)
    check(flow, 0, 1, ac_out_w=120, discharge_w=150)


def test_a_car_on_the_dc_side_takes_the_sun_first_and_then_ac_through_the_charger():
    """1000 W asked: 600 W of sun, 400 W through the charger are 500 W at AC, and the battery holds; with sun enough it charges."""
    bank = np.array([[[0.0, 1.0, 1.0, 0.0, 1000.0]]] * 3)
    flow = day(unit("g", 0, 1500, 1500), [Slot()], [0, 0, 0], [600, 2000, 0], house(3, g=[300, 300, 300]), around(), 2000, bank)
    check(flow, 0, pv_to_car_w=600, car_ac_w=500, car_from_ac_w=400, load_w=800, import_w=800, energy_wh=2000, discharge_w=0)
    # 1000 W for the car, 375 W DC for 300 W of house, 625 W charge.
    check(flow, 1, pv_to_car_w=1000, car_ac_w=0, pv_to_inverter_w=375, pv_to_battery_w=625, import_w=0, load_w=300)
    # The charger takes 2000 W at AC at most, 1600 W DC: enough; the house is served by the grid while it does.
    check(flow, 2, car_ac_w=1250, car_from_ac_w=1000, import_w=1550, battery_to_house_w=0, energy_wh=2000 + 625 * 0.9)
    lean = day(unit("g", 0, 1500, 1500, ac_in=500), [Slot()], [0], [0], house(1), around(), 2000, bank[:1])
    check(lean, 0, car_ac_w=500, car_from_ac_w=400, car_short_w=600, import_w=500)
