"""Frequency curves at published points, and the island they make: held, dropped out, a saw-tooth (definitions D17)."""

from __future__ import annotations

import numpy as np
import pytest

from calm_relay.library.base import FrequencyRecord
from calm_relay.packs.pack import pack_named
from calm_relay.year.curves import hz_for, left_w
from calm_relay.year.frequency import Thresholds, simulate

PACK = pack_named("international")


def curve(name: str) -> FrequencyRecord:
    return FrequencyRecord.model_validate(PACK.curve(name)[0])


@pytest.mark.parametrize(
    ("name", "hz", "at_start", "left"),
    [
        ("ieee-1547", 60.036, 1.0, 1.0),
        ("ieee-1547", 61.536, 1.0, 0.5),  # IEEE 1547-2018 defaults, from memory
        ("ieee-1547", 61.536, 0.5, 0.0),  # the droop is of the rated power
        ("ieee-1547", 61.2, 1.0, 0.612),
        ("ieee-1547", 62.0, 1.0, 0.3453),
        ("en-50549", 50.2, 0.8, 0.8),  # VDE-AR-N 4105, from memory: of the power at crossing
        ("en-50549", 51.2, 1.0, 0.6),
        ("en-50549", 51.5, 0.5, 0.24),
        ("as-nzs-australia-a", 50.25, 1.0, 1.0),
        ("as-nzs-australia-a", 51.125, 1.0, 0.5),
        ("as-nzs-australia-a", 52.0, 0.7, 0.0),
        ("as-nzs-new-zealand", 51.1, 1.0, 0.5),
        ("as-nzs-new-zealand", 52.0, 1.0, 0.0),
        ("trips-only-60", 61.0, 0.9, 0.9),
    ],
)
def test_published_points(name, hz, at_start, left):
    record = curve(name)
    assert left_w(record, hz, 1000.0, 1000.0 * at_start) == pytest.approx(1000 * left, abs=0.6)
    if record.droop_frac is not None and 0 < left < at_start:
        assert hz_for(record, 1000 * left, 1000.0, 1000.0 * at_start, 70.0) == pytest.approx(hz, abs=1e-3)
    assert "from memory" in PACK.curve(name)[1] or "common practice" in PACK.curve(name)[1]


def flat(seconds, watts):
    return np.full(seconds, float(watts))


def test_a_full_bank_drops_out_what_cannot_go_to_nothing_and_holds_what_can():
    """5 kW of sun, 1 kW of house, a full bank. IEEE: 1 kW of 5 wants 62.4 Hz, beyond its trip; New Zealand holds 51.6 Hz."""
    full = {"capacity_wh": 10_000.0, "charge_frac": 1.0, "thresholds": Thresholds(0.95, 0.9)}
    drops = simulate(curve("ieee-1547"), flat(900, 5000), 5000.0, flat(900, 1000), 5000.0, **full)
    assert drops.trips
    assert drops.used_wh < 0.5 * drops.available_wh
    held = simulate(curve("as-nzs-new-zealand"), flat(900, 5000), 5000.0, flat(900, 1000), 5000.0, **full)
    assert held.trips == ()
    assert held.hz[-1] == pytest.approx(50.2 + 1.8 * 0.8, abs=0.02)
    assert held.pv_w[-1] == pytest.approx(1000, rel=0.02)
    # half the house is light enough for IEEE: 3.5 kW of 5 is 61.0 Hz-odd, below its 300 s trip
    light = simulate(curve("ieee-1547"), flat(900, 5000), 5000.0, flat(900, 3500), 5000.0, **full)
    assert light.trips == ()
    assert light.hz[-1] == pytest.approx(60.036 + 3.0 * 0.3, abs=0.02)


def test_a_legacy_inverter_makes_a_saw_tooth():
    """It trips, waits its minute and more, returns at once, and trips again; the same with a droop stands still."""
    full = {"capacity_wh": 5000.0, "charge_frac": 0.95, "thresholds": Thresholds(0.95, 0.9)}
    made = simulate(curve("trips-only-50"), flat(3600, 4000), 5000.0, flat(3600, 1500), 4000.0, **full)
    assert len(made.trips) >= 3
    assert made.returns
    assert all(b - a >= 60 for a, b in zip(made.trips, made.returns, strict=False)), "it waits its minute"
    assert "saw-tooth" in made.words
    steady = simulate(curve("as-nzs-new-zealand"), flat(3600, 4000), 5000.0, flat(3600, 1500), 4000.0, **full)
    assert steady.trips == ()
    assert steady.used_wh > made.used_wh


def test_a_load_that_drops_pushes_the_battery_above_what_it_absorbs_until_the_curve_follows():
    load = np.concatenate([flat(60, 4500), flat(60, 200)])
    made = simulate(curve("as-nzs-new-zealand"), flat(120, 5000), 5000.0, load, 1000.0)
    assert made.over_w[:60].max() == 0
    assert 2000 < made.over_w[60:].max() <= 3800 + 1
    assert made.over_w[-1] < 5
    assert "more than it absorbs" in made.words
    roomy = simulate(curve("as-nzs-new-zealand"), flat(120, 5000), 5000.0, load, 5000.0)
    assert roomy.over_w.max() == 0
    assert roomy.hz.max() == 50.0


def test_thresholds_with_no_gap_chatter_and_with_one_do_not():
    """A small bank under a load that comes and goes: with next to no gap charging stops many times, with a wide one seldom."""
    sun, load = flat(3600, 3000), np.where(np.arange(3600) % 120 < 60, 4000.0, 500.0)

    def run(thresholds):
        bank = {"capacity_wh": 300.0, "charge_frac": 0.94, "thresholds": thresholds}
        return simulate(curve("as-nzs-new-zealand"), sun, 5000.0, load, 3000.0, **bank)

    near, far = run(Thresholds(0.95, 0.949)), run(Thresholds(0.95, 0.5))
    assert near.stops > far.stops
