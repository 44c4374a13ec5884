"""What an island serves minute by minute: overload against the inverters' continuous rating and their peak, shedding, trips.

A minute above the continuous rating is passed only where the peak lasts that long; else loads that may be shed are shed, the
largest first, and what is still too much trips the inverters. They restart after a delay, so many times; circuits without an
automatic return stay off after a trip.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
RESTART_MIN = 1  # until the inverters try again, where no card says; common practice
RETRIES = 3  # until somebody has to reset them; common practice
LEAST_OFF_MIN = 10  # a load that is shed stays off at least so long; common practice


@dataclass(frozen=True)
class Circuit:
    """A circuit of the backup side: its watts per minute, power factor, whether it may be shed, whether it returns by itself."""

    name: str
    watts: Array
    power_factor: float = 1.0
    sheddable: bool = False
    returns: bool = True


@dataclass(frozen=True)
class Carried:
    """What the forming inverters carry: all day, and for so many seconds. [VA], [s]"""

    continuous_va: float
    short_va: float | None
    peak_s: float | None


@dataclass
class Served:
    """Watts asked for, shed and cut off by trips, per minute; and what happened: (minute, kind, words)."""

    asked_w: Array
    served_w: Array
    shed_w: Array
    tripped_w: Array
    events: list[tuple[int, str, str]] = field(default_factory=list)
    locked: bool = False


def serve(circuits: Mapping[str, Circuit], relief_w: Array, carried: Carried, *, shedding: bool) -> Served:
    """Return what is served minute by minute. (minutes,) [W]

    Parameters
    ----------
    circuits : mapping of id → Circuit
        Each with watts of the same minutes.
    relief_w : ndarray (minutes,)
        PV at AC on the same bus: what it gives the inverters need not. [W]
    carried : Carried
        Of all forming inverters together.
    shedding : bool
        Whether loads that may be shed are.
    """
    minutes = len(relief_w)
    zero = np.zeros(minutes)
    out = Served(sum((c.watts for c in circuits.values()), zero.copy()), zero.copy(), zero.copy(), zero.copy())
    back_at: dict[str, int] = {}  # minute from which a load that was shed may return
    gone: set[str] = set()  # circuits that do not return by themselves after a trip
    dark_until, tries, quiet = 0, 0, 0
    over = sum((c.watts / c.power_factor for c in circuits.values()), zero.copy()) - relief_w > carried.continuous_va
    for m in range(minutes):
        if out.locked or m < dark_until:
            out.tripped_w[m] = out.asked_w[m]
            continue
        if not over[m] and not gone and not back_at:
            out.served_w[m] = out.asked_w[m]
            quiet += 1
            tries = 0 if quiet >= LEAST_OFF_MIN else tries
            continue
        off = {name for name, until in back_at.items() if m < until} if shedding else set()
        on = {name: c for name, c in circuits.items() if name not in gone and name not in off}
        need = _va(on, m, relief_w)
        dropped: list[str] = []
        if need > carried.continuous_va and shedding:
            for name in sorted((n for n, c in on.items() if c.sheddable and c.watts[m] > 0), key=lambda n: -circuits[n].watts[m]):
                dropped.append(name)
                del on[name]
                need = _va(on, m, relief_w)
                if need <= carried.continuous_va:
                    break
        if need > carried.continuous_va and not _passes(need, carried):
            tries += 1
            quiet = 0
            lost = [circuits[n].name for n in on if not circuits[n].returns and circuits[n].watts[m] > 0]
            gone |= {n for n in on if not circuits[n].returns and circuits[n].watts[m] > 0}
            worst = sorted(on, key=lambda n: -circuits[n].watts[m])[:2]
            names = " and ".join(circuits[n].name for n in worst if circuits[n].watts[m] > 0)
            limit = f"{carried.continuous_va / 1000:.1f} kVA"
            said = f"{names or 'the loads'} ask for {need / 1000:.1f} kVA, the limit is {limit}: the inverters trip"
            out.events.append((m, "trip", said + (f"; {', '.join(lost)} will not return by itself" if lost else "")))
            out.tripped_w[m] = out.asked_w[m]
            dark_until = m + 1 + RESTART_MIN
            if tries > RETRIES:
                out.locked = True
                out.events.append((m, "locked", f"after {RETRIES} retries the inverters stay off until somebody resets them"))
            continue
        for name in dropped:
            if name not in back_at:
                words = f"{circuits[name].name} is shed, {circuits[name].watts[m] / 1000:.1f} kW"
                out.events.append((m, "shed", words))
            back_at[name] = m + LEAST_OFF_MIN
        for name in [n for n, until in back_at.items() if m >= until and n not in dropped]:
            del back_at[name]
            out.events.append((m, "return", f"{circuits[name].name} is on again"))
        quiet = quiet + 1 if need <= carried.continuous_va else 0
        tries = 0 if quiet >= LEAST_OFF_MIN else tries
        out.served_w[m] = sum(c.watts[m] for c in on.values())
        out.shed_w[m] = out.asked_w[m] - out.served_w[m]
    return out


def _va(on: Mapping[str, Circuit], minute: int, relief_w: Array) -> float:
    return float(sum(c.watts[minute] / c.power_factor for c in on.values()) - relief_w[minute])


def _passes(need_va: float, carried: Carried) -> bool:
    """Return whether a whole minute above the continuous rating is passed: only where the peak is high enough and lasts as long."""
    return carried.short_va is not None and carried.peak_s is not None and need_va <= carried.short_va and carried.peak_s >= 60.0
