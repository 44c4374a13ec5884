"""Banks and islands by hand: steps of an hour, 0.8 through the inverter either way, 0.9 into and out of the cells (D3, D4, D16)."""

from __future__ import annotations

import numpy as np
import pytest

from calm_relay.decision.patterns import draft_plan
from calm_relay.decision.start_list import stands_today
from calm_relay.demo import hut_job
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.parts import add_face
from calm_relay.job.series import SeriesStore
from calm_relay.job.template import new_job
from calm_relay.library.shipped import shipped_book
from calm_relay.plant.unit import unit_of, with_controllers, with_timer_charger
from calm_relay.simulation.columns import SYS_UNSERVED
from calm_relay.simulation.flow import FlowTable, run_case
from calm_relay.simulation.island import islanded
from calm_relay.study import Study
from tests.cases import packed_case
from tests.hand import around, check, unit
from tests.published.test_hand_modes import house
from tests.reference_step import Slot, Terms, Unit


def island(units: list[Unit], pv: object, ac: np.ndarray, start: object) -> FlowTable:
    """Run hours without a grid, all of the energy in the cells from PV."""
    dc = np.array(pv, dtype=float).reshape(len(ac), len(units))
    packed = packed_case(units, [[Slot()]] * len(units), np.zeros((len(ac), len(units))), dc, ac, around())
    packed = islanded(packed, np.array([u.forms for u in units]))
    energy = np.atleast_1d(np.array(start, dtype=float))
    return run_case(packed, energy, energy.copy())


def test_a_bank_with_charge_controllers_by_hand():
    """1.5 kW of sun: 400 W of house take 500 W DC, 1000 W charge; at night the bank gives 500 W; the idle former draws 40 W."""
    out = Terms(40.0, 0.25, 0.0, 2000.0)
    flow = island([unit("b", 0, 1200, 3000, out=out)], [1500, 0, 0, 3000], house(4, b=[400, 400, 0, 0]), 1000)
    check(flow, 0, ac_out_w=400, pv_to_inverter_w=540, pv_to_battery_w=960, energy_wh=1000 + 864, unserved_w=0, import_w=0)
    check(flow, 1, ac_out_w=400, discharge_w=540, energy_wh=1864 - 600)
    check(flow, 2, ac_out_w=0, battery_standby_w=40, energy_wh=1264 - 40 / 0.9)
    # Of 3000 W the AC limit could not pass 460 W: the battery caught them, and 1760 W found no use.
    check(flow, 3, pv_to_battery_w=1200, pv_standby_w=40, caught_w=460, lost_ac_limit_w=0, lost_island_w=1760, export_w=0)


def test_an_empty_bank_with_ac_coupled_pv_alone_stays_dark_and_dc_strings_wake_it():
    """D16: 2 kW of AC-coupled sun and nothing that forms a grid: nothing runs. 100 W at the strings wake it, and it charges."""
    out = Terms(40.0, 0.25, 0.0, 2000.0)
    ac = house(3, b=[300, 300, 300])
    ac[:, 3], ac[:, 5] = 1500, 500  # half of it nobody can throttle: it is held back all the same
    flow = island([unit("b", 0, 1500, 3000, out=out)], [0, 30, 100], ac, 0)
    check(flow, 0, unserved_w=300, pv_only_lost_island_w=2000, ac_in_w=0, energy_wh=0, own_draw_w=0)
    check(flow, 1, unserved_w=300, pv_standby_w=30, pv_only_w=0)
    # Awake: 2000 W less 300 W of house charge 1700 W at AC, its own DC sun 60 W beside p_self; 0.8 of 1700 W is 1360 W DC.
    check(flow, 2, unserved_w=0, pv_only_w=2000, ac_in_w=1700, charge_from_ac_w=1360, pv_to_battery_w=100)


def test_a_reserve_for_the_morning_keeps_the_former_on_and_the_sun_brings_it_back():
    """Half of 4000 Wh is kept: the house is dark at night, the former draws 40 W of it, and AC-coupled sun charges at dawn."""
    out = Terms(40.0, 0.25, 0.0, 2000.0)
    ac = house(3, b=[300, 300, 300])
    ac[2, 3] = 1300
    units = [unit("b", 0, 1500, 3000, out=out)]
    packed = packed_case(units, [[Slot()]], np.zeros((3, 1)), np.zeros((3, 1)), ac, around())
    flow = run_case(islanded(packed, np.array([True]), restart=0.5), np.array([2000.0]), np.array([2000.0]))
    check(flow, 0, unserved_w=300, battery_standby_w=40, energy_wh=2000 - 40 / 0.9)
    check(flow, 1, unserved_w=300, energy_wh=2000 - 80 / 0.9)
    check(flow, 2, unserved_w=0, ac_in_w=1000, charge_from_ac_w=800, energy_wh=2000 - 80 / 0.9 + 720)


def test_four_hours_of_an_outage_with_dc_coupled_sun():
    """Evening, night, morning, noon; 0.8 through the inverter, 0.9 at the cells, no idle draw; 2000 Wh at the start, 4000 full."""
    out = Terms(0.0, 0.25, 0.0, 2000.0)
    flow = island([unit("b", 0, 1500, 3000, out=out)], [0, 0, 1000, 3000], house(4, b=[800, 1200, 400, 100]), 2000)
    check(flow, 0, ac_out_w=800, discharge_w=1000, energy_wh=2000 - 1000 / 0.9, unserved_w=0)
    # 888.9 Wh in the cells give 800 W DC, 640 W of the 1200 W asked for.
    check(flow, 1, ac_out_w=640, discharge_w=800, energy_wh=0, unserved_w=560)
    # 1000 W of sun: 500 W DC serve 400 W, the other 500 W charge.
    check(flow, 2, pv_to_inverter_w=500, pv_to_battery_w=500, energy_wh=450, unserved_w=0)
    # 3000 W: 125 W serve 100 W, 1500 W are all that charges, 1375 W find no use.
    check(flow, 3, pv_to_inverter_w=125, pv_to_battery_w=1500, lost_island_w=1375, energy_wh=450 + 1350)


def test_four_hours_of_an_outage_with_ac_coupled_sun():
    """The same hours, the sun at AC: what the house leaves of it goes through the charger; an empty bank stays dark to the end."""
    out = Terms(0.0, 0.25, 0.0, 2000.0)
    ac = house(4, b=[800, 200, 400, 100])
    ac[:, 3] = [0, 0, 1400, 3000]
    flow = island([unit("b", 0, 1500, 3000, out=out)], [0, 0, 0, 0], ac, 2000)
    check(flow, 0, ac_out_w=800, discharge_w=1000, energy_wh=2000 - 1000 / 0.9, unserved_w=0)
    check(flow, 1, ac_out_w=200, discharge_w=250, energy_wh=2000 - 1250 / 0.9)
    # 1000 W beyond the house, 0.8 of it reaches the battery, 0.9 of that the cells.
    check(flow, 2, pv_only_w=1400, ac_in_w=1000, charge_from_ac_w=800, energy_wh=2000 - 1250 / 0.9 + 720)
    # 2900 W beyond the house; the charge limit of 1500 W takes 1875 W at AC, so 1025 W are held back.
    check(flow, 3, ac_in_w=1875, charge_from_ac_w=1500, pv_only_lost_island_w=1025, energy_wh=2000 - 1250 / 0.9 + 720 + 1350)
    empty = ac.copy()
    empty[1, 0] = 2000
    dark = island([unit("b", 0, 1500, 3000, out=out)], [0, 0, 0, 0], empty, 1000)
    check(dark, 1, unserved_w=2000, energy_wh=0)
    check(dark, 2, unserved_w=400, pv_only_w=0, pv_only_lost_island_w=1400)


def test_what_the_island_cannot_serve_is_recorded_and_shared_out():
    """Two banks of 3000 and 1000 Wh give 3 : 1; 4 kW of house above 2 × 2 kW at AC leave nothing, 5 kW leave 1 kW."""
    units = [unit("b", 0, 1500, 3000), unit("b", 0, 1500, 3000)]
    flow = island(units, np.zeros((2, 2)), house(2, b=[800, 5000]), [3000, 1000])
    check(flow, 0, 0, ac_out_w=600, discharge_w=750)
    check(flow, 0, 1, ac_out_w=200, discharge_w=250, unserved_w=0)
    check(flow, 1, 0, discharge_w=(3000 - 750 / 0.9) * 0.9)
    got = (3000 - 750 / 0.9) * 0.9 * 0.8 + (1000 - 250 / 0.9) * 0.9 * 0.8
    check(flow, 1, 1, unserved_w=5000 - got, battery_to_house_w=got)


def test_units_on_one_bank_by_their_cards():
    """Currents add at the bank, the window is what both work in, trackers are counted through; a time switch has one efficiency."""
    book = shipped_book()
    unit_card, controller = book["charger-5k-48v"], book["controller-85a"]
    made = with_controllers(unit_of(unit_card), controller, 2)
    assert made.charge_max_a == 70 + 2 * 85
    assert (made.battery_voltage_min_v, made.battery_voltage_max_v) == (38.0, 64.0)
    assert len(made.trackers) == 2
    assert made.dc_voltage_max_v == 250.0
    assert made.night_w == pytest.approx(unit_card.night_w + 2 * controller.night_w)
    timed = with_timer_charger(unit_of(unit_card), book["timer-charger-48v-60a"])
    assert timed.charger_dc_w(1000.0) == pytest.approx(930.0)
    assert (timed.ac_in_max_w, timed.charge_max_a) == (3800.0, 60.0)


def test_a_bigger_bank_and_a_bigger_array_never_serve_less():
    """The hut's first plan, at the hour: more modules on the bank, more strings, and what is not served never grows."""
    study, job = Study(SeriesStore(), step_s=3600), hut_job()
    plan = job.plan("A")
    node = plan.nodes[0]

    def unserved(modules: int, strings: int) -> float:
        bank = node.battery.model_copy(update={"modules": modules})
        group = node.strings[0].model_copy(update={"parallel_strings": strings})
        changed = plan.model_copy(update={"nodes": (node.model_copy(update={"battery": bank, "strings": (group,)}),)})
        return float(study.flow(job, changed).flow.sums[SYS_UNSERVED])

    by_modules = [unserved(n, 1) for n in (1, 2, 3, 5)]
    assert by_modules == sorted(by_modules, reverse=True)
    assert by_modules[0] > by_modules[-1]
    assert unserved(1, 2) <= by_modules[0]


def test_charge_controllers_hold_their_output_and_a_time_switch_hears_no_meter():
    """85 A at a bank of 48 V are 4080 W out of each controller, whatever its strings offer; a time switch takes no surplus."""
    study, job = Study(SeriesStore(), step_s=3600), hut_job()
    plan = job.plan("Today")
    node = plan.nodes[0]
    large = tuple(group.model_copy(update={"parallel_strings": 8}) for group in node.strings)
    made = study.flow(job, plan.model_copy(update={"nodes": (node.model_copy(update={"strings": large}),)})).dc["bank"]
    assert made.available_w.max() == pytest.approx(2 * 85 * 48)
    assert made.offered_w.max() > 11_000
    assert sum(t.offered_wh for t in made.trackers) == pytest.approx(float(made.offered_w.sum()))
    cheap = [Edit("tariff.cheap_price_per_kwh", 0.1), Edit("tariff.cheap_end_h", 6.0)]
    job = stands_today(apply_edits(add_face(new_job())[0], cheap), "string", 9000.0)
    job, plan_id = draft_plan(job, "timer-bank", 9000.0)
    plan = job.plan(plan_id)
    flow = study.flow(job, plan).flow
    hour = study.calendar(job).clock_hour
    charging = flow.node_column("bank", "ac_in_w") > 0
    assert charging.any()
    assert set(np.floor(hour[charging])) == {0.0, 1.0, 2.0, 3.0, 4.0, 5.0}, "by the clock, and never from surplus"
    assert flow.column("export_w").max() > 500, "though there is some"
