"""Lanes of two to four nodes against the year, both undecorated; started with NUMBA_DISABLE_JIT=1, since compiled they take a
minute each to make. Prints how many variants were equal bit for bit, and how many steps the lanes left to the ordinary settling.
"""

from __future__ import annotations

import sys
from dataclasses import replace

import numpy as np

from calm_relay.simulation import blocks, variants
from calm_relay.simulation.kernel import lanes
from calm_relay.simulation.kernel.records import rules_of, terms_of
from tests.test_variants import family, own_year


def main(seed: int, n: int, *, alike: bool) -> None:
    blocks.terms_of = lambda *given: terms_of(*given).view(np.recarray)
    blocks.rules_of = lambda *given: rules_of(*given).view(np.recarray)
    packed, made = family(seed, n, 2, 1, alike=alike)
    lanes.VECTOR = 1
    packed = replace(packed, plant=np.array(packed.plant).view(np.recarray)[()])
    alone, settle = 0, lanes.settle

    def counted(*given):
        nonlocal alone
        alone += 1
        settle(*given)

    lanes.settle = counted
    found, equal = variants.run_variants(packed, made), 0
    for variant, got in zip(made, found, strict=True):
        flow = own_year(packed, variant)
        equal += np.array_equal(got.sums, flow.sums) and np.array_equal(got.node_sums, flow.node_sums)
    print(equal, alone)


if __name__ == "__main__":
    main(int(sys.argv[1]), int(sys.argv[2]), alike=sys.argv[3] == "1")
