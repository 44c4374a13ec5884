"""The editor without its window: every field of every kind goes through it, faults name the figure, losses are fitted."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from calm_relay.equipment.columns import card_classes
from calm_relay.equipment.typed import TypedCard, group_of, typed_card
from calm_relay.errors import BadInput
from calm_relay.library.shipped import shipped_card, shipped_cards
from calm_relay.plant.unit import unit_of
from tests.test_equipment import full_card

KINDS = list(card_classes())


@pytest.mark.parametrize("card", [*shipped_cards(), *(full_card(kind, i) for i, kind in enumerate(KINDS))], ids=lambda c: c.id)
def test_every_field_of_every_kind_comes_back_from_the_editor(card):
    typed = typed_card(card)
    assert typed.card() == card, "a text left alone keeps its figure"
    typed.kept.clear()
    again = typed.card()  # and every text can be typed as it is shown
    for column, text in typed_card(again).texts.items():
        assert text == typed.texts[column], column
    assert "shelf" in typed.said()


def test_a_module_typed_as_printed():
    typed = TypedCard("module", {"name": "Module 430 W, ours"})
    sheet = {
        "power_stc_w": "430 Wp", "voc_stc_v": "38,9", "vmp_stc_v": "32.6 V", "isc_stc_a": "13.97A", "imp_stc_a": "13.19",
        "gamma_pmp_per_c": "-0.30 %/°C", "length_m": "1722 mm", "width_m": "1134mm", "beta_voc_per_c": "−0,25 %/K",
        "weight_kg": "21.5", "no_longer_made": "no",
    }  # fmt: skip
    assert typed.said().startswith("Still wanted: Power at STC")
    for column, text in sheet.items():
        assert column in typed.columns()
        typed.texts[column] = text
    card = typed.card()
    like = shipped_card("module-430")
    same = ("power_stc_w", "voc_stc_v", "vmp_stc_v", "isc_stc_a", "imp_stc_a", "gamma_pmp_per_c", "beta_voc_per_c", "width_m")
    assert all(getattr(card, name) == pytest.approx(getattr(like, name)) for name in same)
    assert card.system_voltage_max_v is None, "what was not typed is not known"


def test_a_loss_is_fitted_from_efficiencies_and_says_how_far_off():
    card = shipped_card("hybrid-10k-three")
    typed = typed_card(card)
    for name in [name for name in typed.texts if name.startswith("loss.")]:
        del typed.texts[name]
    made = typed.card()
    assert "Loss fitted to the efficiencies" in typed.said()
    for watts in (1000.0, 5000.0, 10_000.0):
        assert unit_of(made).dc_w(watts) == pytest.approx(unit_of(card).dc_w(watts), rel=2e-3)
    for name in [name for name in typed.texts if name.startswith("efficiency_points")]:
        del typed.texts[name]
    typed.texts["peak_efficiency_frac"] = ""
    assert "Peak efficiency" in typed.said()


@pytest.mark.parametrize(("column", "text", "words"), [
    ("ac_rated_w", "lots", "is not a number"), ("ac_rated_w", "5 V", "the unit 'V' does not fit here"),
    ("grid_forming", "maybe", "neither yes nor no"), ("supplies", "the moon", "none of its choices"),
    ("trackers.1.mppt_min_v", "-3 V", "outside its range"), ("phases", "2", "none of its choices"),
    ("pairs_with", "My Battery", "written otherwise"),
])  # fmt: skip
def test_a_fault_names_the_figure_and_what_would_be_right(column, text, words):
    typed = typed_card(shipped_card("hybrid-5k"))
    typed.texts[column] = text
    wrong = typed.faults()
    assert any(words in said for said in wrong.values()), wrong
    assert words in typed.said()
    with pytest.raises(BadInput):
        typed.card()


def test_another_tracker_begins_like_the_one_before():
    typed = typed_card(shipped_card("string-inverter-3k"))
    assert "trackers" in typed.groups()
    new = typed.add_row("trackers")
    assert {group_of(column) for column in new} == {("trackers", 2)}
    assert len(typed.card().trackers) == 2
    assert typed.card().trackers[0] == typed.card().trackers[1]


@given(st.dictionaries(st.sampled_from(sorted(typed_card(shipped_card("stack-3k")).texts)), st.text(max_size=12), max_size=6))
@settings(max_examples=120, deadline=None, derandomize=True)
def test_whatever_is_typed_is_a_card_or_a_clear_fault(texts):
    typed = typed_card(shipped_card("stack-3k"))
    typed.texts |= texts
    said = typed.said()
    assert said
    assert "Input should" not in said
    try:
        typed.card()
    except BadInput as error:
        assert all(fault.problem and fault.remedy for fault in error.faults)
