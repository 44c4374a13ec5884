"""No label is cut or lies over another on any page, at any size, text size and theme; contrast; names for screen readers."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from PySide6.QtWidgets import QLabel

from calm_relay.demo import demo_job
from calm_relay.job.container import OpenedJob
from calm_relay.job.models import Job
from calm_relay.job.pages import PAGES
from calm_relay.job.series import SeriesStore
from calm_relay.ui.commands import make_window
from calm_relay.ui.settings import Settings
from calm_relay.ui.start import wait_idle
from calm_relay.ui.theme import DARK, LIGHT, Theme, mixed, readable_on
from calm_relay.ui.views.price_grid import period_color
from tests.ui.conftest import dispose
from tests.ui.looking import faults, unnamed

LOOKS = [(1280, 800, 1.0), (1024, 700, 1.5)]  # the widest and the narrowest: what is between has more room than the last
LONG = "a name as long as the model lets it be, sixty letters of it."
LONG_LOOKS = (LOOKS[-1],)


def long_names(job: Job) -> Job:
    """The demo with every name as long as it may be."""

    def longer(name: str) -> str:
        return f"{name}, {LONG}"[:60]

    plans = tuple(
        plan.model_copy(
            update={
                "name": longer(plan.name),
                "nodes": tuple(node.model_copy(update={"name": longer(node.name)}) for node in plan.nodes),
            }
        )
        for plan in job.plans
    )
    loads = tuple(a.model_copy(update={"name": longer(a.name)}) for a in job.house.appliances)
    return job.model_copy(
        update={
            "name": longer(job.name),
            "plans": plans,
            "faces": tuple(f.model_copy(update={"name": longer(f.name)}) for f in job.faces),
            "library": tuple(c.model_copy(update={"name": longer(c.name)}) for c in job.library),
            "house": job.house.model_copy(update={"appliances": loads}),
        }
    )


@pytest.fixture
def window(request, qapp, qtbot, answers, tmp_path, monkeypatch):
    monkeypatch.setattr("calm_relay.decision.raising.steps", lambda *_: ())  # four more years a plan, not looked at here
    job = demo_job() if getattr(request, "param", "demo") == "demo" else long_names(demo_job())
    made = make_window(OpenedJob(job, SeriesStore(), 2), None, dialogs=answers, settings=Settings(tmp_path / "window.ini"))
    made.show()
    assert wait_idle(qapp, made)
    yield made
    dispose(qapp, made)


@pytest.mark.parametrize(
    ("window", "width", "height", "scale"),
    [*(("demo", *look) for look in LOOKS), *(("long", *look) for look in LONG_LOOKS)],
    indirect=["window"],
)
def test_nothing_is_cut_or_covered_on_any_page(window, qapp, width, height, scale):
    found = []
    for theme in ("light", "dark"):
        window.set_theme_choice(theme)
        window.set_text_scale(scale)
        window.resize(width, height)
        for letter in ("C", "D") if theme == "light" else ("A",):
            window.session.choose(window.session.job.plan(letter).id)
            for page in every_page(window, ("site", "plans") if letter == "D" else ()):  # what else differs by plan was seen in C
                assert wait_idle(qapp, window)
                found += [f"{theme} {letter} {page}: {fault}" for fault in faults(window)]
        window.show_page("plans")
        for station in window.plans.relay.picture.stations:
            window.plans.sheet.open(station)
            qapp.processEvents()
            qapp.processEvents()
            found += [f"{theme} {station.id}: {fault}" for fault in faults(window)]
        window.plans.sheet.open(None)
        row = window.headroom.rows()[0].finding
        window.headroom.open((row.check, row.subject))
        for _ in range(4):  # labels that wrap settle over a few rounds
            qapp.processEvents()
        found += [f"{theme} check: {fault}" for fault in faults(window)]
        window.headroom.open(None)
    assert not found, "\n".join(sorted(set(found))[:40])


def test_the_measure_sees_planted_faults(window, qapp):
    window.show_page("site")
    assert wait_idle(qapp, window)
    page = window.page("site")
    lying = QLabel("this label was put over another one", page)
    lying.move(20, 14)
    lying.show()
    cell = page.cells["site.place.latitude_deg"].editor
    cell.setFixedWidth(24)
    qapp.processEvents()
    said = "\n".join(faults(window))
    assert "this label was put over another one' lies over" in said or "lies over QLabel 'this label was put over" in said
    assert "QuantityField" in said


def test_every_input_and_view_has_a_name(window, qapp):
    found = []
    for _ in every_page(window):
        assert wait_idle(qapp, window)
        found += unnamed(window)
    assert not found, found


def every_page(window, wanted: tuple[str, ...] = ()) -> Iterator[str]:
    """Show every page (those wanted, where some are named), and every part of those that have parts."""
    for page in (spec.key for spec in PAGES if not wanted or spec.key in wanted):
        window.show_page(page)
        parts = [key for key, _ in getattr(window.page(page), "PARTS", (("", ""),))]
        for part in parts:
            if part:
                window.page(page).show_part(part)
            yield f"{page} {part}".strip()


def luminance(hex_color: str) -> float:
    parts = [int(hex_color[i : i + 2], 16) / 255 for i in (1, 3, 5)]
    linear = [p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def contrast(one: str, other: str) -> float:
    """WCAG 2.1, 1.4.3: (L1 + 0.05) / (L2 + 0.05), relative luminance of sRGB (from memory)."""
    a, b = sorted((luminance(one), luminance(other)), reverse=True)
    return (a + 0.05) / (b + 0.05)


@pytest.mark.parametrize("theme", [LIGHT, DARK], ids=["light", "dark"])
def test_contrast_of_all_text_roles(theme: Theme):
    assert contrast("#000000", "#ffffff") == pytest.approx(21.0)
    grounds = {"paper": theme.paper, "side": theme.side, "panel": theme.panel, "track": theme.track}
    low = []
    for role in ("ink", "quiet", "accent", "within", "tight", "over", "unknown", "house_text", "grid_text"):
        for name, ground in grounds.items():
            if name == "track" and role not in ("ink", "quiet"):
                continue
            ratio = contrast(getattr(theme, role), ground)
            if ratio < 4.5:
                low.append(f"{role} on {name}: {ratio:.2f}")
    if contrast(theme.accent_ink, theme.accent) < 4.5:
        low.append("accent_ink on accent")
    assert not low, low


@pytest.mark.parametrize("theme", [LIGHT, DARK], ids=["light", "dark"])
def test_figures_in_painted_cells_can_be_read(theme: Theme):
    """WCAG 2.1, 1.4.3: 4.5:1, on every shade that a cell can have."""
    grounds = [period_color(theme, place, count) for count in range(1, 10) for place in range(count)]
    grounds += [mixed(theme.color("track"), theme.color("sun"), part / 20) for part in range(21)]
    low = [f"{g.name()}: {contrast(readable_on(theme, g).name(), g.name()):.2f}" for g in grounds]
    low = [text for text in low if float(text.rpartition(" ")[2]) < 4.5]
    assert not low, low
