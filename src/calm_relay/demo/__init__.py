"""The made-up demo jobs, built by scripts with fixed seeds; the shipped files are their output."""

from __future__ import annotations

from importlib import resources
from pathlib import Path

from calm_relay.demo.kvist import kvist_job
from calm_relay.demo.tern_point import demo_job
from calm_relay.job.models import Job
from calm_relay.job.series import SeriesStore

DEMOS = {"demo": "tern-point-boatshed.json", "demo-kvist": "kvist-pottery.crjob"}  # what a command calls them, and their files

__all__ = ["DEMOS", "demo_job", "demo_path", "kvist_job", "made_job"]


def demo_path(name: str = "demo") -> Path:
    """Return a shipped demo job's path."""
    return Path(str(resources.files("calm_relay.assets").joinpath("demo", DEMOS[name])))


def made_job(name: str, store: SeriesStore) -> Job:
    """Return a demo job as its script makes it; its series go into the store."""
    return demo_job() if name == "demo" else kvist_job(store)
