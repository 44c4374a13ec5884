"""Checks of what protects people on the backup side while it is an island, of a generator's start, and of life support."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from calm_relay.job.edits import Edit
from calm_relay.rules.checks_island import USUAL_AIR_C, swap_generator
from calm_relay.rules.checks_service import backup_appliances, running_va
from calm_relay.rules.registry import COUNTS, YES_NO, CheckContext, Finding, Remedy, check, declared, finding, unknown
from calm_relay.units import format_quantity as show
from calm_relay.year.circuits import start_of
from calm_relay.year.generator_figures import derated_va

if TYPE_CHECKING:
    from calm_relay.job.models import Transfer
    from calm_relay.library.other_cards import GeneratorCard

BY_ELECTRICIAN = "local code decides, the electrician measures it"


def _device(c: CheckContext) -> Transfer | None:
    """Return the transfer device of a plan in which something forms an island behind it."""
    return c.plan.transfer if c.plant.forming and not c.plan.off_grid else None


def _declared(c: CheckContext, check_id: str, field: str, said: str, ask: str, fix: str) -> Iterator[Finding]:
    """Return the finding of what is declared of the transfer device: yes, no, or not known with what to look up."""
    device = _device(c)
    if device is None:
        return
    name, value = c.cards.transfer(device.card).name, getattr(device, field)
    line = f"{int(value == 'yes')} of 1 there, as declared: {said}; {BY_ELECTRICIAN}"
    yield declared(c, check_id, name, value, ask, line, Remedy(fix, (Edit(c.path(f"transfer.{field}"), "yes"),)))


@check(
    "backup.neutral-bond", "Neutral bond of the island", page="plans", needs={"grid", "plan"}, short="Neutral bond",
    source="exactly one neutral-earth bond, made in the island and open with the grid; the transfer device's card, or as declared",
)  # fmt: skip
def neutral_bond(c: CheckContext) -> Iterator[Finding]:
    """Whether the transfer device makes the bond while islanded, by its card, else as declared."""
    device = _device(c)
    if device is None:
        return
    card = c.cards.transfer(device.card)
    if card.bonds_neutral and device.neutral_bond != "no":
        line = f"{card.name} makes the bond while islanded and opens it with the grid, by its card; {BY_ELECTRICIAN}"
        yield finding(c, "backup.neutral-bond", card.name, YES_NO, 1.0, 1.0, "least", line, tight=COUNTS)
        return
    ask = "whether exactly one neutral-earth bond is made in the island (keeps the plan from being recommended)"
    yield from _declared(
        c, "backup.neutral-bond", "neutral_bond", "one bond in the island, open with the grid", ask,
        "a device or relay that makes the bond, then declare it",
    )  # fmt: skip


@check(
    "backup.residual-current", "Residual-current devices on backup circuits", page="plans", needs={"grid", "plan"},
    short="Residual current", source="residual-current protection on every backup circuit (common practice); as declared",
)  # fmt: skip
def residual_current(c: CheckContext) -> Iterator[Finding]:
    """Whether every backup circuit has residual-current protection, as declared."""
    yield from _declared(
        c, "backup.residual-current", "residual_current", "residual-current protection on every backup circuit",
        "whether every backup circuit has a residual-current device: look at the board",
        "residual-current devices, then declare them",
    )  # fmt: skip


@check(
    "backup.earth-electrode", "Earth while the grid is gone", page="plans", needs={"grid", "plan"}, short="Earth",
    source="an earth electrode where the supplier's earth may be lost with the grid (common practice); as declared",
)  # fmt: skip
def earth_electrode(c: CheckContext) -> Iterator[Finding]:
    """Whether an earth stays while the grid is gone: an electrode of the house's own, by the board, or as declared."""
    device = _device(c)
    if device is not None and device.earth_electrode == "not_known" and c.job.site.board.earthing == "tt":
        line = f"1 of 1: the board's earth is an electrode of its own, which stays; {BY_ELECTRICIAN}"
        name = c.cards.transfer(device.card).name
        yield finding(c, "backup.earth-electrode", name, YES_NO, 1.0, 1.0, "least", line, tight=COUNTS)
        return
    yield from _declared(
        c, "backup.earth-electrode", "earth_electrode", "an earth of its own, or one that stays",
        "whether the earth stays when the supplier's is lost: ask for the kind of supply, measure the electrode",
        "an earth electrode, then declare it",
    )  # fmt: skip


@check(
    "backup.fault-current", "Fault current against the largest breaker", page="blackout", needs={"grid", "plan"},
    short="Fault current",
    source="the inverters' short-circuit current off grid against the breaker's instant trip; common practice",
)  # fmt: skip
def fault_current(c: CheckContext) -> Iterator[Finding]:
    """Whether the island drives enough current to trip its largest breaker at once; if not, something else has to disconnect."""
    device = _device(c)
    if device is None:
        return
    rows = c.plant.forming
    silent = [row.station.model.name for row in rows if row.unit.fault_current_a is None]
    if device.largest_breaker_a is None or silent:
        what = f"what {', '.join(silent)} drives into a short circuit" if silent else "the largest breaker of a backup circuit"
        yield unknown(c, "backup.fault-current", "backup side", what)
        return
    drives = sum(row.unit.fault_current_a or 0.0 for row in rows)
    trips = device.largest_breaker_a * device.breaker_trips_at
    line = f"{drives:.0f} A off grid; {device.largest_breaker_a:g} A × {device.breaker_trips_at:g} trip at once at {trips:.0f} A"
    if drives < trips:
        line += "; disconnection relies on residual-current device or inverter shutdown: to be verified by the electrician"
    smaller = [
        Remedy(f"backup breakers of at most {drives / device.breaker_trips_at:.0f} A of this type, or of a type that trips earlier")
    ]
    yield finding(
        c,
        "backup.fault-current",
        "backup side",
        "current_a",
        drives,
        trips,
        "least",
        line,
        soft=True,
        tight=COUNTS,
        remedies=smaller,
    )


@check(
    "backup.life-support", "Life support has a second supply", page="blackout", needs={"plan"}, short="Life support",
    source="life-support equipment never on a home battery alone; common practice",
)  # fmt: skip
def life_support(c: CheckContext) -> Iterator[Finding]:
    """Whether a load that someone's life hangs on has more than the battery behind it."""
    loads = [a for a in c.job.house.counted if a.life_support]
    if not loads:
        return
    generator = c.plan.generator
    second = generator is not None and c.cards.generator(generator.card).auto_start
    behind = {a.id for a in backup_appliances(c)} if c.plan.has_backup_side else set()
    names = ", ".join(a.name for a in loads)
    line = f"{names}: {'1 generator that starts by itself' if second else '0 other supplies'} beside the battery"
    out = [a.name for a in loads if a.id not in behind]
    line += f"; not backed up: {', '.join(out)}" if out else ""
    line += "; agree with whoever prescribes the equipment what it runs on when all else fails"
    yield finding(
        c, "backup.life-support", names, YES_NO, float(second and not out), 1.0, "least", line, tight=COUNTS,
        remedies=[Remedy("a generator that starts by itself, and the load behind the transfer device")],
    )  # fmt: skip


@check(
    "generator.auto-start", "Generator starts by itself", page="blackout", needs={"plan"}, short="Auto-start",
    source="the generator's card; without it somebody has to be there when the battery runs low",
)  # fmt: skip
def auto_start(c: CheckContext) -> Iterator[Finding]:
    """Whether the set starts by the battery's charge."""
    if c.plan.generator is None:
        return
    card = c.cards.generator(c.plan.generator.card)
    line = f"{card.name} {'starts by itself' if card.auto_start else 'has to be started by hand'}, by its card"
    remedy = swap_generator(c, lambda g: g.auto_start and g.rated_va >= card.rated_va, "a set with automatic start")
    yield finding(
        c, "generator.auto-start", card.name, YES_NO, float(card.auto_start), 1.0, "least", line, tight=COUNTS, soft=True,
        remedies=[remedy],
    )  # fmt: skip


@check(
    "generator.starts", "Generator starts the motors that must stay on", page="blackout", needs={"plan"},
    short="Generator's starts",
    source="the set's peak, derated by height, against the largest start with the rest running (definitions D15); its card",
)  # fmt: skip
def generator_starts(c: CheckContext) -> Iterator[Finding]:
    """The set's peak against the largest start of what must stay on, the rest of it running."""
    if c.plan.generator is None:
        return
    card = c.cards.generator(c.plan.generator.card)
    loads = [a for a in c.job.house.counted if a.essential]
    starts = [(a, start) for a in loads if (start := start_of(a, c.pack)) is not None]
    if not starts:
        return
    total = sum(running_va(a) for a in loads)
    name, need = max(((a.name, start.start_va + total - running_va(a)) for a, start in starts), key=lambda row: row[1])
    gives = _peak_here_va(c, card)
    if card.peak_va is None or gives is None:
        yield unknown(c, "generator.starts", card.name, "its peak: see its data sheet")
        return
    line = f"{show(card.peak_va, 'apparent_va')} at the peak, {show(gives, 'apparent_va')} at this height; "
    line += f"{name} on top of the rest asks for {show(need, 'apparent_va')}"
    remedy = swap_generator(c, lambda g: (_peak_here_va(c, g) or 0.0) >= need, "a larger generator")
    yield finding(c, "generator.starts", card.name, "apparent_va", gives, need, "least", line, soft=True, remedies=[remedy])


def _peak_here_va(c: CheckContext, card: GeneratorCard) -> float | None:
    """Return a set's peak at the site's height; None where its card is silent. [VA]"""
    if card.peak_va is None:
        return None
    return derated_va(card, c.job.site.place.altitude_m, USUAL_AIR_C) * card.peak_va / card.rated_va
