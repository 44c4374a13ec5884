"""The course of an outage step by step: the island's own step between what happens to loads, inverters, sun and generator.

Between two happenings the kernel runs alone. What happens: a line is asked for more than it is given, a motor does not start, a
charge is passed at which loads or a generator go on or off, AC-coupled PV has to be throttled, the bank runs empty or wakes.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from calm_relay.errors import Cancelled
from calm_relay.simulation.blocks import Steps
from calm_relay.simulation.columns import AC_LOAD_B, AC_OWN_B, AC_PV_B, NODE, NODE_ENERGY, NODE_ENERGY_PV, SYS_UNSERVED, SYSTEM
from calm_relay.simulation.kernel.loops import NOT_SERVED_W
from calm_relay.simulation.pack import Packed
from calm_relay.year.circuits import Circuit, Lines
from calm_relay.year.frequency import Follower
from calm_relay.year.generator import GeneratorSet, SetCourse
from calm_relay.year.switchboard import Moment, Switchboard

Array = NDArray[np.float64]
RESTART_S = 60.0  # until tripped inverters try again, where no card says; common practice
RETRIES = 3  # until somebody has to reset them; common practice
QUIET_S = 600.0  # without a trip, after which tries are counted anew; common practice
CHUNK, FAR_CHUNK = 240, 720  # steps run ahead of what happens, and while all is dark
THROTTLED_W = 50.0  # less of the sun too much, and the former's own losses take it
GIVEN_W = 0.1
AT_FLOOR_FRAC = 0.02
PV_LOST = SYSTEM.index("pv_only_lost_island_w")


@dataclass(frozen=True, eq=False)
class Setup:
    """What an outage is run with. `sun_w` (steps,) is AC-coupled PV as the sun offers it, `pv_shares` (lines,) how it lies there.

    `lines` None: nothing is asked of overload or starts. `stop_frac`, `again_frac`: charge at which AC-coupled PV stops charging
    and starts again; `keep_frac`: below which loads are not served; `restart_frac`: at which an empty bank serves its loads again.
    """

    window: Packed
    circuits: list[Circuit]
    sun_w: Array
    pv_shares: Array
    lines: Lines | None
    clock_hour: Array
    unit: GeneratorSet | None = None
    follower: Follower | None = None
    shedding: bool = False
    stop_frac: float = 2.0
    again_frac: float = 2.0
    keep_frac: float = 0.0
    restart_frac: float = 0.0
    until_dark: bool = False
    cancelled: Callable[[], bool] = lambda: False


@dataclass(eq=False)
class Course:
    """What became of it, step by step [W], the kernel's rows, and what happened: (step, kind, words).

    `off_w` was asked for and not served, `vital_off_w` the part of it that must stay on (all where nothing is marked so); `shed_w`
    was switched off for want of power or charge; `waiting_w` waits for a hand. `ended` is the step after the last that was run.
    `lacked_wh` and `load_shed_wh` tell by the name of each load what it went without, and what of it was shed.
    """

    asked_w: Array
    off_w: Array
    vital_off_w: Array
    shed_w: Array
    waiting_w: Array
    pv_w: Array
    given_w: Array
    system: Array
    nodes: Array
    events: list[tuple[int, str, str]] = field(default_factory=list)
    moments: list[Moment] = field(default_factory=list)
    pv_trips: list[int] = field(default_factory=list)
    over_w: float = 0.0
    over_at: int = 0
    litres: float = 0.0
    ended: int = 0
    lacked_wh: dict[str, float] = field(default_factory=dict)
    load_shed_wh: dict[str, float] = field(default_factory=dict)


def run_course(setup: Setup, energy_wh: Array, energy_pv_wh: Array) -> Course:
    """Run an outage from a charge; with `until_dark` only until something that must stay on is not served. Raises Cancelled."""
    return _Runner(setup, energy_wh.astype(float).copy(), energy_pv_wh.astype(float).copy()).run()


class _Runner:
    """The state of an outage between two steps; each of its ways to go on runs some steps and says where it stands then."""

    def __init__(self, setup: Setup, energy: Array, energy_pv: Array) -> None:
        self.s, packed = setup, setup.window
        self.n, self.nodes_n = len(packed.ac), len(packed.nodes)
        self.step_h = float(packed.plant["step_h"])
        self.energy, self.energy_pv = energy, energy_pv
        low, high = (
            packed.nodes[name].astype(float) * packed.nodes["capacity_wh"].astype(float) for name in ("soc_min", "soc_max")
        )
        self.low, self.span = float(low.sum()), max(float(high.sum() - low.sum()), 1e-9)
        self.steps = Steps(packed)
        self.ac, self.own = packed.ac.copy(order="F"), packed.ac[:, AC_OWN_B].copy()
        self.board = Switchboard(setup.circuits, setup.lines, self.n, self.step_h, setup.shedding)
        n = self.n
        self.c = Course(
            asked_w=self.board.base_w.copy(), off_w=np.zeros(n), vital_off_w=np.zeros(n), shed_w=np.zeros(n), waiting_w=np.zeros(n),
            pv_w=np.zeros(n), given_w=np.zeros(n), system=np.zeros((n, len(SYSTEM))),
            nodes=np.zeros((n, self.nodes_n, len(NODE))),
        )  # fmt: skip
        self.set = None if setup.unit is None else SetCourse(setup.unit, setup.clock_hour, self.step_h)
        self.has_sun = bool(setup.sun_w.any())
        self.follower = setup.follower if self.has_sun else None
        self.charging, self.empty, self.locked, self.starting = True, False, False, False
        self.down_until, self.tries, self.last_trip, self.dark_since = 0, 0, -(10**9), 0

    def run(self) -> Course:
        charge = (float(self.energy.sum()) - self.low) / self.span
        self.charging = charge < self.s.stop_frac
        self.c.events += self.board.begin(charge)
        if self.follower is not None:
            self.follower.drop()
        i = rounds = 0
        while i < self.n:
            rounds += 1
            if rounds % 64 == 0 and self.s.cancelled():
                raise Cancelled("the outage was stopped")
            before = i
            if self.locked or i < self.down_until:
                i = self._down(i)
            elif self.empty:
                i = self._wait(i)
            else:
                i = self._serve(i)
            if self.s.until_dark and np.any(self.c.vital_off_w[before:i] > NOT_SERVED_W):
                break
        self.c.ended, self.c.litres = i, 0.0 if self.set is None else self.set.litres
        self.c.moments = self.board.told_moments()
        names = [c.name for c in self.s.circuits]
        for name, lacked, shed in zip(names, self.board.lacked_wh.tolist(), self.board.shed_wh.tolist(), strict=True):
            self.c.lacked_wh[name] = self.c.lacked_wh.get(name, 0.0) + lacked
            self.c.load_shed_wh[name] = self.c.load_shed_wh.get(name, 0.0) + shed
        return self.c

    # --- the kernel
    def _kernel(self, i: int, j: int, load: Array | float, pv: Array | float, *, alive: bool = True) -> Array:
        """Run steps with so much load and PV at AC; returns the charge at the end of each. [0 to 1]"""
        self.ac[i:j, AC_LOAD_B], self.ac[i:j, AC_PV_B] = load, pv
        self.ac[i:j, AC_OWN_B] = self.own[i:j] if alive else 0.0
        self.steps.run(i, j, (self.energy, self.energy_pv), self.c.system[i:j], self.c.nodes[i:j], ac=self.ac)
        charge: Array = (self.c.nodes[i:j, :, NODE_ENERGY].sum(axis=1) - self.low) / self.span
        return charge

    def _back_to(self, step: int) -> None:
        """Stand again at the end of a step that was run."""
        self.energy[:] = self.c.nodes[step, :, NODE_ENERGY]
        self.energy_pv[:] = self.c.nodes[step, :, NODE_ENERGY_PV]

    def _note(self, i: int, j: int, on: NDArray[np.bool_], pv: Array) -> None:
        """Write down steps that were served by circuits that are on; unserved watts are what must stay on first."""
        c, board = self.c, self.board
        lacking = c.system[i:j, SYS_UNSERVED]
        c.off_w[i:j] = lacking + board.dead_w[i:j]
        c.vital_off_w[i:j] = np.minimum(lacking, board.vital_w(on, i, j)) + board.vital_dead_w[i:j]
        c.waiting_w[i:j] = board.waiting_w(i, j)
        soaked = board.soaked_w(on, i, j)
        c.asked_w[i:j] = board.base_w[i:j] + soaked
        c.shed_w[i:j] = np.maximum(
            0.0, board.base_w[i:j] - board.dead_w[i:j] - c.waiting_w[i:j] - (board.watts_of(on, i, j) - soaked)
        )
        lost = c.system[i:j, PV_LOST]
        if self.set is not None and self.set.running:
            gave = self.set.unit.gives_w - lost
            c.given_w[i:j] = gave
            self.set.account(gave)
        else:
            c.pv_w[i:j] = pv - lost
        board.account(on, i, j, lacking)

    # --- ways to go on
    def _down(self, i: int) -> int:
        """Tripped inverters: nothing is served, strings may charge their own bank."""
        j = self.n if self.locked else min(self.n, self.down_until)
        self._kernel(i, j, 0.0, 0.0, alive=False)
        self._dark(i, j)
        self.starting = True
        return j

    def _dark(self, i: int, j: int) -> None:
        self.board.account_dark(i, j)
        self.c.off_w[i:j] = self.board.base_w[i:j]
        self.c.vital_off_w[i:j] = self.board.vital_base_w[i:j]

    def _wait(self, i: int) -> int:
        """An empty bank: strings may bring it back, or a generator whose quiet hours end."""
        j = min(self.n, i + FAR_CHUNK)
        charge = self._kernel(i, j, 0.0, 0.0, alive=False)
        wakes = np.flatnonzero(charge >= min(1.0, self.s.keep_frac + self.s.restart_frac) - 1e-9)
        turns = None if self.set is None else self.set.first_turn(i, charge, charge)
        at = min(int(wakes[0]) if len(wakes) else j - i, j - i if turns is None else turns)
        if at >= j - i:
            self._dark(i, j)
            return j
        j = i + at + 1
        self._back_to(j - 1)
        self._dark(i, j)
        self.empty, self.starting = False, True
        hours = (j - self.dark_since) * self.step_h
        if turns is not None and turns == at:
            assert self.set is not None
            self.c.events.append((j, "generator", self.set.turn(j - 1, float(charge[at]))))
            self.c.events.append((j, "lit", f"the generator brings it back after {hours:.1f} h"))
        else:
            self.c.events.append((j, "lit", f"the sun brings it back after {hours:.1f} h, at {charge[at] * 100:.0f} % of charge"))
        return j

    def _serve(self, i: int) -> int:
        board, s = self.board, self.s
        self.c.events += board.returns(i)
        on = board.on(i)
        j = min(self.n, i + CHUNK, board.next_change(i, on))
        running = self.set is not None and self.set.running
        load = board.watts_of(on, i, j)
        if running:
            assert self.set is not None
            pv: Array = np.full(j - i, self.set.unit.gives_w)
        else:
            pv = s.sun_w[i:j]
            if not self.charging:
                pv = np.minimum(pv, load)
        follows = self.follower is not None and not running
        fine = follows and not self.follower.calm  # type: ignore[union-attr]
        if fine:
            j = i + 1
            gives = s.sun_w[i:j] if self.follower.connected else np.zeros(1)  # type: ignore[union-attr]
            relief = np.minimum(pv[:1], gives)
        else:
            relief = pv
        shares = np.full(len(s.pv_shares), 1.0 / len(s.pv_shares)) if running else s.pv_shares
        if self.starting:
            self.starting = False
            said = board.together(i, on, relief[:1], shares)
            if said:
                self.starting = True  # asked again, should shedding help
                return self._too_much(i, said, relief[:1], shares)
        e, said = board.first_trouble(i, j, on, relief, shares)
        if e == i:
            return self._too_much(i, said, relief[:1], shares)
        if fine:
            return self._fine(i, on, load, pv[:1])
        return self._calm(i, e, on, load, pv, follows=follows)

    def _calm(self, i: int, e: int, on: NDArray[np.bool_], load: Array, pv: Array, *, follows: bool) -> int:
        """Run to the next happening: what the kernel's own course brings about."""
        before, before_pv = self.energy.copy(), self.energy_pv.copy()
        charge = self._kernel(i, e, load[: e - i], pv[: e - i])
        lost = self.c.system[i:e, PV_LOST]
        if follows:
            throttled = np.flatnonzero(lost + self.s.sun_w[i:e] - pv[: e - i] > THROTTLED_W)
            if len(throttled):
                t = int(throttled[0])
                if t == 0:
                    self.energy[:], self.energy_pv[:] = before, before_pv
                    return self._fine(i, on, load, pv[:1])
                e = i + t
                charge, lost = charge[:t], lost[:t]
                self._back_to(e - 1)
        at = self._happens(i, charge, lost)
        if at is not None and at < e - i - 1:
            e = i + at + 1
            self._back_to(e - 1)
        self._note(i, e, on, pv[: e - i])
        self._after(e, float(charge[e - i - 1]), on, last=e - 1)
        return e

    def _happens(self, i: int, charge: Array, lost: Array) -> int | None:
        """Return the first of these steps after which something turns; None where nothing does."""
        found = [self.board.first_turn(i, charge)]
        if self.set is not None:
            found.append(self.set.first_turn(i, charge, self.set.unit.gives_w - lost))
        if self.has_sun:
            turns = np.flatnonzero(charge >= self.s.stop_frac if self.charging else charge < self.s.again_frac)
            found.append(int(turns[0]) if len(turns) else None)
        unserved = self.c.system[i : i + len(charge), SYS_UNSERVED] > NOT_SERVED_W
        ends = np.flatnonzero(unserved & (charge < self.s.keep_frac + AT_FLOOR_FRAC))
        found.append(int(ends[0]) if len(ends) else None)
        known = [at for at in found if at is not None]
        return min(known) if known else None

    def _after(self, step: int, charge: float, on: NDArray[np.bool_], last: int) -> None:
        """Turn what turns after a step; `step` is the next one."""
        self.c.events += self.board.turn(step, charge)
        if self.has_sun:
            self.charging = charge < self.s.stop_frac if self.charging else charge < self.s.again_frac
        if self.set is not None and step < self.n and self.set.turns_now(last, charge):
            self.c.events.append((step, "generator", self.set.turn(last, charge)))
            if self.follower is not None:
                self.follower.drop()
            return
        if self.c.system[last, SYS_UNSERVED] > NOT_SERVED_W and charge < self.s.keep_frac + AT_FLOOR_FRAC:
            whole = self.c.system[last, SYS_UNSERVED] > 0.0
            kept = self.s.keep_frac > 0
            cause = "what is kept for the morning is reached" if kept else "the battery is at its floor"
            self.c.events.append((last, "empty", f"{cause}: everything goes dark" if whole else cause))
            self.c.events += self.board.interrupted(last, on)
            self.empty, self.dark_since = True, last
            if self.follower is not None:
                self.follower.drop()

    def _fine(self, i: int, on: NDArray[np.bool_], load: Array, offered: Array) -> int:
        """One step under the frequency, second by second: what the inverters give in it is what the kernel takes."""
        follower = self.follower
        assert follower is not None
        before, before_pv = self.energy.copy(), self.energy_pv.copy()
        charge = self._kernel(i, i + 1, load[:1], offered)
        sun_w = float(self.s.sun_w[i])
        takes = float(offered[0]) - float(self.c.system[i, PV_LOST])
        free = sun_w - takes <= THROTTLED_W
        seconds = round(self.step_h * 3600)
        house, room = float(load[0]), 1e12 if free else max(0.0, takes - float(load[0]))
        sun = np.full(seconds, sun_w)
        was = follower.connected
        out = follower.run(sun, np.full(seconds, min(house, takes)), np.full(seconds, room))
        given = float(out[1].mean())
        bus = offered
        if abs(given - takes) > GIVEN_W:
            self.energy[:], self.energy_pv[:] = before, before_pv
            bus = np.array([given])
            charge = self._kernel(i, i + 1, load[:1], bus)
        self._note(i, i + 1, on, bus)
        fell = np.flatnonzero(np.diff(out[5], prepend=float(was)) < 0)
        self.c.pv_trips += [i] * len(fell)
        if len(fell) and len(self.c.pv_trips) <= 2:
            words = f"the PV drops out at {out[0][fell[0]]:.2f} Hz"
            self.board.keep(Moment(step=i, kind="pv", words=words, value=out[1], limit=sun, hz=out[0]))
        over = out[4] if not free else np.zeros(seconds)
        if over.max() > self.c.over_w:
            self.c.over_w, self.c.over_at = float(over.max()), i
        self._after(i + 1, float(charge[0]), on, last=i)
        return i + 1

    def _too_much(self, i: int, said: str, relief: Array, shares: Array) -> int:
        """More is asked for than is given: shed where that may be done and helps, else trip."""
        events = self.board.shed(i, relief, shares)
        if events is not None:
            self.c.events += events
            return i
        if (i - self.last_trip) * self.step_h * 3600 > QUIET_S + RESTART_S:
            self.tries = 0
        self.tries += 1
        self.last_trip = i
        on = self.board.on(i)
        self.c.events.append((i, "trip", f"{said}: the inverters trip"))
        self.c.events += self.board.interrupted(i, on)
        self.down_until = min(self.n, i + 1 + max(1, round(RESTART_S / 3600 / self.step_h)))
        if self.tries > RETRIES:
            self.locked = True
            self.c.events.append((i, "locked", f"after {RETRIES} retries the inverters stay off until somebody resets them"))
        if self.follower is not None:
            self.follower.drop()
        return i
