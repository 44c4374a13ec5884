"""Checks of how the network counts inverters (definitions D22): by sum of ratings, by kind, by registered export; by phase."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np

from calm_relay.job.edits import Edit
from calm_relay.job.models import Node
from calm_relay.library.cards import InverterCard
from calm_relay.plant.lines import shares_of
from calm_relay.plant.rows import inverter_rows
from calm_relay.rules.checks_battery import swap_card, swap_edits
from calm_relay.rules.network_rule import RuleInForce, rule_in_force
from calm_relay.rules.registry import COUNTS, CheckContext, Finding, Remedy, check, finding, unknown
from calm_relay.units import format_quantity as show


def _rows(c: CheckContext, pv: bool | None = None) -> list[tuple[Node, InverterCard]]:
    """Return the inverters by their own cards: all, or those with or without a PV input (definitions D22)."""
    rows = [(node, c.cards.inverter(node.card)) for node, _ in inverter_rows(c.plan, c.cards)]
    return [row for row in rows if pv is None or row[1].pv_inputs == pv]


def _sum_of(rows: list[tuple[Node, InverterCard]]) -> tuple[float, str]:
    """Return the sum of AC ratings, a hybrid once, and its arithmetic. [W]"""
    total, words = 0.0, []
    for node, card in rows:
        total += card.ac_rated_w * node.count
        times = f"{node.count} × " if node.count > 1 else ""
        once = " (hybrid, once)" if card.kind == "hybrid" else ""
        words.append(f"{times}{card.ac_rated_w / 1000:g} kW{once}")
    return total, " + ".join(words) or "no inverter"


def network_sum_w(c: CheckContext) -> tuple[float, str]:
    """Return what the network counts of a plan by its rule, and how it comes about. [W]

    By registered export it is what can reach the grid: the limiter's cap, but no less than what it cannot throttle.
    """
    total, words = _sum_of(_rows(c))
    cap = c.plant.caps.export_w
    if _rule(c).rule.counting != "registered_export" or cap is None:
        return total, words
    free, which = _sum_of([(n, card) for n, card in _rows(c) if not card.controllable])
    if free > cap:
        return min(free, total), f"{which}, which the limiter cannot throttle"
    return min(cap, total), f"the lesser of the limiter's {cap / 1000:g} kW and {words}"


@check(
    "network.inverter-sum", "Sum of inverters as the network counts them", page="tariff", needs={"grid", "plan"},
    short="Network sum",
    source="sum of all AC ratings, a hybrid once, by kind, or by registered export; the network operator decides",
)  # fmt: skip
def inverter_sum(c: CheckContext) -> Iterator[Finding]:
    """What the network counts by its rule, against what it allows."""
    rule = _rule(c).rule
    if rule.counting == "by_kind":
        kinds = (
            (True, rule.pv_limit_w, "units with a PV input", "pv_limit_w"),
            (False, rule.battery_limit_w, "battery-only units", "battery_limit_w"),
        )
        for pv, limit, words, field in kinds:
            rows = _rows(c, pv)
            if rows:
                yield from _against(c, rows, *_sum_of(rows), limit, words, field)
    elif rule.counting == "registered_export":
        counted, words = network_sum_w(c)
        if c.plant.caps.export_w is None:
            words = f"no limiter, so {words}"
        yield from _against(c, _rows(c), counted, words, rule.registered_w, "site", "registered_w")
    else:
        yield from _against(c, _rows(c), *_sum_of(_rows(c)), rule.sum_limit_w, "site", "sum_limit_w")


def _rule(c: CheckContext) -> RuleInForce:
    return rule_in_force(c.job, c.pack)


def _against(
    c: CheckContext, rows: list[tuple[Node, InverterCard]], total: float, words: str, limit: float | None, subject: str, field: str
) -> Iterator[Finding]:
    """Yield a counted sum against its limit; smaller inverters of its kind clear it."""
    if limit is None:
        yield unknown(c, "network.inverter-sum", subject, f"the network's limit ({words} = {total / 1000:g} kW): ask the operator")
        return
    line = f"{words} = {total / 1000:g} kW of {limit / 1000:g} kW"
    remedies = []
    summed = _rule(c).rule.counting != "registered_export"
    for node, card in reversed(rows if summed else []):
        allowed = (limit - (total - card.ac_rated_w * node.count)) / node.count

        def fits(other: InverterCard, allowed: float = allowed) -> bool:
            return other.ac_rated_w <= allowed + 1e-9

        best = swap_card(c, node, fits, lambda other: -other.ac_rated_w)
        if best is not None and best.id != node.card:
            remedies.append(Remedy(f"{best.name} in place of {card.name}", swap_edits(c, node, best)))
    what = "a limiter set to" if not summed else "inverters of"
    other = f"{what} {limit / 1000:g} kW{' in all' if summed else ''}, or an application for {total / 1000:g} kW"
    yield finding(
        c, "network.inverter-sum", subject, "power_w", total, limit, "most", line, remedies=remedies[:2] or [Remedy(other)],
        source=_rule(c).source(field),
    )  # fmt: skip


@check(
    "network.phase-sum", "Inverters on each phase", page="tariff", needs={"grid", "plan"}, short="Network, each phase",
    source="AC ratings by phase, a third of a three-phase unit on each (definitions D22); the network operator decides",
)  # fmt: skip
def phase_sum(c: CheckContext) -> Iterator[Finding]:
    """AC ratings on each phase or leg against what the network allows on one."""
    limit = c.job.site.network.phase_limit_w
    if limit is None:
        return
    count = c.plant.lines.count
    sums, parts = np.zeros(count), [[] for _ in range(count)]  # type: ignore[var-annotated]
    for node, card in _rows(c):
        for i, share in enumerate(c.plant.station(node.id).shares):
            if share > 0:
                sums[i] += share * card.ac_rated_w * node.count
                parts[i].append(f"{card.ac_rated_w * node.count * share / 1000:.3g} kW")
    for i in range(count):
        name = c.plant.lines.names[i] if count > 1 else "supply"
        line = f"{' + '.join(parts[i]) or 'no inverter'} on {name} = {sums[i] / 1000:.3g} kW of {limit / 1000:g} kW"
        yield finding(
            c, "network.phase-sum", name, "power_w", float(sums[i]), limit, "most", line, remedies=_spread(c, i, limit, count),
        )  # fmt: skip


def _spread(c: CheckContext, line: int, limit: float, count: int) -> list[Remedy]:
    """Return a smaller inverter on a phase that is over, or units spread over the phases."""
    out: list[Remedy] = []
    for node, card in _rows(c):
        share = float(c.plant.station(node.id).shares[line])
        others = sum(c.plant.station(n.id).shares[line] * k.ac_rated_w * n.count for n, k in _rows(c) if n.id != node.id)
        allowed = (limit - others) / (share * node.count) if share > 0 else 0.0
        fits: Callable[[InverterCard], bool] = lambda other, most=allowed: other.ac_rated_w <= most + 1e-9  # type: ignore[misc]  # noqa: E731
        best = swap_card(c, node, fits, lambda other: -other.ac_rated_w) if share > 0 else None
        if best is not None and best.id != node.card:
            out.append(Remedy(f"{best.name} in place of {card.name}", swap_edits(c, node, best)))
    return [*out[:2], Remedy(f"units spread over the phases, {show(limit, 'power_w')} on each at most")]


@check(
    "network.notify", "Notify or apply first", page="tariff", needs={"grid", "plan"}, short="Notify or apply",
    source="amps a phase up to which connecting is notified and above which it is applied for first; the pack",
)  # fmt: skip
def notify(c: CheckContext) -> Iterator[Finding]:
    """AC rating on each phase in amps, against what may be connected by a notice alone."""
    limit = c.pack.get("notify_most_a")
    if limit is None or not _rows(c):
        return
    count, volts = c.plant.lines.count, c.plant.lines.volts_v
    sums = np.zeros(count)
    for node, card in _rows(c):
        sums += np.array(c.plant.station(node.id).shares) * card.ac_rated_w * node.count
    worst = int(np.argmax(sums))
    amps = float(sums[worst]) / volts
    where = c.plant.lines.names[worst] if count > 1 else "supply"
    line = f"{sums[worst] / 1000:.3g} kW / {volts:g} V = {amps:.1f} A on {where}; up to {limit:g} A it is notified"
    line += "; above it the network is asked before work begins" if amps > limit else ""
    yield finding(
        c, "network.notify", where, "current_a", amps, limit, "most", line, soft=True, tight=COUNTS,
        source=c.pack.source("notify_most_a"),
        remedies=[Remedy(f"an application before work begins, or inverters of at most {limit * volts / 1000:.2f} kW a phase")],
    )  # fmt: skip


@check(
    "network.imbalance", "Difference between phases", page="tariff", needs={"grid", "plan"}, short="Phases apart",
    source="single-phase units on the fullest phase less those on the emptiest; the pack",
)  # fmt: skip
def imbalance(c: CheckContext) -> Iterator[Finding]:
    """Single-phase inverters on the fullest phase less those on the emptiest, against what the network allows."""
    limit, supply = c.pack.get("phase_imbalance_most_va"), c.job.site.supply
    if limit is None or supply.kind != "three_phase" or not _rows(c):
        return
    sums = np.zeros(3)
    for node, card in _rows(c):
        shares = np.array(c.plant.station(node.id).shares)
        if shares.max() > 0.5 or card.phases == 1:
            sums += shares * card.ac_rated_w * node.count
    apart = float(sums.max() - sums.min())
    each = ", ".join(f"{watts / 1000:.3g} kVA" for watts in sums)
    line = f"{each} of single-phase units on the phases: {apart / 1000:.3g} of {limit / 1000:g} kVA apart"
    yield finding(
        c, "network.imbalance", "site", "apparent_va", apart, limit, "most", line, source=c.pack.source("phase_imbalance_most_va"),
        remedies=_even(c, limit) or [Remedy("units spread over the phases, or three-phase ones")],
    )  # fmt: skip


def _even(c: CheckContext, limit: float) -> list[Remedy]:
    """Return one single-phase unit put on another phase, where that brings the phases near enough. [VA]"""
    for node, card in _rows(c):
        if card.phases != 1 or node.count > 1:
            continue
        for line in ("1", "2", "3"):
            sums = np.zeros(3)
            for other, unit in _rows(c):
                shares = np.array(shares_of(line, 3) if other.id == node.id else c.plant.station(other.id).shares)
                sums += shares * unit.ac_rated_w * other.count if shares.max() > 0.5 or unit.phases == 1 else 0.0
            if sums.max() - sums.min() <= limit:
                return [Remedy(f"{node.name} on phase {line}", (Edit(c.path(f"nodes[{node.id}].line"), line),))]
    return []
