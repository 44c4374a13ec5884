"""Lanes of two to four nodes against the year, both undecorated; started with NUMBA_DISABLE_JIT=1, since compiled they take a
minute each to make. Prints how many variants were equal bit for bit, how many passes in lanes went after a first one, and how many
steps the lanes left to the ordinary settling.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from calm_relay.simulation import blocks, variants
from calm_relay.simulation.kernel import lane_rows, lanes
from calm_relay.simulation.kernel.records import rules_of, terms_of
from tests.test_variants import family, own_year


def counted(calls: dict[str, int], name: str, run: Callable[..., Any]) -> Callable[..., Any]:
    """Return the function that also counts its calls."""

    def count(*given: Any) -> Any:
        calls[name] += 1
        return run(*given)

    return count


def main(seed: int, n: int, *, alike: bool) -> None:
    blocks.terms_of = lambda *given: terms_of(*given).view(np.recarray)
    blocks.rules_of = lambda *given: rules_of(*given).view(np.recarray)
    packed, made = family(seed, n, 2, 1, alike=alike)
    lane_rows.VECTOR, lanes.PART = 1, 0.0  # two lanes: whoever asks, it is asked in lanes first
    packed = replace(packed, plant=np.array(packed.plant).view(np.recarray)[()])
    calls = dict.fromkeys(("begin", "keep_on", "settle"), 0)
    for name in calls:
        setattr(lanes, name, counted(calls, name, getattr(lanes, name)))
    found, equal = variants.run_variants(packed, made), 0
    for variant, got in zip(made, found, strict=True):
        flow = own_year(packed, variant)
        equal += np.array_equal(got.sums, flow.sums) and np.array_equal(got.node_sums, flow.node_sums)
    print(equal, calls["keep_on"] - calls["begin"], calls["settle"])


if __name__ == "__main__":
    main(int(sys.argv[1]), int(sys.argv[2]), alike=sys.argv[3] == "1")
