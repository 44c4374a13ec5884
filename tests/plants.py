"""Five small plants on which every figure is tried: one line, split phase, three lines, no grid, module-level beside a hybrid.

Each is a whole job: today's system and one plan, everything typed, every name made up. Sums by hand
over them stand in `tests/by_hand`.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from calm_relay.demo.parts import appliance, cards_of
from calm_relay.job.brief_models import Brief
from calm_relay.job.control_models import Controls, Slot
from calm_relay.job.cost_models import CostLine, Finance
from calm_relay.job.house_models import House, Motor, ProfileLoad
from calm_relay.job.models import BatteryChoice, GeneratorChoice, Job, Node, Plan, Site, StringGroup, Transfer
from calm_relay.job.site_models import Board, CableRun, MountingSpot, NetworkRule, OldCircuit, Protection, Supply
from calm_relay.job.sky_models import Face, MonthlyWeather, Place
from calm_relay.job.tariff_models import Tariff

ESSENTIAL = ("fridge", "pump", "lights")
DULL_GHI = (650, 1250, 2500, 3900, 4900, 5200, 5000, 4300, 3000, 1650, 800, 520)
BRIGHT_GHI = (2400, 3200, 4500, 5600, 6400, 7000, 6700, 5900, 5000, 3700, 2600, 2150)
NORTHERN_C = (1.0, 1.8, 5.0, 9.5, 14.0, 17.2, 19.3, 18.9, 14.8, 10.0, 5.1, 2.0)
PROTECTED = Protection(
    rapid_shutdown="yes", arc_fault="yes", dc_isolator="yes", ac_isolator="yes", surge="yes", residual_type="b"
)  # fmt: skip
SPOTS = (
    MountingSpot(
        place="garage", room="utility", flood_m=0.0, lowest_m=0.5, opening_m=1.0, apart_m=0.6, clear_m=1.2, width_m=4.0,
        carries_kg=900, backing="yes", vent_cm2=2500, in_sun="no", low_c=-2, high_c=34,
    ),
    MountingSpot(place="outdoors", clear_m=2.0, width_m=6.0, in_sun="no", backing="yes"),
)  # fmt: skip


def run(length_m: float, size: str, protected_a: float, **more: Any) -> CableRun:
    """Return a cable of which all is known. [m], [A]"""
    return CableRun(length_m=length_m, size=size, protected_a=protected_a, **more)


def strings(prefix: str, face: str, counts: tuple[int, ...], **more: Any) -> tuple[StringGroup, ...]:
    """Return a string of so many modules on each tracker, the first on the first."""
    return tuple(
        StringGroup(
            id=f"{prefix}{n}", face=face, module="module-430", tracker=n, modules_per_string=count, other_loss_frac=0.08, **more
        )
        for n, count in enumerate(counts, 1)
    )  # fmt: skip


def listed(card: str, **more: Any) -> Transfer:
    """Return a transfer device with what must stay on behind it, all that is asked of it declared."""
    known = {
        "neutral_bond": "yes", "residual_current": "yes", "earth_electrode": "yes", "largest_breaker_a": 16, "breaker_trips_at": 5
    }  # fmt: skip
    return Transfer.model_validate({"card": card, "backed_up": "listed", "listed": ESSENTIAL, **known, **more})


def night(power_w: float, target: float = 0.8) -> Controls:
    """Return a night slot with a reserve of a fifth."""
    return Controls(
        reserve_soc_frac=0.2,
        slots=(Slot(kind="charge_from_grid", start_h=1, end_h=5, power_w=power_w, target_soc_frac=target),),
    )


def _costs(battery: float, inverter: float) -> tuple[CostLine, ...]:
    return (
        CostLine(text="Batteries", amount=battery, kind="battery"), CostLine(text="Inverter", amount=inverter, kind="inverter"),
        CostLine(text="Wiring", amount=600, kind="wiring"), CostLine(text="Application", amount=150, kind="approvals"),
        CostLine(text="Transfer", amount=800, kind="transfer"), CostLine(text="Drawings", amount=100, kind="drawings"),
        CostLine(text="Labour", amount=65, kind="labour", basis="per_hour", hours_h=20),
    )  # fmt: skip


def _house(lines: tuple[str, str, str, str], volts: float, background: tuple[float, ...] | None = None, **pump: Any) -> House:
    """Return a house with a fridge, a pump, lights and an oven on the lines named, in this order."""
    fridge, water, lights, oven = lines
    motor = Motor(kind="pump", voltage_v=volts, **(pump or {"lra_a": 20}))
    return House(
        background=ProfileLoad(shape="household_evening", energy_wh_per_day=(7200,) * 12, seed=3),
        background_lines_frac=background,
        appliances=(
            appliance("fridge", "Fridge", 120, 9, essential=True, cycles_per_day=30, line=fridge),
            appliance(
                "pump", "Well pump", 900, 1, 6, 22, essential=True, cycles_per_day=4, power_factor=0.8, line=water, motor=motor
            ),
            appliance("lights", "Lights", 180, 5, 17, 23, essential=True, line=lights),
            appliance("oven", "Oven", 2400, 1, 17, 20, line=oven, sheddable=True),
            appliance("water", "Hot water", 2000, 2.5, 1, 6, never_from_battery=True, line=oven),
        ),
    )


def _job(
    key: str, pack: str, place: dict[str, Any], site: dict[str, Any], house: House, plans: tuple[Plan, ...], **more: Any
) -> Job:
    south = place["latitude_deg"] < 0
    mean_c = tuple(NORTHERN_C[(m + 6) % 12] for m in range(12)) if south else NORTHERN_C
    sun = DULL_GHI if place["latitude_deg"] > 45 else BRIGHT_GHI
    weather = MonthlyWeather(
        ghi_wh_per_m2_day=tuple(sun[(m + 6) % 12] for m in range(12)) if south else sun, temperature_mean_c=mean_c,
        temperature_daily_range_k=7, wind_m_per_s=3.0, seed=9,
    )  # fmt: skip
    towards = 0.0 if south else 180.0
    faces = (
        Face(id="sunny", name="Sunny face", tilt_deg=30, azimuth_deg=towards, mounting="ventilated", room_modules=30),
        Face(id="west", name="West face", tilt_deg=30, azimuth_deg=270, mounting="ventilated", room_modules=24),
    )
    fields: dict[str, Any] = {
        "brief": Brief(
            purposes=("lower_bills", "own_use", "ride_through"), outage_hours_h=6, outage_longest_h=12, outages_per_year=2,
            outage_season="winter",
        ),
        "tariff": Tariff(
            name="Two prices (invented)", import_price_per_kwh=0.34, cheap_price_per_kwh=0.16, cheap_start_h=1, cheap_end_h=5,
            export_price_per_kwh=0.07, standing_per_day=0.8,
        ),
        "finance": Finance(upkeep_per_year=40),
    }  # fmt: skip
    return Job(
        id=key, name=f"Plant {key}", made_up=True, calendar_year=2025, pack=pack, pack_reason="a made-up place",
        site=Site(
            place=Place(name=f"{key.capitalize()} (made-up)", altitude_m=120, **place), weather=weather, spots=SPOTS,
            record_low_c=-8, design_high_c=33, **site,
        ),
        faces=faces, house=house, library=cards_of(plans), plans=plans, **(fields | more),
    )  # fmt: skip


def one_line() -> Job:
    """One line: a string inverter kept, an AC battery beside it."""
    old = Node(
        id="old", name="Old inverter", card="string-inverter-5k", strings=strings("s", "sunny", (7, 6)), place="garage",
        run=run(20, "6 mm²", 32), string_run=run(18, "6 mm²", 16),
    )  # fmt: skip
    battery = Node(
        id="bat", name="Battery inverter", card="battery-inverter-5k", side="backup", place="garage", run=run(6, "6 mm²", 32),
        battery_run=run(2, "10 mm²", 63), battery=BatteryChoice(card="stack-3k", modules=3, place="garage"),
    )  # fmt: skip
    plans = (
        Plan(id="today", letter="Today", name="As it stands", nodes=(old,)),
        Plan(
            id="ac", letter="A", name="AC battery", nodes=(old.model_copy(update={"side": "backup"}), battery),
            transfer=listed("gateway-63"), controls=night(2000), costs=_costs(3300, 2600), protection=PROTECTED,
        ),
    )  # fmt: skip
    return _job(
        "single", "great-britain",
        {"latitude_deg": 52.0, "longitude_deg": -1.5, "time_zone": "Europe/London"},
        {
            "supply": Supply(kind="single_phase", voltage_v=230, service_a=63),
            "board": Board(main_breaker_a=63, busbar_a=100, highest_supply_v=246, free_ways=3, earthing="tn_s"),
            "supply_run": run(12, "16 mm²", 63), "network": NetworkRule(sum_limit_w=10_000, transfer_approved="yes"),
            "export_limit_w": 5000, "import_limit_w": 12_000,
            "circuits": (OldCircuit(id="shed", name="Shed circuit", run=run(25, "4 mm²", 25)),),
        },
        _house(("all",) * 4, 230), plans,
    )  # fmt: skip


def split_phase() -> Job:
    """Split phase: two battery inverters of one card as two nodes, loads on one leg, a string inverter."""
    pv = Node(
        id="pv", name="PV inverter", card="string-7k6-split", strings=strings("s", "sunny", (10, 9)), place="garage",
        run=run(15, "8 AWG", 40), string_run=run(20, "4 mm²", 16),
    )  # fmt: skip

    def battery(number: int) -> Node:
        return Node(
            id=f"bat{number}", name=f"Battery inverter {number}", card="charger-6k-split-48v", side="backup", place="garage",
            run=run(5 + number, "8 AWG", 40), battery_run=run(2, "35 mm²", 200),
            battery=BatteryChoice(card="rack-5k", modules=2, place="garage"),
        )  # fmt: skip

    plans = (
        Plan(id="today", letter="Today", name="As it stands", nodes=(pv,)),
        Plan(
            id="pair", letter="A", name="A pair of battery inverters",
            nodes=(pv.model_copy(update={"side": "backup"}), battery(1), battery(2)),
            transfer=listed("gateway-100-split"), controls=night(1500), costs=_costs(6400, 5200), protection=PROTECTED,
            generator=GeneratorChoice(card="generator-7k-split", pv_locked_out="yes", bypass="yes"),
        ),
    )  # fmt: skip
    return _job(
        "split", "north-america",
        {"latitude_deg": 40.0, "longitude_deg": -105.0, "time_zone": "America/Denver"},
        {
            "supply": Supply(kind="split_phase", voltage_v=240, service_a=100),
            "board": Board(main_breaker_a=100, busbar_a=125, breakers_a=115, highest_supply_v=246, free_ways=6),
            "supply_run": run(20, "2 AWG", 100), "network": NetworkRule(sum_limit_w=25_000, transfer_approved="yes"),
        },
        _house(("1", "all", "1", "all"), 240, (0.75, 0.25, 0.0), code_letter="G", horsepower=1), plans,
    )  # fmt: skip


def three_lines() -> Job:
    """Three lines: single-phase units on one of them, a three-phase hybrid, two like three-phase units on a bank, loads uneven."""
    old = tuple(
        Node(
            id=f"old{n}", name=f"Old inverter {n}", card="string-inverter-3k", line="1", strings=strings(f"o{n}-", "west", (7,)),
            place="garage", run=run(18, "4 mm²", 20), string_run=run(15, "4 mm²", 16),
        )
        for n in (1, 2)
    )  # fmt: skip
    hybrid = Node(
        id="hyb", name="Hybrid", card="hybrid-10k-three", side="backup", place="garage", run=run(10, "4 mm²", 20),
        strings=strings("h", "sunny", (12, 12)), string_run=run(20, "6 mm²", 16), battery_run=run(3, "10 mm²", 40),
        battery=BatteryChoice(card="stack-3k", modules=5, place="garage"),
    )  # fmt: skip
    pair = Node(
        id="pair", name="Battery inverters", card="battery-inverter-6k-three", count=2, side="backup", place="garage",
        run=run(8, "4 mm²", 20), battery_run=run(3, "16 mm²", 63),
        battery=BatteryChoice(card="tower-10k", modules=3, place="garage"),
    )  # fmt: skip
    plans = (
        Plan(id="today", letter="Today", name="As it stands", nodes=old),
        Plan(
            id="three", letter="A", name="Hybrid and pair", nodes=(*old, hybrid, pair), transfer=listed("gateway-63-three"),
            controls=night(4000, 0.7), costs=_costs(14_000, 7400), protection=PROTECTED,
        ),
    )  # fmt: skip
    return _job(
        "three", "germany",
        {"latitude_deg": 51.0, "longitude_deg": 10.0, "time_zone": "Europe/Berlin"},
        {
            "supply": Supply(kind="three_phase", voltage_v=230, service_a=35),
            "board": Board(main_breaker_a=35, busbar_a=63, highest_supply_v=240, free_ways=12, earthing="tn_c_s"),
            "supply_run": run(25, "10 mm²", 35), "network": NetworkRule(sum_limit_w=30_000, transfer_approved="yes"),
        },
        _house(("1", "2", "1", "3"), 230, (0.6, 0.3, 0.1)), plans,
    )  # fmt: skip


def no_grid() -> Job:
    """No grid: flooded lead cells, two charge controllers, a generator; the plan adds an AC-coupled inverter."""
    bank = Node(
        id="bank", name="Lead bank", card="charger-3k-48v", side="backup", place="garage", run=run(4, "4 mm²", 16),
        controller="controller-85a", controllers=2, battery_run=run(2, "50 mm²", 160), string_run=run(25, "6 mm²", 25),
        strings=strings("c", "sunny", (4, 4), parallel_strings=2),
        battery=BatteryChoice(card="flooded-cell-850", modules=24, soc_min_frac=0.5, state_of_health_frac=0.9, place="garage"),
    )  # fmt: skip
    coupled = Node(
        id="ac", name="PV inverter", card="string-1k5", side="backup", place="garage", run=run(6, "2.5 mm²", 16),
        strings=strings("a", "west", (5,)), string_run=run(20, "4 mm²", 16),
    )  # fmt: skip
    engine = GeneratorChoice(card="generator-6k", pv_locked_out="yes", bypass="yes", start_soc_frac=0.2, stop_soc_frac=0.7)
    plans = (
        Plan(id="today", letter="Today", name="Lead and controllers", off_grid=True, nodes=(bank,), generator=engine),
        Plan(
            id="coupled", letter="A", name="With AC-coupled PV", off_grid=True, nodes=(bank, coupled), generator=engine,
            costs=_costs(0, 700), protection=PROTECTED,
        ),
    )  # fmt: skip
    return _job(
        "remote", "no-grid",
        {"latitude_deg": -34.0, "longitude_deg": 142.0, "time_zone": "Australia/Sydney"},
        {"supply": Supply(kind="single_phase", voltage_v=230, service_a=25)},
        _house(("all",) * 4, 230), plans,
        brief=Brief(purposes=("off_grid", "ride_through"), outage_longest_h=12),
        tariff=Tariff(
            name="No grid", import_price_per_kwh=0, cheap_price_per_kwh=0, cheap_start_h=0, cheap_end_h=0, export_price_per_kwh=0
        ),
    )  # fmt: skip


def module_level() -> Job:
    """Module-level inverters in branches on three lines beside a DC hybrid on one of them."""
    row = StringGroup(id="row", face="west", module="module-430", tracker=1, modules_per_string=1, other_loss_frac=0.05)
    each = Node(
        id="each", name="Module inverters", card="module-inverter-380", count=12, line="all", branches=3, branch_breaker_a=16,
        strings=(row,), place="outdoors", run=run(22, "4 mm²", 20),
    )  # fmt: skip
    hybrid = Node(
        id="hyb", name="Hybrid", card="hybrid-6k", side="backup", line="2", place="garage", run=run(9, "6 mm²", 32),
        strings=strings("h", "sunny", (8, 8)), string_run=run(16, "6 mm²", 16), battery_run=run(2, "10 mm²", 40),
        battery=BatteryChoice(card="stack-5k", modules=3, place="garage"),
    )  # fmt: skip
    plans = (
        Plan(id="today", letter="Today", name="As it stands", nodes=(each,)),
        Plan(
            id="dc", letter="A", name="Hybrid beside them", nodes=(each, hybrid), transfer=listed("gateway-40-three"),
            controls=night(2500, 0.9), costs=_costs(5400, 3400), protection=PROTECTED,
        ),
    )  # fmt: skip
    return _job(
        "rows", "international",
        {"latitude_deg": 47.0, "longitude_deg": 8.0, "time_zone": "Europe/Zurich"},
        {
            "supply": Supply(kind="three_phase", voltage_v=230, service_a=40),
            "board": Board(main_breaker_a=40, busbar_a=63, highest_supply_v=238, free_ways=9, earthing="tn_s"),
            "supply_run": run(30, "10 mm²", 40), "network": NetworkRule(sum_limit_w=20_000, transfer_approved="yes"),
            "export_limit_w": 7000,
        },
        _house(("2", "1", "2", "3"), 230, (0.2, 0.5, 0.3)), plans,
    )  # fmt: skip


PLANTS: dict[str, Callable[[], Job]] = {
    "single": one_line, "split": split_phase, "three": three_lines, "remote": no_grid, "rows": module_level,
}  # fmt: skip
