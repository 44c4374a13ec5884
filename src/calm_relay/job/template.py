"""An empty job to begin with: everything in it is assumed, and marked so until it is typed."""

from __future__ import annotations

import math

from calm_relay.job.brief_models import Brief
from calm_relay.job.fields import UNMARKED, all_fields
from calm_relay.job.house_models import House, ProfileLoad
from calm_relay.job.models import FieldMark, Job, Plan, Site
from calm_relay.job.site_models import Supply
from calm_relay.job.sky_models import Face, MonthlyWeather, Place
from calm_relay.job.tariff_models import Tariff

CLEARNESS = 0.47  # of extraterrestrial radiation: a mixed sky, common practice; a guess until means are typed
COOLER_K_PER_M = 0.0065  # of the standard atmosphere
LOW_SUN_WH = 1500.0  # below about this much a day the sun is so low that clear skies give far less
_MID_MONTH_DAY = (17, 47, 75, 105, 135, 162, 198, 228, 258, 288, 318, 344)
FIRST_BRIEF = Brief(purposes=("lower_bills", "own_use"))  # of a job in which nobody has said anything yet


def extraterrestrial_wh_per_m2_day(latitude_deg: float, day: int) -> float:
    """Return daily extraterrestrial irradiation on the flat. [Wh/m²]

    References
    ----------
    .. [1] Duffie and Beckman, Solar Engineering of Thermal Processes, equation 1.10.3 (from memory).
    """
    lat = math.radians(latitude_deg)
    declination = math.radians(23.45) * math.sin(2 * math.pi * (284 + day) / 365)
    sunset = math.acos(max(-1.0, min(1.0, -math.tan(lat) * math.tan(declination))))
    near = 1367.0 * (1 + 0.033 * math.cos(2 * math.pi * day / 365))
    up = math.cos(lat) * math.cos(declination) * math.sin(sunset) + sunset * math.sin(lat) * math.sin(declination)
    return max(0.0, 24.0 / math.pi * near * up)


def assumed_temperatures_c(latitude_deg: float, altitude_m: float = 0.0) -> tuple[float, ...]:
    """Return twelve monthly means from latitude and altitude alone: a plain seasonal swing, ours. [°C]"""
    mean, swing = 27.0 - 0.35 * abs(latitude_deg) - COOLER_K_PER_M * max(0.0, altitude_m), 0.18 * abs(latitude_deg)
    warmest = 6.5 if latitude_deg >= 0 else 0.5  # July or January
    return tuple(round(mean + swing * math.cos(2 * math.pi * (m - warmest) / 12), 1) for m in range(12))


def assumed_weather(latitude_deg: float) -> MonthlyWeather:
    """Return a guess of a place's weather from its latitude alone: a mixed sky, and a plain seasonal swing of temperature."""
    outside = [extraterrestrial_wh_per_m2_day(latitude_deg, day) for day in _MID_MONTH_DAY]
    ghi = tuple(round(CLEARNESS * (1.0 - math.exp(-wh / LOW_SUN_WH)) * wh, -1) for wh in outside)
    return MonthlyWeather(ghi_wh_per_m2_day=ghi, temperature_mean_c=assumed_temperatures_c(latitude_deg))


def new_job(name: str = "New job", latitude_deg: float = 45.0) -> Job:
    """Return an empty job; today's system has no inverter yet."""
    job = Job(
        id="new-job",
        name=name,
        brief=FIRST_BRIEF,
        site=Site(
            place=Place(name="Place not typed yet", latitude_deg=latitude_deg, longitude_deg=0.0, altitude_m=50.0, time_zone="UTC"),
            supply=Supply(service_a=63.0),
        ),
        faces=(Face(id="face-1", name="Face 1", tilt_deg=30.0, azimuth_deg=180.0 if latitude_deg >= 0 else 0.0, room_modules=16),),
        house=House(background=ProfileLoad(energy_wh_per_day=(9000.0,) * 12)),
        tariff=Tariff(
            name="Prices",
            import_price_per_kwh=0.30,
            cheap_price_per_kwh=0.30,
            cheap_start_h=0.0,
            cheap_end_h=0.0,
            export_price_per_kwh=0.10,
        ),
        library=(),
        plans=(Plan(id="today", letter="Today", name="As it stands"),),
    )
    known = (*UNMARKED, "brief.", "plans")
    marks = tuple(FieldMark(path=path, source="assumed") for path in all_fields(job) if not path.startswith(known))
    return job.model_copy(update={"marks": marks})
