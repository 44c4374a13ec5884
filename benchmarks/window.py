"""Starts the real window on the demo, off screen; prints start, edit and memory figures as JSON. Started by bench.py."""

from __future__ import annotations

import json
import sys
import time
from collections.abc import Callable
from pathlib import Path
from statistics import median
from typing import Any, TypeVar

from pace import Pace, mean, pace

BEGIN = time.time()
T = TypeVar("T")


def peak_memory_mb() -> float:
    """Return the most memory this program had: what `getrusage` says is at least what its starter had."""
    status = Path("/proc/self/status").read_text()
    return float(status.split("VmHWM:")[1].split()[0]) / 1024


def largest_plan_s(window: Any) -> float:
    """Return seconds to lay out and paint the largest plan a job may hold: 24 inverters, 4 of them with batteries (median of 9)."""
    from calm_relay.job.models import BatteryChoice, Node, StringGroup, Transfer
    from calm_relay.library.shipped import shipped_cards
    from calm_relay.plant.resolve import plant_of
    from calm_relay.relay.graph import plan_graph
    from calm_relay.relay.values import NodeValues, RelayValues

    job, plan = window.session.job, window.session.plan
    groups = tuple(
        StringGroup(id=f"s{n}", face=job.faces[0].id, module="module-430", tracker=n, modules_per_string=8) for n in (1, 2)
    )
    battery = BatteryChoice(card="stack-3k", modules=3)
    like = [
        Node(id=f"h{n}", name=f"Hybrid {n}", card="hybrid-6k", side="backup", strings=groups, battery=battery) for n in range(4)
    ]
    like += [Node(id=f"m{n}", name=f"Modules {n}", card="string-inverter-5k", strings=groups) for n in range(20)]
    plan = plan.model_copy(update={"nodes": tuple(like), "transfer": Transfer(card="gateway-63")})
    cards = tuple({c.id: c for c in (*job.library, *shipped_cards())}.values())
    many = job.model_copy(update={"library": cards})
    graph = plan_graph(plant_of(many, plan), many.house, many.faces)
    flows = {n.id: NodeValues(5000.0, (2500.0, 2500.0), (("sun", 4000.0),), (), (("sun", 900.0),), 0.0, 0.6) for n in graph.nodes}
    relay, took = window.plans.relay, []
    for _ in range(9):
        begin = time.perf_counter()
        relay.show_plan(graph, RelayValues("now", flows, 3000.0, 2000.0), {"grid": 9e5}, {}, grid_up=True, dim=False)
        relay.repaint()
        took.append(time.perf_counter() - begin)
    return median(took)


def decide_s(app: Any, window: Any) -> tuple[float, float]:
    """Return seconds from the first-year figures after an edit to all of Decide, and the longest step of the event loop."""
    from calm_relay.job.edits import Edit
    from calm_relay.ui.start import wait_idle

    window.show_page("decide")
    wait_idle(app, window)
    page = window.page("decide")
    window.session.edit("Upkeep", [Edit("house.appliances[oven].running_w", 2050.0)])
    while not window.session.all_fresh():
        app.processEvents()
    begin, longest = time.perf_counter(), 0.0
    while True:
        before = time.perf_counter()
        app.processEvents()
        longest = max(longest, time.perf_counter() - before)
        standing = page.standing()
        if standing is not None and standing.ranges is not None:
            return time.perf_counter() - begin, longest
        time.sleep(0.002)


def price_s(app: Any, window: Any, painted: list[float]) -> float:
    """Return the seconds from an edit of the import price to its painted figures (median of seven)."""
    from calm_relay.job.edits import Edit
    from calm_relay.ui.start import wait_idle

    times = []
    for i in range(8):
        wait_idle(app, window)
        painted.clear()
        begin = time.perf_counter()
        window.session.edit("Price", [Edit("tariff.import_price_per_kwh", 0.30 + i / 100)])
        while not painted:
            app.processEvents()
            time.sleep(0.0005)
        app.processEvents()  # whatever is still to be painted
        times.append(time.perf_counter() - begin)
    wait_idle(app, window)
    return median(times[1:])


def year_page_freeze_s(app: Any, window: Any) -> float:
    """Return the longest step of the event loop on the Year page: shown for the first time, each of its pictures, then three edits
    until all plans stand.
    """
    from calm_relay.job.edits import Edit

    longest = 0.0

    def step(work: Callable[[], object] = app.processEvents) -> None:
        nonlocal longest
        begin = time.perf_counter()
        work()
        longest = max(longest, time.perf_counter() - begin)

    step(lambda: window.show_page("year"))
    for _ in range(4):
        step()
    box = window.page("year").pictures.parts
    for i in range(box.count()):
        step(lambda i=i: box.setCurrentIndex(i))
        step()
    for i in range(3):
        window.session.edit("Oven", [Edit("house.appliances[oven].running_w", 2100.0 + 10 * i)])
        while window.session.busy:
            step()
            time.sleep(0.001)
    return longest


def stays_s(app: Any, window: Any) -> tuple[float, float]:
    """Return the seconds from an edit of what stays on to its painted ride-through, median of five, and the longest step."""
    from calm_relay.job.edits import Edit
    from calm_relay.ui.start import wait_for, wait_idle

    window.show_page("blackout")
    page = window.page("blackout")
    page.show_part("ride")
    wait_idle(app, window)
    times, longest = [], 0.0
    for i in range(6):
        edit = Edit("house.appliances[workbench].essential", value=i % 2 == 1)
        begin = time.perf_counter()
        window.session.edit("Workbench", [edit])
        while window.session.last_extra("ride-through hybrid-swap") is None or not page.ride.table.isVisible():
            step = time.perf_counter()
            app.processEvents()
            longest = max(longest, time.perf_counter() - step)
            time.sleep(0.001)
        app.processEvents()
        times.append(time.perf_counter() - begin)
        wait_for(app, lambda: not window.session.busy, 20.0)
    return median(times[1:]), longest


def main() -> None:
    spawned = float(sys.argv[1])
    from calm_relay.demo import demo_path
    from calm_relay.job.container import read_job
    from calm_relay.ui.start import make_app, wait_for, wait_idle

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
    painted: list[float] = []  # filled when the chosen plan's answer has been shown

    def stamp() -> None:
        if window.session.fresh("hybrid-swap") is not None:
            QTimer.singleShot(0, lambda: painted.append(time.perf_counter()))

    window.session.answers_changed.connect(stamp)
    slower: dict[str, list[Pace]] = {"start": [pace()], "edit": []}
    for i in range(12):
        slower["edit"].append(pace())
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
        app.processEvents()  # whatever is still to be painted
        years.append(time.perf_counter() - begin)
        wait_idle(app, window)
        begin = time.perf_counter()
        relay.repaint()
        redraws.append(time.perf_counter() - begin)

    def paced(name: str, work: Callable[[], T]) -> T:
        slower[name] = [pace()]
        found = work()
        slower[name].append(pace())
        return found

    price = paced("price", lambda: price_s(app, window, painted))
    largest = largest_plan_s(window)
    wait_for(app, lambda: "pyqtgraph" in sys.modules, 10.0)  # as for who looks for a moment: the pages' code is loaded ahead
    wait_for(app, lambda: window.session.runner.quiet)
    year_freeze = paced("year", lambda: year_page_freeze_s(app, window))
    wait_idle(app, window)
    peak_mb = peak_memory_mb()
    decide, freeze = paced("decide", lambda: decide_s(app, window))
    stays, stays_freeze = paced("stays", lambda: stays_s(app, window))
    print(
        json.dumps(
            {
                "usable_s": usable_s,
                "figures_s": figures_s,
                "checks_s": median(checks),
                "checks_worst_s": max(checks),
                "year_s": median(years),
                "price_s": price,
                "year_freeze_s": year_freeze,
                "redraw_s": median(redraws),
                "largest_redraw_s": largest,
                "peak_mb": peak_mb,
                **{f"{name}_slower": mean(paces) for name, paces in slower.items()},
                "decide_s": decide,
                "stays_s": stays,
                "stays_freeze_s": stays_freeze,
                "decide_freeze_s": freeze,
            }
        )
    )
    window.session.close()


if __name__ == "__main__":
    main()
