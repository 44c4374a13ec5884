"""Where a job is and the sky over it: place, weather as typed, read or guessed, and the faces of the roof."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from calm_relay.job.common_models import Note, SeriesRef, Share
from calm_relay.library.cards import Id, Name, Record
from calm_relay.units import Fraction, LengthM, Quantity, TemperatureC

TwelveGhi = Annotated[
    tuple[Annotated[float, Quantity("irradiation_wh_per_m2"), Field(ge=0)], ...], Field(min_length=12, max_length=12)
]
TwelveC = Annotated[tuple[TemperatureC, ...], Field(min_length=12, max_length=12)]


class Place(Record):
    """Where the job is. `utc_offset_h` is local standard time; daylight saving comes from `time_zone`."""

    name: Name
    latitude_deg: Annotated[float, Quantity("angle_deg"), Field(ge=-80, le=80)]
    longitude_deg: Annotated[float, Quantity("angle_deg"), Field(ge=-180, le=180)]
    altitude_m: Annotated[float, Quantity("altitude_m"), Field(ge=-400, le=5000)]
    time_zone: Annotated[str, Field(min_length=1, max_length=60)]


class MonthlyWeather(Record):
    """Typed monthly means from which a synthetic year is made with a fixed seed."""

    kind: Literal["monthly_means"] = "monthly_means"
    ghi_wh_per_m2_day: TwelveGhi
    temperature_mean_c: TwelveC
    temperature_daily_range_k: Annotated[float, Quantity("kelvin_k"), Field(ge=0, le=40)] = 8.0
    wind_m_per_s: Annotated[float, Quantity("speed_m_per_s"), Field(ge=0, le=30)] = 3.0
    seed: Annotated[int, Quantity("count"), Field(ge=0, le=2**31)] = 1


class WeatherFile(Record):
    """Weather read from a file: one year of 365 days in the file's own fixed UTC offset, rows labelled by their begin."""

    kind: Literal["file"] = "file"
    name: Annotated[str, Field(min_length=1, max_length=120)]
    format: Literal["EPW", "TMY3", "PVGIS", "CSV"]
    labels: Note = Field(default="", description="what the file's time labels mean, and what was shifted")
    years: Annotated[str, Field(max_length=40)] = ""
    utc_offset_h: Annotated[float, Field(ge=-12, le=14)]
    latitude_deg: Annotated[float, Quantity("angle_deg"), Field(ge=-90, le=90)] | None = None
    longitude_deg: Annotated[float, Quantity("angle_deg"), Field(ge=-180, le=180)] | None = None
    altitude_m: Annotated[float, Quantity("altitude_m"), Field(ge=-500, le=9000)] | None = None
    ghi: SeriesRef
    dni: SeriesRef | None = None
    dhi: SeriesRef | None = None
    air: SeriesRef
    seed: Annotated[int, Quantity("count"), Field(ge=0, le=2**31)] = 1


class ClearSkyWeather(Record):
    """Nothing known yet: clear sky times a plain choice of cloudiness. A guess, and said so on whatever rests on it."""

    kind: Literal["clear_sky"] = "clear_sky"
    cloudiness: Literal["very_clear", "mixed", "mostly_cloudy"] = "mixed"
    seed: Annotated[int, Quantity("count"), Field(ge=0, le=2**31)] = 1


Weather = Annotated[MonthlyWeather | WeatherFile | ClearSkyWeather, Field(discriminator="kind")]


class HorizonPoint(Record):
    """One point of what stands around a face: seen at this azimuth, it hides the sky up to this elevation."""

    azimuth_deg: Annotated[float, Quantity("angle_deg"), Field(ge=0, lt=360)]
    elevation_deg: Annotated[float, Quantity("angle_deg"), Field(ge=0, le=85)]


ShadeTable = Annotated[
    tuple[Annotated[tuple[Fraction, ...], Field(min_length=24, max_length=24)], ...], Field(min_length=12, max_length=12)
]


class Face(Record):
    """A roof face. Azimuth is degrees clockwise from north, tilt 0 is flat.

    Shade comes three ways, which add up: `horizon` hides sun and sky for the whole face, points joined by straight lines all
    round; `shade_table` is the part of the face that lies in shadow, by month and hour of local standard time;
    `shade_loss_frac` is a plain loss of irradiance.
    """

    id: Id
    name: Name
    tilt_deg: Annotated[float, Quantity("angle_deg"), Field(ge=0, le=90)]
    azimuth_deg: Annotated[float, Quantity("angle_deg"), Field(ge=0, lt=360)]
    mounting: Literal["rack", "ventilated", "close_roof", "insulated"] = "ventilated"
    shade_loss_frac: Share = 0.0
    horizon: Annotated[tuple[HorizonPoint, ...], Field(max_length=73)] = ()
    shade_table: ShadeTable | None = None
    rear_ratio_frac: Annotated[float, Quantity("fraction"), Field(ge=0, le=0.5)] | None = Field(
        default=None, description="light on the rear over the front, for bifacial modules; None: by mounting, common practice"
    )
    room_modules: Annotated[int, Quantity("count"), Field(ge=0, le=2000)] | None = Field(
        default=None, description="how many modules fit; None: worked out from the face's size, where it is typed"
    )
    eave_m: LengthM | None = None
    slope_m: LengthM | None = None
    setback_m: Annotated[float, Quantity("length_m"), Field(ge=0, le=5)] = 0.0
