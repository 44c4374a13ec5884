"""The made-up demo job 'Kvist pottery': studio and flat on three phases, module-level inverters, a kiln, prices by the hour."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from calm_relay.demo.parts import labour, piece, work
from calm_relay.job.brief_models import Brief, Contract, PurposeWeight
from calm_relay.job.common_models import SeriesRef
from calm_relay.job.control_models import Controls, Slot
from calm_relay.job.costs import with_costs_kept
from calm_relay.job.house_models import Appliance, House, Motor, ProfileLoad
from calm_relay.job.models import BatteryChoice, Job, Node, Plan, Site, StringGroup, Transfer
from calm_relay.job.series import SeriesStore
from calm_relay.job.site_models import NetworkRule, Supply
from calm_relay.job.sky_models import Face, MonthlyWeather, Place
from calm_relay.job.tariff_models import Tariff
from calm_relay.library.shipped import shipped_card

ESSENTIAL = ("fridge", "clay-freezer", "router", "lights", "well-pump", "circulation")
PHASES = ("1", "2", "3")
DULL_MONTHS = (1, 2, 3, 9, 10, 11, 12)
PRICE_SEED = 57
FEE_PER_KWH, KEPT_PER_KWH, TAX_FRAC = 0.15, 0.008, 0.25  # network and energy tax on import, the trader's cut of export; invented


def _site() -> Site:
    return Site(
        place=Place(name="Kvist (made-up)", latitude_deg=57.6, longitude_deg=18.7, altitude_m=12, time_zone="Europe/Stockholm"),
        supply=Supply(kind="three_phase", voltage_v=230, service_a=35),
        weather=MonthlyWeather(
            ghi_wh_per_m2_day=(380, 1050, 2450, 4200, 5700, 6150, 5800, 4600, 2950, 1400, 520, 270),
            temperature_mean_c=(0.4, 0.0, 1.9, 5.6, 10.4, 14.9, 17.6, 17.3, 13.4, 8.8, 4.9, 2.1),
            temperature_daily_range_k=6.0,
            wind_m_per_s=5.0,
            seed=57,
        ),
        network=NetworkRule(sum_limit_w=24_000, source="made-up operator's letter, applied for first: 24 kW over three phases"),
        record_low_c=-22,
        design_high_c=28,
    )


def _load(id_: str, name: str, watts: float, run_h: float, start: float = 0, end: float = 24, **more: object) -> Appliance:
    row = {"id": id_, "name": name, "running_w": watts, "run_h": run_h, "window_start_h": start, "window_end_h": end}
    return Appliance.model_validate({**row, **more})


def _house() -> House:
    return House(
        background=ProfileLoad(
            shape="published_household",
            energy_wh_per_day=(9800, 9600, 8800, 7600, 6700, 6200, 6000, 6300, 7100, 8200, 9300, 10_000),
            seed=57,
        ),
        background_lines_frac=(0.5, 0.3, 0.2),
        appliances=(
            _load(
                "kiln", "Kiln", 7000, 8.5, 21, 8, share_of_days_frac=0.28, never_from_battery=True, no_auto_return=True,
                sheddable=True,
            ),
            _load(
                "wheel", "Throwing wheel", 750, 3, 9, 17, days="weekdays", power_factor=0.8, line="2",
                motor=Motor(kind="tool", voltage_v=230, code_letter="G", horsepower=1),
            ),
            _load("fridge", "Fridge", 100, 8, essential=True, cycles_per_day=32, line="1"),
            _load("clay-freezer", "Freezer", 140, 9, essential=True, cycles_per_day=24, line="1"),
            _load("router", "Router", 15, 24, essential=True, line="1"),
            _load("lights", "Lights of studio and flat", 220, 5, 16, 23, essential=True, line="3"),
            _load(
                "well-pump", "Well pump", 900, 0.8, 6, 22, essential=True, cycles_per_day=5, power_factor=0.85, line="3",
                motor=Motor(kind="pump", voltage_v=230, lra_a=19, soft_starter=True),
            ),
            _load("circulation", "Heating circulation", 55, 24, essential=True, months=(1, 2, 3, 4, 5, 9, 10, 11, 12), line="2"),
            _load("oven", "Oven and hob", 3200, 0.9, 17, 20, line="2"),
            _load("dishwasher", "Dishwasher", 1800, 0.9, 19, 23, share_of_days_frac=0.6, line="3"),
            _load(
                "hot-water", "Hot water", 3000, 1.8, 1, 6, never_from_battery=True, surplus="after_battery",
                surplus_least_w=300, line="1",
            ),
            _load(
                "heat-pump", "Heat pump instead of oil", 2600, 9.0, follows="heating_degrees", balance_c=14.0, cycles_per_day=12,
                colder_draws_frac_per_k=0.012, months=(1, 2, 3, 4, 5, 9, 10, 11, 12), power_factor=0.95, from_year=2027,
                motor=Motor(kind="compressor", voltage_v=400, phases=3, lra_a=32, soft_starter=True),
            ),
        ),
    )  # fmt: skip


def _array() -> tuple[Node, ...]:
    """Return today's array: twelve module-level inverters a face, four of them on each phase."""
    return tuple(
        Node(
            id=f"row-{face}", name=f"Row {face}", card="module-inverter-380", count=12, line="all", branches=3, branch_breaker_a=16,
            strings=(StringGroup(id=face, face=face, module="module-430", tracker=1, modules_per_string=1, age_years=2),),
        )
        for face in ("south-east", "south-west")
    )  # fmt: skip


def _by_night(power_w: float) -> Controls:
    """Return that each battery is filled by night in the dull months, at so many watts, and all of them share what is asked."""
    slot = Slot(kind="charge_from_grid", start_h=1, end_h=5, months=DULL_MONTHS, power_w=power_w, target_soc_frac=0.8)
    return Controls(reserve_soc_frac=0.2, slots=(slot,), battery_order="in_proportion")


STACK = piece("Battery module 3.3 kWh", 1090, "stack-3k", "battery")
GATEWAY = piece("Transfer device 63 A", 850, "gateway-63", "transfer")
WIRING = work("Essential-loads panel and wiring", 620, "wiring")
PAPERS = (
    work("Network application", 280, "approvals"),
    work("Drawings", 150, "drawings"),
    work("Cabling, small parts", 160, "cabling"),
)


def _plans() -> tuple[Plan, ...]:
    listed = Transfer(card="gateway-63", backed_up="listed", listed=ESSENTIAL)
    return (
        Plan(id="today", letter="Today", name="As it stands", nodes=_array()),
        Plan(
            id="one-phase", letter="A", name="Battery on one phase",
            note="One battery inverter on phase 1; what must stay on lies on all three.",
            nodes=(
                *_array(),
                Node(
                    id="bat", name="Battery inverter", card="battery-inverter-5k", side="backup", line="1",
                    battery=BatteryChoice(card="stack-3k", modules=3, place="indoors"),
                ),
            ),
            transfer=listed, controls=_by_night(1700),
            costs=(
                piece("Battery inverter 5 kW", 2200, "battery-inverter-5k", "inverter"), STACK, GATEWAY, WIRING, *PAPERS,
                labour(16, 60),
            ),
        ),
        Plan(
            id="three-phases", letter="B", name="Battery on each phase",
            note="Three small battery inverters, one a phase, each with a stack of its own.",
            nodes=(
                *_array(),
                *(
                    Node(
                        id=f"bat{phase}", name=f"Battery inverter {phase}", card="battery-inverter-3k", side="backup", line=phase,
                        battery=BatteryChoice(card="stack-3k", modules=2, place="indoors"),
                    )
                    for phase in PHASES
                ),
            ),
            transfer=listed, controls=_by_night(1200),
            costs=(
                piece("Battery inverter 3.7 kW", 1400, "battery-inverter-3k", "inverter"), STACK, GATEWAY, WIRING, *PAPERS,
                labour(28, 60),
            ),
        ),
    )  # fmt: skip


def hourly_prices() -> NDArray[np.float64]:
    """Return invented prices of the power exchange for 8760 hours of standard time. [money per kWh]

    Dear in winter evenings, cheap at night and at noon of a sunny half year, now and then below nothing; windy spells of days.
    """
    rng = np.random.default_rng(PRICE_SEED)
    day, hour = np.repeat(np.arange(365), 24), np.tile(np.arange(24), 365)
    winter = np.cos(2 * np.pi * (day - 15) / 365)
    wind = np.convolve(rng.normal(0, 1, 365 + 8), np.ones(4) / 2.0, mode="valid")[:365]
    shape = 0.030 * np.exp(-(((hour - 8) / 2.0) ** 2)) + 0.045 * np.exp(-(((hour - 18) / 2.5) ** 2))
    noon = 0.034 * np.exp(-(((hour - 12.5) / 3.0) ** 2)) * np.clip(0.5 - winter, 0.0, None)
    price = 0.074 + 0.028 * winter + shape * (1.0 + 0.5 * winter) - noon - 0.018 * wind[day] + rng.normal(0, 0.008, 8760)
    made: NDArray[np.float64] = np.round(np.maximum(price, -0.03), 4)
    return made


def _tariff(store: SeriesStore) -> Tariff:
    market = hourly_prices()

    def ref(values: NDArray[np.float64]) -> SeriesRef:
        return SeriesRef(sha256=store.put(values), rows=len(values), step_s=3600, unit="per_kwh", column="price_per_kwh")

    return Tariff(
        name="By the hour (invented)", currency="€", import_price_per_kwh=0.19, cheap_price_per_kwh=0.19, cheap_start_h=0,
        cheap_end_h=0, export_price_per_kwh=0.04, standing_per_day=0.85, tax_frac=TAX_FRAC, netting="summed",
        hourly_import=ref(market + FEE_PER_KWH), hourly_export=ref(market - KEPT_PER_KWH), import_growth_frac=0.02,
    )  # fmt: skip


def kvist_job(store: SeriesStore) -> Job:
    """Return the job; its price series go into the store. Every person, place and product in it is made up."""
    cards = ("module-430", "module-inverter-380", "battery-inverter-5k", "battery-inverter-3k", "stack-3k", "gateway-63")
    weights = (("own_use", 3), ("lower_bills", 2), ("ride_through", 2), ("new_loads", 3))
    return Job(
        id="kvist-pottery",
        name="Kvist pottery",
        made_up=True,
        brief=Brief(
            weights=tuple(PurposeWeight.model_validate({"purpose": p, "weight": w}) for p, w in weights),
            outage_hours_h=3,
            outage_longest_h=12,
            outages_per_year=3,
            outage_season="winter",
            contracts=(Contract(name="Feed-in premium", ends="2031", ends_with=("modules_taken_out",)),),
            note="Kiln by night, firing twice a week. The oil boiler goes in 2027. What must stay on lies on three phases.",
        ),
        site=_site(),
        faces=tuple(
            Face(id=id_, name=name, tilt_deg=32, azimuth_deg=azimuth, mounting="ventilated", room_modules=12)
            for id_, name, azimuth in (("south-east", "South-east face", 140), ("south-west", "South-west face", 230))
        ),
        house=_house(),
        tariff=_tariff(store),
        library=tuple(shipped_card(id_) for id_ in cards),
        plans=tuple(with_costs_kept(plan) for plan in _plans()),
    )
