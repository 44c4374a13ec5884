"""Makes the pictures in docs/screenshots from the demo job: the same bytes run after run."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Sequence
from pathlib import Path

from calm_relay.demo import demo_path
from calm_relay.job.container import read_job
from calm_relay.ui.start import SHOT_SIZE, make_app, wait_idle

FOLDER = Path("docs/screenshots")


def main(argv: Sequence[str] | None = None) -> int:
    """Draw every main view; a folder may be named instead of docs/screenshots."""
    arguments = list(sys.argv[1:] if argv is None else argv)
    folder = Path(arguments[0]) if arguments else FOLDER
    folder.mkdir(parents=True, exist_ok=True)
    os.environ.pop("DISPLAY", None)
    os.environ.pop("WAYLAND_DISPLAY", None)
    app = make_app()
    from calm_relay.ui.theme import DARK, LIGHT
    from calm_relay.ui.window import MainWindow

    window = MainWindow(read_job(demo_path()), None)
    window.resize(*SHOT_SIZE)
    window.show()
    wait_idle(app, window)

    def take(name: str, letter: str, prepare: Callable[[], None]) -> None:
        window.session.choose(window.session.job.plan(letter).id)
        wait_idle(app, window)
        prepare()
        wait_idle(app, window)
        if not window.grab().save(str(folder / f"{name}.png"), "PNG"):
            raise SystemExit(f"could not write {folder / name}.png")
        print(f"{folder / name}.png")

    def plans(*, grid_up: bool) -> Callable[[], None]:
        def prepare() -> None:
            window.show_page(0)
            (window.plans.grid_up if grid_up else window.plans.grid_down).setChecked(True)

        return prepare

    def station() -> None:
        plans(grid_up=True)()
        window.plans.relay.focus_station("battery:bat")
        window.plans.open_station()

    take("plans", "B", plans(grid_up=True))
    take("plans-grid-down", "C", plans(grid_up=False))
    take("plans-station", "A", station)
    window.plans.sheet.open(None)
    window.plans.grid_up.setChecked(True)
    take("decide", "B", lambda: window.show_page(1))
    window.set_look(DARK, 1.0)
    take("plans-dark", "D", plans(grid_up=True))
    window.set_look(LIGHT, 1.0)
    window.session.close()
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
