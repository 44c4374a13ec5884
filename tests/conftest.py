"""Shared fixtures: caches of their own, and one study of the demo job for the whole session of a worker."""

from __future__ import annotations

import os
import shutil
import tempfile
from pathlib import Path

import pytest

# Before anything is imported: nothing of the user's own cache, settings or screen is touched.
# One folder a run, shared by its workers and empty at its start: nothing kept by other code is ever read.
_RUN = os.environ.get("PYTEST_XDIST_TESTRUNUID", f"alone-{os.getpid()}")
_CACHE = Path(tempfile.gettempdir()) / f"calm-relay-tests-{os.getuid()}-{_RUN}"
os.environ["CALM_RELAY_CACHE"] = str(_CACHE)
os.environ["XDG_CONFIG_HOME"] = str(_CACHE / "config")
os.environ["XDG_STATE_HOME"] = str(_CACHE / "state")
os.environ["XDG_DATA_HOME"] = str(_CACHE / "data")
os.environ.pop("DISPLAY", None)
os.environ.pop("WAYLAND_DISPLAY", None)

from calm_relay.demo import demo_job  # noqa: E402
from calm_relay.job.models import Job  # noqa: E402
from calm_relay.study import PlanResult, Study  # noqa: E402


@pytest.fixture(scope="session")
def demo() -> Job:
    """The demo job as its script makes it."""
    return demo_job()


@pytest.fixture(scope="session")
def study() -> Study:
    """One study at 5 min; what it has computed once stays."""
    return Study()


@pytest.fixture(scope="session")
def results(demo: Job, study: Study) -> dict[str, PlanResult]:
    """Results of every demo plan, by letter."""
    return {plan.letter: study.plan_result(demo, plan) for plan in demo.plans}


@pytest.fixture(scope="session")
def quarter() -> Study:
    """One study at 15 min, quick enough for many jobs."""
    return Study(step_s=900)


SLOW_FIRST = ("test_variants.py", "test_endurance.py", "test_look.py", "test_newcomer.py", "test_check_memory.py", "test_study.py")


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Put the slow files first, then the windows: at the end of the run both workers have something small to do."""
    items.sort(key=lambda item: (item.path.name not in SLOW_FIRST, item.path.parent.name != "ui"))


def pytest_sessionfinish(session: pytest.Session) -> None:
    """Take the run's folder away, once all its workers are done."""
    if "PYTEST_XDIST_WORKER" in os.environ:
        return
    manager = session.config.pluginmanager.get_plugin("dsession")
    run = manager.nodemanager.testrunuid if manager is not None else _RUN
    for left in Path(tempfile.gettempdir()).glob(f"calm-relay-tests-{os.getuid()}-{run}"):
        shutil.rmtree(left, ignore_errors=True)
    shutil.rmtree(_CACHE, ignore_errors=True)
