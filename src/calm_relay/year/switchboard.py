"""Which circuits of an outage are on, and what their lines are asked for: shedding, charge, starts, overload."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.year.circuits import RUNS_W, Circuit, Lines, Start, is_dead

Array = NDArray[np.float64]
Marks = NDArray[np.bool_]
Event = tuple[int, str, str]
MOST_MOMENTS = 12
MOMENT_S = 20
NEAR = 1.0 + 1e-9
DAY_H = 24.0


@dataclass(frozen=True, eq=False)
class Moment:
    """Seconds of something quick: a start on its line [VA] against what that is given, or PV [W] of the sun's, and [Hz]."""

    step: int
    kind: str
    words: str
    value: Array
    limit: Array
    hz: Array | None = None
    quantity: str = "apparent_va"


def _k(value: float, beside: float) -> str:
    """Return thousands with as many decimals as it takes to tell it from what stands beside it."""
    decimals = next((n for n in (1, 2, 3, 4, 5) if f"{value / 1000:.{n}f}" != f"{beside / 1000:.{n}f}"), 1)
    return f"{value / 1000:.{decimals}f}"


class Switchboard:
    """The circuits with what they remember; steps are counted from the outage's begin."""

    def __init__(self, circuits: list[Circuit], lines: Lines | None, steps: int, step_h: float, shedding: bool) -> None:
        count = len(circuits)
        self.circuits, self.lines, self.steps, self.step_h, self.shedding = circuits, lines, steps, step_h, shedding
        self.watts = np.array([c.watts for c in circuits]).reshape(count, steps)
        line_total = 1 if lines is None else len(lines.names)
        self.shares = np.array([c.shares for c in circuits]).reshape(count, -1) if count else np.zeros((0, line_total))
        factors = np.array([c.power_factor for c in circuits])
        self.per_va = self.shares / factors[:, None] if count else self.shares
        live = None if lines is None else lines.live
        self.dead = np.array([live is not None and is_dead(tuple(c.shares.tolist()), live) for c in circuits], dtype=bool)
        self.soaks = np.array([c.day_wh is not None for c in circuits], dtype=bool)
        marked = np.array([c.essential for c in circuits], dtype=bool)
        self.vital = marked if marked.any() else ~self.soaks
        self.gone, self.low = np.zeros(count, dtype=bool), np.zeros(count, dtype=bool)
        self.off_until, self.low_until = np.full(count, -1), np.full(count, -1)
        self.soaked, self.day = np.zeros(count), 0
        self.by_charge = [k for k, c in enumerate(circuits) if c.charge is not None and (shedding or c.day_wh is not None)]
        self.least_off = [max(1, round(c.least_off_s / 3600.0 / step_h)) for c in circuits]
        plain = ~self.soaks
        self.base_w, self.dead_w = self.watts[plain].sum(axis=0), self.watts[plain & self.dead].sum(axis=0)
        self.vital_base_w, self.vital_dead_w = (
            self.watts[plain & self.vital].sum(axis=0), self.watts[plain & self.vital & self.dead].sum(axis=0),
        )  # fmt: skip
        self.was_over = np.zeros(steps, dtype=bool)
        self.lacked_wh, self.shed_wh = np.zeros(count), np.zeros(count)
        self._moments: list[tuple[float, Moment]] = []
        judged = lines is not None and not (lines.peak_va is None and lines.bank_w is None and lines.lra_a is None)
        self.starters = [k for k, c in enumerate(circuits) if judged and c.start is not None and not self.dead[k]]

    # --- what is on
    def begin(self, charge: float) -> list[Event]:
        """Set out at a charge; returns what is said of lines on which nothing forms a grid."""
        for k in self.by_charge:
            off, on = self._charge_of(k)
            self.low[k] = charge < (on if self.soaks[k] else off)
        if not self.dead.any() or self.lines is None:
            return []
        names = [self.circuits[k].name for k in np.flatnonzero(self.dead)]
        where = " and ".join(name for name, alive in zip(self.lines.names, self.lines.live, strict=True) if not alive)
        return [(0, "dead", f"nothing forms a grid on {where}: {', '.join(names)} {'are' if len(names) > 1 else 'is'} dark")]

    def _charge_of(self, k: int) -> tuple[float, float]:
        charge = self.circuits[k].charge
        assert charge is not None
        return charge

    def on(self, step: int) -> Marks:
        """Return which circuits are on in a step. (circuits,)"""
        day = int(step * self.step_h // DAY_H)
        if day != self.day:
            self.day, self.soaked[:] = day, 0.0
        full = np.array(
            [c.day_wh is not None and self.soaked[k] >= c.day_wh - 1e-6 for k, c in enumerate(self.circuits)], dtype=bool
        )
        marks: Marks = ~(self.dead | self.gone | self.low | (self.off_until > step) | full)
        return marks

    def watts_of(self, on: Marks, i: int, j: int) -> Array:
        """Return what circuits draw together. (steps,) [W]"""
        total: Array = self.watts[on, i:j].sum(axis=0)
        return total

    def soaked_w(self, on: Marks, i: int, j: int) -> Array:
        """Return what loads on surplus draw. (steps,) [W]"""
        return self.watts_of(on & self.soaks, i, j)

    def vital_w(self, on: Marks, i: int, j: int) -> Array:
        """Return what must stay on of what is on. (steps,) [W]"""
        return self.watts_of(on & self.vital, i, j)

    def waiting_w(self, i: int, j: int) -> Array:
        """Return what circuits ask for that wait for a hand. (steps,) [W]"""
        return self.watts_of(self.gone & ~self.dead & ~self.soaks, i, j)

    def account_dark(self, i: int, j: int) -> None:
        """Take in steps in which nothing is served: what each load went without."""
        self.lacked_wh += np.where(self.soaks, 0.0, self.watts[:, i:j].sum(axis=1) * self.step_h)

    def account(self, on: Marks, i: int, j: int, lacking_w: Array) -> None:
        """Take in steps that are done: what loads on surplus had of their day, what each load went without, by its share. [W]"""
        drawn = self.watts[:, i:j].sum(axis=1) * self.step_h
        waits = (self.dead | self.gone) & ~self.soaks
        self.lacked_wh += np.where(waits, drawn, 0.0)
        self.shed_wh += np.where(~on & ~waits & ~self.soaks, drawn, 0.0)
        if lacking_w.any():
            served = self.watts_of(on, i, j)
            part = np.divide(lacking_w, served, out=np.zeros_like(served), where=served > 0)
            self.lacked_wh += np.where(on, (self.watts[:, i:j] * part).sum(axis=1) * self.step_h, 0.0)
        self.soaked += np.where(on & self.soaks, drawn, 0.0)

    def next_change(self, i: int, on: Marks) -> int:
        """Return the next step at which something may return, or a load on surplus has had its day."""
        out = self.steps
        for k in np.flatnonzero(self.off_until > i):
            out = min(out, int(self.off_until[k]))
        for k in np.flatnonzero(self.low & (self.low_until > i)):
            out = min(out, int(self.low_until[k]))
        if self.soaks.any():
            out = min(out, int((int(i * self.step_h // DAY_H) + 1) * DAY_H / self.step_h + 1e-9))
            for k in np.flatnonzero(on & self.soaks):
                left = (self.circuits[k].day_wh or 0.0) - self.soaked[k]
                out = min(out, i + max(1, int(np.ceil(left / max(self.watts[k, i], 1e-9) / self.step_h))))
        return max(i + 1, out)

    def returns(self, i: int) -> list[Event]:
        """Put on again what was shed long enough and fits; what does not fit stays off as long once more."""
        said: list[Event] = []
        for k in np.flatnonzero(self.off_until == i):
            on = self.on(i)
            on[k] = True
            if self._over(self._need(on, i, i + 1, np.zeros(1), None))[0]:
                self.off_until[k] = i + self.least_off[k]
            elif not (self.gone[k] or self.low[k]):
                said.append((i, "return", f"{self.circuits[k].name} is on again"))
        return said

    def interrupted(self, step: int, on: Marks) -> list[Event]:
        """Everything was off: what does not return by itself waits for a hand."""
        lost = [k for k in np.flatnonzero(on) if not self.circuits[k].returns and self.watts[k, step] > RUNS_W]
        self.gone[lost] = True
        names = ", ".join(self.circuits[k].name for k in lost)
        return [(step, "waits", f"{names} will not return by {'themselves' if len(lost) > 1 else 'itself'}")] if lost else []

    # --- charge
    def first_turn(self, i: int, charge: Array) -> int | None:
        """Return the first step after which a circuit goes off or on by charge; None where none does."""
        out: int | None = None
        for k in self.by_charge:
            off, again = self._charge_of(k)
            if self.low[k]:
                turns = (charge >= again) & (i + 1 + np.arange(len(charge)) >= self.low_until[k])
            else:
                turns = charge < off
            at = np.flatnonzero(turns)
            if len(at):
                out = int(at[0]) if out is None else min(out, int(at[0]))
        return out

    def turn(self, step: int, charge: float) -> list[Event]:
        """Switch by charge before a step; returns what is said of it."""
        said: list[Event] = []
        for k in self.by_charge:
            name, (off, again) = self.circuits[k].name, self._charge_of(k)
            if self.low[k] and charge >= again and step >= self.low_until[k]:
                self.low[k] = False
                word = "takes what is left over" if self.soaks[k] else "is on again"
                said.append((step, "return", f"{name} {word}: {charge * 100:.0f} % of charge, above {again * 100:.0f} %"))
            elif not self.low[k] and charge < off:
                self.low[k], self.low_until[k] = True, step + self.least_off[k]
                said.append((step, "shed", f"{name} is off: {charge * 100:.0f} % of charge, below {off * 100:.0f} %"))
        return said

    # --- power
    def _need(self, on: Marks, i: int, j: int, relief: Array, shares: Array | None) -> Array:
        """Return what each line is asked for, less what the bus brings there. (steps, lines) [VA]"""
        need: Array = self.watts[on, i:j].T @ self.per_va[on]
        return need if shares is None else need - np.outer(relief, shares)

    def _over(self, need: Array) -> Marks:
        """Return the steps in which a line is asked for more than it carries all day. (steps,)"""
        if self.lines is None or self.lines.continuous_va is None:
            return np.zeros(len(need), dtype=bool)
        marks: Marks = np.any((need > self.lines.continuous_va * NEAR) & self.lines.live, axis=1)
        return marks

    def first_trouble(self, i: int, j: int, on: Marks, relief: Array, shares: Array) -> tuple[int, str]:
        """Return the first step in which a line is asked for more than it carries or a motor does not start, and why; else `j`."""
        if self.lines is None or not len(self.circuits):
            return j, ""
        need = self._need(on, i, j, relief if len(relief) == j - i else np.full(j - i, relief[0]), shares)
        over = self._over(need)
        at, said = self._overload(i, need, over)
        end = j if at is None else i + at
        for k in self.starters:
            if not on[k]:
                continue
            begins = self.circuits[k].starts_at
            for step in begins[np.searchsorted(begins, i) : np.searchsorted(begins, end)].tolist():
                wrong = self._start(step, k, need[step - i])
                if wrong and step < end:
                    end, said = step, wrong
                    break
        self.was_over[i:end] = over[: end - i]
        return end, said

    def _overload(self, i: int, need: Array, over: Marks) -> tuple[int | None, str]:
        lines = self.lines
        assert lines is not None
        if not over.any():
            return None, ""
        step_s, seconds, last = self.step_h * 3600.0, 0.0, -1
        back = i - 1
        while back >= 0 and self.was_over[back]:
            seconds, back = seconds + step_s, back - 1
        for k in np.flatnonzero(over).tolist():
            seconds = seconds + step_s if k == last + 1 else step_s
            last = k
            peak = lines.peak_va
            within = peak is not None and lines.peak_s is not None and not np.any((need[k] > peak * NEAR) & lines.live)
            if within and seconds <= (lines.peak_s or 0.0):
                continue
            return k, self._overload_words(i + k, need[k], within=bool(within))
        return None, ""

    def _overload_words(self, step: int, need: Array, *, within: bool) -> str:
        lines = self.lines
        assert lines is not None
        assert lines.continuous_va is not None
        worst = int(np.argmax(need / np.maximum(lines.continuous_va, 1e-9)))
        on = self.on(step)
        drawn = np.where(on, self.watts[:, step] * self.shares[:, worst], 0.0)
        names = [self.circuits[k].name for k in np.argsort(-drawn)[:2] if drawn[k] > RUNS_W]
        where = f" on {lines.names[worst]}" if lines.names[worst] else ""
        most = float(lines.continuous_va[worst])
        limit = f"the limit is {_k(most, float(need[worst]))} kVA"
        if within and lines.peak_s is not None:
            limit += f", more for {lines.peak_s:g} s"
        verb = "ask" if len(names) != 1 else "asks"
        return f"{' and '.join(names) or 'the loads'} {verb} for {_k(float(need[worst]), most)} kVA{where}, {limit}"

    def _start(self, step: int, k: int, need: Array) -> str:
        """Return what is said of a start that does not succeed; nothing where it does."""
        circuit = self.circuits[k]
        assert circuit.start is not None
        own = self.per_va[k] * self.watts[k, step]
        return self._starts(step, [(k, circuit.start)], np.maximum(0.0, need - own), f"{circuit.name} starts")

    def together(self, step: int, on: Marks, relief: Array, shares: Array) -> str:
        """Return what is said where all motors that run after an interruption do not start together; nothing where they do."""
        starts = [
            (k, s) for k in self.starters if on[k] and self.watts[k, step] > RUNS_W and (s := self.circuits[k].start) is not None
        ]
        if not starts:
            return ""
        rest = on.copy()
        rest[[k for k, _ in starts]] = False
        need = np.maximum(0.0, self._need(rest, step, step + 1, relief, shares)[0])
        names = " and ".join(self.circuits[k].name for k, _ in starts)
        return self._starts(step, starts, need, f"{names} {'start at once' if len(starts) > 1 else 'starts'}")

    def _starts(self, step: int, starts: list[tuple[int, Start]], rest: Array, who: str) -> str:
        """Judge starts on top of what else runs, on each line, against the inverters and the batteries."""
        lines = self.lines
        assert lines is not None
        takes = max(s.takes_s for _, s in starts)
        asked = sum((s.start_va * self.shares[k] for k, s in starts), np.zeros(len(lines.names)))
        carried = lines.start_va(takes)
        worst, ratio, said, held = 0, 0.0, "", (0.0, 1.0, "apparent_va")
        for i in np.flatnonzero((asked > 0) & lines.live).tolist():
            where = f" on {lines.names[i]}" if lines.names[i] else ""
            amps = [s.lra_a for _, s in starts]
            if lines.lra_a is not None and None not in amps:
                value, limit = sum(a for a in amps if a is not None) + rest[i] / lines.volts_v, lines.lra_a
                words = f"{who}{where}: {value:.0f} A of {limit:.0f} LRA that the card starts"
                row = (limit * lines.volts_v, 1.0, "apparent_va")
            elif carried is not None:
                value, limit = asked[i] + rest[i], float(carried[i])
                words = f"{who}{where}: {_k(value, limit)} kVA for {takes:g} s, the limit is {_k(limit, value)} kVA"
                row = (limit, 1.0, "apparent_va")
            else:
                continue
            if lines.bank_w is not None:
                real = asked[i] * lines.start_power_factor + rest[i]
                if lines.bank_w[i] > 0 and real / lines.bank_w[i] > value / max(limit, 1e-9):
                    value, limit = real, float(lines.bank_w[i])
                    words = f"{who}{where}: {_k(value, limit)} kW for {takes:g} s, the battery gives {_k(limit, value)} kW"
                    row = (limit, lines.start_power_factor, "power_w")
            if value / max(limit, 1e-9) > ratio:
                worst, ratio, said, held = i, value / max(limit, 1e-9), words, row
        if ratio > 0:
            self._keep_start(step, starts, worst, rest, held, (ratio, said))
        return said if ratio > NEAR else ""

    def _keep_start(
        self,
        step: int,
        starts: list[tuple[int, Start]],
        line: int,
        rest: Array,
        held: tuple[float, float, str],
        told: tuple[float, str],
    ) -> None:
        """Keep a start's seconds: `held` are its limit, the part of its VA that counts there, and the quantity."""
        limit, factor, quantity = held
        second = np.arange(MOMENT_S) - 2.0
        value = np.full(MOMENT_S, rest[line])
        for k, s in starts:
            running = self.per_va[k, line] * self.watts[k, step]
            value += np.where(second < 0, 0.0, np.where(second < s.takes_s, factor * s.start_va * self.shares[k, line], running))
        limits = np.full(MOMENT_S, limit)
        lines = self.lines
        if lines is not None and lines.continuous_va is not None:
            limits[second >= max(s.takes_s for _, s in starts)] = lines.continuous_va[line]
        made = Moment(step=step, kind="start", words=told[1], value=value, limit=limits, quantity=quantity)
        self.keep(made, told[0])

    def keep(self, moment: Moment, weight: float = 9.0) -> None:
        """Keep a moment where it is among those that weigh most."""
        if any(m.step == moment.step and m.kind == moment.kind for _, m in self._moments):
            return
        self._moments.append((weight, moment))
        self._moments.sort(key=lambda row: -row[0])
        del self._moments[MOST_MOMENTS:]

    def told_moments(self) -> list[Moment]:
        """Return the moments that weigh most, in their order."""
        return sorted((moment for _, moment in self._moments), key=lambda moment: moment.step)

    def shed(self, i: int, relief: Array, shares: Array) -> list[Event] | None:
        """Shed what may be shed until the step fits, what has a place in the order first; None where that does not help."""
        on = self.on(i)
        may = [
            k
            for k in np.flatnonzero(on)
            if self.watts[k, i] > RUNS_W and (self.soaks[k] or (self.shedding and self.circuits[k].sheddable))
        ]
        may.sort(key=lambda k: (not self.soaks[k], self.circuits[k].order or 99, -self.watts[k, i]))
        dropped: list[int] = []
        for k in [int(k) for k in may]:
            dropped.append(k)
            on[k] = False
            if not self.trouble_now(i, on, relief, shares):
                for d in dropped:
                    self.off_until[d] = i + self.least_off[d]
                return [(i, "shed", f"{self.circuits[d].name} is shed, {self.watts[d, i] / 1000:.1f} kW") for d in dropped]
        return None

    def trouble_now(self, i: int, on: Marks, relief: Array, shares: Array) -> str:
        """Return why a step does not fit; nothing where it does."""
        need = self._need(on, i, i + 1, relief[:1], shares)
        over = self._over(need)
        if over[0]:
            at, said = self._overload(i, need, over)
            if at is not None:
                return said
        for k in self.starters:
            if on[k] and i in self.circuits[k].starts_at:
                wrong = self._start(i, k, need[0])
                if wrong:
                    return wrong
        return ""
