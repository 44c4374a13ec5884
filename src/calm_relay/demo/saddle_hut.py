"""The made-up demo job 'Saddle Hut': a ranger's hut without a grid, its lead bank to be rebuilt with lithium and long strings."""

from __future__ import annotations

from calm_relay.demo.parts import appliance, cards_of, labour, piece, work
from calm_relay.job.brief_models import Brief
from calm_relay.job.costs import with_costs_kept
from calm_relay.job.house_models import House, Motor, ProfileLoad
from calm_relay.job.models import BatteryChoice, GeneratorChoice, Job, Node, Plan, Site, StringGroup
from calm_relay.job.site_models import Supply
from calm_relay.job.sky_models import Face, MonthlyWeather, Place
from calm_relay.job.tariff_models import Tariff

OLD, NEW = "module-poly-60", "module-430"


def _lead() -> Node:
    """Today's bank: flooded cells behind two charge controllers, each with strings of three."""
    strings = tuple(
        StringGroup(
            id=f"old-{n}", face="roof", module=OLD, tracker=n, modules_per_string=3, parallel_strings=3, age_years=14, fuse_a=15,
            other_loss_frac=0.1,
        )
        for n in (1, 2)
    )  # fmt: skip
    bank = BatteryChoice(
        card="flooded-cell-850", modules=24, state_of_health_frac=0.7, soc_min_frac=0.5, place="indoors", leads_ohm=()
    )
    return Node(
        id="bank", name="Lead bank", card="charger-3k-48v", side="backup", battery=bank, strings=strings,
        controller="controller-85a", controllers=2,
    )  # fmt: skip


def _lithium(strings: int) -> Node:
    """The bank rebuilt: lithium modules, one controller for long strings on the wall that the low winter sun reaches."""
    string = StringGroup(id="wall", face="wall", module=NEW, tracker=1, modules_per_string=9, parallel_strings=strings)
    return Node(
        id="bank", name="Lithium bank", card="charger-5k-48v", side="backup", strings=(string,),
        battery=BatteryChoice(card="rack-5k", modules=5, place="indoors"), controller="controller-100a-high",
    )  # fmt: skip


def _old_ac() -> Node:
    """An inverter that a hut in the valley no longer needs, with the old modules in one string."""
    string = StringGroup(id="roof", face="roof", module=OLD, tracker=1, modules_per_string=12, age_years=14, other_loss_frac=0.1)
    return Node(id="ac", name="Old PV inverter", card="string-inverter-3k", side="backup", strings=(string,))


def _plans() -> tuple[Plan, ...]:
    diesel = GeneratorChoice(card="generator-10k-diesel", pv_locked_out="yes", bypass="yes")
    costs = (
        piece("Lithium module 5 kWh", 1480, "rack-5k", "battery"), work("Rack, fuses", 800, "cabling"),
        piece("Battery inverter 5 kW", 2900, "charger-5k-48v", "inverter"),
        piece("Charge controller 100 A", 1200, "controller-100a-high", "inverter"),
        piece("Module 430 W on the wall", 215, NEW, "modules"), work("Helicopter", 3600, "scaffold"), labour(40, 80),
    )  # fmt: skip
    return (
        Plan(
            id="today", letter="Today", name="Lead bank, strings of three", off_grid=True, nodes=(_lead(),), generator=diesel,
            note="The cells are tired: in the dull weeks the diesel makes up for them.",
        ),
        Plan(
            id="rebuilt", letter="A", name="Lithium and long strings", off_grid=True, nodes=(_lithium(2),), generator=diesel,
            note="Strings of nine on one controller: thinner cables from the wall, and it wakes by itself at dawn.", costs=costs,
        ),
        Plan(
            id="both", letter="B", name="One string, old modules AC-coupled", off_grid=True, nodes=(_lithium(1), _old_ac()),
            generator=diesel, note="The old modules serve the day's loads without a detour through the bank.",
            costs=(
                *costs, piece("Old inverter from the valley", 250, "string-inverter-3k", "inverter"),
                work("Breaker, cable", 200, "cabling"),
            ),
        ),
    )  # fmt: skip


def hut_job() -> Job:
    """Return the demo job."""
    plans = _plans()
    return Job(
        id="saddle-hut",
        name="Saddle Hut",
        made_up=True,
        calendar_year=2025,
        brief=Brief(purposes=("off_grid", "ride_through"), note="No grid within eleven kilometres; diesel comes by helicopter."),
        site=Site(
            place=Place(
                name="Collado Gris (made-up)", latitude_deg=42.65, longitude_deg=0.6, altitude_m=2130, time_zone="Europe/Madrid"
            ),
            supply=Supply(kind="single_phase", voltage_v=230, service_a=25),
            weather=MonthlyWeather(
                ghi_wh_per_m2_day=(1900, 2700, 4000, 5000, 5800, 6600, 6900, 6000, 4700, 3100, 2050, 1600),
                temperature_mean_c=(-3.5, -3.2, -1.0, 1.2, 5.6, 9.9, 13.0, 12.9, 9.6, 5.2, 0.4, -2.6),
                temperature_daily_range_k=8,
                wind_m_per_s=4.5,
                seed=41,
            ),
            record_low_c=-27,
            design_high_c=27,
        ),
        faces=(
            Face(id="roof", name="South roof", tilt_deg=38, azimuth_deg=178, mounting="rack", room_modules=18),
            Face(id="wall", name="South wall", tilt_deg=75, azimuth_deg=178, mounting="rack", room_modules=20),
        ),
        house=House(
            background=ProfileLoad(
                shape="household_evening",
                energy_wh_per_day=(2600, 2600, 2600, 2500, 2700, 3300, 3900, 3900, 3100, 2600, 2600, 2700),
                seed=5,
            ),
            appliances=(
                appliance("fridge", "Fridge and freezer", 140, 9, essential=True, cycles_per_day=30),
                appliance("radio", "Radio, router, weather station", 45, 24, essential=True),
                appliance("lights", "Lights", 160, 4, 17, 23, essential=True),
                appliance(
                    "pump", "Spring pump", 750, 0.8, 8, 20, essential=True, power_factor=0.8,
                    motor=Motor(kind="pump", voltage_v=230, lra_a=16),
                ),
                appliance("kitchen", "Kitchen", 1600, 0.5, 17, 20),
            ),
        ),
        tariff=Tariff(
            name="No grid", currency="€", import_price_per_kwh=0.0, cheap_price_per_kwh=0.0, cheap_start_h=0, cheap_end_h=0,
            export_price_per_kwh=0.0,
        ),
        library=cards_of(plans),
        plans=tuple(with_costs_kept(plan) for plan in plans),
    )  # fmt: skip
