"""The circuits of an outage: what each draws on which line, how it starts, when it is shed; and what its lines are given."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from calm_relay.job.house_models import Appliance, House
from calm_relay.load.house import HouseYear
from calm_relay.load.motors import motor_start
from calm_relay.packs.pack import Pack
from calm_relay.plant.lines import Shares, background_shares, load_shares
from calm_relay.plant.offgrid import bank_w, lines_va, offgrid_lines_va, start_va
from calm_relay.plant.whole import Plant

Array = NDArray[np.float64]
RUNS_W = 1.0  # less is off


@dataclass(frozen=True)
class Start:
    """A motor's start: apparent power, locked-rotor amps where the nameplate tells them, how long it takes, where it comes from."""

    start_va: float
    takes_s: float
    lra_a: float | None = None


@dataclass(frozen=True, eq=False)
class Circuit:
    """A circuit of the backup side: watts of each step, how it lies on the lines, and what may become of it.

    `charge` are the shares below which it is off and above which it is on again; `day_wh` is what a load that soaks up surplus
    takes a day at most: it draws `watts` whenever it is on. `starts_at` are the steps in which its motor starts.
    """

    id: str
    name: str
    watts: Array
    shares: Array
    power_factor: float = 1.0
    sheddable: bool = False
    order: int = 0
    charge: tuple[float, float] | None = None
    least_off_s: float = 600.0
    returns: bool = True
    essential: bool = False
    start: Start | None = None
    starts_at: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, dtype=np.int64))
    day_wh: float | None = None


@dataclass(frozen=True, eq=False)
class Lines:
    """What each line is given in an outage: all day, and through a start. (lines,) [VA], [W], [A]

    None: a card is silent. `peak_s`: how long the peak lasts. `lra_a`: locked-rotor amps that the card starts.
    """

    names: tuple[str, ...]
    volts_v: float
    continuous_va: Array | None
    peak_va: Array | None
    peak_s: float | None
    bank_w: Array | None
    lra_a: float | None
    start_power_factor: float

    @property
    def live(self) -> NDArray[np.bool_]:
        """Lines on which something forms a grid; all where a card is silent. (lines,) [yes or no]"""
        return np.ones(len(self.names), dtype=bool) if self.continuous_va is None else self.continuous_va > 0

    def start_va(self, takes_s: float) -> Array | None:
        """Return what each line carries through a start that takes so long. (lines,) [VA]"""
        if self.peak_va is None or self.peak_s is None:
            return None
        return self.peak_va if self.peak_s >= takes_s else self.continuous_va


def lines_of(plant: Plant, pack: Pack) -> Lines:
    """Return what a plan's forming inverters and their batteries give each line."""
    lines = plant.lines
    rows = plant.forming
    seconds = [row.unit.offgrid_peak_s for row in rows if row.unit.offgrid_peak_s is not None]
    return Lines(
        names=lines.names if lines.count > 1 else ("",),
        volts_v=lines.volts_v,
        continuous_va=_array(offgrid_lines_va(plant)),
        peak_va=_array(lines_va(plant, lambda row: start_va(row, 0.0))),
        peak_s=min(seconds) if rows and len(seconds) == len(rows) else None,
        bank_w=_array(lines_va(plant, bank_w)),
        lra_a=rows[0].unit.startable_lra_a if len(rows) == 1 else None,
        start_power_factor=pack.value("start_power_factor"),
    )


def _array(values: tuple[float, ...] | None) -> Array | None:
    return None if values is None else np.array(values)


def is_dead(shares: Shares, live: NDArray[np.bool_]) -> bool:
    """Return whether something lies on a line on which nothing forms a grid."""
    return any(share > 0 and not lives for share, lives in zip(shares, live.tolist(), strict=True))


def start_of(load: Appliance, pack: Pack) -> Start | None:
    """Return how a load's motor starts, by the pack's figures where its own are silent; None without a motor."""
    made = motor_start(load, pack.value("lra_per_running_amp"), pack.value("soft_start_frac"))
    if made is None or load.motor is None:
        return None
    return Start(made.start_va, pack.value(f"start_{load.motor.kind}_s"), made.lra_a)


def circuits_of(
    house: House, pack: Pack, year: HouseYear, at: NDArray[np.int64], ids: Iterable[str], lines: Lines
) -> list[Circuit]:
    """Return the circuits of an outage whose steps are `at` of the house's year, the background in its live and its dead part.

    Loads on surplus are among them where their ids are: they take what is left over.
    """
    count, wanted = len(lines.names), frozenset(ids)
    out = []
    for load in house.counted:
        if load.id not in wanted:
            continue
        surplus = load.surplus != "no"
        watts = np.full(len(at), load.running_w) if surplus else year.appliance_w[load.id][at]
        on = watts > RUNS_W
        out.append(
            Circuit(
                id=load.id, name=load.name, watts=watts, shares=np.array(load_shares(load, count)), power_factor=load.power_factor,
                sheddable=load.sheddable or surplus, order=load.shed_order, charge=load.outage_charge_frac,
                least_off_s=load.least_off_s, returns=not load.no_auto_return, essential=load.essential, start=start_of(load, pack),
                starts_at=np.flatnonzero(on[1:] & ~on[:-1]) + 1, day_wh=load.mean_day_wh if surplus else None,
            )
        )  # fmt: skip
    if "background" in wanted:
        shares, live = np.array(background_shares(house, count)), lines.live
        watts = year.background_w[at]
        alive, gone = float(shares[live].sum()), float(shares[~live].sum())
        if alive > 0:
            part = np.where(live, shares, 0.0) / alive
            out.append(Circuit("background", "everything else", watts * alive, part))
        if gone > 0:
            dead = Circuit("background-dead", "everything else there", watts * gone, np.where(live, 0.0, shares) / gone)
            out.append(dead)
    return out


def picked_hour(circuits: list[Circuit], running_w: Mapping[str, float], diversity: float, steps: int) -> list[Circuit]:
    """Return circuits of which those named run together for the first steps, at so much of their power; other loads are off then.

    A worst hour picked by hand: `running_w` are the watts of what runs; the background stays as it is.
    """

    def together(circuit: Circuit) -> Circuit:
        watts = circuit.watts.copy()
        watts[:steps] = diversity * running_w.get(circuit.id, 0.0)
        begins = circuit.starts_at[circuit.starts_at >= steps]
        return replace(circuit, watts=watts, starts_at=begins)

    return [c if c.day_wh is not None or c.id.startswith("background") else together(c) for c in circuits]
