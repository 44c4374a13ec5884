"""Place and weather: a town or coordinates, temperatures, and where the year's sun comes from."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QLabel

from calm_relay.calendar import MONTH_DAYS
from calm_relay.decision.words import weather_words
from calm_relay.job.models import FieldMark, Job
from calm_relay.job.sky_models import ClearSkyWeather, MonthlyWeather, WeatherFile
from calm_relay.job.template import assumed_weather
from calm_relay.places import Town
from calm_relay.ui.fields.town import TownDialog
from calm_relay.ui.views.month_bars import MonthBars
from calm_relay.ui.widgets import label
from calm_relay.units import format_quantity as show
from calm_relay.weather.into_job import distance_words

if TYPE_CHECKING:
    from calm_relay.ui.pages.base import FieldPage
    from calm_relay.weather.plausible import SkyFacts

PLACE = ("name", "latitude_deg", "longitude_deg", "altitude_m", "time_zone")


class PlacePart:
    """Fields of the place, and the weather in use with its months beside the clear sky's."""

    def __init__(self, page: FieldPage) -> None:
        self._page = page

    def shape(self) -> object:
        weather = self._page.session.job.site.weather
        return weather.kind, weather.name if isinstance(weather, WeatherFile) else ""

    def build(self) -> None:
        page, job = self._page, self._page.session.job
        if all(job.mark_of(f"site.place.{name}") == "assumed" for name in PLACE[1:4]):
            page.words(
                "Bring: the address or coordinates, the record low and the design high of the place, tilt and azimuth of each roof "
                "face, and the data sheets of what stands. Example: 41.1 south is typed as −41.1; azimuth 45 is north-east.",
                "teach",
            )
        page.heading("Place", ("Find a town…", self.find_town))
        page.flow(*(page.cell(f"site.place.{name}", chars=18 if name == "time_zone" else None) for name in PLACE))
        page.heading("Temperatures the strings must stand")
        page.flow(
            page.cell("site.record_low_c"), page.cell("site.low_method"), page.cell("site.design_high_c"),
            page.cell("site.hot_cell_c", ghost="by mounting", chars=11), page.cell("site.cold_voltage_by"),
            page.cell("site.dc_ceiling_v", ghost="none", chars=9), page.cell("calendar_year", chars=7),
        )  # fmt: skip
        page.words("Until typed, a weather file's extremes stand in with 5 K of margin: a typical year's minimum is no record low.")
        self._weather()
        self._bars = MonthBars("Sun on the flat by month", page.theme, page.scale)
        self._sun_words = label("", "quiet", wrap=True)
        page.flow(self._bars).setContentsMargins(0, 4, 0, 0)
        page.add(self._sun_words)

    def _weather(self) -> None:
        page = self._page
        weather, place = page.session.job.site.weather, page.session.job.site.place
        if isinstance(weather, MonthlyWeather):
            page.heading(
                "Weather, typed as monthly means", ("Read a weather file…", self._ask_weather), ("Nothing is known", self.guess_sky)
            )
            page.month_row("site.weather.ghi_wh_per_m2_day")
            page.month_row("site.weather.temperature_mean_c")
            names = ("temperature_daily_range_k", "wind_m_per_s", "seed")
            page.flow(*(page.cell(f"site.weather.{name}", chars=8) for name in names))
        elif isinstance(weather, ClearSkyWeather):
            page.heading(
                "Weather, not known yet: a guess",
                ("Read a weather file…", self._ask_weather),
                ("Type monthly means", self.typed_means),
            )
            page.words(
                "The clear sky of this place, dimmed by one plain choice. Every result says that it rests on a guess.", "caution"
            )
            page.flow(page.cell("site.weather.cloudiness"), page.cell("site.weather.seed", chars=8))
        else:
            page.heading(
                "Weather, from a file", ("Read another file…", self._ask_weather), ("Go back to typed means", self.typed_means)
            )
            far = distance_words(weather, place.latitude_deg, place.longitude_deg, place.altitude_m)
            years = f", {weather.years}" if weather.years else ""
            page.words(f"{weather.name}: {weather.format}{years}; {far}.", "strong")
            page.words(f"Its {weather.labels}.")
            page.flow(page.cell("site.weather.seed", caption="Seed of broken cloud", chars=8))

    def show_figures(self) -> None:
        page = self._page
        job = page.session.job
        found = page.session.extra("sky", lambda study, _: study.sky_facts(job))
        sky = found or page.session.last_extra("sky")
        for part in (self._bars, self._sun_words):
            part.setEnabled(found is not None)
        if sky is not None and hasattr(sky, "ghi_monthly_kwh_per_m2"):
            self._show_sky(sky)  # type: ignore[arg-type]

    def _show_sky(self, sky: SkyFacts) -> None:
        top = max((*sky.clear_monthly_kwh_per_m2, *sky.ghi_monthly_kwh_per_m2))
        self._bars.show_months(sky.ghi_monthly_kwh_per_m2, top, "kWh/m²", sky.clear_monthly_kwh_per_m2)
        night = f" {sky.at_night_frac * 100:.1f} % of it falls while the sun is down." if sky.at_night_frac > 0.001 else ""
        if sky.unplaced_kwh_per_m2 >= 1:
            night += f" {sky.unplaced_kwh_per_m2:.0f} kWh/m² of the file fit no step under this sky and are left out."
        low, high = (show(value, "temperature_c", 0) for value in (sky.air_min_c, sky.air_max_c))
        self._sun_words.setText(
            f"Sun on the flat {sum(sky.ghi_monthly_kwh_per_m2):.0f} kWh/m² a year, {sky.words} (outlines), "
            f"{sky.diffuse_frac * 100:.0f} % of it diffuse.{night} Air {low} to {high} in the year "
            f"used. Weather is {weather_words(self._page.session.job)}."
        )

    @property
    def sun_words(self) -> QLabel:
        """The line that says what the year's sun is."""
        return self._sun_words

    # --- changing
    def find_town(self) -> None:
        """Ask for a town and take its coordinates and time zone."""
        dialog = TownDialog(self._page)
        dialog.chosen.connect(self.take_town)
        self._page.session.dialogs.show(dialog)

    def take_town(self, town: Town) -> None:
        """Put a town in place; its altitude is not in the list and stays as it was, marked assumed."""
        job = self._page.session.job
        values = {
            "name": town.name, "latitude_deg": town.latitude_deg, "longitude_deg": town.longitude_deg, "time_zone": town.time_zone,
        }  # fmt: skip
        known = {f"site.place.{name}" for name in (*values, "altitude_m")}
        marks = [mark for mark in job.marks if mark.path not in known]
        marks.append(FieldMark(path="site.place.altitude_m", source="assumed"))
        place = job.site.place.model_copy(update=values)
        update = {"site": job.site.model_copy(update={"place": place}), "marks": tuple(marks)}
        self._page.change(f"Place: {town.words}", job.model_copy(update=update))

    def _ask_weather(self) -> None:
        session = self._page.session
        path = session.dialogs.ask_weather()
        if path is not None:
            session.read_weather(path)

    def _with_weather(self, words: str, weather: MonthlyWeather | ClearSkyWeather, assumed: tuple[str, ...]) -> None:
        job: Job = self._page.session.job
        marks = [m for m in job.marks if not m.path.startswith("site.weather")]
        marks += [FieldMark(path=f"site.weather.{name}", source="assumed") for name in assumed]
        site = job.site.model_copy(update={"weather": weather})
        self._page.change(words, job.model_copy(update={"site": site, "marks": tuple(marks)}))

    def typed_means(self) -> None:
        """Type means in place of what there is, beginning with its own months."""
        session = self._page.session
        job = session.job
        means = session.monthly_means()
        if means is not None:
            self._with_weather("Go back to typed means", means, ())
            return
        sky = session.last_extra("sky")
        guess = assumed_weather(job.site.place.latitude_deg)
        months = getattr(sky, "ghi_monthly_kwh_per_m2", None)
        if months is not None:
            ghi = tuple(round(1000 * kwh / days, -1) for kwh, days in zip(months, MONTH_DAYS, strict=True))
            air = tuple(round(v, 1) for v in getattr(sky, "air_mean_monthly_c", guess.temperature_mean_c))
            guess = guess.model_copy(update={"ghi_wh_per_m2_day": ghi, "temperature_mean_c": air})
        self._with_weather("Type monthly means", guess, ("ghi_wh_per_m2_day", "temperature_mean_c"))

    def guess_sky(self) -> None:
        self._with_weather("Weather: nothing is known", ClearSkyWeather(), ("cloudiness",))
