"""DC power of a station's strings: what it reads of the plant, and how it is made."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import YearCalendar
from calm_relay.library.base import Tracker
from calm_relay.plant.chain import controllers_of
from calm_relay.plant.station import Station, StringRow
from calm_relay.pv.array import GroupInput, TrackerOutput, tracker_dc_w
from calm_relay.pv.shade import shaded_by_step
from calm_relay.pv.voltage import LitFace
from calm_relay.weather.solar import PlaneOfArray

Array = NDArray[np.float64]


@dataclass(frozen=True)
class DcInputs:
    """What a station's DC power reads of the plant: its strings, the trackers they are on, and what bounds them together. [W]

    `controllers`: trackers each, watts in at their output limit, efficiency; None: there are none. `count` units share the strings.
    """

    strings: tuple[StringRow, ...]
    trackers: tuple[Tracker, ...]
    controllers: tuple[int, float, float] | None
    count: int
    module_level: bool
    most_w: float | None


def dc_inputs(station: Station) -> DcInputs:
    """Return what a station's DC power reads of it."""
    unit = station.unit
    return DcInputs(
        strings=tuple(strings.row for strings in station.strings),
        trackers=unit.trackers,
        controllers=controllers_of(unit, station.bank),
        count=station.strings_units,
        module_level=unit.per_module,
        most_w=unit.pv_dc_max_w,
    )


@dataclass(frozen=True)
class TrackerYear:
    """What one tracker lost in each month: to its current and power limits, and by unlike strings in parallel.

    `limited_h` are hours at its limit. [Wh], [h]
    """

    number: int
    limited_wh: tuple[float, ...]
    limited_h: float
    parallel_lost_wh: float
    offered_wh: float


@dataclass(frozen=True, eq=False)
class NodeDc:
    """A node's PV on its DC side per step: what the strings offer, and what is left after tracker limits. [W]"""

    offered_w: Array
    available_w: Array
    trackers: tuple[TrackerYear, ...] = ()

    @property
    def nbytes(self) -> int:
        """Bytes held."""
        return self.offered_w.nbytes + self.available_w.nbytes

    def times(self, factor: float) -> NodeDc:
        """Return the same under so many times the sun: DC power follows the light nearly straight; trackers are not told anew."""
        return NodeDc(self.offered_w * factor, self.available_w * factor)


def group_input(
    row: StringRow, face: LitFace, light: PlaneOfArray, calendar: YearCalendar, *, module_level: bool = False
) -> GroupInput:
    """Return like strings with the light on their face."""
    return GroupInput(
        group=row,
        face=face,
        light=light,
        module_level=module_level,
        shaded_frac=shaded_by_step(face.shade_table, calendar),
        month=calendar.month,
    )


def make_node_dc(
    inputs: DcInputs, faces: Mapping[str, LitFace], light: Mapping[str, PlaneOfArray], air_c: Array, calendar: YearCalendar
) -> NodeDc:
    """Sum a station's trackers; module-level inverters have one module and one tracker each. `faces` and `light` by face id."""
    offered, available = np.zeros_like(air_c), np.zeros_like(air_c)
    years, controllers = [], inputs.controllers
    made_by: dict[int, list[tuple[int, TrackerOutput]]] = defaultdict(list)
    for number in sorted({row.tracker for row in inputs.strings}):
        made = [
            group_input(row, faces[row.face], light[row.face], calendar, module_level=inputs.module_level)
            for row in inputs.strings
            if row.tracker == number
        ]
        out = tracker_dc_w(made, inputs.trackers[number - 1], air_c, inputs.count)
        made_by[0 if controllers is None else (number - 1) // controllers[0]].append((number, out))
    for number, out, kept in _after_controllers(made_by, controllers):
        offered += kept[0]
        available += kept[1]
        lost = 0.0 if out.parallel_lost_w is None else float(out.parallel_lost_w.sum()) * calendar.step_h
        cut = kept[0] - kept[1]
        by_month = calendar.by_month_wh(cut) if cut.any() else (0.0,) * 12
        years.append(
            TrackerYear(
                number,
                by_month,
                float(np.count_nonzero(cut > 1e-6)) * calendar.step_h,
                lost,
                float(kept[0].sum()) * calendar.step_h,
            )
        )
    if inputs.most_w is not None:
        available = np.minimum(available, inputs.most_w)
    return NodeDc(offered, available, tuple(years))


def _after_controllers(
    made_by: Mapping[int, list[tuple[int, TrackerOutput]]], controllers: tuple[int, float, float] | None
) -> Iterator[tuple[int, TrackerOutput, tuple[Array, Array]]]:
    """Yield each tracker with what it offers and what is left of it, after the charge controller it belongs to, if any. [W]

    Trackers of one controller share what its output carries in proportion to what they give.
    """
    for rows in made_by.values():
        together = sum((out.limited_w for _, out in rows), np.zeros_like(rows[0][1].limited_w))
        share, eta = np.ones_like(together), 1.0
        if controllers is not None:
            _, most_w, eta = controllers
            share = np.minimum(1.0, np.divide(most_w, together, out=np.ones_like(together), where=together > 0))
        for number, out in rows:
            yield number, out, (out.available_w * eta, out.limited_w * share * eta)
