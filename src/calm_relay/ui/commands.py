"""The window's commands as data: what stands in which menu under which key. It knows the window; the window does not know it."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Any

from calm_relay import __version__
from calm_relay.decision.patterns import PATTERNS
from calm_relay.demo import TEACHES
from calm_relay.job.container import OpenedJob
from calm_relay.job.pages import PAGES
from calm_relay.places import ATTRIBUTION
from calm_relay.ui.menus import Command
from calm_relay.ui.window import MainWindow

TEXT_SIZES = (("Text 100 %", 1.0), ("Text 125 %", 1.25), ("Text 150 %", 1.5))
THEMES = (("As the system", "system"), ("Light", "light"), ("Dark", "dark"))
UNITS = (("Metric units", "metric"), ("North American units", "north_american"))


def make_window(opened: OpenedJob, path: Path | None, **more: Any) -> MainWindow:
    """Return a window on a job with all its commands; `more` as :class:`MainWindow` takes it."""
    return MainWindow(opened, path, COMMANDS, **more)


def _new(window: MainWindow) -> None:
    from calm_relay.job.series import SeriesStore
    from calm_relay.job.template import new_job

    job = new_job()
    window.files.take(OpenedJob(job, SeriesStore(), job.schema_version), None)


def _demo(name: str, window: MainWindow) -> None:
    from calm_relay.demo import demo_path
    from calm_relay.job.container import read_job

    window.files.take(read_job(demo_path(name)), None)


def _equipment(window: MainWindow) -> None:
    from calm_relay.ui.equipment_dialog import EquipmentDialog

    window.dialogs.show(EquipmentDialog(window.session, window.theme, window.text_scale, window))


def _chains(window: MainWindow) -> None:
    from calm_relay.ui.chains_dialog import ChainsDialog

    window.dialogs.show(ChainsDialog(window.session, window.theme, window.text_scale, window))


def _checks(window: MainWindow) -> None:
    from calm_relay.ui.checks_dialog import ChecksDialog

    dialog = ChecksDialog(window.session, window.theme, window.text_scale, window.dialogs, window)

    def open_chosen() -> None:
        window.menus["headroom"].setChecked(True)
        window.headroom.open(dialog.chosen)

    dialog.accepted.connect(open_chosen)
    window.dialogs.show(dialog)


def _packs(window: MainWindow) -> None:
    from calm_relay.ui.packs_dialog import PacksDialog

    window.dialogs.show(PacksDialog(window.session, window.text_scale, window))


def _costs(window: MainWindow) -> None:
    from calm_relay.ui.costs_dialog import CostsDialog

    window.dialogs.show(CostsDialog(window.session, window.text_scale, window))


def _controls(window: MainWindow) -> None:
    from calm_relay.ui.controls_dialog import ControlsDialog

    window.dialogs.show(ControlsDialog(window.session, window.theme, window.text_scale, window))


def _ageing(window: MainWindow) -> None:
    from calm_relay.ui.ageing_dialog import AgeingDialog

    window.dialogs.show(AgeingDialog(window.session, window.theme, window.text_scale, window))


def about_text() -> str:
    """Return what the program is and what it defers to."""
    return (
        f"Calm Relay {__version__}. Plans how batteries join a photovoltaic system, and proves it over a simulated year.\n\n"
        "Local codes, the network operator, the equipment's own manual and a licensed electrician decide. "
        "Open source (MIT). Qt through PySide6 under the LGPL; font Inter under the SIL Open Font License; pyqtgraph (MIT).\n\n"
        f"{ATTRIBUTION}"
    )


def _job_commands() -> list[Command]:
    m = "&Job"
    return [
        Command(m, "new", "&New job", _new, "Ctrl+N"),
        Command(m, "open", "&Open…", lambda w: w.files.open_job(), "Ctrl+O"),
        *(
            Command(f"{m}/Open a &demo", name, title, partial(_demo, name), tip=teaches)
            for name, (title, teaches) in TEACHES.items()
        ),
        Command(m, "equipment", "&Equipment…", _equipment, "Ctrl+E", tip="cards, shipped and your own"),
        Command(m, "save", "&Save", lambda w: w.files.save(), "Ctrl+S", after_line=True),
        Command(m, "save_as", "Save &as…", lambda w: w.files.save_as(), "Ctrl+Shift+S"),
        Command(m, "quit", "&Quit", lambda w: w.close(), "Ctrl+Q", after_line=True),
    ]


def _edit_commands() -> list[Command]:
    m = "&Edit"
    return [
        Command(m, "undo", "&Undo", lambda w: w.undo(), "Ctrl+Z"),
        Command(m, "redo", "&Redo", lambda w: w.redo(), "Ctrl+Shift+Z|Ctrl+Y"),
        Command(m, "copy", "&Copy the table or picture in focus", lambda w: w.keys.copy(), "Ctrl+C", after_line=True),
        Command(m, "goto", "&Go to…", lambda w: w.go_to(), "Ctrl+G", after_line=True),
    ]


def _plan_commands() -> list[Command]:
    m = "&Plan"
    return [
        Command(
            m, "start-list", "&Start list…", lambda w: w.plan_actions.start(), "Ctrl+L", tip="what stands, and what it becomes"
        ),
        *(
            Command(f"{m}/D&raft a plan", f"draft:{key}", text, lambda w, k=key: w.plan_actions.draft(k), tip=tip)
            for key, text, tip in PATTERNS
        ),
        *(
            Command(f"{m}/Chan&ge its pattern", f"change:{key}", text, lambda w, k=key: w.plan_actions.change(k), tip=tip)
            for key, text, tip in PATTERNS
        ),
        Command(m, "duplicate", "&Duplicate this plan", lambda w: w.plan_actions.duplicate(), "Ctrl+D"),
        Command(m, "rename", "Re&name this plan…", lambda w: w.plan_actions.rename(), "Ctrl+R"),
        Command(m, "note", "No&te of this plan…", lambda w: w.plan_actions.note(), tip="what it is for, and why it is as it is"),
        Command(m, "earlier", "Move it &earlier", lambda w: w.plan_actions.move(-1)),
        Command(m, "later", "Move it &later", lambda w: w.plan_actions.move(1)),
        Command(m, "remove", "&Remove this plan", lambda w: w.plan_actions.remove()),
        Command(m, "pin", "P&in or unpin this plan", lambda w: w.session.toggle_pin(w.session.chosen), "Ctrl+P", after_line=True),
        Command(m, "costs", "C&osts…", _costs, "Ctrl+Shift+K", tip="what the plan costs to build, line by line"),
        Command(m, "chains", "Battery &chains…", _chains, "Ctrl+B", tip="links from cell to bus, the weakest, what each way loses"),
        Command(m, "checks", "All chec&ks…", _checks, "Ctrl+Shift+A", tip="every check, by group and verdict; saved as a page"),
        Command(m, "packs", "R&ule packs…", _packs, "Ctrl+Shift+U", tip="two packs side by side, figure by figure"),
        Command(m, "controls", "C&ontrols…", _controls, "Ctrl+K", tip="sensor, peaks, reserve by season, slots by the clock"),
        Command(m, "ageing", "Battery a&geing…", _ageing, "Ctrl+Shift+B", tip="capacity over twenty years, and the warranty"),
        Command(m, "next", "Ne&xt plan", lambda w: w.plan_actions.step(1), "Ctrl+PgDown"),
        Command(m, "previous", "&Previous plan", lambda w: w.plan_actions.step(-1), "Ctrl+PgUp"),
    ]


def _view_commands() -> list[Command]:
    m = "&View"
    return [
        *(
            Command(m, f"page:{spec.key}", spec.title.replace("&", "&&"), lambda w, k=spec.key: w.show_page(k), f"Alt+{number}")
            for number, spec in enumerate(PAGES, start=1)
        ),
        Command(m, "grid", "Open or close the &grid", lambda w: w.plans.toggle_grid(), "G", after_line=True),
        Command(m, "worst", "&Worst moment of the station in focus", lambda w: w.plans.worst_moment(), "W"),
        Command(m, "fold", "&Fold like inverters, or each by itself", lambda w: w.plans.relay.toggle_fold(), "Shift+F"),
        Command(m, "headroom", "&Headroom", lambda w, on: w.fold_headroom(on), "F8", toggles=True),
        Command(m, "strip", "Day &strip", lambda w, on: w.fold_strip(on), "F7", toggles=True),
        *_choice(f"{m}/&Theme", "theme", THEMES, lambda w, value: w.set_theme_choice(value)),
        *_choice(f"{m}/Text si&ze", "text", TEXT_SIZES, lambda w, value: w.set_text_scale(value)),
        *_choice(f"{m}/&Units", "units", UNITS, lambda w, value: w.set_units(value)),
    ]


def _choice(menu: str, group: str, rows: tuple[tuple[str, Any], ...], act: Any) -> list[Command]:
    return [Command(menu, f"{group}:{value}", text, lambda w, v=value: act(w, v), group=group) for text, value in rows]


COMMANDS: tuple[Command, ...] = (
    *_job_commands(),
    *_edit_commands(),
    *_plan_commands(),
    *_view_commands(),
    Command("&Help", "keys", "&Keys", lambda w: w.dialogs.say("Keys", w.menus.keys_text()), "F1"),
    Command("&Help", "about", "&About", lambda w: w.dialogs.say("About", about_text())),
)
