"""The made-up demo job 'Juniper Bench clinic': a veterinary clinic on split phase, with a well pump and dry storms."""

from __future__ import annotations

from calm_relay.demo.parts import appliance, cards_of, labour, piece, work
from calm_relay.job.brief_models import Brief, NamedOutage
from calm_relay.job.control_models import Controls
from calm_relay.job.costs import with_costs_kept
from calm_relay.job.house_models import House, Motor, ProfileLoad
from calm_relay.job.models import BatteryChoice, GeneratorChoice, Job, Node, Plan, Site, StringGroup, Transfer
from calm_relay.job.site_models import Board, NetworkRule, Supply
from calm_relay.job.sky_models import Face, MonthlyWeather, Place
from calm_relay.job.tariff_models import Tariff

ESSENTIAL = ("vaccine-fridge", "second-fridge", "well-pump", "lights", "server")
HOT = (6, 7, 8, 9)


def _site() -> Site:
    return Site(
        place=Place(
            name="Juniper Bench (made-up)", latitude_deg=39.6, longitude_deg=-108.7, altitude_m=1650, time_zone="America/Denver"
        ),
        supply=Supply(kind="split_phase", voltage_v=240, service_a=200),
        weather=MonthlyWeather(
            ghi_wh_per_m2_day=(2700, 3650, 4900, 6150, 7150, 7950, 7500, 6700, 5650, 4250, 3000, 2450),
            temperature_mean_c=(-3.5, 0.5, 5.5, 9.9, 15.2, 20.8, 24.4, 23.0, 18.2, 11.2, 3.6, -2.6),
            temperature_daily_range_k=15,
            wind_m_per_s=3.2,
            seed=17,
        ),
        network=NetworkRule(sum_limit_w=25_000, source="made-up operator's letter: 25 kW of inverter with an application"),
        board=Board(main_breaker_a=200, busbar_a=200, breakers_a=195, highest_supply_v=246),
        record_low_c=-29,
        design_high_c=37,
    )


def _house() -> House:
    return House(
        background=ProfileLoad(
            shape="household_evening",
            energy_wh_per_day=(14000, 14000, 13500, 13000, 13000, 14000, 15000, 15000, 14000, 13000, 13500, 14000),
            seed=11,
        ),
        appliances=(
            appliance("vaccine-fridge", "Vaccine fridge", 180, 9, essential=True, cycles_per_day=30, line="1"),
            appliance("second-fridge", "Blood and sample fridge", 160, 9, essential=True, cycles_per_day=30, line="2"),
            appliance(
                "well-pump", "Well pump, 2 hp", 1900, 1.6, 6, 20, essential=True, cycles_per_day=8, power_factor=0.83,
                motor=Motor(kind="pump", voltage_v=240, code_letter="H", horsepower=2),
            ),
            appliance("lights", "Treatment lights", 240, 7, 8, 19, days="weekdays", essential=True, line="2"),
            appliance("server", "Server and telephones", 140, 24, essential=True, line="1"),
            appliance(
                "air-handler", "Air handler and condenser", 3600, 5.5, 11, 20, cycles_per_day=10, power_factor=0.9, months=HOT,
                sheddable=True,
                off_below_soc_frac=0.3,
                motor=Motor(kind="compressor", voltage_v=240, lra_a=74),
            ),
            appliance("x-ray", "X-ray unit", 6500, 0.05, 9, 17, days="weekdays", power_factor=0.9),
            appliance("dryer", "Dryer", 4800, 1.1, 9, 18, days="weekdays", sheddable=True, off_below_soc_frac=0.6),
            appliance("water-heater", "Water heater", 4500, 1.8, 5, 10, never_from_battery=True),
        ),
    )  # fmt: skip


def _strings(trackers: tuple[int, int, int]) -> tuple[StringGroup, ...]:
    rows = (("south-1", "south", 11), ("south-2", "south", 11), ("west-1", "west", 8))
    return tuple(
        StringGroup(id=name, face=face, module="module-430", tracker=tracker, modules_per_string=count)
        for (name, face, count), tracker in zip(rows, trackers, strict=True)
    )


MODULES = piece("Module with ground frame", 310, "module-430", "modules")
PAPERS = (
    work("Drawings", 450, "drawings"),
    work("Permits and network application", 900, "approvals"),
    work("Cabling, trench", 1250, "cabling"),
)


def _plans() -> tuple[Plan, ...]:
    listed = Transfer(card="gateway-100-split", backed_up="listed", listed=ESSENTIAL)
    whole = Transfer(card="gateway-200-split", backed_up="whole_house")
    return (
        Plan(id="today", letter="Today", name="As it stands", note="No PV yet: the clinic draws all from the grid."),
        Plan(
            id="hybrid-whole",
            letter="A",
            name="Hybrid, whole clinic",
            note="A split-phase hybrid and a diesel set carry everything behind a 200 A device; what starts is the question.",
            nodes=(
                Node(
                    id="hyb", name="Hybrid", card="hybrid-11k4-split-high", side="backup", strings=_strings((1, 2, 3)),
                    battery=BatteryChoice(card="stack-9k-tall", modules=2, place="indoors"),
                ),
            ),
            transfer=whole,
            generator=GeneratorChoice(
                card="generator-14k-split", pv_locked_out="yes", bypass="yes", start_soc_frac=0.2, stop_soc_frac=0.7,
                quiet_start_h=22, quiet_end_h=6,
            ),
            controls=Controls(reserve_soc_frac=0.3),
            costs=(
                piece("Hybrid 11.4 kW", 5600, "hybrid-11k4-split-high", "inverter"),
                piece("Battery module 9 kWh", 4450, "stack-9k-tall", "battery"), MODULES,
                piece("Transfer device 200 A", 2900, "gateway-200-split", "transfer"),
                piece("Generator 14 kVA, set up", 6900, "generator-14k-split", "generator"), *PAPERS, labour(32, 95),
            ),
        ),
        Plan(
            id="ac-essential",
            letter="B",
            name="String inverter, AC battery",
            note="A string inverter beside an AC battery; only what must stay on stands behind a smaller device.",
            nodes=(
                Node(id="pv", name="PV inverter", card="string-11k4-split", side="backup", strings=_strings((1, 2, 3))),
                Node(
                    id="bat", name="Battery inverter", card="battery-inverter-10k-split", side="backup",
                    battery=BatteryChoice(card="tower-10k", modules=2, place="indoors"),
                ),
            ),
            transfer=listed,
            controls=Controls(reserve_soc_frac=0.3),
            costs=(
                piece("String inverter 11.4 kW", 3100, "string-11k4-split", "inverter"),
                piece("Battery inverter 10 kW", 4700, "battery-inverter-10k-split", "inverter"),
                piece("Tower 10 kWh", 5250, "tower-10k", "battery"), MODULES,
                piece("Transfer device 100 A", 1700, "gateway-100-split", "transfer"),
                work("Essential-loads panel and wiring", 1100, "wiring"), *PAPERS, labour(28, 95),
            ),
        ),
    )  # fmt: skip


def clinic_job() -> Job:
    """Return the demo job."""
    plans = _plans()
    return Job(
        id="juniper-bench",
        pack="north-america",
        pack_reason="Split phase in the mountain west.",
        name="Juniper Bench clinic",
        made_up=True,
        calendar_year=2025,
        brief=Brief(
            purposes=("ride_through", "lower_bills", "own_use"),
            outage_hours_h=24,
            outage_longest_h=48,
            outages_per_year=2,
            outage_season="summer",
            outages=(
                NamedOutage(name="Dry storm", month=7, day=22, hour=14, hours_h=48, sun_frac=0.35),
                NamedOutage(name="Winter dust and ice", month=1, day=14, hour=17, hours_h=36, sun_frac=0.5),
            ),
            note="Dust and dry storms cut the power for up to two days. Vaccines, water, light and the server stay on.",
        ),
        site=_site(),
        faces=(
            Face(id="south", name="South face", tilt_deg=22, azimuth_deg=180, mounting="ventilated", room_modules=24),
            Face(id="west", name="West face", tilt_deg=22, azimuth_deg=270, mounting="ventilated", room_modules=12),
        ),
        house=_house(),
        tariff=Tariff(
            name="Two prices (invented)",
            import_price_per_kwh=0.24,
            cheap_price_per_kwh=0.13,
            cheap_start_h=22,
            cheap_end_h=6,
            export_price_per_kwh=0.05,
            standing_per_day=0.6,
        ),
        library=cards_of(plans),
        plans=tuple(with_costs_kept(plan) for plan in plans),
    )
