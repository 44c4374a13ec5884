"""Edits a demo at random by keys alone, in a real window off screen, then undoes all; prints freezes and memory as JSON.

Started by bench.py with the demo's name and the number of edits; a third argument is the seed.
"""

from __future__ import annotations

import importlib
import json
import random
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

ROUND = 12  # edits between two changes of page or plan


def resident_mb() -> float:
    """Return what the process holds in memory now. [MB]"""
    pages = int(Path("/proc/self/statm").read_text(encoding="ascii").split()[1])
    return pages * 4096 / 1e6


class Hand:
    """Presses keys and keeps the time of the longest freeze."""

    def __init__(self, app: Any, window: Any, seed: int) -> None:
        self.app, self.window, self.random = app, window, random.Random(seed)
        self.longest_s, self.edits = 0.0, 0

    def events(self) -> None:
        """Let the window do what it has to do; how long that takes is a freeze."""
        from PySide6.QtCore import QCoreApplication, QEvent

        begin = time.perf_counter()
        self.app.processEvents()
        QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
        self.longest_s = max(self.longest_s, time.perf_counter() - begin)

    def press(self, widget: Any, key: Any, keys: str = "") -> None:
        """Press a key, after some text."""
        from PySide6.QtTest import QTest

        begin = time.perf_counter()
        if keys:
            QTest.keyClicks(widget, keys)
        QTest.keyClick(widget, key)
        self.longest_s = max(self.longest_s, time.perf_counter() - begin)
        self.events()

    def go(self) -> None:
        """Look at another page, part or plan."""
        window, pick = self.window, self.random
        if pick.random() < 0.3:
            window.action(pick.choice(("next", "previous"))).trigger()
        else:
            page = pick.choice(("brief", "site", "house", "tariff", "plans", "year", "decide"))
            window.show_page(page)
            parts = [key for key, _ in getattr(window.page(page), "PARTS", ())]
            if parts:
                window.page(page).show_part(pick.choice(parts))
            if page == "plans":
                relay = window.plans.relay
                for _ in range(pick.randrange(8)):
                    self.press(relay, _key("Right"))
                self.press(relay, _key("Return"))
        self.events()

    def edit(self) -> None:
        """Edit one field of what is shown, by keys."""
        from PySide6.QtWidgets import QCheckBox, QComboBox, QSlider

        from calm_relay.ui.fields.quantity import QuantityField

        page = self.window.page(self.window.shown)
        kinds = (QuantityField, QComboBox, QCheckBox, QSlider)
        found = [w for kind in kinds for w in page.findChildren(kind) if w.isVisible() and w.isEnabled()]
        if not found:
            return
        widget = self.random.choice(found)
        widget.setFocus()
        self.edits += 1
        if isinstance(widget, QuantityField):
            if self.random.random() < 0.4:
                widget.selectAll()
                self.press(widget, _key("Return"), self.random.choice(("5", "12", "1.5", "0", "2 kW", "-3", "11 pm", "")))
                self.press(widget, _key("Escape"))
            else:
                self.press(widget, _key(self.random.choice(("Up", "Down"))))
        elif isinstance(widget, QComboBox):
            self.press(widget, _key("Down"))
            self.press(widget.view(), _key(self.random.choice(("Up", "Down"))))
            self.press(widget.view(), _key("Return"))
        elif isinstance(widget, QSlider):
            self.press(widget, _key(self.random.choice(("Left", "Right"))))
        else:
            self.press(widget, _key("Space"))


def _key(name: str) -> Any:
    from PySide6.QtCore import Qt

    return getattr(Qt.Key, f"Key_{name}")


def main(name: str, edits: int, seed: int) -> dict[str, float]:
    """Run and return the figures."""
    from calm_relay.demo import demo_path
    from calm_relay.job.container import read_job
    from calm_relay.ui.dialogs import Dialogs
    from calm_relay.ui.settings import Settings
    from calm_relay.ui.start import make_app, wait_idle

    app = make_app()
    from calm_relay.ui.commands import make_window

    boxes: list[str] = []

    class Quiet(Dialogs):
        def say(self, title: str, text: str) -> None:
            boxes.append(f"{title}: {text}")

        def show(self, dialog: Any) -> None:
            boxes.append(type(dialog).__name__)

        def ask_file(self, title: str, kinds: str) -> Path | None:
            return None

    raised: list[str] = []
    sys.excepthook = lambda kind, value, trace: raised.append(f"{kind.__name__}: {value}")
    with tempfile.TemporaryDirectory() as folder:
        window = make_window(read_job(demo_path(name)), None, settings=Settings(Path(folder) / "window.ini"), dialogs=Quiet(None))
        window.show()
        wait_idle(app, window)
        hand = Hand(app, window, seed)
        first, chosen = window.session.job, window.session.chosen
        for page in ("brief", "site", "house", "tariff", "plans", "year", "decide"):
            window.show_page(page)
            for part, _ in getattr(window.page(page), "PARTS", ()):
                window.page(page).show_part(part)
                wait_idle(app, window)
        wait_idle(app, window)
        importlib.import_module("pvlib")  # an edit of the roof would: what it loads stays, and is not what edits leave behind
        began_mb, hand.longest_s = resident_mb(), 0.0
        highest_mb = began_mb
        while hand.edits < edits:
            if hand.edits % ROUND == 0 or hand.random.random() < 0.05:
                hand.go()
            hand.edit()
            if hand.edits % 25 == 0:
                wait_idle(app, window)
                highest_mb = max(highest_mb, resident_mb())
        wait_idle(app, window)
        longest_s = hand.longest_s
        while window.session.document.undo():
            hand.events()
        window.session.choose(chosen)  # a plan of three batteries holds three times what one of one does: the same is looked at
        window.show_page("decide")
        wait_idle(app, window)
        for _ in range(20):
            hand.events()
        out = {
            "edits": float(edits),
            "boxes": float(len(boxes)),
            "exceptions": float(len(raised)),
            "longest_freeze_s": longest_s,
            "began_mb": began_mb,
            "highest_mb": highest_mb,
            "after_undo_mb": resident_mb(),
            "equal": float(window.session.job == first),
        }
        for text in (*boxes[:5], *raised[:5]):
            print(text, file=sys.stderr)
        window.session.close()
    return out


if __name__ == "__main__":
    print(json.dumps(main(sys.argv[1], int(sys.argv[2]), int(sys.argv[3]) if len(sys.argv) > 3 else 1)))
