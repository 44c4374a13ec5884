"""Taking a meter file into a job: read, turn net into gross by today's own PV where it is not metered, and say what was done."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.job.common_models import SeriesRef
from calm_relay.job.house_models import SeriesLoad
from calm_relay.job.models import Job
from calm_relay.job.series import SeriesStore
from calm_relay.load.gross import GrossLoad, gross_load
from calm_relay.load.meter import MeterYear
from calm_relay.pv.shade import light_for_power
from calm_relay.study import Study

Array = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Taken:
    """A meter's year with the gross load made of it."""

    meter: MeterYear
    gross: GrossLoad

    @property
    def words(self) -> str:
        """Where the load comes from, for the job."""
        filled = f"; {int(self.meter.filled.sum())} intervals filled" if self.meter.filled.any() else ""
        return f"{self.meter.format} file {self.meter.file}, {self.meter.year}: {self.gross.how}{filled}"


def take_meter(study: Study, job: Job, meter: MeterYear) -> Taken:
    """Return a meter's gross load; where export is metered and solar is not, today's PV is simulated for it."""
    simulated = most = None
    today = job.plans[0]
    if "solar" not in meter.power_w and "export" in meter.power_w and any(node.strings for node in today.nodes):
        simulated = study.flow(job, today).flow.column("pv_ac_w")
        most = simulated * _clear_gain(study, job)
    return Taken(meter, gross_load(meter, simulated, most))


def _clear_gain(study: Study, job: Job) -> Array:
    """Return how much more light a clear sky would have given than the year used, step by step, on the first face with strings."""
    faces = [g.face for node in job.plans[0].nodes for g in node.strings]
    light = study.light(job, faces[0])
    sun, weather = study.sun(job), study.weather(job)
    used = light_for_power(light.beam_w_per_m2, light.diffuse_w_per_m2, None, each_module=True)
    clear = np.where(weather.ghi_w_per_m2 > 1.0, sun.clear_ghi_w_per_m2 / np.maximum(weather.ghi_w_per_m2, 1.0), 1.0)
    gain: Array = np.where(used > 1.0, np.clip(clear, 1.0, 20.0), 1.0)
    return gain


def with_meter(store: SeriesStore, job: Job, taken: Taken) -> Job:
    """Return the job with a meter's gross load as its house, and the meter's year as its calendar; series go into the store."""
    meter, gross = taken.meter, taken.gross

    def ref(values: Array, column: str) -> SeriesRef:
        return SeriesRef(sha256=store.put(values, "W"), rows=len(values), step_s=meter.interval_s, column=column)

    band = not np.array_equal(gross.low_w, gross.high_w)
    background = SeriesLoad(
        series=ref(gross.power_w, "house_w"),
        low=ref(gross.low_w, "house_low_w") if band else None,
        high=ref(gross.high_w, "house_high_w") if band else None,
        source=taken.words[:2000],
    )
    marks = tuple(mark for mark in job.marks if not mark.path.startswith(("house.background", "calendar_year")))
    house = job.house.model_copy(update={"background": background})
    return job.model_copy(update={"house": house, "calendar_year": meter.year, "marks": marks})
