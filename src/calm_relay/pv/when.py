"""When in the simulated year a string comes near its limits: highest and lowest volts, most amps, each with its moment."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import YearCalendar
from calm_relay.library.base import Tracker
from calm_relay.packs.pack import Pack
from calm_relay.pv.array import GroupInput, best_voltage_v, cell_c, group_dc_w, group_light
from calm_relay.pv.voltage import cold_voc_v

Array = NDArray[np.float64]
LIT_W_PER_M2 = 20.0  # from here a string stands near its open voltage
WORKS_W_PER_M2 = 200.0  # from here its working voltage counts


@dataclass(frozen=True)
class Moment:
    """A value and the step at which the simulated year has it."""

    value: float
    step: int
    label: str


@dataclass(frozen=True)
class StringYear:
    """One string group in the simulated year. [V], [A], [h]; the year's temperatures, not the record low."""

    string_id: str
    node_id: str
    tracker: int
    highest_open_v: Moment | None
    highest_working_v: Moment | None
    lowest_working_v: Moment | None
    most_a: Moment
    hours_below_window_h: float
    hours_above_window_h: float


def string_year(
    item: GroupInput, string_id: str, node_id: str, tracker: Tracker, air_c: Array, calendar: YearCalendar, pack: Pack
) -> StringYear:
    """Return when a string group is at its highest and lowest in the year.

    Open voltage is that of the cells at air temperature while there is light enough to raise it (mornings); working voltage that
    of its best point; hours outside the window count steps with 200 W/m² and more on the face.
    """
    light = group_light(item)
    _, amps = group_dc_w(item, air_c)
    group, h = item.group, calendar.step_h

    def moment(values: Array, where: NDArray[np.bool_], *, most: bool) -> Moment | None:
        steps = np.flatnonzero(where)
        if not len(steps):
            return None
        at = int(steps[values[steps].argmax() if most else values[steps].argmin()])
        return Moment(float(values[at]), at, calendar.label(at))

    fixed = None if group.optimizer is None else group.optimizer.string_voltage_v
    if fixed is not None:
        volts = np.full_like(air_c, fixed)
        open_v = volts
    else:
        volts = best_voltage_v(item, air_c)
        coldest = moment(cell_c(item, np.zeros_like(light), air_c), light > LIT_W_PER_M2, most=False)
        found = (
            None if coldest is None else cold_voc_v(group.module, group.modules_per_string, coldest.value, pack.rows("cold_voc"))
        )
        open_v = np.zeros_like(air_c)
        if coldest is not None and found is not None:
            open_v[coldest.step] = found
    works = light > WORKS_W_PER_M2
    at_most = int(amps.argmax())
    return StringYear(
        string_id=string_id,
        node_id=node_id,
        tracker=group.tracker,
        highest_open_v=moment(open_v, (light > LIT_W_PER_M2) & (open_v > 0), most=True),
        highest_working_v=moment(volts, works, most=True),
        lowest_working_v=moment(volts, works, most=False),
        most_a=Moment(float(amps[at_most]), at_most, calendar.label(at_most)),
        hours_below_window_h=float(np.count_nonzero(works & (volts < tracker.mppt_min_v))) * h,
        hours_above_window_h=float(np.count_nonzero(works & (volts > tracker.mppt_max_v))) * h,
    )


def string_year_words(s: StringYear) -> str:
    """Return when a string is at its limits, in one line."""
    parts = []
    if s.highest_open_v is not None:
        parts.append(f"highest open {s.highest_open_v.value:.0f} V on {s.highest_open_v.label}")
    if s.lowest_working_v is not None:
        parts.append(f"lowest working {s.lowest_working_v.value:.0f} V on {s.lowest_working_v.label}")
    parts.append(f"most {s.most_a.value:.1f} A on {s.most_a.label}")
    for hours, words in ((s.hours_below_window_h, "below"), (s.hours_above_window_h, "above")):
        if hours > 0:
            parts.append(f"{hours:.0f} h {words} the tracker's window")
    return ", ".join(parts)
