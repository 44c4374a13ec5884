"""Checks of how the network counts inverters (definitions D22): by sum of ratings, by kind, by registered export; by phase."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np

from calm_relay.job.models import Node
from calm_relay.job.rows import inverter_rows
from calm_relay.library.cards import InverterCard
from calm_relay.rules.checks_battery import swap_card, swap_edits
from calm_relay.rules.registry import CheckContext, Finding, Remedy, check, finding, unknown
from calm_relay.units import format_quantity as show
from calm_relay.year.line_shares import line_count, line_name, node_shares


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
    cap = c.job.site.export_limit_w
    if c.job.site.network.counting != "registered_export" or cap is None:
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
    rule = c.job.site.network
    if rule.counting == "by_kind":
        kinds = ((True, rule.pv_limit_w, "units with a PV input"), (False, rule.battery_limit_w, "battery-only units"))
        for pv, limit, words in kinds:
            rows = _rows(c, pv)
            if rows:
                yield from _against(c, rows, *_sum_of(rows), limit, words)
    elif rule.counting == "registered_export":
        counted, words = network_sum_w(c)
        if c.job.site.export_limit_w is None:
            words = f"no limiter, so {words}"
        yield from _against(c, _rows(c), counted, words, rule.registered_w, "site")
    else:
        yield from _against(c, _rows(c), *_sum_of(_rows(c)), rule.sum_limit_w, "site")


def _against(
    c: CheckContext, rows: list[tuple[Node, InverterCard]], total: float, words: str, limit: float | None, subject: str
) -> Iterator[Finding]:
    """Yield a counted sum against its limit; smaller inverters of its kind clear it."""
    if limit is None:
        yield unknown(c, "network.inverter-sum", subject, f"the network's limit ({words} = {total / 1000:g} kW): ask the operator")
        return
    line = f"{words} = {total / 1000:g} kW of {limit / 1000:g} kW"
    remedies = []
    summed = c.job.site.network.counting != "registered_export"
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
        c, "network.inverter-sum", subject, "power_w", total, limit, "most", line, remedies=remedies[:2] or [Remedy(other)]
    )


@check(
    "network.phase-sum", "Inverters on each phase", page="tariff", needs={"grid", "plan"}, short="Network, each phase",
    source="AC ratings by phase, a third of a three-phase unit on each (definitions D22); the network operator decides",
)  # fmt: skip
def phase_sum(c: CheckContext) -> Iterator[Finding]:
    """AC ratings on each phase or leg against what the network allows on one."""
    limit, supply = c.job.site.network.phase_limit_w, c.job.site.supply
    if limit is None:
        return
    count = line_count(supply)
    sums, parts = np.zeros(count), [[] for _ in range(count)]  # type: ignore[var-annotated]
    for node, card in _rows(c):
        for i, share in enumerate(node_shares(node, card, count)):
            if share > 0:
                sums[i] += share * card.ac_rated_w * node.count
                parts[i].append(f"{card.ac_rated_w * node.count * share / 1000:.3g} kW")
    for i in range(count):
        name = line_name(supply, i) if count > 1 else "supply"
        line = f"{' + '.join(parts[i]) or 'no inverter'} on {name} = {sums[i] / 1000:.3g} kW of {limit / 1000:g} kW"
        yield finding(
            c, "network.phase-sum", name, "power_w", float(sums[i]), limit, "most", line, remedies=_spread(c, i, limit, count),
        )  # fmt: skip


def _spread(c: CheckContext, line: int, limit: float, count: int) -> list[Remedy]:
    """Return a smaller inverter on a phase that is over, or units spread over the phases."""
    out: list[Remedy] = []
    for node, card in _rows(c):
        share = float(node_shares(node, card, count)[line])
        others = sum(float(node_shares(n, k, count)[line]) * k.ac_rated_w * n.count for n, k in _rows(c) if n.id != node.id)
        allowed = (limit - others) / (share * node.count) if share > 0 else 0.0
        fits: Callable[[InverterCard], bool] = lambda other, most=allowed: other.ac_rated_w <= most + 1e-9  # type: ignore[misc]  # noqa: E731
        best = swap_card(c, node, fits, lambda other: -other.ac_rated_w) if share > 0 else None
        if best is not None and best.id != node.card:
            out.append(Remedy(f"{best.name} in place of {card.name}", swap_edits(c, node, best)))
    return [*out[:2], Remedy(f"units spread over the phases, {show(limit, 'power_w')} on each at most")]
