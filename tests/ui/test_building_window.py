"""Building on the relay line in the real window: by menu, button and key; every step one named undo, nothing chosen silently."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QMenu

from calm_relay.ui.start import wait_idle
from tests.ui.picking import take


def step(window, key):
    """Make a step as its menu entry does."""
    building = window.plans.building
    building.do(next(s for s in building.steps() if s.key == key))


def titles(menu):
    return [action.text() for action in menu.actions() if action.text()]


def test_a_battery_is_put_beside_todays_inverter_and_taken_out_by_a_key(window, qapp):
    session, relay = window.session, window.plans.relay
    session.choose("today")
    window.show_page("plans")
    assert wait_idle(qapp, window)
    before = session.job
    take(session, "gateway-63")
    step(window, "transfer")
    take(session, "battery-inverter-5k")
    step(window, "inverter:backup")
    take(session, "stack-3k")
    step(window, "battery:inverter-1")
    assert wait_idle(qapp, window)
    node = session.plan.nodes[-1]
    assert (node.side, node.battery.card) == ("backup", "stack-3k")
    assert relay.station.id == "battery:inverter-1", "one looks at what was brought"
    assert window.plans.sheet.station.id == "battery:inverter-1"
    assert session.fresh("today").facts.full_cycles > 10, "the plan is simulated at once"
    assert session.document.undo_label.startswith("Add a battery to Battery inverter: ")
    menu = window.plans.sheet.build.menu()
    menu.aboutToShow.emit()
    assert "One module more on Battery inverter" in titles(menu)
    relay.setFocus()
    QTest.keyClick(relay, Qt.Key.Key_Delete)
    assert session.plan.nodes[-1].battery is None
    for _ in range(4):
        session.document.undo()
    assert session.job == before, "every step is one entry of the history"


def test_what_does_not_go_says_why_and_a_picker_closed_changes_nothing(window, qapp):
    session, relay = window.session, window.plans.relay
    session.choose("today")
    window.show_page("plans")
    assert wait_idle(qapp, window)
    menu = window.plans.building.menu(window.plans)
    grey = [action.text() for action in menu.actions() if action.text() and not action.isEnabled()]
    assert any("no tracker is left" in text for text in grey)
    assert any("without a transfer device" in text for text in grey)
    before = session.job
    session.dialogs.pick = lambda _: None
    step(window, "inverter:grid")
    assert session.job is before
    relay.setFocus()
    QTest.keyClick(relay, Qt.Key.Key_Insert)
    qapp.processEvents()
    shown = [w for w in qapp.topLevelWidgets() if isinstance(w, QMenu) and w.isVisible()]
    assert shown, "Insert offers what can be added at the station"
    assert "Copy the picture" in titles(shown[0])
    shown[0].close()


def test_a_key_goes_to_a_stations_worst_moment_and_the_mouse_tells_its_arithmetic(window, qapp):
    session, relay = window.session, window.plans.relay
    session.choose("hybrid-alongside")
    window.show_page("plans")
    assert wait_idle(qapp, window)
    relay.focus_station("grid")
    relay.setFocus()
    QTest.keyClick(relay, Qt.Key.Key_W)
    lost = session.made().flow.lost_w("cap")
    assert session.clock.step == int(lost.argmax())
    assert "held back by the export cap" in window.plans.clock_label.text()
    assert "63 A × 230 V" in relay.words_of(relay.station)
    relay.focus_station("inverter:hyb")
    assert "Assumed: charger loss as the inverter's" in relay.accessibleDescription()


def test_a_plan_loses_its_grid_and_gets_a_generator_in_one_step_each(window, qapp):
    session = window.session
    session.choose("hybrid-swap")
    window.show_page("plans")
    assert wait_idle(qapp, window)
    before = session.job
    step(window, "off-grid")
    take(session, "generator-6k")
    step(window, "generator")
    assert wait_idle(qapp, window)
    assert session.plan.off_grid
    assert session.fresh("hybrid-swap").bill.total == 0.0
    assert not window.plans.grid_down.isVisible(), "there is no grid to take away"
    assert window.plans.relay.station.id in {s.id for s in window.plans.relay.picture.stations}
    assert "generator" in {s.id for s in window.plans.relay.picture.stations}
    assert "no grid" in window.plans._summary.text()
    for _ in range(2):
        session.document.undo()
    assert session.job == before
