"""Makes the pictures in docs/screenshots from the demo job: the same bytes run after run."""

from __future__ import annotations

import os
import sys
import tempfile
from collections.abc import Callable, Sequence
from pathlib import Path

from calm_relay.demo import demo_path
from calm_relay.job.container import read_job
from calm_relay.ui.start import SHOT_SIZE, fresh_settings, make_app, wait_for, wait_idle

FOLDER = Path("docs/screenshots")


def main(argv: Sequence[str] | None = None) -> int:
    """Draw every main view; a folder may be named instead of docs/screenshots."""
    arguments = list(sys.argv[1:] if argv is None else argv)
    folder = Path(arguments[0]) if arguments else FOLDER
    folder.mkdir(parents=True, exist_ok=True)
    os.environ.pop("DISPLAY", None)
    os.environ.pop("WAYLAND_DISPLAY", None)
    for name in ("XDG_STATE_HOME", "XDG_DATA_HOME"):  # nobody's unsaved work and no own card is on a picture
        os.environ[name] = tempfile.mkdtemp(prefix="calm-relay-")
    app = make_app()
    from PySide6.QtWidgets import QDialog

    from calm_relay.tariff.templates import templates
    from calm_relay.ui.checks_dialog import ChecksDialog
    from calm_relay.ui.commands import make_window
    from calm_relay.ui.controls_dialog import ControlsDialog
    from calm_relay.ui.pages.blackout import BlackoutPage
    from calm_relay.ui.pages.decide import DecidePage
    from calm_relay.ui.pages.house import HousePage
    from calm_relay.ui.pages.site import SitePage
    from calm_relay.ui.pages.tariff import TariffPage
    from calm_relay.ui.picker_dialog import PickerDialog
    from calm_relay.ui.start_page import StartPage

    window = make_window(read_job(demo_path()), None, settings=fresh_settings())
    window.resize(*SHOT_SIZE)
    window.show()
    wait_idle(app, window)

    def take(name: str, letter: str, page: str, prepare: Callable[[], None] = lambda: None) -> None:
        window.session.choose(window.session.job.plan(letter).id)
        window.show_page(page)
        wait_idle(app, window)
        prepare()
        wait_idle(app, window)
        if not window.grab().save(str(folder / f"{name}.png"), "PNG"):
            raise SystemExit(f"could not write {folder / name}.png")
        print(f"{folder / name}.png")

    def show_dialog(name: str, dialog: QDialog) -> None:
        dialog.show()
        wait_idle(app, window)
        app.processEvents()
        dialog.grab().save(str(folder / f"{name}.png"), "PNG")
        print(f"{folder / name}.png")
        dialog.close()

    take("plans", "B", "plans")
    take("plans-grid-down", "C", "plans", window.plans.toggle_grid)
    window.plans.toggle_grid()
    show_dialog("controls", ControlsDialog(window.session, window.theme, 1.0, window))
    window.session.choose(window.session.job.plan("A").id)
    wait_idle(app, window)
    show_dialog("checks", ChecksDialog(window.session, window.theme, 1.0, window.dialogs, window))
    show_dialog("picker", PickerDialog(window.session, "plans[ac-add-on].nodes[bat].battery.card", window))
    site = window.page("site")
    assert isinstance(site, SitePage)

    def show(part: str, view: str = "") -> None:
        site.faces.chosen = "north-west"
        site.show_part(part)
        wait_idle(app, window)
        if view:
            window.scroll_to("site", getattr(getattr(site, part), view))

    take("site", "B", "site")
    take("faces", "B", "site", lambda: show("faces"))
    take("string-ladder", "D", "site", lambda: show("strings", "ladder"))
    take("oversizing", "D", "site", lambda: show("oversizing"))
    take("runs", "A", "site", lambda: show("runs"))
    take("places", "C", "site", lambda: show("walls"))
    site.show_part("place")
    house = window.page("house")
    assert isinstance(house, HousePage)

    def appliances() -> None:
        house.draws.chosen = "heat-pump"
        house.refresh()
        wait_idle(app, window)
        window.scroll_to("house", house.draws.list)

    take("house", "A", "house", appliances)
    take("brief", "B", "brief")

    def three_periods() -> None:
        page = window.page("tariff")
        assert isinstance(page, TariffPage)
        page.take_ready(templates()[2])

    take("tariff", "B", "tariff", three_periods)
    window.undo()
    take("year", "C", "year")
    blackout = window.page("blackout")
    assert isinstance(blackout, BlackoutPage)

    def storm() -> None:
        blackout.drill.asked.start, blackout.drill.asked.way = "named:Winter storm", 1
        blackout.set_theme(window.theme, 1.0)  # its boxes are built by what is asked
        blackout.refresh()
        wait_for(app, lambda: "(whole house)" in blackout.drill.first.text(), 20.0)
        blackout.drill.view.next_event()

    take("blackout", "B", "blackout", storm)
    take("decide", "B", "decide")
    decide = window.page("decide")
    assert isinstance(decide, DecidePage)
    take("twenty-years", "D", "decide", lambda: decide.show_part("years"))
    page = StartPage(fresh_settings(), lambda *_: None)
    page.show()
    app.processEvents()
    page.grab().save(str(folder / "start.png"), "PNG")
    print(f"{folder / 'start.png'}")
    window.session.close()
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
