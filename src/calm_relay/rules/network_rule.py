"""The network's rule as it holds for a job: what was typed, and where nothing was, what the pack says of such a supply."""

from __future__ import annotations

from dataclasses import dataclass

from calm_relay.job.models import Job
from calm_relay.job.site_models import NetworkRule
from calm_relay.packs.pack import Pack

# field of the rule → parameter of the pack, by the kind of supply
BY_SUPPLY = {
    "sum_limit_w": ("network_sum_single_w", "network_sum_three_w"),
    "pv_limit_w": ("network_pv_single_w", "network_pv_three_w"),
    "battery_limit_w": ("network_battery_single_w", "network_battery_three_w"),
}
_TYPED = NetworkRule().counting


@dataclass(frozen=True)
class RuleInForce:
    """The rule with its limits, and where each that was not typed comes from: (field, source)."""

    rule: NetworkRule
    from_pack: tuple[tuple[str, str], ...]

    def source(self, field: str) -> str:
        """Return where a limit comes from, in words."""
        return dict(self.from_pack).get(field, self.rule.source)


def rule_in_force(job: Job, pack: Pack) -> RuleInForce:
    """Return the network's rule: a typed limit goes before the pack's, and with any typed limit the typed counting holds."""
    typed, three = job.site.network, job.site.supply.kind == "three_phase"
    changed: dict[str, object] = {}
    said: list[tuple[str, str]] = []
    for field, names in BY_SUPPLY.items():
        name = names[three]
        value = pack.get(name)
        if getattr(typed, field) is None and value is not None:
            changed[field] = value
            said.append((field, pack.source(name)))
    counting = pack.choice("network_counting")
    limits = (typed.sum_limit_w, typed.pv_limit_w, typed.battery_limit_w, typed.registered_w)
    if counting is not None and typed.counting == _TYPED and all(limit is None for limit in limits):
        changed["counting"] = counting
        said.append(("counting", pack.list_["network_counting"][1]))
    return RuleInForce(typed.model_copy(update=changed), tuple(said))
