"""Starts the real window on the demo, off screen; prints start, edit and memory figures as JSON. Started by bench.py."""

from __future__ import annotations

import json
import resource
import sys
import time
from statistics import median

BEGIN = time.time()


def main() -> None:
    spawned = float(sys.argv[1])
    from calm_relay.demo import demo_path
    from calm_relay.job.container import read_job
    from calm_relay.ui.start import make_app, wait_idle

    app = make_app()
    from calm_relay.ui.commands import make_window

    window = make_window(read_job(demo_path()), None)
    window.show()
    app.processEvents()
    usable_s = time.time() - spawned
    wait_idle(app, window)
    figures_s = time.time() - spawned
    from PySide6.QtCore import QEventLoop, Qt, QTimer
    from PySide6.QtTest import QTest

    window.session.choose("hybrid-swap")
    wait_idle(app, window)
    relay = window.plans.relay
    relay.setFocus()
    QTest.keyClick(relay, Qt.Key.Key_Return)
    field = window.plans.sheet.field("strings[ne1].modules_per_string")
    checks, years, redraws = [], [], []
    painted: list[float] = []  # when what stood to be painted after the chosen plan's answer was painted

    def stamp() -> None:
        if window.session.fresh("hybrid-swap") is not None:
            QTimer.singleShot(0, lambda: painted.append(time.perf_counter()))

    window.session.answers_changed.connect(stamp)
    for i in range(12):
        field.setFocus()
        field.selectAll()
        QTest.keyClicks(field, str(3 + i))
        app.processEvents()
        painted.clear()
        begin = time.perf_counter()
        QTest.keyClick(field, Qt.Key.Key_Return)
        app.processEvents()
        checks.append(time.perf_counter() - begin)
        while not painted:  # wait as the event loop does, not spinning on Python's lock
            app.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
        years.append(painted[0] - begin)
        wait_idle(app, window)
        begin = time.perf_counter()
        relay.repaint()
        redraws.append(time.perf_counter() - begin)
    print(
        json.dumps(
            {
                "usable_s": usable_s,
                "figures_s": figures_s,
                "checks_s": median(checks),
                "checks_worst_s": max(checks),
                "year_s": median(years),
                "redraw_s": median(redraws),
                "peak_mb": resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024,
            }
        )
    )
    window.session.close()


if __name__ == "__main__":
    main()
