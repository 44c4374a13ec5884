"""The string planner: every way to put modules of roof faces in strings on an inverter's trackers, ranked; the rest explained.

A tracker takes one face: N modules in series, n strings in parallel. For each use of the roof (so many modules on each face)
the best layout is kept; layouts are ranked by yearly AC energy, then by the smallest margin, then by fewer strings (cable).
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from calm_relay.library.cards import LossTerms, ModuleCard, OptimizerCard, Tracker
from calm_relay.pv.array import ac_from_dc_w
from calm_relay.pv.voltage import cell_rise_k, cold_voc_v, hot_vmp_v, start_voltage_v
from calm_relay.units import format_quantity as show

Array = NDArray[Any]
RULES = (
    "roof room", "optimizer count", "optimizer string power", "cold voltage", "hot voltage", "start voltage",
    "short-circuit current",
)  # fmt: skip
MOST_PARALLEL = 4
LONG_YEAR, COARSE = 40_000, 3  # a year at 5 min is ranked on its 15-min means
CLOSE_FRAC = 0.001  # energies nearer than this are told apart by margin and strings


@dataclass(frozen=True)
class FaceRoom:
    """A face that may take modules: how many fit, and how cells sit on it."""

    id: str
    name: str
    room: int
    mounting: str
    rear_gain_frac: float = 0.0


@dataclass(frozen=True)
class Setup:
    """What the planner works on. Temperatures are the record low and the design high. [°C], [W], [V]

    `closed` trackers keep the strings they have, of `kept_stc_w` together.
    """

    module: ModuleCard
    faces: tuple[FaceRoom, ...]
    trackers: tuple[Tracker, ...]
    dc_voltage_max_v: float
    ac_rated_w: float
    loss: LossTerms
    ratio_max: float | None
    low_c: float
    high_c: float
    hot_margin_frac: float = 0.05
    short_circuit_factor: float = 1.25
    local_ceiling_v: float | None = None
    optimizer: OptimizerCard | None = None
    closed: frozenset[int] = frozenset()
    kept_stc_w: float = 0.0

    @property
    def ceiling_v(self) -> float:
        """The lowest of inverter input, module system voltage and the local ceiling."""
        local = () if self.local_ceiling_v is None else (self.local_ceiling_v,)
        return min(self.dc_voltage_max_v, self.module.system_voltage_max_v, *local)

    @property
    def open_trackers(self) -> tuple[int, ...]:
        """Numbers of the trackers that may take new strings."""
        return tuple(n for n in range(1, len(self.trackers) + 1) if n not in self.closed)

    @property
    def fixed_voltage_v(self) -> float | None:
        """The voltage optimizers hold a string at, if they do."""
        return None if self.optimizer is None else self.optimizer.string_voltage_v


@dataclass(frozen=True)
class Option:
    """N modules in series and n strings of one face on one tracker; `rejected` names the first rule it breaks, or is empty."""

    tracker: int
    face: str
    modules: int
    strings: int
    rejected: str
    margin_frac: float

    @property
    def total(self) -> int:
        """Modules used."""
        return self.modules * self.strings


@dataclass(frozen=True)
class Layout:
    """One layout: an option for each used tracker, with its year. [Wh]"""

    options: tuple[Option, ...]
    modules: int
    ac_wh: float
    dc_wh: float
    margin_frac: float
    strings: int


@dataclass(frozen=True)
class Proposal:
    """Layouts from best to worst, and how many options each rule rejected, with the nearest miss of each in words."""

    layouts: tuple[Layout, ...]
    rejected: dict[str, int]
    why: tuple[str, ...]


def judge_option(s: Setup, tracker_number: int, face: FaceRoom, modules: int, strings: int) -> Option:
    """Return an option with the first rule it breaks; its margin is the smallest of the limits' margins."""
    tracker, module = s.trackers[tracker_number - 1], s.module
    rejected = ""
    margins: list[float] = []
    if modules * strings > face.room:
        rejected = "roof room"
    if s.optimizer is not None:
        rejected = rejected or _optimizer_rule(s.optimizer, modules, module.power_stc_w)
    if s.fixed_voltage_v is None:
        broken, margins = _voltage_rules(s, tracker, face, modules)
        rejected = rejected or broken
    elif not tracker.mppt_min_v <= s.fixed_voltage_v <= min(tracker.mppt_max_v, s.dc_voltage_max_v):
        rejected = rejected or ("cold voltage" if s.fixed_voltage_v > tracker.mppt_max_v else "hot voltage")
    if tracker.short_circuit_current_a is not None and s.fixed_voltage_v is None:
        amps = s.short_circuit_factor * strings * module.isc_stc_a * (1.0 + face.rear_gain_frac)
        if amps > tracker.short_circuit_current_a:
            rejected = rejected or "short-circuit current"
        else:
            margins.append((tracker.short_circuit_current_a - amps) / tracker.short_circuit_current_a)
    return Option(tracker_number, face.id, modules, strings, rejected, min(margins, default=0.0) if not rejected else 0.0)


def _optimizer_rule(optimizer: OptimizerCard, modules: int, power_stc_w: float) -> str:
    """Return the optimizer rule that so many modules in series break, or nothing."""
    if not optimizer.modules_min <= modules <= optimizer.modules_max:
        return "optimizer count"
    most = optimizer.string_power_max_w
    if most is None and optimizer.string_voltage_v is not None:
        most = optimizer.string_voltage_v * optimizer.output_current_max_a
    return "optimizer string power" if most is not None and modules * power_stc_w > most else ""


def _voltage_rules(s: Setup, tracker: Tracker, face: FaceRoom, modules: int) -> tuple[str, list[float]]:
    """Return the first rule of volts that is broken, or nothing, and the margins of those that are not."""
    module, rejected, margins = s.module, "", []
    cell = s.high_c + cell_rise_k(1000.0, module.efficiency_frac, face.mounting)
    cold, hot = cold_voc_v(module, modules, s.low_c), hot_vmp_v(module, modules, cell)
    least = tracker.mppt_min_v * (1.0 + s.hot_margin_frac)
    if cold is None or cold > s.ceiling_v:
        rejected = "cold voltage"
    else:
        margins.append((s.ceiling_v - cold) / s.ceiling_v)
    if hot < least:
        rejected = rejected or "hot voltage"
    else:
        margins.append((hot - least) / least)
    start = start_voltage_v(module, modules, cell)
    if tracker.start_v is not None and start is not None and start < tracker.start_v:
        rejected = rejected or "start voltage"
    return rejected, margins


def all_options(s: Setup) -> tuple[Option, ...]:
    """Return every option of every tracker and face up to the roof's room (one module more, so that room can reject it)."""
    out = []
    for number in s.open_trackers:
        for face in s.faces:
            for strings in range(1, MOST_PARALLEL + 1):
                for modules in range(1, face.room // strings + 2):
                    out.append(judge_option(s, number, face, modules, strings))
    return tuple(out)


def propose(
    s: Setup,
    unit_w: Mapping[str, Array],
    unit_a: Mapping[str, Array],
    step_h: float,
    most: int = 20,
    kept_w: Array | None = None,
) -> Proposal:
    """Return ranked layouts.

    Parameters
    ----------
    s : Setup
        Energies of the layouts are of 15-min means where the arrays are a year at 5 min: enough to rank them.
    unit_w : mapping of face id → ndarray (steps,)
        DC power of one module on that face. [W]
    unit_a : mapping of face id → ndarray (steps,)
        Working current of one string on that face. [A]
    step_h : float
    most : int, default 20
        How many layouts to return.
    kept_w : ndarray (steps,) or None
        DC power of the strings that stay where they are, after their trackers. [W]
    """
    options = all_options(s)
    feasible = [o for o in options if not o.rejected]
    share = {
        key: _kept_share(s, unit_w[key[1]], unit_a[key[1]], *key) for key in {(o.tracker, o.face, o.strings) for o in feasible}
    }
    yearly = {face.id: float(unit_w[face.id].sum()) * step_h for face in s.faces}
    coarse = COARSE if len(next(iter(unit_w.values()), ())) > LONG_YEAR else 1
    watts, amps = ({key: _means(values, coarse) for key, values in unit.items()} for unit in (unit_w, unit_a))
    kept_dc = None if kept_w is None else _means(kept_w, coarse)
    layouts = [
        _year(s, chosen, watts, amps, step_h * coarse, kept_dc) for chosen in _best_by_use(s, feasible, share, yearly, 2 * most)
    ]
    top = max((lay.ac_wh for lay in layouts), default=1.0) or 1.0
    layouts.sort(key=lambda lay: (-round(lay.ac_wh / top / CLOSE_FRAC), -lay.margin_frac, lay.strings))
    return Proposal(tuple(layouts[:most]), dict(Counter(o.rejected for o in options if o.rejected)), _why(s, options))


def _means(values: Array, count: int) -> Array:
    return values if count == 1 else values.reshape(-1, count).mean(axis=1)


def _kept_share(s: Setup, watts: Array, amps: Array, tracker: int, _face: str, strings: int) -> float:
    """Return the share of energy left after the tracker's working current."""
    limit = s.trackers[tracker - 1].working_current_a
    total = float(watts.sum())
    if total <= 0 or float(amps.max()) * strings <= limit:
        return 1.0
    share = np.minimum(1.0, limit / np.maximum(amps * strings, 1e-9))
    return float((watts * share).sum()) / total


def _best_by_use(
    s: Setup, feasible: list[Option], kept: Mapping[tuple[int, str, int], float], yearly: Mapping[str, float], most: int
) -> list[tuple[Option, ...]]:
    """Return the best layout of each of the `most` best uses of the roof; a use is a number of modules on each face.

    Tracker by tracker over a table of all uses: of layouts with the same use the one with more energy stays, then the one
    with the larger margin, then the one with fewer strings, then the one whose strings are more alike in length.
    """
    shape = tuple(face.room + 1 for face in s.faces)
    energy = np.full(shape, -1.0)
    energy[(0,) * len(shape)] = 0.0
    margin, strings, squares = np.full(shape, 1e9), np.zeros(shape), np.zeros(shape)
    allowed = np.ones(shape, dtype=bool)
    if s.ratio_max is not None:
        allowed = np.indices(shape).sum(axis=0) * s.module.power_stc_w + s.kept_stc_w <= s.ratio_max * s.ac_rated_w + 1e-6
    choices: list[NDArray[np.int16]] = []
    used: list[list[tuple[Option, int, float]]] = []
    for number in s.open_trackers:
        mine = _best_of_tracker(s, number, feasible, kept, yearly)
        after = (energy.copy(), margin.copy(), strings.copy(), squares.copy())
        choice = np.full(shape, -1, dtype=np.int16)
        for i, (o, axis, value) in enumerate(mine):
            low: list[slice] = [slice(None)] * len(shape)
            high = list(low)
            low[axis], high[axis] = slice(0, shape[axis] - o.total), slice(o.total, None)
            at, to = tuple(low), tuple(high)
            e, m, n = energy[at] + value, np.minimum(margin[at], o.margin_frac), strings[at] + o.strings
            q = squares[at] + o.strings * o.modules**2
            gain = e - after[0][to]
            even = np.abs(gain) <= 1e-6
            alike = (n < after[2][to]) | ((n == after[2][to]) & (q < after[3][to]))
            better = (gain > 1e-6) | (even & ((m > after[1][to]) | ((m == after[1][to]) & alike)))
            better &= (energy[at] >= 0) & allowed[to]
            for table, new in zip(after, (e, m, n, q), strict=True):
                table[to][better] = new[better]
            choice[to][better] = i
        energy, margin, strings, squares = after
        choices.append(choice)
        used.append(mine)
    flat = np.argsort(-energy.ravel(), kind="stable")[: most + 1]
    out = []
    for index in flat:
        if energy.ravel()[index] <= 0:
            break
        use, chosen = list(np.unravel_index(index, shape)), []
        for choice, mine in zip(reversed(choices), reversed(used), strict=True):
            i = int(choice[tuple(use)])
            if i >= 0:
                o, axis, _ = mine[i]
                chosen.append(o)
                use[axis] -= o.total
        if chosen:
            out.append(tuple(reversed(chosen)))
    return out[:most]


def _best_of_tracker(
    s: Setup, number: int, feasible: list[Option], kept: Mapping[tuple[int, str, int], float], yearly: Mapping[str, float]
) -> list[tuple[Option, int, float]]:
    """Return a tracker's options, of one face and as many modules only the best, with the face's axis and the energy."""
    index = {face.id: i for i, face in enumerate(s.faces)}
    best: dict[tuple[str, int], tuple[Option, int, float]] = {}
    for o in feasible:
        if o.tracker != number:
            continue
        energy = o.total * yearly[o.face] * kept[number, o.face, o.strings]
        old = best.get((o.face, o.total))
        if old is None or (energy, o.margin_frac, -o.strings) > (old[2], old[0].margin_frac, -old[0].strings):
            best[o.face, o.total] = (o, index[o.face], energy)
    return list(best.values())


def _year(
    s: Setup,
    options: tuple[Option, ...],
    unit_w: Mapping[str, Array],
    unit_a: Mapping[str, Array],
    step_h: float,
    kept_w: Array | None = None,
) -> Layout:
    """Return a layout with its year: tracker currents cut, then the inverter's loss and AC limit; strings that stay count in."""
    dc = np.zeros_like(next(iter(unit_w.values()))) if kept_w is None else kept_w.copy()
    for o in options:
        limit = s.trackers[o.tracker - 1].working_current_a
        watts, amps = unit_w[o.face] * o.total, unit_a[o.face] * o.strings
        if float(amps.max()) > limit:
            watts = watts * np.minimum(1.0, limit / np.maximum(amps, 1e-9))
        dc += watts
    ac = np.minimum(ac_from_dc_w(dc, s.loss, s.ac_rated_w), s.ac_rated_w)
    return Layout(
        options,
        sum(o.total for o in options),
        float(ac.sum()) * step_h,
        float(dc.sum()) * step_h,
        min(o.margin_frac for o in options),
        sum(o.strings for o in options),
    )


def _why(s: Setup, options: tuple[Option, ...]) -> tuple[str, ...]:
    """Return one line a rule that rejected something: the longest or shortest string it let pass."""
    out = []
    single = [o for o in options if o.strings == 1]
    passed = [o.modules for o in single if not o.rejected]
    by_rule = {rule: [o for o in options if o.rejected == rule] for rule in RULES}
    if by_rule["cold voltage"] and passed:
        out.append(f"at most {max(passed)} in series: more passes {s.ceiling_v:g} V at {show(s.low_c, 'temperature_c')}")
    if (by_rule["hot voltage"] or by_rule["start voltage"]) and passed:
        out.append(f"at least {min(passed)} in series: fewer falls below what a tracker needs at {show(s.high_c, 'temperature_c')}")
    if by_rule["optimizer count"] and s.optimizer is not None:
        out.append(f"{s.optimizer.modules_min} to {s.optimizer.modules_max} in series: the optimizers' card")
    if by_rule["optimizer string power"] and passed:
        out.append(f"at most {max(passed)} in series: more passes the optimizers' string power")
    if by_rule["short-circuit current"]:
        most = max((o.strings for o in options if not o.rejected), default=0)
        out.append(f"at most {most} in parallel: more passes a tracker's short-circuit rating")
    if s.ratio_max is not None:
        modules = max(0, int((s.ratio_max * s.ac_rated_w - s.kept_stc_w) / s.module.power_stc_w + 1e-9))
        out.append(f"at most {modules} modules{' more' if s.closed else ''} in all: the card allows a ratio of {s.ratio_max:g}")
    for face in s.faces:
        out.append(f"{face.name}: room for {face.room}")
    if not any(not o.rejected for o in options):
        out.insert(0, "no string of this module suits any tracker of this inverter")
    return tuple(out)
