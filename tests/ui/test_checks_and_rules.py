"""All checks in a list, packs side by side, rules and tables of one's own, places and runs, in real windows."""

from __future__ import annotations

import pytest
from PySide6.QtWidgets import QComboBox, QPushButton

from calm_relay.errors import BadInput
from calm_relay.job.edits import Edit
from calm_relay.packs.conductors import shipped_tables
from calm_relay.packs.pack import OWN, pack_named
from calm_relay.packs.written import pack_text
from calm_relay.ui.checks_dialog import MEASURE, ChecksDialog
from calm_relay.ui.packs_dialog import PacksDialog
from calm_relay.ui.pages.rules_part import take_pack, take_tables
from calm_relay.ui.start import wait_idle

A = "plans[ac-add-on]"


def choose(box: QComboBox, value: str) -> None:
    box.setCurrentIndex(box.findData(value))


def press(page, name: str) -> None:
    (button,) = [b for b in page.findChildren(QPushButton) if b.accessibleName() == name and b.isVisible()]
    button.click()


@pytest.fixture
def on_a(window, qapp):
    window.session.choose("ac-add-on")
    assert wait_idle(qapp, window)
    return window


def test_all_checks_are_filtered_opened_and_written(on_a, answers, qapp, tmp_path):
    window = on_a
    asked = [Edit("site.network.transfer_approved", "not_known"), Edit(f"{A}.protection.surge", "not_known")]
    window.session.edit("What is not known", asked)
    assert wait_idle(qapp, window)
    window.menus["checks"].trigger()
    dialog = answers.dialog
    assert isinstance(dialog, ChecksDialog)
    whole = dialog.table.rowCount()
    assert whole == len(window.session.fresh("ac-add-on").findings) > 100
    choose(dialog.group, "wiring")
    wiring = dialog.table.rowCount()
    choose(dialog.verdict, "tight")
    assert 0 < dialog.table.rowCount() < wiring < whole
    assert "of" in dialog.shown.text()
    dialog.words.setText("rise shed")
    assert dialog.table.rowCount() == 1
    assert "2.66 %" in dialog.table.item(0, 3).text()
    dialog.words.clear()
    choose(dialog.group, "")
    choose(dialog.verdict, MEASURE)
    assert {dialog.table.item(i, 2).text() for i in range(dialog.table.rowCount())} == {
        "Ask the network operator", "Where the boxes stand or will stand",
    }  # fmt: skip
    for name, begins in (("checks.html", b"<html>"), ("checks.pdf", b"%PDF")):
        dialog.write(tmp_path / name)
        assert (tmp_path / name).read_bytes().startswith(begins)
    html = (tmp_path / "checks.html").read_text(encoding="utf-8")
    assert html.count("<tr>") == whole
    assert "☐ whether the operator agrees" in html
    dialog.write(tmp_path / "none" / "checks.html")
    assert "cannot be written" in answers.said[-1]
    choose(dialog.verdict, "tight")
    dialog.table.selectRow(0)
    chosen = dialog.table.item(0, 1).text()
    dialog._open(0)
    assert window.headroom.opened_check is not None
    assert chosen.startswith(next(f.title for f in window.headroom.findings()[0] if f.check == window.headroom.opened_check[0]))


def test_two_packs_side_by_side(on_a, answers):
    on_a.menus["packs"].trigger()
    dialog = answers.dialog
    assert isinstance(dialog, PacksDialog)
    choose(dialog.one, "germany")
    choose(dialog.other, "great-britain")
    rows = {dialog.table.item(i, 0).text(): dialog.table.item(i, 1).text() for i in range(dialog.table.rowCount())}
    assert rows["phase imbalance, at most"] == "4.6 kVA"
    assert f"{dialog.table.rowCount()} figures" in dialog.said.text()
    dialog.unlike.setChecked(False)
    assert dialog.table.rowCount() > 60
    dialog.words.setText("sustained volts")
    assert dialog.table.rowCount() == 1
    choose(dialog.one, "great-britain")
    assert dialog.said.text() == "They say the same."


def test_a_pack_of_ones_own_is_read_shown_saved_and_undone(on_a, answers, qapp, tmp_path):
    window, session = on_a, on_a.session
    window.show_page("tariff")
    before = session.job
    mine = tmp_path / "mine.toml"
    text = pack_text(pack_named("australia-new-zealand"), pack_id="mine", name="Mine").replace(
        "rise_most_frac = { value = 0.02", "rise_most_frac = { value = 0.03"
    )
    mine.write_text(text, encoding="utf-8")
    take_pack(session, mine)
    assert wait_idle(qapp, window)
    assert (session.job.pack, session.job.rules().name) == (OWN, "Mine")
    (rise, _) = [f for f in session.fresh("ac-add-on").findings if f.check == "cable.rise"]
    assert (rise.limit, rise.verdict, rise.pack) == (0.03, "within", "mine")
    answers.path = tmp_path / "saved.toml"
    assert wait_idle(qapp, window)
    press(window.page("tariff"), "Save these rules…")
    assert 'name = "Mine"' in answers.path.read_text(encoding="utf-8")
    mine.write_text("id = 3", encoding="utf-8")
    with pytest.raises(BadInput, match=r"mine\.toml"):
        take_pack(session, mine)
    assert session.job.rules().name == "Mine", "a fault changes nothing"
    session.document.undo()
    assert session.job == before


def test_tables_of_ones_own_carry_the_runs(on_a, qapp, tmp_path):
    window, session = on_a, on_a.session
    thick = tmp_path / "tables.toml"
    thick.write_text(
        '[ours]\nname = "ours"\nsource = "made up"\nresistance_at_c = 20\nruns_at_c = 20\ncolumns = ["clipped direct"]\n'
        'rows = [["4 mm²", 4, 4.0, [50]], ["10 mm²", 10, 1.0, [90]], ["16 mm²", 16, 0.8, [99]]]\n'
        "ambient_c = [[60, 1.0]]\ngrouped = [[9, 1.0]]\n", encoding="utf-8",
    )  # fmt: skip
    take_tables(session, thick)
    assert wait_idle(qapp, window)
    assert session.job.cable_table == "ours"
    (rise, _) = [f for f in session.fresh("ac-add-on").findings if f.check == "cable.rise"]
    assert rise.value == pytest.approx(2 * 5000 / 230 * (22 * 4.0 + 14 * 0.8) / 1000 / 230)
    window.show_page("tariff")
    assert wait_idle(qapp, window)
    press(window.page("tariff"), "The shipped tables of conductors alone")
    assert session.job.own_tables is None
    assert session.job.cable_table in ("", *shipped_tables())


def test_places_are_added_filled_and_forgotten(on_a, qapp):
    window, session = on_a, on_a.session
    window.show_page("site")
    page = window.page("site")
    page.show_part("walls")
    assert wait_idle(qapp, window)
    assert "indoors: 3 × LFP stack" in page.walls.view.accessibleName()
    press(page, "Say what is known outdoors")
    assert wait_idle(qapp, window)
    assert [s.place for s in session.job.site.spots] == ["indoors", "garage", "outdoors"]
    assert page.focus_path("site.spots[2].in_sun")
    forget = [b for b in page.findChildren(QPushButton) if b.text() == "Forget it" and b.isVisible()]
    forget[0].click()
    assert wait_idle(qapp, window)
    assert [s.place for s in session.job.site.spots] == ["garage", "outdoors"]
    assert any(f.check == "place.known" and f.verdict == "not known" for f in session.fresh("ac-add-on").findings)
    session.document.undo()
    session.document.undo()
    assert [s.place for s in session.job.site.spots] == ["indoors", "garage"]


def test_an_old_circuit_is_used_again_and_taken_out(on_a, qapp):
    window, session = on_a, on_a.session
    window.show_page("site")
    page = window.page("site")
    page.show_part("runs")
    box = page.cells[f"{A}.nodes[bat].reuses"].editor
    assert isinstance(box, QComboBox)
    choose(box, "shed-circuit")
    box.activated.emit(box.currentIndex())
    assert wait_idle(qapp, window)
    assert session.plan.node("bat").reuses == "shed-circuit"
    assert "22 m, 4 mm²" in page.runs.chain.accessibleDescription()
    assert any(f.check == "service.reuse" for f in session.fresh("ac-add-on").findings)
    press(page, "Take out Shed circuit")
    assert session.plan.node("bat").reuses is None
    assert not session.job.site.circuits
    session.document.undo()
    assert session.plan.node("bat").reuses == "shed-circuit"
    rows = page.runs.chain.copy_rows()
    assert rows[0][0] == "run"
    assert len(rows) > 5
