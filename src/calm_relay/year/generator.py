"""A generator set in an outage: what it gives where it stands, its fuel, and when it starts and stops by the battery's charge."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import in_window
from calm_relay.job.models import GeneratorChoice, Job
from calm_relay.library.cards import GeneratorCard
from calm_relay.simulation.columns import AC_PV_B, AC_PV_B_FIXED, NODE_ENERGY, NODE_ENERGY_PV
from calm_relay.simulation.flow import FlowTable, run_case
from calm_relay.simulation.pack import Packed
from calm_relay.year.generator_figures import derated_va, litres_per_h

Array = NDArray[np.float64]
USUAL_LEAST_FRAC = 0.3  # of its rating, below which a set loafs; common practice


@dataclass(frozen=True)
class GeneratorSet:
    """A set as a drill runs it: watts it gives, and by which charge, in which hours and for how long."""

    card: GeneratorCard
    gives_w: float
    start_frac: float
    stop_frac: float
    quiet_start_h: float | None
    quiet_end_h: float | None
    locks_pv_out: bool

    @property
    def least_w(self) -> float:
        """What it should be loaded with at least. [W]"""
        least = USUAL_LEAST_FRAC if self.card.least_load_frac is None else self.card.least_load_frac
        return least * self.card.rated_va * self.card.power_factor_frac

    def may_run(self, clock_hour: float) -> bool:
        """Return whether a clock hour is no quiet one."""
        if self.quiet_start_h is None or self.quiet_end_h is None:
            return True
        return not bool(in_window(np.array([clock_hour]), self.quiet_start_h, self.quiet_end_h)[0])


def generator_set(job: Job, choice: GeneratorChoice, card: GeneratorCard, air_c: float) -> GeneratorSet:
    """Return the set of a plan at the job's height and an air temperature. [°C]"""
    return GeneratorSet(
        card=card,
        gives_w=derated_va(card, job.site.place.altitude_m, air_c) * card.power_factor_frac,
        start_frac=choice.start_soc_frac,
        stop_frac=choice.stop_soc_frac,
        quiet_start_h=choice.quiet_start_h,
        quiet_end_h=choice.quiet_end_h,
        locks_pv_out=choice.pv_locked_out == "yes",
    )


@dataclass(frozen=True, eq=False)
class SetRun:
    """An island run with a set: its pieces put together, watts the set gave per minute, fuel burnt, events (minute, kind, words).

    `litres` is None where the card says nothing of fuel. [W], [l]
    """

    flow: FlowTable
    given_w: Array
    litres: float | None
    events: list[tuple[int, str, str]]


def run_with_set(window: Packed, energy_wh: Array, energy_pv_wh: Array, unit: GeneratorSet, clock_hour: Array) -> SetRun:
    """Run an island minute by minute with a set that starts and stops by the battery's charge.

    While it runs, PV inverters on its bus are locked out; what it gives beyond the loads charges the battery as far as that takes
    it.

    Parameters
    ----------
    window : Packed
        The island at one minute a step.
    clock_hour : ndarray (minutes,)
        Clock time of each minute, for quiet hours. [h]
    """
    minutes = len(window.ac)
    low, high = (window.nodes[name] * window.nodes["capacity_wh"] for name in ("soc_min", "soc_max"))
    span = max(float(high.sum() - low.sum()), 1e-9)
    energy, energy_pv = energy_wh.copy(), energy_pv_wh.copy()
    systems, nodes, given = [], [], np.zeros(minutes)
    events: list[tuple[int, str, str]] = []
    quiet = np.array([not unit.may_run(float(hour)) for hour in clock_hour])
    running, begin, litres, tank = False, 0, 0.0, unit.card.tank_l
    while begin < minutes:
        ac = window.ac[begin:].copy()
        if running:
            ac[:, AC_PV_B], ac[:, AC_PV_B_FIXED] = unit.gives_w, 0.0
        part = replace(
            window, ac=ac, pv_dc=window.pv_dc[begin:], codes=window.codes[begin:],
            bank=window.bank if len(window.bank) == 1 else window.bank[begin:],
        )  # fmt: skip
        flow = run_case(part, energy, energy_pv)
        charge = (flow.nodes[:, :, NODE_ENERGY].sum(axis=1) - float(low.sum())) / span
        gave = unit.gives_w - flow.column("pv_only_lost_island_w") if running else np.zeros(len(charge))
        burnt = (
            np.array([litres_per_h(unit.card, float(w) / max(unit.gives_w, 1e-9)) or 0.0 for w in gave]) / 60.0 if running else gave
        )
        empty = np.full(len(charge), False) if tank is None else litres + np.cumsum(burnt) >= tank
        if running:
            turns = (charge >= unit.stop_frac) | quiet[begin:] | empty
        else:
            turns = (charge < unit.start_frac) & ~quiet[begin:]
            if tank is not None and litres >= tank:
                turns[:] = False
        at = np.flatnonzero(turns)
        cut = int(at[0]) + 1 if len(at) else len(charge)
        systems.append(flow.system[:cut])
        nodes.append(flow.nodes[:cut])
        given[begin : begin + cut] = gave[:cut]
        litres += float(burnt[:cut].sum())
        energy = flow.nodes[cut - 1, :, NODE_ENERGY].astype(float).copy()
        energy_pv = flow.nodes[cut - 1, :, NODE_ENERGY_PV].astype(float).copy()
        begin += cut
        if begin >= minutes:
            break
        if not running:
            events.append((begin, "generator", f"the generator starts at {charge[cut - 1] * 100:.0f} % of charge"))
        else:
            why = "the tank is empty" if empty[cut - 1] else "quiet hours begin" if quiet[begin - 1] else "the battery is charged"
            mean_w = float(gave[:cut].mean())
            loafs = f"; it gave {mean_w / 1000:.1f} kW on the mean, less than the {unit.least_w / 1000:.1f} kW it wants"
            events.append(
                (
                    begin,
                    "generator",
                    f"the generator stops: {why}, {charge[cut - 1] * 100:.0f} %{loafs if mean_w < unit.least_w else ''}",
                )
            )
        running = not running
    known = litres_per_h(unit.card, 0.5) is not None
    whole = replace(flow, system=np.concatenate(systems), nodes=np.concatenate(nodes))
    return SetRun(whole, given, litres if known else None, events)
