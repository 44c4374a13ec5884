"""Weather to DC and AC against open data and pvlib's own chain with the same models."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pvlib
import pytest

from calm_relay.calendar import year_calendar
from calm_relay.demo import demo_job
from calm_relay.job.models import Job, Node, Plan, StringGroup
from calm_relay.job.series import SeriesStore
from calm_relay.job.sky_models import Face, Place
from calm_relay.library.cards import ModuleCard, PvInverterCard
from calm_relay.library.shipped import shipped_card
from calm_relay.plant.unit import unit_of
from calm_relay.pv.array import TRACKING_FRAC
from calm_relay.study import Study
from calm_relay.weather.files import WeatherRead, read_weather
from calm_relay.weather.into_job import with_weather
from calm_relay.weather.refine import FileYear
from calm_relay.weather.solar import mid_step_times

TMY3 = Path(pvlib.__file__).parent / "data" / "723170TYA.CSV"


def test_tmy3_file_that_pvlib_carries():
    # NREL TMY3, station 723170, North Carolina (open data): 1,566 kWh/m² of GHI a year, lowest −16.7 °C.
    read = read_weather(TMY3)
    assert sum(read.monthly_kwh_per_m2()) == pytest.approx(1566.0, rel=1e-3)
    assert read.year.air_c.min() == pytest.approx(-16.7)
    assert (read.latitude_deg, read.longitude_deg, read.altitude_m, read.year.utc_offset_h) == (36.1, -79.95, 273.0, -5.0)


def plain_job(read: WeatherRead, place: Place, tilt: float, azimuth: float, store: SeriesStore) -> Job:
    """Sixteen modules on one face and a string inverter, nothing lost but tracking."""
    base = demo_job()
    group = StringGroup(
        id="s", face="f", module="module-430", tracker=1, modules_per_string=8, parallel_strings=2, other_loss_frac=0.0
    )
    card = shipped_card("string-inverter-5k")
    assert isinstance(card, PvInverterCard)
    tracker = card.trackers[0].model_copy(update={"working_current_a": 100.0})
    card = card.model_copy(update={"trackers": (tracker, tracker)})
    job = base.model_copy(
        update={
            "calendar_year": 2025,
            "site": base.site.model_copy(update={"place": place}),
            "faces": (Face(id="f", name="f", tilt_deg=tilt, azimuth_deg=azimuth, mounting="rack"),),
            "library": (shipped_card("module-430"), card),
            "plans": (
                Plan(id="today", letter="Today", name="x", nodes=(Node(id="inv", name="inv", card=card.id, strings=(group,)),)),
            ),
        }
    )
    return with_weather(job, read, store, year_calendar(2025, place.time_zone, 3600).utc_offset_h)


def chain_energies(job: Job, read: WeatherRead, tilt: float, azimuth: float) -> tuple[float, float]:
    """Return DC and AC energy by pvlib's ModelChain with the same models: Hay-Davies, physical IAM, the same cell rise. [Wh]"""
    from pvlib.location import Location
    from pvlib.modelchain import ModelChain
    from pvlib.pvsystem import Array, FixedMount, PVSystem

    place, module, card = job.site.place, job.card("module-430"), job.card("string-inverter-5k")
    assert isinstance(module, ModuleCard)
    assert isinstance(card, PvInverterCard)
    calendar = year_calendar(2025, place.time_zone, 3600)
    index = mid_step_times(calendar)
    year = read.year
    columns = {"ghi": year.ghi_w_per_m2, "dni": year.dni_w_per_m2, "dhi": year.dhi_w_per_m2, "temp_air": year.air_c}
    weather = pd.DataFrame({**columns, "wind_speed": 1.0}, index=index)
    array = Array(
        FixedMount(tilt, azimuth), albedo=0.2,
        module_parameters={"pdc0": 16 * module.power_stc_w, "gamma_pdc": module.gamma_pmp_per_c},
        temperature_model_parameters={"u_c": 29.0, "u_v": 0.0},
    )  # fmt: skip
    system = PVSystem(arrays=[array], inverter_parameters={"pdc0": 1e9})

    def temperature(mc: ModelChain) -> None:
        light = mc.results.effective_irradiance  # the product warms cells by the light that enters them
        mc.results.cell_temperature = mc.results.weather["temp_air"] + 0.9 * (1 - module.efficiency_frac) / 29.0 * light

    chain = ModelChain(
        system, Location(place.latitude_deg, place.longitude_deg, altitude=place.altitude_m), transposition_model="haydavies",
        aoi_model="physical", spectral_model="no_loss", dc_model="pvwatts", ac_model="pvwatts", losses_model="no_loss",
        temperature_model=temperature,
    )  # fmt: skip
    chain.run_model(weather)
    dc = np.nan_to_num(chain.results.dc.to_numpy(dtype=float)) * TRACKING_FRAC
    grid = np.linspace(0.0, 5000.0, 4001)
    source = np.array([unit_of(card).dc_w(p) for p in grid])
    ac = np.where(dc > card.loss.p_self_w, np.interp(dc, source, grid), 0.0)
    return float(dc.sum()), float(ac.sum())


PLACES = [
    pytest.param(
        Place(name="n", latitude_deg=36.1, longitude_deg=-79.95, altitude_m=273, time_zone="Etc/GMT+5"),
        30.0,
        180.0,
        id="the file's own place",
    ),
    pytest.param(
        Place(name="s", latitude_deg=-36.1, longitude_deg=-79.95, altitude_m=273, time_zone="Etc/GMT+5"), 25.0, 20.0, id="south"
    ),
    pytest.param(
        Place(name="h", latitude_deg=13.0, longitude_deg=80.0, altitude_m=10, time_zone="Asia/Kolkata"),
        12.0,
        150.0,
        id="half-hour zone",
    ),
]


@pytest.mark.parametrize(("place", "tilt", "azimuth"), PLACES)
def test_pipeline_equals_pvlibs_chain_at_one_hour(place, tilt, azimuth):
    # pvlib ModelChain with the same models: within 0.5 % over the year (reference values of the trade).
    read = read_weather(TMY3)
    calendar = year_calendar(2025, place.time_zone, 3600)
    if place.latitude_deg < 0:  # the file's summer put where summer is: half a year on
        year = read.year
        half = [
            None if c is None else np.roll(c, 182 * 24)
            for c in (year.ghi_w_per_m2, year.dni_w_per_m2, year.dhi_w_per_m2, year.air_c)
        ]
        read = WeatherRead(read.name, "CSV", "", "", None, None, None, FileYear(-5.0, *half))
    else:
        y = read.year
        read = WeatherRead(
            read.name,
            "CSV",
            "",
            "",
            None,
            None,
            None,
            FileYear(calendar.utc_offset_h, y.ghi_w_per_m2, y.dni_w_per_m2, y.dhi_w_per_m2, y.air_c),
        )
    store = SeriesStore()
    job = plain_job(read, place, tilt, azimuth, store)
    study = Study(store, step_s=3600)
    plan = job.plans[0]
    dc = float(study.dc(job, plan)["inv"].available_w.sum())
    made = study.flow(job, plan)
    wanted_dc, wanted_ac = chain_energies(job, read, tilt, azimuth)
    assert dc == pytest.approx(wanted_dc, rel=0.005)
    assert float((made.pv_only["inv"].ac_w).sum()) == pytest.approx(wanted_ac, rel=0.005)
