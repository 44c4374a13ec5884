"""The made-up demo job 'Balcony flat': two modules on a railing with a plug-in battery, in a rented flat."""

from __future__ import annotations

from calm_relay.demo.parts import appliance, cards_of, piece, work
from calm_relay.job.brief_models import Brief
from calm_relay.job.costs import with_costs_kept
from calm_relay.job.house_models import House, ProfileLoad
from calm_relay.job.models import BatteryChoice, Job, Node, Plan, Site, StringGroup
from calm_relay.job.site_models import NetworkRule, Supply
from calm_relay.job.sky_models import Face, MonthlyWeather, Place
from calm_relay.job.tariff_models import Tariff


def _modules() -> Node:
    group = StringGroup(id="rail", face="balcony", module="module-430", tracker=1, modules_per_string=1)
    return Node(
        id="modules", name="Plug-in inverters", card="module-inverter-plug-in-400", count=2, plugged_in=True, strings=(group,)
    )


def _plans() -> tuple[Plan, ...]:
    battery = Node(
        id="battery", name="Plug-in battery", card="battery-inverter-plug-in", battery=BatteryChoice(card="plug-in-2k", modules=1,
        place="indoors"), plugged_in=True, place="indoors",
    )  # fmt: skip
    set_costs = (
        piece("Plug-in inverter", 95, "module-inverter-plug-in-400", "inverter"),
        piece("Module 430 W", 115, "module-430", "modules"),
        work("Railing frame, cable", 100, "cabling"),
    )  # fmt: skip
    battery_costs = (
        piece("Plug-in inverter with meter", 180, "battery-inverter-plug-in", "inverter"),
        piece("Battery 2 kWh", 600, "plug-in-2k", "battery"),
    )
    return (
        Plan(id="today", letter="Today", name="As it stands"),
        Plan(
            id="modules-only", letter="A", name="Two modules", note="Half of what they make leaves the flat unpaid.",
            nodes=(_modules(),), costs=set_costs,
        ),
        Plan(
            id="with-battery", letter="B", name="Two modules and a battery",
            note="A small metered battery keeps the noon for the evening; whether it earns its price is the question.",
            nodes=(_modules(), battery), costs=(*set_costs, *battery_costs),
        ),
    )  # fmt: skip


def flat_job() -> Job:
    """Return the demo job."""
    plans = _plans()
    return Job(
        id="balcony-flat",
        name="Balcony flat",
        made_up=True,
        calendar_year=2025,
        brief=Brief(purposes=("lower_bills", "own_use"), note="A rented flat; nothing may be fixed to the house."),
        site=Site(
            place=Place(
                name="Lindengrund (made-up)", latitude_deg=52.1, longitude_deg=11.6, altitude_m=55, time_zone="Europe/Berlin"
            ),
            supply=Supply(kind="single_phase", voltage_v=230, service_a=35),
            weather=MonthlyWeather(
                ghi_wh_per_m2_day=(680, 1350, 2650, 4100, 5100, 5350, 5150, 4450, 3100, 1750, 820, 530),
                temperature_mean_c=(1.0, 1.7, 5.0, 9.8, 14.2, 17.6, 19.6, 19.2, 14.9, 10.0, 5.2, 2.1),
                temperature_daily_range_k=8,
                seed=23,
            ),
            network=NetworkRule(
                sum_limit_w=1600, source="made-up house rule: two plug-in devices of 800 W on a circuit of their own"
            ),
            record_low_c=-22,
            design_high_c=35,
        ),
        faces=(
            Face(
                id="balcony",
                name="Balcony rail",
                tilt_deg=70,
                azimuth_deg=200,
                mounting="rack",
                room_modules=2,
                shade_loss_frac=0.06,
            ),
        ),
        house=House(
            background=ProfileLoad(
                shape="household_evening",
                energy_wh_per_day=(4300, 4200, 4000, 3800, 3600, 3500, 3500, 3500, 3700, 3900, 4200, 4400),
                seed=3,
            ),
            appliances=(
                appliance("fridge", "Fridge", 90, 8, cycles_per_day=30),
                appliance("washing", "Washing machine", 1900, 0.5, 9, 20, share_of_days_frac=0.4),
                appliance("cooking", "Cooking", 1800, 0.7, 17, 20),
            ),
        ),
        tariff=Tariff(
            name="One price (invented)",
            currency="€",
            import_price_per_kwh=0.35,
            cheap_price_per_kwh=0.35,
            cheap_start_h=0,
            cheap_end_h=0,
            export_price_per_kwh=0.0,
            standing_per_day=0.4,
        ),
        library=cards_of(plans),
        plans=tuple(with_costs_kept(plan) for plan in plans),
    )
