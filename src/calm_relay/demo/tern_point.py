"""The made-up demo job 'Tern Point boatshed': a home and boat shed on one phase, with old strings and a night price."""

from __future__ import annotations

from calm_relay.demo.parts import appliance, labour, piece, work
from calm_relay.job.brief_models import Brief, NamedOutage
from calm_relay.job.control_models import Controls, Slot
from calm_relay.job.cost_models import Finance, Rebate, RebateCondition
from calm_relay.job.costs import with_costs_kept
from calm_relay.job.house_models import House, Motor, ProfileLoad
from calm_relay.job.models import BatteryChoice, Job, Node, Plan, Site, StringGroup, Transfer
from calm_relay.job.site_models import Board, CableRun, MountingSpot, NetworkRule, OldCircuit, Protection, Supply
from calm_relay.job.sky_models import Face, HorizonPoint, MonthlyWeather, Place
from calm_relay.job.tariff_models import Tariff
from calm_relay.library.shipped import shipped_card

ESSENTIAL = ("fridge", "bait-freezer", "bilge-pump", "well-pump", "lights", "router", "workbench")
COLD_MONTHS = (5, 6, 7, 8, 9)
STACK = piece("Battery module 3.3 kWh", 1630, "stack-3k", "battery")
GATEWAY = piece("Transfer device 63 A", 1400, "gateway-63", "transfer")
WIRING = work("Essential-loads panel and wiring", 900, "wiring")
PAPERS = (
    work("Drawings", 300, "drawings"),
    work("Network application", 500, "approvals"),
    work("Cabling, small parts", 260, "cabling"),
)
MODULES = piece("Module 430 W with rails", 355, "module-430", "modules")
SCAFFOLD = work("Scaffold", 750, "scaffold")
GRANT = Rebate(
    name="Shore battery grant (made-up)",
    per_kwh=180,
    paid_up_to_wh=10_000,
    most=1700,
    conditions=(RebateCondition(rule="backed_up"), RebateCondition(rule="least_usable_wh", energy_wh=5000)),
    source="invented",
)

# What lies between shed and board today, 22 m of it, and what a new inverter beside the board takes.
OLD_RUN = CableRun(length_m=22, size="4 mm²", method="clipped direct", protected_a=32)
NEW_RUN = CableRun(length_m=22, size="10 mm²", method="clipped direct", protected_a=63)
NEAR = CableRun(length_m=4, size="10 mm²", method="clipped direct", protected_a=63)
STRINGS = CableRun(length_m=18, size="4 mm²", method="free air", ambient_c=60)
# The workshop's inner room, and the shed by the water, which a spring tide once reached.
SPOTS = (
    MountingSpot(
        place="indoors", room="utility", flood_m=0, lowest_m=0.3, opening_m=0.9, clear_m=1.1, width_m=2.4, carries_kg=260,
        backing="yes",
    ),
    MountingSpot(
        place="garage", room="utility", flood_m=0.2, lowest_m=0.6, opening_m=0.8, clear_m=1.4, width_m=2.0, carries_kg=400,
    ),
)  # fmt: skip
SEEN = Protection(dc_isolator="yes", ac_isolator="yes", surge="yes", residual_type="a")


def _site() -> Site:
    return Site(
        place=Place(
            name="Tern Point (made-up)",
            latitude_deg=-41.1,
            longitude_deg=174.9,
            altitude_m=8,
            time_zone="Pacific/Auckland",
        ),
        supply=Supply(kind="single_phase", voltage_v=230, service_a=63),
        weather=MonthlyWeather(
            ghi_wh_per_m2_day=(6300, 5450, 4250, 2900, 1900, 1500, 1700, 2400, 3550, 4750, 5750, 6250),
            temperature_mean_c=(17.2, 17.4, 16.0, 13.8, 11.6, 9.6, 8.9, 9.5, 10.9, 12.3, 13.9, 15.9),
            temperature_daily_range_k=6.5,
            wind_m_per_s=4.0,
            seed=41,
        ),
        network=NetworkRule(
            sum_limit_w=10_000, transfer_approved="yes", source="made-up operator's letter: 10 kW of inverter on one phase"
        ),
        board=Board(
            main_breaker_a=63,
            busbar_a=160,
            highest_supply_v=244,
            free_ways=4,
            earthing="tn_c_s",
            fault_level_a=1800,
            breaks_a=6000,
        ),
        circuits=(OldCircuit(id="shed-circuit", name="Shed circuit", run=OLD_RUN),),
        spots=SPOTS,
        supply_run=CableRun(length_m=14, size="16 mm²", method="clipped direct", protected_a=63),
        export_limit_w=5000,
        record_low_c=-4,
        design_high_c=30,
    )


def _house() -> House:
    cold = {"months": COLD_MONTHS}
    return House(
        background=ProfileLoad(
            shape="household_evening",
            energy_wh_per_day=(6500, 6500, 6800, 7400, 8300, 9200, 9400, 8900, 8000, 7300, 6900, 6600),
            seed=5,
        ),
        appliances=(
            appliance("fridge", "Fridge", 110, 8, essential=True, cycles_per_day=32),
            appliance("bait-freezer", "Bait freezer", 160, 9, essential=True, cycles_per_day=24),
            appliance(
                "bilge-pump", "Bilge pump", 350, 0.8, essential=True, cycles_per_day=4, power_factor=0.8,
                motor=Motor(kind="pump", voltage_v=230, code_letter="J", horsepower=0.33),
            ),
            appliance(
                "well-pump", "Well pump", 1100, 1.0, 6, 22, essential=True, cycles_per_day=5, power_factor=0.85,
                motor=Motor(kind="pump", voltage_v=230, lra_a=23),
            ),
            appliance("lights", "Lights", 140, 5, 17, 23, essential=True),
            appliance("router", "Router and alarm", 18, 24, essential=True),
            appliance("workbench", "Workbench circuit", 450, 2.5, 9, 17, days="weekdays", essential=True),
            appliance(
                "planer", "Planer", 1900, 1.5, 15, 18, days="weekdays", power_factor=0.85, share_of_days_frac=0.6,
                no_auto_return=True, **cold,
                motor=Motor(kind="tool", voltage_v=230, code_letter="G", horsepower=3),
            ),
            appliance(
                "heat-pump", "Heat pump", 1350, 6.5, 15, 23, cycles_per_day=4, power_factor=0.95, sheddable=True,
                off_below_soc_frac=0.5, on_above_soc_frac=0.7, **cold,
                motor=Motor(kind="compressor", voltage_v=230, lra_a=38, soft_starter=True),
            ),
            appliance("oven", "Oven", 2100, 0.8, 17, 19.5, share_of_days_frac=0.75, no_auto_return=True),
            appliance("hot-water", "Hot water", 2400, 2.6, 1, 5, never_from_battery=True),
            appliance(
                "laundry", "Laundry and dryer", 1900, 1.2, 9, 20, share_of_days_frac=0.5, sheddable=True, shed_order=1,
                off_below_soc_frac=0.6,
            ),
        ),
    )  # fmt: skip


def _old_array(prefix: str) -> tuple[StringGroup, ...]:
    return tuple(
        StringGroup(
            id=f"{prefix}{n}", face="north-east", module="module-385", tracker=n, modules_per_string=8, age_years=7,
            other_loss_frac=0.06,
        )
        for n in (1, 2)
    )  # fmt: skip


def _today(side: str = "grid") -> Node:
    return Node.model_validate(
        {
            "id": "old",
            "name": "Shed inverter",
            "card": "string-inverter-5k",
            "side": side,
            "strings": _old_array("ne"),
            "run": OLD_RUN,
            "string_run": STRINGS,
            "place": "garage",
        }
    )


def _night_slot(power_w: float, target: float) -> Slot:
    return Slot(kind="charge_from_grid", start_h=1, end_h=5, months=COLD_MONTHS, power_w=power_w, target_soc_frac=target)


def _plans() -> tuple[Plan, ...]:
    listed = Transfer(
        card="gateway-63", backed_up="listed", listed=ESSENTIAL, residual_current="yes", earth_electrode="yes",
        largest_breaker_a=16, breaker_trips_at=5,
    )  # fmt: skip
    stack = "stack-3k"
    return (
        Plan(id="today", letter="Today", name="As it stands", nodes=(_today(),)),
        Plan(
            id="ac-add-on",
            letter="A",
            name="Keep, add AC battery",
            note="The sound old inverter stays; a battery inverter joins it on the backup side.",
            nodes=(
                _today("backup"),
                Node(
                    id="bat", name="Battery inverter", card="battery-inverter-5k", side="backup", run=NEAR, place="indoors",
                    battery_run=CableRun(length_m=3, size="10 mm²", protected_a=63),
                    battery=BatteryChoice(card=stack, modules=3, place="indoors"),
                ),
            ),
            transfer=listed,
            protection=SEEN,
            controls=Controls(reserve_soc_frac=0.15, slots=(_night_slot(2000, 0.9),)),
            costs=(
                piece("Battery inverter 5 kW", 2600, "battery-inverter-5k", "inverter"), STACK, GATEWAY, WIRING, *PAPERS,
                labour(20, 65),
            ),
        ),
        Plan(
            id="hybrid-swap",
            letter="B",
            name="Hybrid swap",
            note="One 5 kW hybrid takes over the old strings; the battery sits on its DC side.",
            nodes=(
                Node(
                    id="hyb", name="Hybrid", card="hybrid-5k", side="backup", strings=_old_array("ne"), run=NEW_RUN,
                    string_run=STRINGS,
                    place="indoors",
                    battery=BatteryChoice(card=stack, modules=3, place="indoors"),
                ),
            ),
            transfer=listed,
            protection=SEEN,
            controls=Controls(reserve_soc_frac=0.15, slots=(_night_slot(2000, 0.9),)),
            costs=(
                piece("Hybrid 5 kW", 3000, "hybrid-5k", "inverter"), STACK, GATEWAY, WIRING, *PAPERS, labour(19, 65),
                piece("Shed inverter, value left", -300, "string-inverter-5k", "taken_out"),
            ),
        ),
        Plan(
            id="hybrid-alongside",
            letter="C",
            name="Hybrid alongside",
            note="The old inverter stays on the grid side; a hybrid takes 12 new modules on the free face.",
            nodes=(
                _today(),
                Node(
                    id="hyb", name="Hybrid", card="hybrid-6k", side="backup", run=NEAR, string_run=STRINGS, place="garage",
                    strings=(
                        StringGroup(id="nw1", face="north-west", module="module-430", tracker=1, modules_per_string=12),
                    ),
                    battery=BatteryChoice(card=stack, modules=4, place="garage"),
                ),
            ),
            transfer=listed,
            protection=SEEN,
            controls=Controls(reserve_soc_frac=0.15, slots=(_night_slot(3200, 0.9),)),
            costs=(
                piece("Hybrid 6 kW", 3400, "hybrid-6k", "inverter"), STACK, GATEWAY, WIRING, *PAPERS, MODULES, SCAFFOLD,
                labour(34, 65),
            ),
        ),
        Plan(
            id="array-only",
            letter="D",
            name="Array only",
            note="Both old strings in parallel on tracker 1 make room for a new string on tracker 2.",
            nodes=(
                Node(
                    id="old", name="Shed inverter", card="string-inverter-5k", side="grid", run=OLD_RUN, string_run=STRINGS,
                    place="garage",
                    strings=(
                        StringGroup(
                            id="ne", face="north-east", module="module-385", tracker=1, modules_per_string=8,
                            parallel_strings=2, age_years=7, other_loss_frac=0.06,
                        ),
                        StringGroup(id="nw", face="north-west", module="module-430", tracker=2, modules_per_string=7),
                    ),
                ),
            ),
            costs=(MODULES, SCAFFOLD, labour(22, 65)),
        ),
    )  # fmt: skip


def _hill() -> tuple[HorizonPoint, ...]:
    """Return what the north-west face looks at: a wooded hill over the bay to the west, a mast to the north."""
    points = ((0, 4), (20, 6), (40, 3), (90, 2), (180, 2), (230, 6), (260, 14), (285, 19), (300, 16), (320, 9), (345, 5))
    return tuple(HorizonPoint(azimuth_deg=azimuth, elevation_deg=elevation) for azimuth, elevation in points)


def demo_job() -> Job:
    """Return the demo job. Every person, place and product in it is made up."""
    ids = (
        "module-385", "module-430", "string-inverter-5k", "battery-inverter-5k", "hybrid-5k", "hybrid-6k", "stack-3k", "gateway-63",
    )  # fmt: skip
    return Job(
        id="tern-point",
        pack="australia-new-zealand",
        pack_reason="The site is in New Zealand; the operator's letter is typed.",
        name="Tern Point boatshed",
        made_up=True,
        calendar_year=2025,
        brief=Brief(
            purposes=("lower_bills", "own_use", "ride_through"),
            outage_hours_h=10,
            outage_longest_h=18,
            outages_per_year=2,
            outage_season="winter",
            outages=(NamedOutage(name="Winter storm", month=7, day=11, hour=16, hours_h=18, sun_frac=0.4),),
            note="Two outages a winter of 10 to 18 h. Fridge, bait freezer, pumps, lights, router and workbench stay on.",
        ),
        site=_site(),
        faces=(
            Face(id="north-east", name="North-east face", tilt_deg=24, azimuth_deg=45, mounting="ventilated", room_modules=16),
            Face(
                id="north-west", name="North-west face", tilt_deg=24, azimuth_deg=315, mounting="ventilated",
                shade_loss_frac=0.01, room_modules=14, horizon=_hill(),
            ),
        ),
        house=_house(),
        tariff=Tariff(
            name="Two prices (invented)",
            import_price_per_kwh=0.36,
            cheap_price_per_kwh=0.19,
            cheap_start_h=1,
            cheap_end_h=5,
            export_price_per_kwh=0.12,
            standing_per_day=1.1,
        ),
        finance=Finance(upkeep_per_year=60),
        rebates=(GRANT,),
        library=tuple(shipped_card(i) for i in ids),
        plans=tuple(with_costs_kept(plan) for plan in _plans()),
    )  # fmt: skip
