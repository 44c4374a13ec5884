"""Sun, weather, light and house of a job: the stages that its plans share, kept by content."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from typing import Any
from weakref import WeakValueDictionary

import numpy as np
from numpy.typing import NDArray

from calm_relay.cache import KeysOfLate, StageCache, array_bytes, content_key, on_disk
from calm_relay.calendar import YearCalendar, year_calendar
from calm_relay.equipment.shelf import KnownCards
from calm_relay.job.common_models import SeriesRef
from calm_relay.job.house_models import Appliance, SeriesLoad
from calm_relay.job.models import Job
from calm_relay.job.series import SeriesStore
from calm_relay.job.sky_models import ClearSkyWeather, MonthlyWeather, WeatherFile
from calm_relay.load.appliance_year import appliance_w
from calm_relay.load.house import HouseYear, Outside, as_drawn, follows_weather, house_year
from calm_relay.plant.same import plain
from calm_relay.pv.shade import light_for_power, shaded_by_step, sky_view_frac, sun_hidden
from calm_relay.weather.guess import guessed_means
from calm_relay.weather.plausible import SkyFacts, sky_facts
from calm_relay.weather.refine import FileYear, refine_year
from calm_relay.weather.solar import PlaneOfArray, Sun, plane_of_array, sun_year
from calm_relay.weather.synthetic import WeatherYear, synthetic_year
from calm_relay.year.house_pictures import Peaks, house_peaks

Array = NDArray[np.float64]
YEARS = frozenset({"flow", "line flows"})  # stages whose results are years step by step


class SharedStages:
    """What every plan of a job stands on; keeps each stage's result by the content of what it read.

    Safe to ask from several threads. `runs` counts how often each stage was really computed.
    """

    def __init__(self, store: SeriesStore | None = None, *, step_s: int = 300, cache: StageCache | None = None) -> None:
        self.known = KnownCards()
        self.store = store or SeriesStore()
        self.step_s = step_s
        self.cache = cache or StageCache()
        self.runs: Counter[str] = Counter()
        self._keys = KeysOfLate()
        # Loads of the houses that are kept: an edit of one load makes that one, and houses hold the others together.
        self._appliances: WeakValueDictionary[str, Array] = WeakValueDictionary()

    def _stage(self, name: str, key: str, make: Callable[[], Any], size: Callable[[Any], int]) -> Any:
        def counted() -> Any:
            made = make()
            self.runs[name] += 1
            return made

        # A year runs in the memory of the one before; a year's lines are made of it, so that one stays.
        return self.cache.get(key, counted, size, in_last=name in YEARS, stays=0 if name == "flow" else 1)

    def keep(self, name: str, inputs: Any, make: Callable[[], Any], size: int = 4_000) -> Any:
        """Return a small answer kept by all that it reads; `inputs` is plain data, keys of stages among it."""
        return self._stage(name, content_key(name, inputs), make, lambda _: size)

    def calendar(self, job: Job) -> YearCalendar:
        """Return the job's calendar."""
        return year_calendar(job.calendar_year, job.site.place.time_zone, self.step_s)

    def _sun_key(self, job: Job) -> str:
        place = job.site.place
        return content_key("sun", self._dates(job), [place.latitude_deg, place.longitude_deg, place.altitude_m])

    def sun(self, job: Job) -> Sun:
        """Return sun and clear sky; kept on disk."""
        key = self._sun_key(job)
        place = job.site.place

        def make() -> Sun:
            def arrays() -> dict[str, Array]:
                made = sun_year(self.calendar(job), place.latitude_deg, place.longitude_deg, place.altitude_m)
                return dict(vars(made))

            return Sun(**on_disk(key, arrays))

        found: Sun = self._stage("sun", key, make, lambda s: array_bytes(vars(s)))
        return found

    def weather_key(self, job: Job) -> str:
        """Return what the weather year is kept by: all that it reads."""
        return self._keys.get("weather", job, None, lambda: content_key("weather", plain(job.site.weather), self._sun_key(job)))

    def weather(self, job: Job) -> WeatherYear:
        """Return the weather year; kept on disk."""
        key = self.weather_key(job)

        def make() -> WeatherYear:
            def arrays() -> dict[str, Array]:
                weather = job.site.weather
                if isinstance(weather, ClearSkyWeather):
                    place, calendar = job.site.place, self.calendar(job)
                    weather = guessed_means(weather, calendar, self.sun(job), place.latitude_deg, place.altitude_m)
                if isinstance(weather, MonthlyWeather):
                    return dict(vars(synthetic_year(weather, self.calendar(job), self.sun(job))))
                refined = refine_year(self.file_year(weather), self.calendar(job), self.sun(job), weather.seed)
                return dict(vars(refined.weather))

            return WeatherYear(**on_disk(key, arrays))

        found: WeatherYear = self._stage("weather", key, make, lambda w: array_bytes(vars(w)))
        return found

    def sky_facts(self, job: Job) -> SkyFacts:
        """Return the weather in figures, beside the clear sky of the place."""

        def make() -> SkyFacts:
            weather, file_sum = job.site.weather, None
            if isinstance(weather, WeatherFile):
                ghi = self.file_year(weather).ghi_w_per_m2
                file_sum = float(ghi.sum()) * 8760 / len(ghi) / 1000
            return sky_facts(self.weather(job), self.sun(job), self.calendar(job), file_sum)

        found: SkyFacts = self.keep("sky", self.weather_key(job), make)
        return found

    def file_year(self, weather: WeatherFile) -> FileYear:
        """Return a weather file's arrays from the store."""

        def values(ref: SeriesRef | None) -> Array | None:
            return None if ref is None else self.store.get(ref.sha256 or "")

        ghi, air = values(weather.ghi), values(weather.air)
        assert ghi is not None
        assert air is not None
        return FileYear(weather.utc_offset_h, ghi, values(weather.dni), values(weather.dhi), air)

    def light_key(self, job: Job, face_id: str) -> str:
        """Return what the light on a face is kept by."""
        face = job.face(face_id)
        return content_key(
            "light", face.tilt_deg, face.azimuth_deg, [plain(point) for point in face.horizon], self.weather_key(job)
        )

    def light(self, job: Job, face_id: str) -> PlaneOfArray:
        """Return plane-of-array irradiance of a face; kept on disk. (steps,) each [W/m²]"""
        key = self.light_key(job, face_id)

        def make() -> PlaneOfArray:
            def arrays() -> dict[str, Array]:
                face, w = job.face(face_id), self.weather(job)
                sun = self.sun(job)
                made = plane_of_array(
                    face.tilt_deg, face.azimuth_deg, sun, w.ghi_w_per_m2, w.dni_w_per_m2, w.dhi_w_per_m2,
                    hidden=sun_hidden(face.horizon, sun) if face.horizon else None,
                    sky_view_frac=sky_view_frac(face.horizon, face.tilt_deg, face.azimuth_deg),
                )  # fmt: skip
                return dict(vars(made))

            return PlaneOfArray(**on_disk(key, arrays))

        found: PlaneOfArray = self._stage("light", key, make, lambda p: array_bytes(vars(p)))
        return found

    def face_months(self, job: Job, face_id: str) -> tuple[float, ...]:
        """Return what reaches the cells of a face in each month, after shade and the loss at low angles of incidence. [Wh/m²]"""
        light = self.light(job, face_id)
        face, calendar = job.face(face_id), self.calendar(job)
        shaded = shaded_by_step(face.shade_table, calendar)
        reached = light_for_power(light.beam_w_per_m2, light.diffuse_w_per_m2, shaded, each_module=True)
        return calendar.by_month_wh(reached * (1.0 - face.shade_loss_frac))

    def house_key(self, job: Job) -> str:
        """Return what the house's year is kept by: all that it reads."""
        return self._keys.get("house", job, None, lambda: self._house_key(job))

    def _house_key(self, job: Job) -> str:
        weather = self.weather_key(job) if follows_weather(job.house) else ""
        return content_key("house", plain(as_drawn(job.house)), job.site.place.latitude_deg < 0, self._dates(job), weather)

    def _dates(self, job: Job) -> list[object]:
        """Return what the calendar is made of."""
        return [job.calendar_year, job.site.place.time_zone, self.step_s]

    def outside(self, job: Job) -> Outside:
        """Return what the house reads of its place."""
        air = self.calendar(job).day_means(self.weather(job).air_c) if follows_weather(job.house) else None
        return Outside(air, job.site.place.latitude_deg < 0)

    def house(self, job: Job) -> HouseYear:
        """Return the house's year."""
        background = job.house.background
        values = self.store.get(background.series.sha256 or "") if isinstance(background, SeriesLoad) else None

        dates = self._dates(job)

        def size(h: HouseYear) -> int:
            return h.background_w.nbytes * (1 + len(h.appliance_w))

        def one(appliance: Appliance, calendar: YearCalendar, seed: int, day_air_c: Array | None) -> Array:
            weather = "" if appliance.follows == "clock" else self.weather_key(job)
            key = content_key("appliance", plain(appliance), dates, seed, weather)
            kept = self._appliances.get(key)
            if kept is None:
                kept = appliance_w(appliance, calendar, seed, day_air_c)
                kept.setflags(write=False)  # several houses hold it
                self._appliances[key] = kept
            return kept

        found: HouseYear = self._stage(
            "house",
            self.house_key(job),
            lambda: house_year(as_drawn(job.house), self.calendar(job), values, self.outside(job), one),
            size,
        )
        return found

    def day_wh(self, job: Job) -> float:
        """Return what the house draws on a mean day. [Wh]"""
        return self.house(job).mean_day_wh()

    def sun_up(self, job: Job) -> NDArray[np.bool_]:
        """Return where the sun stands above the horizon, (steps,). [bool]"""
        up: NDArray[np.bool_] = self.sun(job).apparent_zenith_deg < 90.0
        return up

    def peaks(self, job: Job) -> Peaks:
        """Return the house's real peaks, made at one minute."""
        background = job.house.background
        values = self.store.get(background.series.sha256 or "") if isinstance(background, SeriesLoad) else None
        inputs, minutes = [self.house_key(job), "a minute"], year_calendar(job.calendar_year, job.site.place.time_zone, 60)
        found: Peaks = self.keep("house", inputs, lambda: house_peaks(job.house, minutes, values, self.outside(job)))
        return found
