"""Questions about a roof that take the study: yield of faces, other tilts and directions, when strings are at their limits."""

from __future__ import annotations

from collections import Counter

import numpy as np
from numpy.typing import NDArray

from calm_relay.cache import content_key, on_disk
from calm_relay.decision.directions import DirectionMap, FaceYield
from calm_relay.errors import Cancelled
from calm_relay.job.models import Job, Plan, StringGroup
from calm_relay.job.sky_models import Face
from calm_relay.library.book import book_of
from calm_relay.library.cards import ModuleCard
from calm_relay.library.shipped import shipped_book
from calm_relay.plant.resolve import string_row
from calm_relay.plant.rows import string_rows
from calm_relay.pv.array import GroupInput, group_dc_w
from calm_relay.pv.shade import SunPath, sun_paths
from calm_relay.pv.voltage import lit_face
from calm_relay.pv.when import StringYear, string_year
from calm_relay.study import Cancel, Study
from calm_relay.weather.solar import Sun, plane_of_array
from calm_relay.year import stages

Array = NDArray[np.float64]
EVERY = 6  # a map of directions is made of every sixth step: half hours at the usual 5 min
MAP_TILTS_DEG = (0.0, 10.0, 20.0, 30.0, 40.0, 50.0, 60.0, 75.0, 90.0)
MAP_AZIMUTHS_DEG = tuple(float(a) for a in range(0, 360, 30))
USUAL_MODULE = "module-430"


def module_on(job: Job, face_id: str) -> ModuleCard:
    """Return the module most used on a face in all plans; a usual one where none lies there."""
    count = Counter[str]()
    for plan in job.plans:
        for node in plan.nodes:
            for group in node.strings:
                if group.face == face_id:
                    count[group.module] += group.modules_per_string * group.parallel_strings
    return job.cards().module(count.most_common(1)[0][0]) if count else shipped_book().module(USUAL_MODULE)


def _one(face: Face, module: ModuleCard) -> StringGroup:
    return StringGroup(id="one", face=face.id, module=module.id, tracker=1, modules_per_string=1)


def face_yield(study: Study, job: Job, face_id: str) -> FaceYield:
    """Return what a kilowatt of modules gives on a face in a year."""
    face, module = job.face(face_id), module_on(job, face_id)
    cards = book_of(job.library, (module,))
    made = stages.group_input(string_row(_one(face, module), cards), lit_face(face), study.light(job, face_id), study.calendar(job))
    power, _ = group_dc_w(made, study.weather(job).air_c)
    months = study.calendar(job).by_month_wh(power)
    return FaceYield(face_id, module.name, tuple(wh / module.power_stc_w for wh in months))


class _Sky:
    """Sun and weather of every sixth step, for quick looks at many directions."""

    def __init__(self, study: Study, job: Job) -> None:
        calendar, weather, sun = study.calendar(job), study.weather(job), study.sun(job)
        keep = slice(EVERY // 2, None, EVERY)
        self.sun = Sun(**{name: values[keep] for name, values in vars(sun).items()})
        self.ghi, self.dni, self.dhi, self.air = (
            v[keep] for v in (weather.ghi_w_per_m2, weather.dni_w_per_m2, weather.dhi_w_per_m2, weather.air_c)
        )
        self.step_h = calendar.step_h * EVERY

    def yield_kwh_per_kwp(self, face: Face, module: ModuleCard) -> float:
        """Return a year's yield on a face free of shade. [kWh/kWp]"""
        light = plane_of_array(face.tilt_deg, face.azimuth_deg, self.sun, self.ghi, self.dni, self.dhi)
        power, _ = group_dc_w(GroupInput(string_row(_one(face, module), book_of((module,))), lit_face(face), light), self.air)
        return float(power.sum()) * self.step_h / module.power_stc_w


def direction_map(study: Study, job: Job, face_id: str, cancelled: Cancel = lambda: False) -> DirectionMap:
    """Return what another tilt, or a further face in another direction, would give at this place, free of shade.

    It is kept on disk: where all of the sky is known, nothing of the sun's libraries is loaded for it.

    Raises
    ------
    Cancelled
        When `cancelled` said so.
    """
    module = module_on(job, face_id)
    bare = job.face(face_id).model_copy(
        update={"tilt_deg": 0.0, "azimuth_deg": 0.0, "shade_loss_frac": 0.0, "horizon": (), "shade_table": None}
    )
    reads = [study.weather_key(job), bare.mounting, bare.rear_ratio_frac, module.model_dump(exclude={"id", "name", "source"})]

    def made() -> DirectionMap:
        kept = on_disk(content_key("directions", reads), lambda: _yields(_Sky(study, job), bare, module, cancelled))
        return DirectionMap(MAP_TILTS_DEG, MAP_AZIMUTHS_DEG, tuple(map(tuple, kept["kwh_per_kwp"].tolist())))

    found: DirectionMap = study.keep("directions", reads, made)
    return found


def _yields(sky: _Sky, bare: Face, module: ModuleCard, cancelled: Cancel) -> dict[str, Array]:
    rows = []
    for tilt in MAP_TILTS_DEG:
        if cancelled():
            raise Cancelled("cancelled before the map of directions was whole")
        if tilt == 0.0:
            rows.append((sky.yield_kwh_per_kwp(bare, module),) * len(MAP_AZIMUTHS_DEG))
            continue
        turned = [bare.model_copy(update={"tilt_deg": tilt, "azimuth_deg": azimuth}) for azimuth in MAP_AZIMUTHS_DEG]
        rows.append(tuple(sky.yield_kwh_per_kwp(face, module) for face in turned))
    return {"kwh_per_kwp": np.array(rows)}


def paths(study: Study, job: Job) -> tuple[SunPath, ...]:
    """Return the sun's ways over the job's place."""
    return sun_paths(study.sun(job), study.calendar(job))


def string_years(study: Study, job: Job, plan: Plan) -> tuple[StringYear, ...]:
    """Return when in the simulated year each string of a plan is at its highest and lowest."""
    cards, calendar, air_c = job.cards(), study.calendar(job), study.weather(job).air_c
    out = []
    for node, card, group, _ in string_rows(plan, cards):
        made = stages.group_input(
            string_row(group, cards),
            lit_face(job.face(group.face)),
            study.light(job, group.face),
            calendar,
            module_level=card.per_module,
        )
        out.append(string_year(made, group.id, node.id, card.trackers[group.tracker - 1], air_c, calendar, job.rules()))
    return tuple(out)
