"""Motor starts on the backup side: each on its own phase or leg, against what the units there and their batteries carry."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from calm_relay.job.edits import Edit
from calm_relay.job.house_models import Appliance
from calm_relay.library.cards import InverterCard
from calm_relay.load.motors import MotorStart, motor_start, soft_start_counts, soft_start_share
from calm_relay.plant.chain import modules_fit
from calm_relay.plant.lines import load_shares, shares_of
from calm_relay.plant.offgrid import bank_w, lines_va, start_va
from calm_relay.plant.resolve import with_bank
from calm_relay.plant.station import BatteryRow
from calm_relay.plant.unit import unit_of
from calm_relay.rules.checks_battery import swap_card, swap_edits
from calm_relay.rules.checks_service import backup_appliances, running_va
from calm_relay.rules.registry import CheckContext, Finding, Remedy, check, finding, unknown
from calm_relay.units import format_quantity as show

Array = NDArray[np.float64]


@dataclass(frozen=True)
class _Case:
    """One motor's start on one line, with what else runs there: a value against a limit of one kind."""

    load: Appliance
    start: MotorStart
    line: str  # empty: a single phase
    value: float
    limit: float
    quantity: str
    words: str

    @property
    def asks(self) -> float:
        """Return the value as a share of its limit."""
        return self.value / self.limit if self.limit > 0 else float("inf")


@dataclass(frozen=True, eq=False)
class _Rest:
    """What runs beside a start on each line. (lines,) each [VA], [W]"""

    lines: int
    va: Array
    w: Array


_Cases = Callable[[CheckContext, Appliance, MotorStart, _Rest, Sequence[BatteryRow]], list[_Case]]


@check(
    "backup.motor-start", "Largest motor start", page="plans", needs={"plan"}, short="Largest start",
    source="the program's definitions, D15: start on top of the rest running (common practice); NEC 430.7(B), from memory",
)  # fmt: skip
def largest_motor_start(c: CheckContext) -> Iterator[Finding]:
    """The start that asks most of what its line is given: the units' peak there, or the LRA that a card states."""
    yield from _worst(c, "backup.motor-start", _unit_cases, "the inverter's off-grid peak power and its time")


@check(
    "backup.start-from-battery", "Largest start from the battery", page="plans", needs={"plan"}, short="Start from battery",
    source="the battery's own discharge limit, which has no peak; power factor of a start, common practice",
)  # fmt: skip
def start_from_battery(c: CheckContext) -> Iterator[Finding]:
    """The real power of a start with the rest running, against what the batteries behind its line give at AC."""
    yield from _worst(c, "backup.start-from-battery", _bank_cases, "the battery's discharge limit")


def _worst(c: CheckContext, check_id: str, cases_of: _Cases, silent: str) -> Iterator[Finding]:
    """Return the case that asks most of its limit as the check's finding."""
    forming = c.plant.forming
    starts, running = _backup_starts(c)
    if not starts or not forming:
        return
    cases: list[_Case] = []
    for load, start in starts:
        made = cases_of(c, load, start, _running(running, load, c.plant.lines.count), forming)
        if not made:
            yield unknown(c, check_id, load.name, f"{silent}: see the data sheet")
            return
        cases += made
    worst = max(cases, key=lambda case: case.asks)
    subject = worst.load.name + (f", {worst.line}" if worst.line else "")
    words = worst.words + _together(starts, running)
    yield finding(c, check_id, subject, worst.quantity, worst.value, worst.limit, "most", words, remedies=_ease(c, worst, forming))


def _backup_starts(c: CheckContext) -> tuple[list[tuple[Appliance, MotorStart]], list[Appliance]]:
    """Return the motors on the backup side with their starts, and what is taken to run beside them; nothing without such a side."""
    if not c.plan.has_backup_side:
        return [], []
    loads = backup_appliances(c)
    factor, soft = c.pack.value("lra_per_running_amp"), c.pack.value("soft_start_frac")
    starts = [(a, s) for a in loads if (s := motor_start(a, factor, soft)) is not None]
    # A list of loads is what runs together; of a whole house only what is marked essential is taken to run.
    running = [a for a in loads if a.essential or (c.plan.transfer is not None and c.plan.transfer.backed_up == "listed")]
    return starts, running


@dataclass(frozen=True)
class StartRow:
    """A motor's start on one line, alone or with the rest running, or all of them at once, against one limit. [VA, W or A]"""

    name: str
    way: str
    line: str
    value: float
    limit: float
    quantity: str
    of: str

    @property
    def within(self) -> bool:
        """Whether it is within the limit used."""
        return self.value <= self.limit * (1.0 + 1e-9)


ALONE, BESIDE, AT_ONCE = "alone", "with the rest running", "all at once"


def start_rows(c: CheckContext) -> tuple[StartRow, ...]:
    """Return every motor's start on the backup side: alone, staggered on what runs beside it, and all at once.

    Each is on the lines it lies on, against the inverters' peak for as long as it takes, or the LRA that a card states, and against
    what the batteries give. Nothing where a card is silent.
    """
    forming = c.plant.forming
    starts, running = _backup_starts(c)
    if not starts or not forming:
        return ()
    lines, out = c.plant.lines.count, []
    none = _Rest(lines, np.zeros(lines), np.zeros(lines))
    motors = {load.id for load, _ in starts}
    still = [a for a in running if a.id not in motors]
    for cases_of, of in ((_unit_cases, "the inverters' peak"), (_bank_cases, "what the batteries give")):
        by_line: dict[tuple[str, str], list[_Case]] = {}
        for load, start in starts:
            for way, rest in ((ALONE, none), (BESIDE, _running(running, load, lines))):
                for case in cases_of(c, load, start, rest, forming):
                    out.append(_row(load.name, way, case, case.value, of))
                    if way == ALONE:
                        by_line.setdefault((case.line, case.quantity), []).append(case)
        rest = _running(still, starts[0][0], lines)
        for (line, quantity), cases in by_line.items():
            if len(cases) < 2 or quantity == "current_a":
                continue
            i = next(k for k in range(lines) if lines == 1 or c.plant.lines.names[k] == line)
            beside = float(rest.va[i] if quantity == "apparent_va" else rest.w[i])
            least = min(cases, key=lambda case: case.limit)
            out.append(_row(f"{len(cases)} motors", AT_ONCE, least, sum(case.value for case in cases) + beside, of))
    return tuple(out)


def _row(name: str, way: str, case: _Case, value: float, of: str) -> StartRow:
    return StartRow(name=name, way=way, line=case.line, value=value, limit=case.limit, quantity=case.quantity, of=of)


def _unit_cases(c: CheckContext, load: Appliance, start: MotorStart, rest: _Rest, forming: Sequence[BatteryRow]) -> list[_Case]:
    """Return a start against the units, a case a line; nothing where a card is silent."""
    takes_s = _takes_s(c, load)
    peak = lines_va(c.plant, lambda row: start_va(row, takes_s))
    lra = forming[0].unit.startable_lra_a if len(forming) == 1 else None
    out = []
    for i, on, name, share in _lines_of(c, load, rest.lines):
        at = f" on {name}" if name else ""
        if lra is not None and start.lra_a is not None:
            beside = rest.va[i] / c.plant.lines.volts_v
            words = (
                f"{load.name}: {start.how}, with {beside:.1f} A of other backed-up loads running{at}; the card starts {lra:g} LRA"
            )
            value, limit, quantity = start.lra_a + beside, lra, "current_a"
        elif peak is None:
            return []
        else:
            va = start.start_va * on
            value, limit, quantity = va + rest.va[i], float(peak[i]), "apparent_va"
            words = (
                f"{load.name}: {start.how}{share} = {va / 1000:.1f} kVA, with {rest.va[i] / 1000:.1f} kVA of other backed-up loads "
                f"running{at} = {value / 1000:.1f} of {limit / 1000:.1f} kVA for {takes_s:g} s"
            )
        out.append(_Case(load=load, start=start, line=name, value=float(value), limit=limit, quantity=quantity, words=words))
    return out


def _bank_cases(c: CheckContext, load: Appliance, start: MotorStart, rest: _Rest, forming: Sequence[BatteryRow]) -> list[_Case]:
    """Return a start against the batteries, a case a line; nothing where a card is silent."""
    bank = lines_va(c.plant, bank_w)
    if bank is None:
        return []
    out, real = [], c.pack.value("start_power_factor")
    for i, on, name, share in _lines_of(c, load, rest.lines):
        watts = start.start_va * on * real
        value, limit, at = float(watts + rest.w[i]), float(bank[i]), f" on {name}" if name else ""
        words = (
            f"{load.name}: {start.how}{share} × power factor {real:g} = {watts / 1000:.1f} kW, with {rest.w[i] / 1000:.1f} kW of "
            f"other backed-up loads running{at} = {value / 1000:.1f} of {limit / 1000:.1f} kW that the battery gives"
        )
        out.append(_Case(load=load, start=start, line=name, value=value, limit=limit, quantity="power_w", words=words))
    return out


def _lines_of(c: CheckContext, load: Appliance, count: int) -> Iterator[tuple[int, float, str, str]]:
    """Yield the lines that a motor lies on: place, its share there, the line's name if there are several, the share in words."""
    shares = load_shares(load, count)
    for i in np.flatnonzero(np.array(shares) > 0):
        on = float(shares[i])
        yield int(i), on, c.plant.lines.names[int(i)] if count > 1 else "", f" × {on:.2g}" if on < 1 else ""


def _takes_s(c: CheckContext, load: Appliance) -> float:
    """Return how long an appliance's motor takes to start (definitions D15), by the pack. [s]"""
    assert load.motor is not None
    return c.pack.value(f"start_{load.motor.kind}_s")


def _running(running: list[Appliance], start: Appliance, count: int) -> _Rest:
    """Return what runs beside a start, on each line."""
    va, w = np.zeros(count), np.zeros(count)
    for load in running:
        if load.id != start.id:
            va += running_va(load) * np.array(shares_of(load.line, count))
            w += load.running_w * np.array(shares_of(load.line, count))
    return _Rest(count, va, w)


def _together(starts: list[tuple[Appliance, MotorStart]], running: list[Appliance]) -> str:
    """Return what all motors ask that start at once, beside the rest running; nothing for a single motor."""
    if len(starts) < 2:
        return ""
    motors = {load.id for load, _ in starts}
    total = sum(s.start_va for _, s in starts) + sum(running_va(a) for a in running if a.id not in motors)
    words = "both motors" if len(starts) == 2 else f"all {len(starts)} motors"
    return f"; {words} at once would ask {show(total, 'apparent_va')}"


def _ease(c: CheckContext, case: _Case, forming: Sequence[BatteryRow]) -> list[Remedy]:
    """Return a soft starter where it may be counted on, a larger forming inverter where there is one, more battery."""
    out, load, motor = [], case.load, case.load.motor
    assert motor is not None
    soft = soft_start_share(motor, c.pack.value("soft_start_frac"))
    whole = case.start.lra_a if case.quantity == "current_a" and case.start.lra_a else case.start.start_va
    part = whole * (c.pack.value("start_power_factor") if case.quantity == "power_w" else 1.0)
    on = 1.0 if case.quantity == "current_a" else max(load_shares(load, c.plant.lines.count))
    if not motor.soft_starter and soft_start_counts(motor) and case.value - part * on * (1 - soft) <= case.limit:
        edit = Edit(f"house.appliances[{load.id}].motor.soft_starter", value=True)
        out.append(Remedy(f"a soft starter on {load.name} (about {soft * 100:.0f} % of the start)", (edit,)))
    if case.quantity == "apparent_va" and len(forming) == 1 and not case.line:
        row, takes_s = forming[0], _takes_s(c, load)

        def carries(card: InverterCard) -> bool:
            swapped = replace(row, unit=unit_of(card))
            return (start_va(swapped, takes_s) or 0.0) >= case.value and swapped.unit.grid_forming

        best = swap_card(c, row.station, carries, lambda card: card.ac_rated_w)
        if best is not None:
            out.append(Remedy(f"{best.name} in place of {row.station.model.name}", swap_edits(c, row.station, best)))
    if case.quantity == "power_w" and len(forming) == 1 and not case.line:
        row = forming[0]
        for n in range(row.bank.modules + 1, row.bank.cells.modules_max + 1):
            more = with_bank(row, modules=n)
            if (bank_w(more) or 0.0) >= case.value and modules_fit(row.unit, row.bank.cells, n):
                edit = Edit(c.path(f"nodes[{row.station.id}].battery.modules"), n)
                out.append(Remedy(f"{n} battery modules instead of {row.bank.modules}", (edit,)))
                break
    unit = {"apparent_va": "kVA peak", "power_w": "kW from its battery", "current_a": "LRA"}[case.quantity]
    figure = f"{case.value:.0f}" if case.quantity == "current_a" else f"{case.value / 1000:.1f}"
    return [*out, Remedy(f"an inverter of at least {figure} {unit}" + (f" on {case.line}" if case.line else ""))]
