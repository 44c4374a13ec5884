"""Checks of module-level electronics, of what was measured, of unlike and old modules, and of modules that may come."""

from __future__ import annotations

import math
from collections.abc import Iterator

from calm_relay.job.edits import Edit
from calm_relay.job.models import StringGroup
from calm_relay.library.cards import ModuleCard, OptimizerCard
from calm_relay.plant.rows import inverter_rows
from calm_relay.pv import limits
from calm_relay.pv.measured import compare_measured
from calm_relay.pv.voltage import rear_gain_frac
from calm_relay.rules.checks_array import by_tracker, tracker_name
from calm_relay.rules.checks_strings import (
    array_stc_w,
    count_path,
    optimizer_of,
    string_rows,
    string_subject,
    to_free_tracker,
)
from calm_relay.rules.larger import larger_inverter
from calm_relay.rules.registry import CheckContext, Finding, Remedy, check, finding, unknown
from calm_relay.units import format_quantity as show

OptimizerRow = tuple[str, str, StringGroup, ModuleCard, OptimizerCard]


def _optimized(c: CheckContext) -> Iterator[OptimizerRow]:
    """Yield (subject, path of the count, group, module, optimizer) of every group with optimizers."""
    for node, _, group, module in string_rows(c):
        optimizer = optimizer_of(c, group)
        if optimizer is not None:
            yield string_subject(node, group), count_path(c, node, group), group, module, optimizer


def _count_remedy(path: str, now: int, wanted: int) -> list[Remedy]:
    return [Remedy(f"{wanted} modules instead of {now}", (Edit(path, wanted),))] if 1 <= wanted <= 60 else []


@check(
    "optimizer.count-min", "Fewest optimizers in a string", page="site", needs={"plan"},
    short="Optimizers, fewest",
    source="the optimizer's card; below it the whole string stays off",
)  # fmt: skip
def count_min(c: CheckContext) -> Iterator[Finding]:
    """Modules in series against the least the optimizers need to hold the string's voltage."""
    for subject, path, group, _, optimizer in _optimized(c):
        n, least = group.modules_per_string, optimizer.modules_min
        yield finding(
            c, "optimizer.count-min", subject, "count", n, least, "least", f"{n} optimizers in series, the card needs {least}",
            remedies=_count_remedy(path, n, least), tight="ratio-within",
        )  # fmt: skip


@check(
    "optimizer.count-max", "Most optimizers in a string", page="site", needs={"plan"},
    short="Optimizers, most", source="the optimizer's card",
)  # fmt: skip
def count_max(c: CheckContext) -> Iterator[Finding]:
    """Modules in series against the most the optimizers allow."""
    for subject, path, group, _, optimizer in _optimized(c):
        n, most = group.modules_per_string, optimizer.modules_max
        yield finding(
            c, "optimizer.count-max", subject, "count", n, most, "most", f"{n} optimizers in series, the card allows {most}",
            remedies=_count_remedy(path, n, most), tight="ratio-within",
        )  # fmt: skip


@check(
    "optimizer.string-power", "Power of a string of optimizers", page="site", needs={"plan"},
    short="Optimizer string power",
    source="the optimizer's card; where it names none, its output current times the fixed string voltage",
)  # fmt: skip
def string_power(c: CheckContext) -> Iterator[Finding]:
    """STC power of one string against what its optimizers may carry together."""
    for subject, path, group, module, optimizer in _optimized(c):
        limit, how = limits.optimizer_string_w(optimizer), "the card allows"
        if optimizer.string_power_max_w is None and optimizer.string_voltage_v is not None:
            how = f"{optimizer.output_current_max_a:g} A × {optimizer.string_voltage_v:g} V ="
        if limit is None:
            yield unknown(c, "optimizer.string-power", subject, "the card's most watts in a string: see the data sheet")
            continue
        watts = group.modules_per_string * module.power_stc_w
        line = f"{group.modules_per_string} × {module.power_stc_w:g} W = {show(watts, 'power_w')}p, {how} {show(limit, 'power_w')}"
        most = int(limit / module.power_stc_w + 1e-9)
        yield finding(
            c, "optimizer.string-power", subject, "power_w", watts, limit, "most", line, tight="ratio-within",
            remedies=_count_remedy(path, group.modules_per_string, most),
        )  # fmt: skip


@check(
    "optimizer.input", "Module on its optimizer", page="site", needs={"plan"},
    short="Optimizer input",
    source="cold open voltage and 1.25·Isc of one module against the optimizer's card; its power only limits",
)  # fmt: skip
def optimizer_input(c: CheckContext) -> Iterator[Finding]:
    """One module's cold volts and short-circuit current against the optimizer's input; the nearer limit is shown."""
    low = c.job.site.record_low_c
    for subject, _, group, module, optimizer in _optimized(c):
        rear = rear_gain_frac(module, c.job.face(group.face))
        bounds = limits.optimizer_input_bounds(c.pack, optimizer, module, rear, limits.extremes_of(c.job.site))
        if bounds is None or low is None:
            yield unknown(c, "optimizer.input", subject, "record low temperature, or the module's Voc coefficient")
            continue
        volts, amps = bounds
        line = f"one module {volts.value:.1f} V open at {low:g} °C of {volts.limit:g} V; {amps.value:.1f} A of {amps.limit:g} A"
        remedy = Remedy("an optimizer whose input carries this module, or another module")
        nearer, quantity = (volts, "voltage_v") if volts.margin_frac <= amps.margin_frac else (amps, "current_a")
        yield finding(c, "optimizer.input", subject, quantity, nearer.value, nearer.limit, "most", line, remedies=[remedy])


@check(
    "optimizer.string-voltage", "Fixed string voltage in the tracker's window", page="site", needs={"plan"},
    short="Optimizer string volts",
    source="the optimizer's and the inverter's cards",
)  # fmt: skip
def optimizer_voltage(c: CheckContext) -> Iterator[Finding]:
    """The voltage optimizers hold a string at against the window and the ceiling of its tracker."""
    for node, card, group, _ in string_rows(c):
        optimizer = optimizer_of(c, group)
        if optimizer is None or optimizer.string_voltage_v is None:
            continue
        tracker, volts = card.trackers[group.tracker - 1], optimizer.string_voltage_v
        bound = limits.held_bound(volts, tracker, card.dc_voltage_max_v)
        line = f"{volts:g} V held, the tracker works from {tracker.mppt_min_v:g} to {tracker.mppt_max_v:g} V"
        yield finding(
            c, "optimizer.string-voltage", string_subject(node, group), "voltage_v", volts, bound.limit, bound.sense, line,
            remedies=[Remedy("an inverter made for these optimizers")], tight="count",
        )  # fmt: skip


@check(
    "module-inverter.branch", "Module-level inverters on a branch circuit", page="site", needs={"plan"},
    short="Units on a branch",
    source="floor(0.8·breaker/I of a unit), or the card's own limit; common practice",
)  # fmt: skip
def branch(c: CheckContext) -> Iterator[Finding]:
    """Units on the fullest branch circuit against what its breaker carries all day, or the card's own count."""
    share = c.pack.value("branch_breaker_frac")
    supply = c.job.site.supply
    for node, card in inverter_rows(c.plan, c.cards):
        if not card.per_module:
            continue
        each = card.ac_rated_w / (supply.voltage_v * (3 if card.phases == 3 else 1))
        by_breaker = None if node.branch_breaker_a is None else int(share * node.branch_breaker_a / each + 1e-9)
        known = [n for n in (card.branch_units_max, by_breaker) if n is not None]
        if not known:
            yield unknown(c, "module-inverter.branch", node.name, "type the breaker of a branch circuit")
            continue
        limit, value = min(known), math.ceil(node.count / node.branches)
        how = f"{share:g} × {node.branch_breaker_a:g} A / {each:.2f} A" if by_breaker == limit else "the card's own limit"
        line = f"{node.count} units on {node.branches} branch circuit(s): {value} on the fullest, at most {limit} ({how})"
        wanted = math.ceil(node.count / limit) if limit else 0
        edits = (Edit(c.path(f"nodes[{node.id}].branches"), wanted),) if 1 <= wanted <= 40 else ()
        yield finding(
            c, "module-inverter.branch", node.name, "count", value, limit, "most", line, tight="ratio-within",
            remedies=[Remedy(f"{wanted} branch circuits instead of {node.branches}", edits)] if edits else (),
        )  # fmt: skip


@check(
    "tracker.enough-for-faces", "Trackers enough for the faces", page="site", needs={"plan"},
    short="Trackers for faces",
    source="a face of its own sun wants a tracker of its own; common practice",
)  # fmt: skip
def enough_trackers(c: CheckContext) -> Iterator[Finding]:
    """Roof faces on an inverter against its trackers; more faces must share one at a computed small loss."""
    for node, card in inverter_rows(c.plan, c.cards):
        if card.per_module or not node.strings:
            continue
        faces = len({g.face for g in node.strings})
        line = f"{faces} faces on {len(card.trackers)} trackers"
        yield finding(
            c, "tracker.enough-for-faces", node.name, "count", faces, len(card.trackers), "most", line, soft=True,
            tight="ratio-within", remedies=[Remedy("an inverter with more trackers, a second one, or module-level electronics")],
        )  # fmt: skip


@check(
    "tracker.old-and-new", "Old with new modules on a tracker", page="site", needs={"plan"},
    short="Old with new",
    source="older modules give less current; apart by more years they hold new ones back; common practice",
)  # fmt: skip
def old_and_new(c: CheckContext) -> Iterator[Finding]:
    """Years between the oldest and the newest strings that share a tracker."""
    limit = c.pack.value("old_and_new_years")
    for rows in by_tracker(c).values():
        ages = sorted({group.age_years for _, _, group, _ in rows})
        if len(rows) < 2:
            continue
        apart = ages[-1] - ages[0]
        line = f"{apart:g} years between strings on this tracker, {limit:g} are let pass"
        newest = sorted(rows, key=lambda row: -row[2].age_years)
        moved = to_free_tracker(c, newest[-1][0], newest[-1][2]) if len(rows) == 2 else []
        yield finding(
            c, "tracker.old-and-new", tracker_name(rows[0]), "years", apart, limit, "most", line, soft=True, tight="ratio-within",
            remedies=moved or [Remedy("give the new strings a tracker of their own")],
        )  # fmt: skip


@check(
    "tracker.parallel-loss", "Unlike strings in parallel", page="site", needs={"plan", "year"},
    short="Unlike strings",
    source="simulated year; strings share the tracker's voltage, each falls off as a parabola around its own best one",
)  # fmt: skip
def parallel_loss(c: CheckContext) -> Iterator[Finding]:
    """What faces, modules or lengths that share a tracker lose by its one voltage, as a share of what it offers."""
    assert c.facts is not None
    limit = c.pack.value("parallel_loss_most")
    for rows in by_tracker(c).values():
        year = next((t for t in c.facts.trackers.get(rows[0][0].id, ()) if t.number == rows[0][2].tracker), None)
        if year is None or len({(g.face, g.module, g.modules_per_string) for _, _, g, _ in rows}) < 2:
            continue
        whole = year.offered_wh + year.parallel_lost_wh
        share = year.parallel_lost_wh / whole if whole > 0 else 0.0
        line = f"{show(year.parallel_lost_wh, 'energy_wh', 1)} of {show(whole, 'energy_wh', 0)} a year = {share * 100:.2f} %"
        yield finding(
            c, "tracker.parallel-loss", tracker_name(rows[0]), "fraction", share, limit, "most", line, soft=True,
            tight="ratio-within", remedies=[Remedy("a tracker of its own for each face or kind of string")],
        )  # fmt: skip


@check(
    "string.measured", "Measured string", page="site", needs={"plan"},
    source="open voltage and short-circuit current as measured against the card at that sun; common practice",
)  # fmt: skip
def measured(c: CheckContext) -> Iterator[Finding]:
    """The larger deviation of a measured string from what its modules should give under the same sun."""
    limit = c.pack.value("measured_deviation_frac")
    for node, _, group, module in string_rows(c):
        if group.measured is None:
            continue
        m = compare_measured(group.measured, group, module, rear_gain_frac(module, c.job.face(group.face)))
        value = max(abs(m.voc_deviation_frac), abs(m.isc_deviation_frac))
        line = (
            f"open {group.measured.voc_v:g} V, {m.expected_voc_v:.0f} V expected ({m.voc_deviation_frac * 100:+.1f} %); "
            f"short {group.measured.isc_a:g} A, {m.expected_isc_a:.2f} A expected ({m.isc_deviation_frac * 100:+.1f} %)"
        )
        yield finding(
            c, "string.measured", string_subject(node, group), "fraction", value, limit, "most", line, soft=True,
            tight="ratio-within", remedies=[Remedy("count this string's modules again, look for shade and dirt, measure again")],
        )  # fmt: skip


@check(
    "array.uncatchable", "Clipping that no battery can catch", page="site", needs={"plan", "year"},
    short="Uncatchable clipping",
    source="simulated year: what PV-only and module-level inverters clip never reaches a battery",
)  # fmt: skip
def uncatchable(c: CheckContext) -> Iterator[Finding]:
    """Energy clipped before the AC bus by inverters without battery, as a share of what they are offered."""
    assert c.facts is not None
    limit = c.pack.value("clipped_share_most")
    for node in c.plan.nodes:
        row = c.facts.pv_only_wh.get(node.id)
        if row is None or row["dc_available_w"] <= 0 or not any(n.battery for n in c.plan.nodes):
            continue
        share = row["clipped_ac_w"] / row["dc_available_w"]
        line = (
            f"{show(row['clipped_ac_w'], 'energy_wh', 0)} of {show(row['dc_available_w'], 'energy_wh', 0)} a year = "
            f"{share * 100:.1f} %, no battery of this plan can catch it"
        )
        yield finding(
            c, "array.uncatchable", node.name, "fraction", share, limit, "most", line, soft=True, tight="ratio-within",
            remedies=[*larger_inverter(c, node), Remedy("fewer modules on it, or this array on the DC side of a hybrid")],
        )  # fmt: skip


@check(
    "array.later-modules", "Modules that may come", page="site", needs={"plan"},
    short="Modules later",
    source="the inverter cards' limits with today's strings and the modules that may come",
)  # fmt: skip
def later_modules(c: CheckContext) -> Iterator[Finding]:
    """Whether the inverters' oversizing limits leave room for the modules that may come later."""
    later = c.plan.later
    if later is None:
        return
    rows = list(string_rows(c))
    if not rows:
        yield unknown(c, "array.later-modules", "plan", "add the strings that stand now first")
        return
    each, room, free, names = rows[-1][3].power_stc_w, 0.0, 0, []
    for node, card in inverter_rows(c.plan, c.cards):
        if card.per_module or not card.pv_inputs:
            continue
        limit = card.ratio_limit(node.battery is not None)
        if limit is None:
            yield unknown(c, "array.later-modules", node.name, "the card gives no oversizing limit: see the data sheet")
            return
        room += max(0.0, limit * card.ac_rated_w - array_stc_w(c, node))
        free += len(card.trackers) - len({g.tracker for g in node.strings})
        names.append(node.name)
    most = int(room / each + 1e-9)
    line = (
        f"room for {most} more of {each:g} W on {', '.join(names) or 'no inverter'}, {free} trackers free; {later.modules} may come"
    )
    remedies = [Remedy(f"plan for {most} modules later", (Edit(c.path("later.modules"), most),))] if most >= 1 else []
    yield finding(
        c, "array.later-modules", "plan", "count", later.modules, most, "most", line, soft=True, tight="ratio-within",
        remedies=remedies or [Remedy("a larger inverter, or a second one later")],
    )  # fmt: skip
