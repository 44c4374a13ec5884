"""Starts the window: picks the platform before Qt is made, opens the job, and without a display draws it to a file."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Callable, Sequence
from importlib import resources
from pathlib import Path
from typing import TYPE_CHECKING

from calm_relay.errors import BadInput

if TYPE_CHECKING:
    from PySide6.QtWidgets import QApplication

    from calm_relay.job.container import OpenedJob
    from calm_relay.ui.settings import Settings
    from calm_relay.ui.window import MainWindow

SHOT_SIZE = (1280, 800)


def has_display() -> bool:
    """Return whether there is a screen to show a window on."""
    return bool(os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"))


def make_app() -> QApplication:
    """Return the application; without a display it draws off screen. A missing Qt platform aborts, so it is decided here."""
    if not has_display() and "QT_QPA_PLATFORM" not in os.environ:
        screen = resources.files("calm_relay.assets").joinpath("screen", "offscreen.json")
        os.environ["QT_QPA_PLATFORM"] = f"offscreen:configfile={screen}"
    os.environ.setdefault("QT_SCALE_FACTOR", "1")
    from PySide6.QtGui import QIcon
    from PySide6.QtWidgets import QApplication

    from calm_relay.ui.memory import keep_memory_small, search_in_this_thread
    from calm_relay.ui.theme import fonts_ready

    existing = QApplication.instance()
    if isinstance(existing, QApplication):
        return existing
    keep_memory_small()
    sys.setswitchinterval(0.001)  # the window waits no longer than this for Python's lock while the worker computes
    app = QApplication(["calm-relay"])
    search_in_this_thread(app)
    app.setApplicationName("calm-relay")
    app.setApplicationDisplayName("Calm Relay")
    app.setDesktopFileName("calm-relay")
    app.setStyle("Fusion")
    fonts_ready()
    app.setWindowIcon(QIcon(str(resources.files("calm_relay.assets").joinpath("icons", "calm-relay.svg"))))
    return app


def wait_for(app: QApplication, done: Callable[[], bool], limit_s: float = 60.0) -> bool:
    """Run the event loop until `done()`; returns whether it came."""
    import time

    end = time.monotonic() + limit_s
    while not done() and time.monotonic() < end:
        app.processEvents()
        time.sleep(0.005)
    for _ in range(4):  # what it set is laid out and painted too
        app.processEvents()
    return done()


def wait_idle(app: QApplication, window: MainWindow, limit_s: float = 120.0) -> bool:
    """Run the event loop until the study has answered everything; returns whether it did."""
    session = window.session
    wait_for(app, lambda: not session.busy, limit_s)
    wait_for(app, lambda: session.raised() is not None or not session.runner.raising, limit_s)
    return not session.busy


def _demo_name(text: str) -> str:
    """Return a demo's name as commands know it: `clinic` is `demo-clinic`; raises ArgumentTypeError for one that is not there."""
    from calm_relay.demo import DEMOS

    name = text if text in DEMOS else f"demo-{text}"
    if name not in DEMOS:
        names = ", ".join(key.removeprefix("demo-") for key in DEMOS)
        raise argparse.ArgumentTypeError(f"there is no demo '{text}'; use one of: {names}")
    return name


def main(argv: Sequence[str] | None = None) -> int:
    """Open the window; returns the exit status."""
    from calm_relay.demo import DEMOS

    demos = ", ".join(name.removeprefix("demo-") for name in DEMOS)
    parser = argparse.ArgumentParser(prog="calm-relay-window", description="Opens the window.")
    parser.add_argument("job", nargs="?", help="a job file; without one the start page asks")
    parser.add_argument(
        "--demo", nargs="?", const="demo", type=_demo_name, metavar="NAME", help="open a made-up demo job: " + demos
    )
    parser.add_argument("--shot", metavar="FILE", help="draw the window to a PNG and leave")
    options = parser.parse_args(argv)
    from calm_relay.demo import demo_path
    from calm_relay.job.container import read_job

    opened, path = None, Path(options.job) if options.job else None
    if path is not None or options.demo or options.shot or not has_display():
        try:
            opened = read_job(path or demo_path(options.demo or "demo"))
        except BadInput as error:
            print(error, file=sys.stderr)
            return 2
    if opened is not None and (options.shot or not has_display()):
        return _without_display(opened, path, options.shot)
    app = make_app()
    from calm_relay.ui.launch import Launch

    launch = Launch(app)
    if opened is None:
        launch.start_page()
    else:
        launch.open(opened, path)
    return app.exec()


def _without_display(opened: OpenedJob, path: Path | None, shot: str | None) -> int:
    from calm_relay.report.plans import comparison, comparison_text
    from calm_relay.study import Study

    if not has_display():
        print("There is no display (DISPLAY and WAYLAND_DISPLAY are unset): the window is drawn off screen.\n")
    print("\n".join(comparison_text(opened.job, comparison(Study(opened.store), opened.job, opened.job.plans))))
    app = make_app()
    from calm_relay.ui.commands import make_window

    window = make_window(opened, path, settings=fresh_settings())
    window.resize(*SHOT_SIZE)
    window.show()
    done = wait_idle(app, window)
    target = _place_for(Path(shot or "out/demo-window.png"))
    drawn = window.grab().save(str(target), "PNG")
    window.session.close()
    if not (done and drawn):
        print("The window could not be drawn.", file=sys.stderr)
        return 1
    print(f"\nThe window was drawn to {target} ({SHOT_SIZE[0]}×{SHOT_SIZE[1]}). With a display, this command opens it.")
    return 0


def _place_for(wanted: Path) -> Path:
    """Return where a picture can be written: as wanted, else in a folder of its own among the temporary ones."""
    import tempfile

    try:
        wanted.parent.mkdir(parents=True, exist_ok=True)
        if os.access(wanted.parent, os.W_OK):
            return wanted
        reason = "its folder cannot be written"
    except OSError as error:
        reason = error.strerror or "its folder cannot be made"
    print(f"{wanted}: {reason}; the picture goes elsewhere.", file=sys.stderr)
    return Path(tempfile.mkdtemp(prefix="calm-relay-")) / wanted.name


def fresh_settings() -> Settings:
    """Return settings that nobody has touched, so that pictures are the same everywhere."""
    import tempfile

    from calm_relay.ui.settings import Settings

    return Settings(Path(tempfile.mkdtemp(prefix="calm-relay-")) / "window.ini")


if __name__ == "__main__":
    raise SystemExit(main())
