"""Cards of one's own: every field of every kind through JSON, CSV and XLSX; faults by row and column; found; on a shelf."""

from __future__ import annotations

import csv
import json
import re
from typing import Literal, get_args, get_origin

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from calm_relay.cli import main
from calm_relay.equipment.columns import card_classes, card_of, card_row, fields_of
from calm_relay.equipment.files import SUFFIXES, read_cards, written_cards
from calm_relay.equipment.find import find_cards, wishes
from calm_relay.equipment.labels import label_of
from calm_relay.equipment.shelf import differences, read_shelf, save_shelf
from calm_relay.equipment.shown import card_lines, figure_text, parsed_figure
from calm_relay.errors import BadInput
from calm_relay.library.cards import Card
from calm_relay.library.shipped import shipped_card, shipped_cards

CARDS = shipped_cards()


@pytest.fixture
def home(monkeypatch, tmp_path):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    return tmp_path


def cell_of(column: str, plain: object) -> str:
    """A cell a figure can hold, by its name and type."""
    name = column.rpartition(".")[2]
    if get_origin(plain) is tuple:
        choices = get_args(get_args(plain)[0])
        return " ".join(choices[:2]) if isinstance(choices[0], str) else "card-a card-b"
    if get_origin(plain) is Literal:
        return str(get_args(plain)[-1])
    if plain is bool:
        return "true"
    if plain is int:
        return "7"
    if plain is not float:
        return "Words, 5,5 kW; № 3"
    by_end = {"_per_c": "-0.0025", "_hz": "50.5", "_per_kelvin": "0.001", "droop_frac": "0.05", "clamp_opening_m": "0.02"}
    by_end |= {"accuracy_frac": "0.01", "loss_frac": "0.015", "_frac": "0.5", ".a": "0.011", ".b": "0.017", "_ohm": "0.0125"}
    if name == "peukert_exponent":
        return "1.2"
    if name == "alpha_isc_per_c":
        return "0.0005"
    return next((value for end, value in by_end.items() if column.endswith(end)), "7.5")


def full_card(kind: str, index: int) -> Card:
    """A card of a kind with every field filled, two rows in each group, so that none can be lost on the way."""
    many = 1 if kind == "module_inverter" else 2
    row = {
        name: cell_of(name, plain)
        for name, plain in fields_of(kind).items()
        if not any(part.isdigit() and int(part) > (many if name.startswith("trackers") else 2) for part in name.split("."))
    }
    row |= {"kind": kind, "id": f"own-{kind.replace('_', '-')}-{index}", "name": f"Own «{kind}», 5,5 kW; № {index}"}
    return card_of(row, "", "full")


@pytest.mark.parametrize("ending", SUFFIXES)
def test_every_field_of_every_kind_comes_back(ending, tmp_path):
    cards = (*CARDS, *(full_card(kind, i) for i, kind in enumerate(card_classes())))
    path = tmp_path / f"cards{ending}"
    path.write_bytes(written_cards(cards, ending))
    assert read_cards(path) == cards
    said = {name for card in cards for name in card_row(card)}
    for kind in card_classes():
        missing = [n for n in fields_of(kind) if n not in said and not re.search(r"\.[3-9]\.|\.1\d\.|trackers", n)]
        assert not missing, (kind, missing)


def test_a_spreadsheet_of_the_other_decimal_mark_is_read(tmp_path):
    path = tmp_path / "cards.csv"
    rows = list(csv.reader(written_cards([shipped_card("hybrid-5k")], ".csv").decode().splitlines()))
    rows[1] = [re.sub(r"^(\d+)\.(\d+)$", r"\1,\2", cell) for cell in rows[1]]
    with path.open("w", encoding="utf-8-sig", newline="") as out:
        csv.writer(out, delimiter=";").writerows(rows)
    assert any("," in cell and cell[0].isdigit() for cell in rows[1])
    assert read_cards(path) == (shipped_card("hybrid-5k"),)


FAULTS = [
    ("id,name\nx,y\n", "row 1", "no column 'kind'"),
    ("kind,id,name\ntoaster,x,y\n", "row 2, column kind", "no kind of card"),
    ("kind,id,name,pass_through_a\ntransfer,x,y,lots\n", "row 2, column pass_through_a", "write a number"),
    ("kind,id,name,pass_through_a\ntransfer,x,y,-3\n", "row 2, column pass_through_a", "more than 0"),
    ("kind,id,name,pass_thru_a\ntransfer,x,y,3\n", "row 2, column pass_thru_a", "did you mean 'pass_through_a'?"),
    ("kind,id,name,voc_stc_v\ntransfer,x,y,3\n", "row 2, column voc_stc_v", "a transfer has no such figure"),
    ("kind,id,name,pass_through_a\ntransfer,x,y,63\ntransfer,x,z,63\n", "row 3", "stands in row 2 as well"),
    ("kind,id,id,name\ntransfer,x,x,y\n", "column id", "twice"),
    ("kind,id,name\ntransfer,x,y,z,9\n", "row 2", "5 cells, the heading 3"),
    ("kind,id,name\n", "row 1", "no row under a heading"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "where", "words"), FAULTS)
def test_a_fault_names_row_and_column_and_what_would_be_right(text, where, words, tmp_path):
    path = tmp_path / "cards.csv"
    path.write_text(text, encoding="utf-8")
    with pytest.raises(BadInput) as found:
        read_cards(path)
    said = str(found.value)
    assert where in said
    assert words in said
    assert "pydantic" not in said
    assert "Input should" not in said


@given(
    damage=st.lists(st.tuples(st.integers(0, 10**6), st.integers(0, 255)), max_size=40),
    cut=st.integers(0, 10**6),
    which=st.sampled_from(SUFFIXES),
)
@settings(max_examples=150, deadline=None, derandomize=True, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_damaged_files_are_cards_or_clear_faults(damage, cut, which, tmp_path):
    raw = bytearray(written_cards(CARDS[:6], which))
    for at, value in damage:
        raw[at % len(raw)] = value
    path = tmp_path / f"cards{which}"
    path.write_bytes(bytes(raw[: len(raw) - cut % (len(raw) // 2)] if cut % 3 == 0 else raw))
    try:
        read_cards(path)
    except BadInput as error:
        assert all(fault.problem and fault.remedy for fault in error.faults)


def test_cards_are_found_by_words_and_figures():
    def ids(text: str) -> list[str]:
        return [card.id for card in find_cards(CARDS, text)]

    assert ids("hybrid three phase 10 kW 2 trackers") == ids("hybrid 3-phase 10kW two trackers")
    assert ids("hybrid three phase 10 kW 2 trackers") == ["hybrid-10k-three", "hybrid-10k-three-low"]
    assert ids("hybrid 5 kW single phase high") == []
    assert ids("module 430 W half-cell") == ["module-430"]
    assert set(ids("module 430 W")) >= {"module-430", "module-440-bifacial"}, "within a twentieth"
    assert set(ids("")) == {card.id for card in CARDS}
    assert ids("battery LFP") == [card.id for card in CARDS if getattr(card, "chemistry", "") == "LFP"]
    assert set(ids("generator split phase diesel")) == {"generator-14k-split"}
    assert not ids("single phase 10 kW hybrid 9 trackers")
    assert [w.quantity for w in wishes("5,5 kWh 51.2V 100Ah")] == ["energy", "volts", "charge"]


def test_the_shelf_keeps_own_cards_between_jobs_and_says_what_changed(home, capsys):
    mine = home / "mine.csv"
    card = full_card("hybrid", 3)
    mine.write_bytes(written_cards([card], ".csv"))
    assert main(["cards", "add", str(mine)]) == 0
    assert read_shelf().cards == (card,)
    assert main(["cards", "--find", "own hybrid", "--json"]) == 0
    said = capsys.readouterr().out
    assert json.loads(said[said.index("{") :])["cards"][0]["own"] is True
    better = card.model_copy(update={"charge_max_a": 44.0})
    mine.write_bytes(written_cards([better], ".csv"))
    assert main(["cards", "add", str(mine)]) == 0
    assert "charge_max_a 7.5 to 44" in capsys.readouterr().out
    assert [d.column for d in differences(card, better)] == ["charge_max_a"]
    assert main(["cards", "show", card.id]) == 0
    assert "charge_max_a" in capsys.readouterr().out
    shelf = read_shelf().used(card.id).used("hybrid-5k").used(card.id)
    save_shelf(shelf)
    assert read_shelf().last_used == (card.id, "hybrid-5k")
    out = home / "all.xlsx"
    assert main(["cards", "write", str(out), "--kind", "hybrid"]) == 0
    assert better in read_cards(out)
    assert main(["cards", "remove", card.id]) == 0
    assert read_shelf().cards == ()
    assert main(["cards", "remove", card.id]) != 0
    assert main(["cards", "dance"]) != 0


def test_a_broken_shelf_is_said_and_left_as_it_is(home):
    path = save_shelf(read_shelf().with_cards([full_card("battery", 2)]))
    path.write_text(path.read_text(encoding="utf-8").replace('"capacity_wh"', '"capacity"'), encoding="utf-8")
    before = path.read_bytes()
    with pytest.raises(BadInput, match=r"cards\[own-battery-2\]"):
        read_shelf()
    assert path.read_bytes() == before


def test_every_figure_has_a_name_in_the_trades_words_and_reads_back_as_shown():
    for card in (*CARDS, *(full_card(kind, i) for i, kind in enumerate(card_classes()))):
        row, data = card_row(card), card.model_dump()
        for column in row:
            assert label_of(column)
            here = data
            for step in column.split("."):
                here = here[int(step) - 1] if step.isdigit() else here[step]
            if isinstance(here, float):
                assert parsed_figure(card.kind, column, figure_text(column, here)) == pytest.approx(here, rel=1e-3), column
        assert all("_" not in line.split(":")[0] for line in card_lines(card))
    for text in ("", "five", "3 %/V"):
        with pytest.raises(BadInput):
            parsed_figure("module", "beta_voc_per_c", text)
