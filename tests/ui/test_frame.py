"""The frame: clock, day strip, go-to, pins, marks, theme and units, waivers, start page, recovery after a real kill, crash."""

from __future__ import annotations

import json
import os
import re
import signal
import subprocess
import sys
from pathlib import Path

import pytest
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent, QFont
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QPushButton

from calm_relay.decision.index import entries, search
from calm_relay.demo import demo_job, demo_path
from calm_relay.job.container import OpenedJob, read_job, save_job
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.recovery import Recovery, find_recoverable, forget
from calm_relay.job.series import SeriesStore
from calm_relay.job.template import new_job
from calm_relay.ui import crash
from calm_relay.ui.clock import STEPS_PER_DAY
from calm_relay.ui.commands import make_window
from calm_relay.ui.goto import GoTo
from calm_relay.ui.settings import Settings
from calm_relay.ui.start import wait_idle
from calm_relay.ui.start_page import StartPage
from calm_relay.ui.views.plan_tabs import worst_words
from calm_relay.units import use_units
from tests.ui.conftest import dispose


@pytest.fixture(autouse=True)
def metric():
    yield
    use_units("metric")


def choose(window, qapp, letter: str) -> None:
    window.session.choose(window.session.job.plan(letter).id)
    assert wait_idle(qapp, window)


# --- clock and strip


def test_moving_over_carpet_and_day_moves_the_clock_on_the_relay_line(window, qapp):
    choose(window, qapp, "B")
    clock, carpet, day = window.session.clock, window.strip.carpet, window.strip.day
    before = window.plans.relay.picture
    frame = carpet.frame_rect()
    QTest.mouseMove(carpet, (frame.topLeft() + QPointF(frame.width() * 0.5, frame.height() * 0.5)).toPoint())
    qapp.processEvents()
    assert abs(clock.day - 182) <= 2
    assert abs(clock.in_day - STEPS_PER_DAY // 2) < 12
    assert window.plans.relay.picture is not before
    label = window.session.calendar().label(clock.step)
    assert window.strip.clock_label.text() == label
    assert window.plans.clock_label.text() == label
    frame = day.frame_rect()
    QTest.mouseMove(day, (frame.topLeft() + QPointF(frame.width() * 0.75, 5)).toPoint())
    qapp.processEvents()
    assert abs(clock.in_day - 0.75 * STEPS_PER_DAY) < 4
    assert abs(clock.day - 182) <= 2


def test_keys_move_the_clock_and_the_shown_flow_is_that_step(window, qapp):
    choose(window, qapp, "B")
    clock, made = window.session.clock, window.session.made()
    window.strip.carpet.setFocus()
    at = clock.step
    for key, by in ((Qt.Key.Key_Right, STEPS_PER_DAY), (Qt.Key.Key_Up, 3), (Qt.Key.Key_PageDown, 7 * STEPS_PER_DAY)):
        QTest.keyClick(window.strip.carpet, key)
        at += by
        assert clock.step == at
    export = made.flow.column("export_w")[clock.step]
    shown = sum(watts for _, watts in window.plans.shown_values[1].export)
    assert shown == pytest.approx(export, abs=1.0)
    window.plans.peak.click()
    assert window.plans.shown_values[1].export_w == pytest.approx(made.flow.column("export_w").max(), abs=1.0)
    QTest.keyClick(window.strip.day, Qt.Key.Key_Left)
    assert not window.plans.peak.isChecked()


def test_notable_days_are_one_click_away(window, qapp):
    choose(window, qapp, "D")
    made, calendar = window.session.made(), window.session.calendar()
    n = STEPS_PER_DAY
    pv = sum(d.available_w for d in made.dc.values()).reshape(-1, n).sum(axis=1)
    window.strip.buttons["dullest"].click()
    assert window.session.clock.day == int(pv.argmin())
    window.strip.buttons["most clipped"].click()
    clipped = made.pv_only["old"].clipped_ac_w.reshape(-1, n).sum(axis=1)
    assert window.session.clock.day == int(clipped.argmax())
    window.strip.buttons["coldest"].click()
    assert window.session.clock.day == int(window.session.air_c().reshape(-1, n).min(axis=1).argmin())
    assert calendar.month[window.session.clock.step] in (5, 6, 7, 8, 9), "south of the equator it is cold then"


# --- tabs, marks, pins, headroom


def test_tab_counts_equal_headroom_in_every_plan(window, qapp):
    for plan in window.session.job.plans:
        window.session.choose(plan.id)
        assert wait_idle(qapp, window)
        findings, waiting = window.headroom.findings()
        assert not waiting
        assert window.tabs.tab(plan.id).face.verdict == worst_words(findings)[0]
        rows = window.headroom.rows()
        assert {row.finding.check for row in rows} == {f.check for f in findings}
        folded = [int(match[1]) for row in rows if (match := re.search(r"and (\d+) more alike", row.detail))]
        assert len(rows) + sum(folded) == len(findings), "like findings share a row, and none is left out"


def test_a_folded_row_opens_into_its_like_ones_and_folds_again(window, qapp):
    choose(window, qapp, "C")
    before = len(window.headroom.rows())
    folded = next(row for row in window.headroom.rows() if "more alike" in row.detail)
    folded.click()
    alike = [row for row in window.headroom.rows() if row.finding.check == folded.finding.check]
    assert len(alike) > 1
    assert not any("more alike" in row.detail for row in alike)
    window.headroom.open(None)
    assert len(window.headroom.rows()) == before


def test_headroom_folds_where_all_plans_stand_and_the_strip_while_a_station_is_open(window, qapp):
    window.resize(1024, 700)
    window.show_page("decide")
    qapp.processEvents()
    table = window.page("decide").table
    assert not window.headroom.isVisible()
    assert table.horizontalScrollBar().maximum() == 0, "all plans stand together"
    window.menus["headroom"].setChecked(False)
    window.menus["headroom"].setChecked(True)
    assert window.headroom.isVisible(), "by hand it is unfolded there too"
    window.resize(1280, 800)
    window.show_page("plans")
    qapp.processEvents()
    assert window.strip.isVisible()
    assert window.headroom.isVisible()
    relay, sheet = window.plans.relay, window.plans.sheet
    relay.focus_station(next(s.id for s in relay.picture.stations if s.kind == "battery"))
    window.plans.open_station()
    qapp.processEvents()
    assert not window.strip.isVisible()
    bar = sheet.field("battery.modules").parentWidget().parentWidget().parentWidget().parentWidget().parentWidget()
    assert bar.verticalScrollBar().maximum() == 0, "no field of the station is out of sight"
    sheet.open(None)
    qapp.processEvents()
    assert window.strip.isVisible()


def test_marks_follow_the_checks(window, qapp):
    assert window.order_buttons["site"].mark.state == "over"
    assert "plan D" in window.order_buttons["site"].mark.why
    assert window.order_buttons["house"].mark.state == "complete"
    window.session.change_plans("Without D", window.session.job.plans[:-1])
    assert wait_idle(qapp, window)
    assert window.order_buttons["site"].mark.state == "complete"
    window.session.edit("No record low", [Edit("site.record_low_c", None)])
    assert wait_idle(qapp, window)
    assert window.order_buttons["site"].mark.state == "assumed"
    assert "Record low" in window.order_buttons["site"].mark.why


def test_two_pinned_plans_show_their_differences_on_every_page(window, qapp):
    choose(window, qapp, "A")
    window.action("pin").trigger()
    choose(window, qapp, "C")
    window.action("pin").trigger()
    assert window.pins.isVisible()
    for page in ("site", "year", "decide"):
        window.show_page(page)
        assert window.pins.isVisible()
    text = window.pins.words.text()
    a, c = (window.session.fresh(p).bill.total for p in ("ac-add-on", "hybrid-alongside"))
    assert text.startswith("C against A: yearly bill")
    assert f"−$ {a - c:,.0f}" in text
    window.session.unpin()
    assert not window.pins.isVisible()


def test_headroom_says_what_limits_cost_and_what_raising_one_gains(window, qapp):
    choose(window, qapp, "C")
    texts = [w.text() for w in window.headroom.findChildren(type(window.headroom.tally)) if not w.isHidden()]
    held = window.session.fresh("hybrid-alongside").facts.held_by_cap_wh
    assert any(
        f"Export cap: {window.session.fresh('hybrid-alongside').facts.limits['export_cap'].hours_h:.0f} h" in t for t in texts
    )
    assert any(f"{held / 1000:.0f} kWh held back" in t for t in texts)
    gains = window.session.raised()
    assert gains
    best = gains[0]
    assert any(best.text in t for t in texts)
    before = window.session.fresh("hybrid-alongside").bill.total
    window.session.edit("Raise it", best.edits)
    assert wait_idle(qapp, window)
    assert before - window.session.fresh("hybrid-alongside").bill.total == pytest.approx(best.saving, abs=1e-6)


def test_a_check_is_waived_with_a_reason_and_taken_back(window, qapp, answers):
    choose(window, qapp, "C")
    row = next(r for r in window.headroom.rows() if r.finding.check == "network.inverter-sum")
    QTest.keyClick(row, Qt.Key.Key_Space)
    answers.text = "no"
    window.headroom.findChild(QPushButton, "waive").click()
    assert "3 to 400" in answers.said[-1]
    answers.text = "the operator wrote yes on 3 May"
    window.headroom.findChild(QPushButton, "waive").click()
    assert wait_idle(qapp, window)
    assert window.session.plan.waived[0].reason == "the operator wrote yes on 3 May"
    assert window.tabs.tab("hybrid-alongside").face.verdict != "1 over"
    window.undo()
    assert window.session.job == demo_job()


# --- go-to


@pytest.mark.parametrize(
    ("words", "page", "what"),
    [
        ("latitude", "site", "site.place.latitude_deg"),
        ("tilt north-west", "site", "faces[north-west].tilt_deg"),
        ("oven runs", "house", "house.appliances[oven].running_w"),
        ("export limit", "tariff", "site.export_limit_w"),
        ("reserve outages", "plans", "plans[hybrid-swap].controls.reserve_soc_frac"),
        ("grid charge at", "plans", "plans[hybrid-swap].controls.slots[0].power_w"),
        ("modules series ne1", "site", "plans[hybrid-swap].nodes[hyb].strings[ne1].modules_per_string"),
    ],
)
def test_go_to_a_field_puts_the_focus_on_it(window, qapp, answers, words, page, what):
    choose(window, qapp, "B")
    window.action("goto").trigger()
    box = answers.dialog
    assert isinstance(box, GoTo)
    QTest.keyClicks(box.line, words)
    QTest.keyClick(box.line, Qt.Key.Key_Return)
    qapp.processEvents()
    assert window.shown == page
    focus = window.focusWidget()
    cells = window.page(page).cells if hasattr(window.page(page), "cells") else window.plans.sheet.cells
    assert focus is cells[what].editor


def test_go_to_checks_cards_plans_and_pages(window, qapp, answers):
    choose(window, qapp, "C")
    found = entries(window.session.job, window.session.chosen, {window.session.chosen: window.headroom.findings()[0]})
    window.go(next(e for e in search(found, "network count") if e.kind == "check"))
    assert window.headroom.opened_check == ("network.inverter-sum", "site")
    window.go(next(e for e in search(found, "hybrid 6 kW") if e.kind == "card"))
    assert "offgrid continuous va: 6000" in answers.said[-1]
    assert "Used in: C" in answers.said[-1]
    window.go(next(e for e in search(found, "array only") if e.kind == "plan"))
    assert window.session.plan.letter == "D"
    window.go(next(e for e in search(found, "house") if e.kind == "page"))
    assert window.shown == "house"
    assert search(found, "no such words at all") == ()


# --- theme, text, units


def test_theme_text_size_and_units_are_switched_and_remembered(window, qapp):
    window.action("theme:dark").trigger()
    assert window.theme.name == "dark"
    window.action("text:1.25").trigger()
    assert window.text_scale == 1.25
    window.show_page("site")
    cell = window.page("site").cells["site.record_low_c"].editor
    assert cell.text() == "−4 °C"
    window.action("units:north_american").trigger()
    assert wait_idle(qapp, window)
    cell = window.page("site").cells["site.record_low_c"].editor
    assert cell.text() == "24.8 °F"
    cell.setFocus()
    cell.selectAll()
    QTest.keyClicks(cell, "14")
    QTest.keyClick(cell, Qt.Key.Key_Return)
    assert window.session.job.site.record_low_c == pytest.approx(-10.0)
    cell.selectAll()
    QTest.keyClicks(cell, "-12 °C")
    QTest.keyClick(cell, Qt.Key.Key_Return)
    assert window.session.job.site.record_low_c == -12.0
    window.action("units:metric").trigger()
    assert window.session.job.site.record_low_c == -12.0, "a switch of units is no edit"
    kept = Settings(window.settings.file)
    assert (kept.theme, kept.text_scale, kept.units) == ("dark", 1.25, "metric")


def test_a_remembered_text_size_holds_for_all_that_is_made(qapp, tmp_path, answers):
    qapp.setStyleSheet("")
    qapp.setFont(QFont("Inter", 9))
    qapp.setProperty("look", None)  # as a process begins
    settings = Settings(tmp_path / "window.ini")
    settings.text_scale = 1.5
    window = make_window(read_job(demo_path()), None, settings=settings, dialogs=answers)
    own = [bar.font().pointSizeF() for bar in (window.menuBar(), *window.order_buttons.values(), *window.headroom.rows())]
    assert set(own) == {9.75 * 1.5}
    dispose(qapp, window)


# --- files, start page, recovery, crash


def test_a_dropped_job_is_opened(window, qapp, tmp_path):
    path = tmp_path / "dropped.json"
    save_job(path, demo_job().model_copy(update={"name": "Dropped"}), SeriesStore())
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path))])
    both = Qt.DropAction.CopyAction
    window.dropEvent(QDropEvent(QPointF(50, 50), both, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier))
    qapp.processEvents()
    assert wait_idle(qapp, window)
    assert window.session.job.name == "Dropped"
    assert window.settings.recent == (path,)


def test_a_weather_file_is_read_shown_undone_and_a_bad_one_told(window, qapp, answers, tmp_path):
    rows = "".join(f"{max(0, 800 - 160 * abs(h % 24 - 12) + h % 7)},{10 + h % 5}\n" for h in range(8760))
    good, bad = tmp_path / "year.csv", tmp_path / "bad.csv"
    good.write_text("ghi,air_c\n" + rows)
    bad.write_text("sun,air_c\n" + rows)
    window.files.take_file(bad)
    assert wait_idle(qapp, window)
    assert "no column 'ghi'" in answers.said[-1]
    assert window.session.job == demo_job()
    assert window.files.take_file(good)
    assert wait_idle(qapp, window)
    site = window.page("site")
    assert window.shown == "site"
    words = site.place.sun_words.text()
    total = sum(max(0, 800 - 160 * abs(h % 24 - 12) + h % 7) for h in range(8760)) / 1000
    used, left_out = (int(words.split(mark)[0].split()[-1]) for mark in (" kWh/m² a year", " kWh/m² of the file"))
    assert used + left_out == pytest.approx(total, abs=1.5), "what no step could take is said"
    assert "site.weather.ghi_wh_per_m2_day" not in site.rows
    answers.path = tmp_path / "job.crjob"
    assert window.files.save_as()
    opened = read_job(answers.path)
    assert opened.job.site.weather.name == "year.csv"
    site.place.typed_means()
    assert wait_idle(qapp, window)
    assert sum(window.session.job.site.weather.ghi_wh_per_m2_day) * 365 / 12 == pytest.approx(total * 1000, rel=0.02)
    window.undo()
    window.undo()
    assert window.session.job == demo_job()


def test_proposed_strings_are_taken_and_undone(window, qapp, answers):
    choose(window, qapp, "C")
    window.show_page("site")
    window.page("site").strings.propose("hyb")
    dialog = answers.dialog
    for _ in range(400):
        qapp.processEvents()
        if dialog.use.isEnabled():
            break
        QTest.qWait(5)
    assert dialog.table.rowCount() > 5
    assert dialog.table.item(0, 0).text() == "14"
    assert "room for 14" in dialog.words.text()
    dialog.use.click()
    hyb = next(n for n in window.session.plan.nodes if n.id == "hyb")
    assert sum(g.modules_per_string * g.parallel_strings for g in hyb.strings) == 14
    assert window.session.document.undo_label == "Hybrid: 14 modules in 2 strings"
    window.undo()
    assert window.session.job == demo_job()


def test_start_page_opens_demo_new_and_recent(qapp, tmp_path, answers):
    settings = Settings(tmp_path / "window.ini")
    path = tmp_path / "mine.json"
    save_job(path, demo_job(), SeriesStore())
    settings.add_recent(path)
    got: list[tuple[OpenedJob, Path | None, bool]] = []
    page = StartPage(settings, lambda *row: got.append(row), answers)
    page.show()
    page.buttons["demo"].click()
    page.buttons["new"].click()
    page.buttons["demo-kvist"].click()
    next(b for b in page.findChildren(QPushButton) if b.text() == "mine.json").click()
    assert [row[0].job.name for row in got] == ["Tern Point boatshed", "New job", "Kvist pottery", "Tern Point boatshed"]
    assert got[3][1] == path
    page.load(tmp_path / "none.json")
    assert "no such file" in answers.said[-1]
    page.close()


KILLED = """
import sys
from pathlib import Path
from calm_relay.demo import demo_path
from calm_relay.job.container import read_job
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.ui.settings import Settings
from calm_relay.ui.start import make_app
app = make_app()
from calm_relay.ui.commands import make_window
window = make_window(read_job(demo_path()), None, settings=Settings(Path(sys.argv[1])))
window.show()
window.session.edit("Tilt", [Edit("faces[north-west].tilt_deg", 31.0)])
while not list(window.session.recovery.folder.glob("*.json")):
    app.processEvents()
print("kept", flush=True)
while True:
    app.processEvents()
"""


def test_work_is_recovered_after_a_real_kill(qapp, tmp_path, monkeypatch, answers):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    child = subprocess.Popen(
        [sys.executable, "-c", KILLED, str(tmp_path / "w.ini")],
        stdout=subprocess.PIPE,
        text=True,
        env={**os.environ, "XDG_STATE_HOME": str(tmp_path)},
    )
    assert child.stdout is not None
    assert child.stdout.readline().strip() == "kept"
    assert find_recoverable() == (), "its window still lives"
    child.send_signal(signal.SIGKILL)
    child.wait()
    (found,) = find_recoverable()
    assert found.opened.job.face("north-west").tilt_deg == 31.0
    got: list[tuple[OpenedJob, Path | None, bool]] = []
    page = StartPage(Settings(tmp_path / "x.ini"), lambda *row: got.append(row), answers)
    page.show()
    next(b for b in page.findChildren(QPushButton) if b.text() == "Take it up").click()
    assert got[0][0].job.face("north-west").tilt_deg == 31.0
    assert got[0][2], "what was recovered counts as not saved"
    assert find_recoverable() == ()
    page.close()


def test_recovery_keeps_a_series_and_leaves_what_it_cannot_read(tmp_path, demo):
    import numpy as np

    from calm_relay.job.common_models import SeriesRef
    from calm_relay.job.house_models import House, SeriesLoad

    store = SeriesStore()
    key = store.put(np.arange(8760.0))
    metered = SeriesLoad(series=SeriesRef(sha256=key, rows=8760, step_s=3600))
    job = demo.model_copy(update={"house": House(background=metered, appliances=demo.house.appliances)})
    mine = Recovery(tmp_path)
    assert mine.keep(job, store, Path("/somewhere/job.crjob"))
    mine.release()
    (tmp_path / "torn.json").write_text("{")
    (found,) = find_recoverable(tmp_path)
    assert found.opened.job == job
    np.testing.assert_array_equal(found.opened.store.get(key), np.arange(8760.0))
    assert found.path == Path("/somewhere/job.crjob")
    assert (tmp_path / "torn.json").exists()
    forget(found.id, tmp_path)
    assert find_recoverable(tmp_path) == ()
    assert not Recovery(Path("/proc/nowhere")).keep(job, store, None), "no folder is no reason to fail an edit"


def test_saved_work_leaves_nothing_to_recover(window, qapp, answers, tmp_path, monkeypatch):
    window.session.recovery.folder = tmp_path / "recovery"
    window.session.edit("Tilt", [Edit("faces[north-west].tilt_deg", 31.0)])
    window.session.keep()
    assert list((tmp_path / "recovery").glob("*.json"))
    window.undo()
    window.session.keep()
    assert not list((tmp_path / "recovery").glob("*.json")), "back at what is saved"
    window.redo()
    window.session.keep()
    answers.path = tmp_path / "saved.crjob"
    assert window.files.save_as()
    assert not list((tmp_path / "recovery").glob("*.json"))


def test_a_crash_keeps_the_job_and_says_so(window, tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    said: list[str] = []
    kept: list[bool] = []
    before = sys.excepthook
    hook = crash.install(lambda: kept.append(True) or True, lambda title, text: said.append(text))
    try:
        try:
            raise RuntimeError("something unforeseen")
        except RuntimeError as error:
            hook(type(error), error, error.__traceback__)
    finally:
        sys.excepthook = before
    assert kept == [True]
    assert "something unforeseen" in said[0]
    assert "Your work is kept" in said[0]
    assert "test_a_crash_keeps_the_job" in (tmp_path / "calm-relay" / "log.txt").read_text()


def test_an_empty_job_teaches_and_leads_to_a_comparison(window, qapp):
    """The path of the user guide: new job, today's inverter and strings, a drafted plan, and both side by side."""
    job = new_job()
    assert window.files.take(OpenedJob(job, SeriesStore(), 2), None)
    assert wait_idle(qapp, window)
    assert window.shown == "site"
    assert window.order_buttons["site"].mark.state == "untouched"
    site = window.page("site")
    site.strings.add_node("string-inverter-5k")
    site.strings.add_string("inverter-1")
    latitude = site.cells["site.place.latitude_deg"].editor
    latitude.setFocus()
    latitude.selectAll()
    QTest.keyClicks(latitude, "-41,1")
    QTest.keyClick(latitude, Qt.Key.Key_Return)
    assert window.session.job.site.place.latitude_deg == -41.1
    assert window.session.job.mark_of("site.place.latitude_deg") == "typed"
    assert wait_idle(qapp, window)
    assert "a guess" in site.place.sun_words.text()
    site.place.typed_means()
    assert wait_idle(qapp, window)
    ghi = window.session.job.site.weather.ghi_wh_per_m2_day
    assert ghi[0] > 2 * ghi[6], "typed means begin with the guess of the place, which is south"
    assert window.order_buttons["site"].mark.state == "assumed"
    window.plan_actions.draft("ac-add-on")
    assert wait_idle(qapp, window)
    assert [p.letter for p in window.session.job.plans] == ["Today", "A"]
    window.show_page("decide")
    assert wait_idle(qapp, window)
    assert window.page("decide").table.columnCount() == 3
    window.plan_actions.draft("hybrid-alongside")
    assert json.loads(window.session.job.model_dump_json())["plans"][-1]["id"] != "hybrid-alongside"


def test_demo_path_is_never_written(window):
    before = demo_path().read_bytes()
    window.session.edit("Tilt", [Edit("faces[north-west].tilt_deg", 31.0)])
    assert window.session.path is None
    assert demo_path().read_bytes() == before
    assert read_job(demo_path()).job == demo_job()


def test_recovered_work_asks_before_it_writes_over_a_newer_file(window, answers, demo, tmp_path, monkeypatch):
    monkeypatch.setattr("calm_relay.job.recovery.recovery_folder", lambda: tmp_path / "recovery")
    path = tmp_path / "a.json"
    stamp = save_job(path, demo, SeriesStore())
    left = Recovery(tmp_path / "recovery")
    assert left.keep(apply_edits(demo, [Edit("name", "Left behind")]), SeriesStore(), path, stamp)
    left.release()
    save_job(path, apply_edits(demo, [Edit("name", "Newer")]), SeriesStore())
    os.utime(path, ns=(1, 1))
    assert window.files.load(path)
    assert "There is work on a.json that was not saved" in answers.said[-1]
    assert window.session.job.name == "Left behind"
    answers.sure = False
    assert not window.files.save(), "the file is another than the work began from: it is asked first"
    assert "changed by another program" in answers.said[-1]
    assert read_job(path).job.name == "Newer"


def test_a_read_only_file_is_asked_about(window, answers, demo, tmp_path):
    path = tmp_path / "a.json"
    save_job(path, demo, SeriesStore())
    assert window.files.load(path)
    path.chmod(0o444)
    answers.sure = False
    assert not window.files.save()
    assert "set to be read only" in answers.said[-1]
