"""The string planner against brute force over all layouts, rule by rule, and its promises on random roofs."""

from __future__ import annotations

import itertools
import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from calm_relay.library.cards import LossTerms, ModuleCard, Tracker
from calm_relay.library.shipped import shipped_card
from calm_relay.packs.pack import pack_named
from calm_relay.pv.limits import Extremes
from calm_relay.pv.planner import MOST_PARALLEL, ArrayLimit, FaceRoom, Setup, all_options, propose

STEPS = 48
MODULE = shipped_card("module-430")
assert isinstance(MODULE, ModuleCard)


def tracker(
    low: float = 100, high: float = 550, working: float = 16, short: float | None = 40, start: float | None = 120
) -> Tracker:
    return Tracker(mppt_min_v=low, mppt_max_v=high, working_current_a=working, short_circuit_current_a=short, start_v=start)


def setup(rooms: list[int], trackers: list[Tracker], ratio: float | None = 1.5, rated: float = 5000, top: float = 600) -> Setup:
    faces = tuple(FaceRoom(f"f{i}", f"face {i}", room, "ventilated") for i, room in enumerate(rooms))
    most = None if ratio is None else ArrayLimit(ratio * rated, f"the card allows a ratio of {ratio:g}")
    loss = LossTerms(p_self_w=18, a=0.009, b=0.017)
    return Setup(MODULE, faces, tuple(trackers), top, rated, loss, most, Extremes(-4.0, 30.0), pack_named("international"))


def light(s: Setup, seed: int = 1) -> tuple[dict[str, np.ndarray], dict[str, np.ndarray]]:
    rng = np.random.default_rng(seed)
    sun = np.maximum(0.0, np.sin(np.linspace(-0.5, 3.6, STEPS)))
    watts, amps = {}, {}
    for face in s.faces:
        g = sun * rng.uniform(0.4, 1.05)
        watts[face.id], amps[face.id] = g * MODULE.power_stc_w * 0.9, g * MODULE.imp_stc_a
    return watts, amps


def rule_by_hand(s: Setup, t: Tracker, room: int, n: int, p: int) -> str:
    """The first rule that N = n in series and p in parallel break, worked out without the product's helpers."""
    cell = s.at.high_c + 0.9 * (1 - MODULE.power_stc_w / (1000 * MODULE.length_m * MODULE.width_m)) * 1000 / 25.0
    if n * p > room:
        return "roof room"
    if n * MODULE.voc_stc_v * (1 + MODULE.beta_voc_per_c * (s.at.low_c - 25)) > min(
        s.dc_voltage_max_v, MODULE.system_voltage_max_v
    ):
        return "cold voltage"
    if n * MODULE.vmp_stc_v * (1 + (MODULE.gamma_pmp_per_c - MODULE.alpha_isc_per_c) * (cell - 25)) < t.mppt_min_v * 1.05:
        return "hot voltage"
    if t.start_v is not None and n * MODULE.voc_stc_v * (1 + MODULE.beta_voc_per_c * (cell - 25)) < t.start_v:
        return "start voltage"
    if t.short_circuit_current_a is not None and 1.25 * p * MODULE.isc_stc_a > t.short_circuit_current_a:
        return "short-circuit current"
    return ""


SMALL = [
    setup([8], [tracker()]),
    setup([7, 6], [tracker(), tracker(working=10)]),
    setup([9, 5], [tracker(short=20), tracker(low=160, start=180)], ratio=1.2, rated=3000),
    setup([6, 6], [tracker(), tracker()], ratio=None, top=200),
]


@pytest.mark.parametrize("s", SMALL)
def test_every_option_is_rejected_by_the_rule_that_it_breaks_first(s):
    for o in all_options(s):
        room = next(face.room for face in s.faces if face.id == o.face)
        assert o.rejected == rule_by_hand(s, s.trackers[o.tracker - 1], room, o.modules, o.strings), o


@pytest.mark.parametrize("s", SMALL)
def test_the_planner_equals_brute_force_over_all_layouts(s):
    watts, amps = light(s)
    per_tracker = []
    for i, t in enumerate(s.trackers, start=1):
        choices = [None]
        for face in s.faces:
            for p in range(1, MOST_PARALLEL + 1):
                choices += [(i, face.id, n, p) for n in range(1, face.room + 1) if not rule_by_hand(s, t, face.room, n, p)]
        per_tracker.append(choices)
    best: dict[tuple[int, ...], float] = {}
    for combination in itertools.product(*per_tracker):
        used = [c for c in combination if c is not None]
        use = tuple(sum(n * p for _, f, n, p in used if f == face.id) for face in s.faces)
        if not used or any(u > face.room for u, face in zip(use, s.faces, strict=True)):
            continue
        if s.array_limit is not None and sum(use) * MODULE.power_stc_w > s.array_limit.most_w + 1e-6:
            continue
        dc = np.zeros(STEPS)
        for i, f, n, p in used:
            limit = s.trackers[i - 1].working_current_a
            dc += watts[f] * n * p * np.minimum(1.0, limit / np.maximum(amps[f] * p, 1e-9))
        best[use] = max(best.get(use, 0.0), float(dc.sum()))
    made = propose(s, watts, amps, 1.0, most=10_000)
    found = {tuple(sum(o.total for o in lay.options if o.face == face.id) for face in s.faces): lay.dc_wh for lay in made.layouts}
    assert set(found) == set(best)
    for use, energy in best.items():
        assert found[use] == pytest.approx(energy, rel=1e-9), use


@given(
    st.lists(st.integers(0, 16), min_size=1, max_size=3), st.integers(1, 4), st.sampled_from([None, 1.2, 1.5]), st.integers(0, 99)
)
@settings(max_examples=40, deadline=None, derandomize=True)
def test_no_proposed_layout_breaks_a_limit(rooms, count, ratio, seed):
    rng = np.random.default_rng(seed)
    trackers = [
        tracker(low=float(rng.choice([80, 160])), working=float(rng.choice([10, 16])), short=float(rng.choice([18, 40])))
        for _ in range(count)
    ]
    s = setup(rooms, trackers, ratio)
    made = propose(s, *light(s, seed), 1.0)
    for lay in made.layouts:
        assert len({o.tracker for o in lay.options}) == len(lay.options), "one face on a tracker"
        for face in s.faces:
            assert sum(o.total for o in lay.options if o.face == face.id) <= face.room
        for o in lay.options:
            room = next(face.room for face in s.faces if face.id == o.face)
            assert rule_by_hand(s, s.trackers[o.tracker - 1], room, o.modules, o.strings) == ""
        if ratio is not None:
            assert lay.modules * MODULE.power_stc_w <= ratio * s.ac_rated_w + 1e-6
        assert math.isclose(lay.modules, sum(o.total for o in lay.options))
    energies = [lay.ac_wh for lay in made.layouts]
    assert all(a >= b * (1 - 0.0015) for a, b in itertools.pairwise(energies)), "from best to worst"
    assert made.why
