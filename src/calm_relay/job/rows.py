"""Strings that stay where they are when an inverter's others are planned anew."""

from __future__ import annotations

from collections.abc import Collection

from calm_relay.job.models import Node, StringGroup


def strings_kept(node: Node, mode: str, keep: Collection[str]) -> tuple[StringGroup, ...]:
    """Return the strings of an inverter that stay where they are: all with ``keep``, those named with ``rewire``, else none."""
    return tuple(g for g in node.strings if mode == "keep" or (mode == "rewire" and g.id in keep))
