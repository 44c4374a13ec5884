"""Protection by place that the kind of work triggers: prompts with their usual clause, never an approval."""

from __future__ import annotations

from collections.abc import Iterator

from calm_relay.job.edits import Edit
from calm_relay.rules.checks_board import added_nodes
from calm_relay.rules.registry import COUNTS, YES_NO, CheckContext, Finding, Remedy, check, declared, finding, note, unknown

DUTIES = {
    "rapid_shutdown": ("rapid shutdown of strings on the roof", True), "arc_fault": ("arc-fault protection of strings", True),
    "dc_isolator": ("isolators on the DC side", True), "ac_isolator": ("isolators on the AC side", False),
    "surge": ("surge protection", False),
}  # fmt: skip
ORDER = ("none", "ac", "a", "f", "b")  # of residual-current types, each covers those before it
DECIDES = "local code decides, the electrician verifies it"


@check(
    "place.duty", "Protection that the work asks for", page="plans", needs={"plan"}, short="Protection",
    source="duties by kind of work; the pack's list with its usual clauses",
)  # fmt: skip
def duty(c: CheckContext) -> Iterator[Finding]:
    """Whether each protection that added inverters or strings ask for is there, as declared."""
    added = added_nodes(c)
    wired = [node for node in added if not c.cards.inverter(node.card).per_module]
    strings = any(string.optimizer is None for node in wired for string in node.strings)
    source = c.pack.list_["duties"][1]
    for name in c.pack.items("duties"):
        words, of_strings = DUTIES[str(name)]
        if not added or (of_strings and not strings):
            continue
        said = getattr(c.plan.protection, str(name))
        ask = f"{words}: look for it on site, or plan it; {DECIDES}"
        line = f"{int(said == 'yes')} of 1 there, as declared; {DECIDES}"
        remedy = Remedy(f"{words}, then declare it", (Edit(c.path(f"protection.{name}"), "yes"),))
        yield declared(c, "place.duty", words, said, ask, line, remedy, source=source)


@check(
    "place.residual-type", "Type of residual-current device", page="plans", needs={"plan"}, short="Residual type",
    source="the type before an inverter that its maker asks for: B where smooth DC may flow; the card",
)  # fmt: skip
def residual_type(c: CheckContext) -> Iterator[Finding]:
    """The residual-current device before the added inverters against the type that their cards ask for."""
    has = c.plan.protection.residual_type
    for node in added_nodes(c):
        card = c.cards.inverter(node.card)
        if card.residual_type is None:
            yield unknown(c, "place.residual-type", node.name, f"the type that {card.name} asks for: see its manual")
            continue
        if has == "not_known":
            yield unknown(
                c, "place.residual-type", node.name, f"the type before it; type {card.residual_type.upper()} is asked for"
            )
            continue
        good = ORDER.index(has) >= ORDER.index(card.residual_type)
        there = "none is there" if has == "none" else f"type {has.upper()} is there"
        line = f"{int(good)} of 1: {there}, {card.name} asks for type {card.residual_type.upper()}; {DECIDES}"
        edits = (Edit(c.path("protection.residual_type"), card.residual_type),)
        yield finding(
            c, "place.residual-type", node.name, YES_NO, float(good), 1.0, "least", line, tight=COUNTS,
            remedies=[Remedy(f"a device of type {card.residual_type.upper()}", edits)],
        )  # fmt: skip


@check(
    "place.labels", "Labels and papers by the place's rules", page="plans", needs={"plan"}, short="Labels",
    source="labels on the boxes and papers for the handover; the pack's lists",
)  # fmt: skip
def labels(c: CheckContext) -> Iterator[Finding]:
    """The labels and the papers that the pack lists, for a plan that adds something."""
    if added_nodes(c):
        yield note(c, "place.labels", "boxes", "; ".join(str(text) for text in c.pack.items("labels")))
        yield note(c, "place.labels", "papers", "; ".join(str(text) for text in c.pack.items("documents")))
