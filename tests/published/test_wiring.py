"""Wiring against published tables and worked sums; every value's source stands beside it."""

from __future__ import annotations

import numpy as np
import pytest

from calm_relay.errors import BadInput
from calm_relay.packs.conductors import conductor_table, parse_tables, shipped_tables
from calm_relay.packs.pack import pack_named
from calm_relay.wiring.sums import (
    amps_of,
    backfeed_most_a,
    breaker_for,
    busbar_rules,
    carries,
    most_breaker_a,
    smallest_size,
    voltage_change_v,
)

AWG = ("14", "12", "10", "8", "6", "4", "3", "2", "1", "1/0", "2/0", "3/0", "4/0")
# NEC table 310.16, copper, from memory.
NEC_75 = dict(zip(AWG, (20, 25, 35, 50, 65, 85, 100, 115, 130, 150, 175, 200, 230), strict=True))
NEC_60 = dict(zip(AWG[:9], (15, 20, 30, 40, 55, 70, 85, 95, 110), strict=True))
# NEC chapter 9 table 8, uncoated stranded copper at 75 °C, Ω/kft, from memory.
KFT = (3.14, 1.98, 1.24, 0.778, 0.491, 0.308, 0.245, 0.194, 0.154, 0.122, 0.0967, 0.0766, 0.0608)
# IEC 60228, class 2 and class 5 tinned at 20 °C, Ω/km, from memory.
CLASS_2 = {
    1.5: 12.1,
    2.5: 7.41,
    4: 4.61,
    6: 3.08,
    10: 1.83,
    16: 1.15,
    25: 0.727,
    35: 0.524,
    50: 0.387,
    70: 0.268,
    95: 0.193,
    120: 0.153,
}
CLASS_5 = {2.5: 8.21, 4: 5.09, 6: 3.39, 10: 1.95, 16: 1.24, 25: 0.795, 35: 0.565, 50: 0.393}
# BS 7671 table 4D5, twin and earth clipped direct: A and mV/A/m, from memory.
TWIN = {1.5: (20, 29), 2.5: (27, 18), 4: (37, 11), 6: (47, 7.3), 10: (64, 4.4), 16: (85, 2.8)}


@pytest.mark.parametrize("size", AWG)
def test_nec_amps_and_resistances(size):
    table = conductor_table("nec")
    row = table.size(f"{size} AWG")
    assert carries(table, row.name, "75 °C terminals", 30, 3).amps == NEC_75[size]
    if size in NEC_60:
        assert carries(table, row.name, "60 °C terminals", 30, 3).amps == NEC_60[size]
    assert table.ohm_per_m(row) * 304.8 == pytest.approx(KFT[AWG.index(size)], rel=1e-4), "already at 75 °C: no further factor"


@pytest.mark.parametrize(("table_id", "values"), [("iec", CLASS_2), ("flexible", CLASS_5)])
def test_iec_resistances_cold_and_hot(table_id, values):
    """At 20 °C as published; hot by 0.00393 a kelvin: about 1.2 at 70 °C, 1.275 at 90 °C (the handbook's own figures)."""
    table = conductor_table(table_id)
    assert {row.area_mm2: row.ohm_per_km for row in table.rows} == values
    factor = {"iec": 1.1965, "flexible": 1.2751}[table_id]
    for row in table.rows:
        assert table.ohm_per_m(row, 20.0) * 1000 == pytest.approx(row.ohm_per_km)
        assert table.ohm_per_m(row) * 1000 == pytest.approx(factor * row.ohm_per_km, rel=1e-4)


@pytest.mark.parametrize("size", list(TWIN))
def test_twin_and_earth_amps_and_millivolts(size):
    table, (amps, millivolts) = conductor_table("twin_and_earth"), TWIN[size]
    row = next(r for r in table.rows if r.area_mm2 == size)
    assert carries(table, row.name, "clipped direct", 30, 1).amps == amps
    assert 1000 * voltage_change_v("single", 1.0, 1.0, table.ohm_per_m(row)) == pytest.approx(millivolts, rel=0.025)


def test_corrections_for_air_and_grouping():
    """NEC 310.15, from memory: 40 °C 0.88 in the 75 °C column, 4 to 6 conductors 0.80, 7 to 9 0.70."""
    nec = conductor_table("nec")
    assert nec.correction(40, 3) == 0.88
    assert nec.correction(30, 6) == 0.8
    assert nec.correction(30, 9) == 0.7
    assert carries(nec, "6 AWG", "75 °C terminals", 40, 6).amps == pytest.approx(65 * 0.88 * 0.8)
    assert nec.correction(70, 3) == 0.0, "beyond the table nothing is carried"
    assert conductor_table("iec").correction(40, 2) == pytest.approx(0.87 * 0.8)


def test_breakers_and_small_conductors():
    """NEC 240.6(A) and 240.4(D), IEC preferred ratings; from memory."""
    nec, sizes = conductor_table("nec"), tuple(float(a) for a in pack_named("north-america").items("breaker_sizes_a"))
    assert [breaker_for(a, sizes) for a in (9, 15, 16, 40, 41, 126, 176)] == [10, 15, 20, 40, 45, 150, 200]
    assert most_breaker_a(nec, "14 AWG", 20.0, sizes) == 15
    assert most_breaker_a(nec, "12 AWG", 25.0, sizes) == 20
    assert most_breaker_a(nec, "10 AWG", 35.0, sizes) == 30
    assert most_breaker_a(nec, "8 AWG", 50.0, sizes) == 50
    iec = tuple(float(a) for a in pack_named("international").items("breaker_sizes_a"))
    assert iec == (6, 10, 13, 16, 20, 25, 32, 40, 50, 63, 80, 100, 125)
    assert breaker_for(126, iec) is None


def test_the_smallest_size_by_hand():
    """7.68 kW at 240 V: 32 A × 1.25 = 40 A: 8 AWG at 60 °C terminals. 5 kW at 230 V over 22 m: 4 mm² carries, 6 mm² holds 2 %."""
    sizes = tuple(float(a) for a in pack_named("north-america").items("breaker_sizes_a"))
    made = smallest_size(
        conductor_table("nec"), "60 °C terminals", 30, 3, design_a=40.0, way="single", volts=240, length_m=10, most_frac=0.02,
        breakers=sizes,
    )  # fmt: skip
    assert made.conductor is not None
    assert (made.conductor.name, made.breaker_a) == ("8 AWG", 40)
    iec = {"volts": 230.0, "length_m": 22.0, "breakers": (16.0, 20.0, 25.0, 32.0)}
    amps = 5000 / 230
    for most, name in ((0.05, "2.5 mm²"), (0.03, "4 mm²"), (0.02, "6 mm²"), (0.01, "10 mm²")):
        found = smallest_size(conductor_table("iec"), "clipped direct", 30, 1, design_a=amps, way="single", most_frac=most, **iec)
        assert found.conductor is not None
        assert found.conductor.name == name
        by_hand = 2 * amps * 22 * CLASS_2[found.conductor.area_mm2] / 1000 * (1 + 0.00393 * 50)
        assert found.change_v == pytest.approx(by_hand, rel=1e-9)
    assert amps_of(11_000, 400, "three") == pytest.approx(15.877, abs=1e-3)


def test_a_busbar_of_200_a():
    """NEC 705.12, from memory: 200 A busbar and main leave a 40 A breaker, 32 A, 7.68 kW at 240 V, at the far end alone."""
    assert backfeed_most_a(200, 200) == pytest.approx((40.0, 32.0))
    assert backfeed_most_a(200, 200)[1] * 240 == pytest.approx(7680)
    names = ("plain", "far_end", "sum_of_breakers")
    at, above = (busbar_rules(names, 200, 200, amps, 220) for amps in (32.0, 32.1))
    assert [(rule.id, rule.passes) for rule in at] == [("plain", False), ("far_end", True), ("sum_of_breakers", False)]
    assert not any(rule.passes for rule in above)
    assert [rule.passes for rule in busbar_rules(names, 225, 175, 40.0, 190)] == [True, True, True]
    assert [rule.id for rule in busbar_rules(names, 225, 175, 40.0, None)] == ["plain", "far_end"]


def test_a_rise_against_the_nodal_solution():
    """5 kW pushed over 22 m of 4 mm²: the sum at nominal volts against the nodal solution at constant power."""
    table = conductor_table("iec")
    ohm = 2 * 22 * table.ohm_per_m(table.size("4 mm²"))
    plain = voltage_change_v("single", 5000 / 230, 22, table.ohm_per_m(table.size("4 mm²")))
    volts = 230.0
    for _ in range(60):
        volts = 230.0 + 5000.0 / volts * ohm
    assert plain == pytest.approx(ohm * 5000 / 230)
    assert plain == pytest.approx(volts - 230.0, rel=0.025), "the sum is the upper one: volts rise, amps fall"
    assert plain >= volts - 230.0
    loads, feeders = (
        np.array([3000.0, 2000.0]),
        np.array([0.1, 0.2]),
    )
    node = np.full(2, 230.0)
    for _ in range(60):
        amps = loads / node
        first = 230.0 + feeders[0] * amps.sum()
        node = np.array([first, first + feeders[1] * amps[1]])
    shared = feeders[0] * loads.sum() / 230
    by_sums = np.array([shared, shared + feeders[1] * loads[1] / 230])
    np.testing.assert_allclose(by_sums, node - 230.0, rtol=0.02)


def test_notify_threshold_of_great_britain():
    """ENA G98, from memory: 16 A per phase is 3.68 kW at 230 V."""
    assert pack_named("great-britain").value("notify_most_a") * 230 == pytest.approx(3680)


GOOD = """
[mine]
name = "mine"
source = "typed"
resistance_at_c = 20
runs_at_c = 70
columns = ["a"]
rows = [["1.5 mm²", 1.5, 12.1, [17]], ["2.5 mm²", 2.5, 7.41, [24]]]
ambient_c = [[30, 1.0]]
grouped = [[1, 1.0]]
"""


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        ('columns = ["a"]', "columns = []", "names no methods"),
        ("12.1", '"x"', "no size with area"),
        ("[17]", "[17, 18]", "2 amps for 1 methods"),
        ("2.5, 7.41", "1.0, 7.41", "does not follow"),
        ("[[30, 1.0]]", "[[40, 0.9], [30, 1.0]]", "do not rise"),
        ("[[30, 1.0]]", "[]", "no pairs"),
        ('source = "typed"', "", "missing"),
        ("runs_at_c = 70", "runs_at_c = true", "no number"),
        ("[mine]", "[mine", "not TOML"),
    ],
)
def test_a_wrong_table_is_refused_by_key(old, new, says):
    assert set(parse_tables(GOOD, "mine.toml")) == {"mine"}
    with pytest.raises(BadInput, match=says):
        parse_tables(GOOD.replace(old, new), "mine.toml")


def test_fuzzed_tables_give_faults_and_nothing_else():
    rng = np.random.default_rng(3)
    text = "\n".join(f"[{t.id}]" for t in shipped_tables().values()) and GOOD
    for _ in range(400):
        letters = list(text)
        for _ in range(int(rng.integers(1, 6))):
            at = int(rng.integers(0, len(letters)))
            letters[at] = str(rng.choice(list('x[]"=,{}0. \n')))
        try:
            parse_tables("".join(letters), "fuzzed.toml")
        except BadInput as error:
            assert error.faults
