"""The string planner: every way to put modules of roof faces in strings on an inverter's trackers, ranked; the rest explained.

A tracker takes one face: N modules in series, n strings in parallel. For each use of the roof (so many modules on each face)
the best layout is kept; layouts are ranked by yearly AC energy, then by the smallest margin, then by fewer strings (cable).
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from calm_relay.library.cards import LossTerms, ModuleCard, OptimizerCard, Tracker
from calm_relay.packs.pack import Pack
from calm_relay.pv.limits import (
    Bound,
    Extremes,
    StringAmps,
    amps_of,
    ceiling_v,
    fuse_for,
    held_bound,
    hot_cell_c,
    optimizer_bounds,
    optimizer_input_bounds,
    reverse_current_a,
    string_volts,
    tracker_short_circuit_a,
    volt_bounds,
)
from calm_relay.units import format_quantity as show

Array = NDArray[Any]
RULES = (
    "roof room", "optimizer count", "optimizer string power", "optimizer input", "cold voltage", "hot voltage", "start voltage",
    "held voltage", "short-circuit current", "reverse current",
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
class ArrayLimit:
    """The most STC watts an inverter's strings may have, and why. [W]"""

    most_w: float
    why: str


@dataclass(frozen=True)
class KeptStrings:
    """Strings that stay where they are, as far as new ones in parallel with them must know. [A]"""

    amps: StringAmps
    series_fuse_max_a: float | None
    fused: bool


@dataclass(frozen=True)
class Setup:
    """What the planner works on. `at` are the site's extremes. [°C], [W], [V], [A]

    `closed` trackers keep the strings they have, of `kept_stc_w` together. `joined`: the inverter joins its trackers inside, so
    that strings on all of them, the `kept` ones too, are in parallel.
    """

    module: ModuleCard
    faces: tuple[FaceRoom, ...]
    trackers: tuple[Tracker, ...]
    dc_voltage_max_v: float
    ac_rated_w: float
    loss: LossTerms
    array_limit: ArrayLimit | None
    at: Extremes
    pack: Pack
    local_ceiling_v: float | None = None
    optimizer: OptimizerCard | None = None
    closed: frozenset[int] = frozenset()
    kept_stc_w: float = 0.0
    joined: bool = False
    kept: tuple[KeptStrings, ...] = ()
    back_feed_a: float = 0.0

    @property
    def ceiling_v(self) -> float:
        """The lowest of inverter input, module system voltage and the local ceiling. [V]"""
        return ceiling_v(self.dc_voltage_max_v, self.module, self.local_ceiling_v)[0]

    @property
    def open_trackers(self) -> tuple[int, ...]:
        """Numbers of the trackers that may take new strings."""
        return tuple(n for n in range(1, len(self.trackers) + 1) if n not in self.closed)

    @property
    def fixed_voltage_v(self) -> float | None:
        """The voltage optimizers hold a string at, if they do. [V]"""
        return None if self.optimizer is None else self.optimizer.string_voltage_v

    def amps(self, face: FaceRoom, modules: int, strings: int) -> StringAmps:
        """Return the currents of one of so many like strings on a face."""
        return amps_of(
            self.module, self.optimizer, modules, strings, face.rear_gain_frac, hot_cell_c(self.module, self.at, face.mounting)
        )


@dataclass(frozen=True)
class Option:
    """N modules in series and n strings of one face on one tracker; `rejected` names the first rule it breaks, or is empty.

    `fuse_a` is the string fuse each string must have for what the others push back into it; None: none is needed. [A]
    """

    tracker: int
    face: str
    modules: int
    strings: int
    rejected: str
    margin_frac: float
    fuse_a: float | None = None

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
    tracker = s.trackers[tracker_number - 1]
    amps = s.amps(face, modules, strings)
    bounds: list[Bound] = []
    broken = "roof room" if modules * strings > face.room else ""
    if s.optimizer is not None:
        worn = optimizer_bounds(s.optimizer, modules, s.module.power_stc_w)
        taken = optimizer_input_bounds(s.pack, s.optimizer, s.module, face.rear_gain_frac, s.at) or ()
        broken = broken or next((b.rule for b in (*worn, *taken) if b.broken), "")
    if s.fixed_voltage_v is None:
        volts = string_volts(s.pack, s.module, modules, s.at, face.mounting)
        bounds += volt_bounds(s.pack, volts, tracker, s.ceiling_v)
        if volts.cold_open_v is None:
            broken = broken or "cold voltage"
    else:
        broken = broken or ("held voltage" if held_bound(s.fixed_voltage_v, tracker, s.dc_voltage_max_v).broken else "")
    if tracker.short_circuit_current_a is not None:
        short = tracker_short_circuit_a(s.pack, [amps])
        bounds.append(Bound("short-circuit current", short, tracker.short_circuit_current_a, "most"))
    broken = broken or next((b.rule for b in bounds if b.broken), "")
    fuse = None
    if not broken and not s.joined:
        fits, fuse = _fuse(s, [KeptStrings(amps, s.module.series_fuse_max_a, fused=False)])
        broken = "" if fits else "reverse current"
    margin = min((b.margin_frac for b in bounds), default=0.0)
    return Option(
        tracker=tracker_number,
        face=face.id,
        modules=modules,
        strings=strings,
        rejected=broken,
        margin_frac=margin if not broken else 0.0,
        fuse_a=fuse,
    )


def _fuse(s: Setup, strings: Sequence[KeptStrings]) -> tuple[bool, float | None]:
    """Return whether strings may be in parallel, and the fuse that each new one must have for it; None: none is needed."""
    known = [row for row in strings if row.series_fuse_max_a is not None]
    if sum(row.amps.strings for row in strings) < 2 or len(known) < len(strings):
        return True, None
    weakest = min(known, key=lambda row: row.series_fuse_max_a or 0.0)
    back = reverse_current_a(s.pack, [row.amps for row in strings], weakest.amps, s.back_feed_a)
    if not Bound("reverse current", back, weakest.series_fuse_max_a or 0.0, "most").broken:
        return True, None
    stays = [row for row in strings if any(row is kept for kept in s.kept)]
    made = [row for row in strings if not any(row is kept for kept in s.kept)]
    size = fuse_for(s.pack, max((row.amps.short_circuit_a for row in made), default=0.0), s.module.series_fuse_max_a)
    return size is not None and all(row.fused for row in stays), size


def _joined_fuses(s: Setup, options: tuple[Option, ...]) -> tuple[Option, ...] | None:
    """Return the options of a layout with the fuses that trackers joined inside ask for; None where none fits."""
    if not s.joined:
        return options
    faces = {face.id: face for face in s.faces}
    new = [KeptStrings(s.amps(faces[o.face], o.modules, o.strings), s.module.series_fuse_max_a, fused=False) for o in options]
    fits, fuse = _fuse(s, [*s.kept, *new])
    return tuple(replace(o, fuse_a=fuse) for o in options) if fits else None


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
    chosen = (_joined_fuses(s, options) for options in _best_by_use(s, feasible, share, yearly, 2 * most))
    layouts = [_year(s, whole, watts, amps, step_h * coarse, kept_dc) for whole in chosen if whole is not None]
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
    if s.array_limit is not None:
        allowed = np.indices(shape).sum(axis=0) * s.module.power_stc_w + s.kept_stc_w <= s.array_limit.most_w + 1e-6
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
    ac = np.minimum(s.loss.out_w(dc, s.ac_rated_w), s.ac_rated_w)
    return Layout(
        options=options,
        modules=sum(o.total for o in options),
        ac_wh=float(ac.sum()) * step_h,
        dc_wh=float(dc.sum()) * step_h,
        margin_frac=min(o.margin_frac for o in options),
        strings=sum(o.strings for o in options),
    )


def _why(s: Setup, options: tuple[Option, ...]) -> tuple[str, ...]:
    """Return one line a rule that rejected something: the longest or shortest string it let pass."""
    out = []
    single = [o for o in options if o.strings == 1]
    passed = [o.modules for o in single if not o.rejected]
    by_rule = {rule: [o for o in options if o.rejected == rule] for rule in RULES}
    if by_rule["cold voltage"] and passed:
        out.append(f"at most {max(passed)} in series: more passes {s.ceiling_v:g} V at {show(s.at.low_c or 0.0, 'temperature_c')}")
    if (by_rule["hot voltage"] or by_rule["start voltage"]) and passed:
        heat = (
            f"cells of {show(s.at.cell_c, 'temperature_c')}"
            if s.at.cell_c is not None
            else show(s.at.high_c or 0.0, "temperature_c")
        )
        out.append(f"at least {min(passed)} in series: fewer falls below what a tracker needs at {heat}")
    if by_rule["optimizer count"] and s.optimizer is not None:
        out.append(f"{s.optimizer.modules_min} to {s.optimizer.modules_max} in series: the optimizers' card")
    if by_rule["optimizer string power"] and passed:
        out.append(f"at most {max(passed)} in series: more passes the optimizers' string power")
    if by_rule["short-circuit current"]:
        most = max((o.strings for o in options if not o.rejected), default=0)
        out.append(f"at most {most} in parallel: more passes a tracker's short-circuit rating")
    if by_rule["optimizer input"]:
        out.append("the optimizers' input does not carry this module")
    if by_rule["held voltage"] and s.fixed_voltage_v is not None:
        out.append(f"the optimizers hold {s.fixed_voltage_v:g} V, which is outside a tracker's window")
    if by_rule["reverse current"]:
        most = max((o.strings for o in options if not o.rejected), default=0)
        out.append(f"at most {most} in parallel: more push back what the modules do not stand, and no string fuse fits")
    if s.array_limit is not None:
        modules = max(0, int((s.array_limit.most_w - s.kept_stc_w) / s.module.power_stc_w + 1e-9))
        out.append(f"at most {modules} modules{' more' if s.closed else ''} in all: {s.array_limit.why}")
    for face in s.faces:
        out.append(f"{face.name}: room for {face.room}")
    if not any(not o.rejected for o in options):
        out.insert(0, "no string of this module suits any tracker of this inverter")
    return tuple(out)
