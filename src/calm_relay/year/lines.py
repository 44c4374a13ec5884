"""Phases of a three-phase supply, or legs of a split-phase one: what each carries, in the house and at the meter."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from calm_relay.calendar import YearCalendar
from calm_relay.load.house import HouseYear
from calm_relay.plant.lines import Shares
from calm_relay.year.inputs import LineInputs
from calm_relay.year.plan_flow import PlanFlow

Array = NDArray[np.float64]


def house_lines_w(inputs: LineInputs, year: HouseYear) -> Array:
    """Return what the house draws from each line, (steps, lines). [W]"""
    return _loads_on_lines(inputs, year, None)


def _loads_on_lines(inputs: LineInputs, year: HouseYear, listed: frozenset[str] | None, *, apparent: bool = False) -> Array:
    """Return what listed loads (None: all) draw from each line, (steps, lines), real or apparent. [W or VA]"""
    count, factors = inputs.lines.count, dict(inputs.factors) if apparent else {}
    out = np.zeros((len(year.background_w), count))
    if count == 1:
        out[:, 0] = year.backup_va(listed, factors)
        return out
    if listed is None or "background" in listed:
        out += np.outer(year.background_w, inputs.background)
    for load, shares in inputs.loads:
        if listed is None or load in listed:
            watts = year.appliance_w[load]
            _put(out, watts / factors[load] if apparent else watts, shares)
    return out


def _put(out: Array, watts: Array, shares: Shares) -> None:
    """Add watts to the lines on which they lie. `out`: (steps, lines), `watts`: (steps,) [W]"""
    for line, share in enumerate(shares):
        if share == 1.0:
            out[:, line] += watts
        elif share:
            out[:, line] += watts * share


def _add_inverters(out: Array, inputs: LineInputs, sides: tuple[str, ...], made: PlanFlow) -> None:
    """Add to each line what inverters of some sides draw from it, less what they give. `out`: (steps, lines) [W]"""
    flow = made.flow
    for node_id, side, shares in inputs.stations:
        if side not in sides:
            continue
        if node_id in made.pv_only:
            _put(out, made.pv_only[node_id].own_draw_w - made.pv_only_ac_w(node_id), shares)
        elif node_id in flow.node_ids:
            net = flow.node_column(node_id, "ac_own_w") - flow.node_column(node_id, "ac_out_w")
            for name in ("ac_in_w", "car_ac_w"):
                if flow.has(name, node_id):
                    net += flow.node_column(node_id, name)
            _put(out, net, shares)


def net_lines_w(inputs: LineInputs, made: PlanFlow) -> Array:
    """Return what each line draws from the grid, below 0 where it gives, (steps, lines); its sum is import − export. [W]

    Inverters see the sum of the lines (definitions D6): one on a single phase serves the whole house through the meter. PV-only
    output is what limits left of it.
    """
    if inputs.one:
        meter: Array = made.flow.column("import_w") - made.flow.column("export_w")
        return meter[:, None]
    net = house_lines_w(inputs, made.house)
    _add_inverters(net, inputs, ("backup", "grid"), made)
    return net


@dataclass(frozen=True, eq=False)
class LineFlows:
    """What flows on each line of the supply, step by step: at the meter, + inwards, and through the transfer device, + towards the
    backup side. (steps, lines) [W]; `volts_v` is a line's voltage against the neutral.
    """

    names: tuple[str, ...]
    volts_v: float
    meter_w: Array
    device_w: Array

    @property
    def nbytes(self) -> int:
        """Bytes held by the series."""
        return self.meter_w.nbytes + self.device_w.nbytes


def line_flows(inputs: LineInputs, made: PlanFlow) -> LineFlows:
    """Return what a plan's year sends through each phase or leg; one line, 'supply', on a single phase."""
    lines = inputs.lines
    return LineFlows(
        names=lines.names if lines.count > 1 else ("supply",),
        volts_v=lines.volts_v,
        meter_w=net_lines_w(inputs, made),
        device_w=device_lines_w(inputs, made),
    )


@dataclass(frozen=True)
class LineFacts:
    """One line's year: the house on it, its backup side against what is made there with the grid gone, and the meter.

    `limit_va` is None where nothing forms the grid or a card is silent; `day_w` is the mean day by clock hour.
    """

    name: str
    energy_wh: float
    peak_w: float
    backed_peak_va: float
    limit_va: float | None
    over_h: float
    import_wh: float
    export_wh: float
    day_w: tuple[float, ...]


def line_facts(inputs: LineInputs, made: PlanFlow, calendar: YearCalendar, flows: LineFlows) -> tuple[LineFacts, ...]:
    """Return what each phase or leg carries, in the house and at the meter; nothing for a single phase.

    The limit is the part of what forms the grid in an outage that stands behind the line: on split phase half of it, on three
    phases that of the units on the phase. It is set against the apparent power of the loads behind the transfer device.
    """
    count, limits = inputs.lines.count, inputs.offgrid_va
    if count == 1:
        return ()
    loads, net = house_lines_w(inputs, made.house), flows.meter_w
    backed = _loads_on_lines(inputs, made.house, inputs.backed_up, apparent=True)
    hour, h = calendar.hour_of_clock, calendar.step_h
    per_hour = np.bincount(hour, minlength=24)
    out = []
    for i in range(count):
        limit = None if limits is None else float(limits[i])
        over = 0.0 if limit is None else float(np.count_nonzero(backed[:, i] > limit + 1e-9)) * h
        day = np.bincount(hour, weights=loads[:, i], minlength=24) / per_hour
        out.append(
            LineFacts(
                name=flows.names[i],
                energy_wh=float(loads[:, i].sum()) * h,
                peak_w=float(loads[:, i].max()),
                backed_peak_va=float(backed[:, i].max()),
                limit_va=limit,
                over_h=over,
                import_wh=float(np.maximum(net[:, i], 0.0).sum()) * h,
                export_wh=float(np.maximum(-net[:, i], 0.0).sum()) * h,
                day_w=tuple(float(v) for v in day),
            )
        )
    return tuple(out)


@dataclass(frozen=True)
class LineAmps:
    """Currents of one line in the year, real power over its volts: at the meter and through the transfer device. [A], [h]

    `fuse_hours_h` are those above the service's fuse, `device_hours_h` those above the device's rating; None where it has none.
    Means over a step: shorter peaks are higher.
    """

    name: str
    meter_a: float
    fuse_hours_h: float
    device_a: float
    device_hours_h: float | None


def line_amps(inputs: LineInputs, flows: LineFlows, step_h: float) -> tuple[LineAmps, ...]:
    """Return what each line of the supply carries, a single phase too."""

    def carried(watts: Array, limit_a: float | None) -> tuple[float, float | None]:
        """Return the highest amps of a line and the hours above a limit."""
        peak_a = max(float(watts.max()), -float(watts.min())) / flows.volts_v
        if limit_a is None or peak_a <= limit_a + 1e-6:
            return peak_a, None if limit_a is None else 0.0
        return peak_a, float(np.count_nonzero(np.abs(watts) / flows.volts_v > limit_a + 1e-6)) * step_h

    out = []
    for i, name in enumerate(flows.names):
        meter_a, fuse_h = carried(flows.meter_w[:, i], inputs.service_a)
        device_a, device_h = carried(flows.device_w[:, i], inputs.device_a)
        out.append(LineAmps(name, meter_a, fuse_h or 0.0, device_a, device_h))
    return tuple(out)


def device_lines_w(inputs: LineInputs, made: PlanFlow) -> Array:
    """Return what flows through the transfer device on each line, + towards the backup side, (steps, lines). [W]"""
    if not inputs.has_device:
        return np.zeros((len(made.house.background_w), inputs.lines.count))
    if inputs.one:
        return made.flow.column("transfer_w")[:, None].copy()  # a view would keep all columns of the year
    out = _loads_on_lines(inputs, made.house, inputs.backed_up)
    _add_inverters(out, inputs, ("backup",), made)
    return out
