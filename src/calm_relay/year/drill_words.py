"""What a drill says: the events of its course, those that only the whole course shows, and what goes dark first."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from calm_relay.simulation.columns import SYS_UNSERVED
from calm_relay.simulation.kernel.loops import NOT_SERVED_W
from calm_relay.units import format_quantity as show
from calm_relay.year.course import AT_FLOOR_FRAC, Course

Array = NDArray[np.float64]
Row = tuple[int, str, str]
THROTTLED_W = 50.0  # less is not worth an event
OVER_W, WORTH_WH = 50.0, 50.0
DARK = ("dead", "trip", "locked", "empty", "short")


def drill_events(course: Course, said: list[Row], throttled_w: Array, charge: Array, sun_w: Array, step_h: float) -> list[Row]:
    """Return all that happens, in its order: (step, kind, words)."""
    out = [*said, *course.events, *_short(course, charge, step_h), *_trips(course, sun_w, step_h)]
    out += _throttled(course, throttled_w, step_h)
    if course.over_w > OVER_W:
        words = f"a load drops: for some seconds the battery side takes {show(course.over_w, 'power_w')} more than it absorbs"
        out.append((course.over_at, "pv", words))
    return sorted((row for row in out if row[0] < course.ended), key=lambda row: row[0])


def _short(course: Course, charge: Array, step_h: float) -> list[Row]:
    """Spans in which batteries and sun give less than is asked for though they are not empty."""
    unserved = course.system[: course.ended, SYS_UNSERVED]
    out: list[Row] = []
    for begin, end in spans((unserved > NOT_SERVED_W) & (charge >= AT_FLOOR_FRAC), round(5 / 60 / step_h) or 1):
        most = show(float(unserved[begin:end].max()), "power_w")
        out.append((begin, "short", f"{most} more is asked for than batteries and sun give: part of it goes dark"))
        if end < len(unserved) and unserved[end] <= NOT_SERVED_W:
            out.append((end, "lit", f"all of it is served again after {(end - begin) * step_h:.1f} h"))
    return out


def _trips(course: Course, sun_w: Array, step_h: float) -> list[Row]:
    """AC-coupled PV that drops out at a raised frequency and comes back, told by the hours in which it does so."""
    if not course.pv_trips:
        return []
    marks = np.zeros(course.ended, dtype=bool)
    marks[[m for m in course.pv_trips if m < course.ended]] = True
    out: list[Row] = []
    for begin, end in spans(marks, round(0.75 / step_h)):
        times = sum(begin <= m < end for m in course.pv_trips)
        had = float(sun_w[begin:end].sum())
        share = 100 * float(course.pv_w[begin:end].sum()) / had if had > 0 else 0.0
        cause = "loads and battery take less than the sun gives: the frequency goes up and AC-coupled PV drops out"
        if times == 1:
            out.append((begin, "pv", f"{cause}; it comes back by itself"))
        else:
            hours = (end - begin) * step_h
            out.append((begin, "pv", f"{cause} {times} times in {hours:.1f} h, a saw-tooth: {share:.0f} % of its sun is used"))
    return out


def _throttled(course: Course, throttled_w: Array, step_h: float) -> list[Row]:
    out: list[Row] = []
    dark = course.off_w[: course.ended] >= 0.95 * np.maximum(course.asked_w[: course.ended], 1e-9)
    for begin, end in spans(throttled_w > THROTTLED_W, round(0.5 / step_h)):
        lost_wh = float(throttled_w[begin:end].sum()) * step_h
        if lost_wh < WORTH_WH:
            continue
        lost = show(lost_wh, "energy_wh")
        over = f"over {(end - begin) * step_h:.1f} h"
        cause = "nothing forms a grid" if float(np.mean(dark[begin:end])) > 0.5 else "loads and battery take no more"
        out.append((begin, "throttled", f"{cause}: {lost} of sun find no use {over}"))
    return out


def spans(marks: NDArray[np.bool_], gap: int) -> list[tuple[int, int]]:
    """Return spans of marks as (begin, end), those less than `gap` apart joined."""
    at = np.flatnonzero(marks)
    if not len(at):
        return []
    breaks = np.flatnonzero(np.diff(at) > gap)
    begins, ends = np.concatenate(([0], breaks + 1)), np.concatenate((breaks, [len(at) - 1]))
    return [(int(at[b]), int(at[e]) + 1) for b, e in zip(begins, ends, strict=True)]


def first_words(events: list[tuple[int, str, str, str]], hours: float) -> str:
    """Return in one sentence what goes dark first and when: (minute, clock, kind, words) of each event."""
    for minute, clock, kind, words in events:
        if kind in DARK:
            at = "At once" if minute == 0 else f"After {minute // 60} h {minute % 60:02d} min, at {clock}"
            return f"{at}: {words}."
    waits = [words for _, _, kind, words in events if kind == "waits"]
    return f"{waits[0]}." if waits else f"Everything that is to stay on does so for {hours:g} h."
