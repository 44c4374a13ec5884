"""The made-up demo jobs, built by scripts with fixed seeds; the shipped files are their output."""

from __future__ import annotations

from importlib import resources
from pathlib import Path

from calm_relay.demo.balcony import flat_job
from calm_relay.demo.juniper_bench import clinic_job
from calm_relay.demo.kvist import kvist_job
from calm_relay.demo.saddle_hut import hut_job
from calm_relay.demo.tern_point import demo_job
from calm_relay.job.models import Job
from calm_relay.job.series import SeriesStore

DEMOS = {
    "demo": "tern-point-boatshed.json",
    "demo-clinic": "juniper-bench-clinic.json",
    "demo-kvist": "kvist-pottery.crjob",
    "demo-hut": "saddle-hut.json",
    "demo-flat": "balcony-flat.json",
}  # what a command calls them, and their files
TEACHES = {
    "demo": ("Tern Point boatshed", "one phase, old strings, a night price: AC or DC, and what each limit costs"),
    "demo-clinic": ("Juniper Bench clinic", "split phase: what passes with the grid up is not what is made with it down"),
    "demo-kvist": ("Kvist pottery", "three phases, module-level inverters, a kiln, prices by the hour"),
    "demo-hut": ("Saddle Hut", "no grid: a lead bank with charge controllers, rebuilt with lithium and long strings"),
    "demo-flat": ("Balcony flat", "a plug-in set: when a small battery does not earn its price"),
}  # their names, and what each of them teaches

__all__ = ["DEMOS", "TEACHES", "clinic_job", "demo_job", "demo_path", "flat_job", "hut_job", "kvist_job", "made_job"]


def demo_path(name: str = "demo") -> Path:
    """Return a shipped demo job's path."""
    return Path(str(resources.files("calm_relay.assets").joinpath("demo", DEMOS[name])))


def made_job(name: str, store: SeriesStore) -> Job:
    """Return a demo job as its script makes it; its series go into the store."""
    made = {
        "demo": demo_job,
        "demo-clinic": clinic_job,
        "demo-kvist": lambda: kvist_job(store),
        "demo-hut": hut_job,
        "demo-flat": flat_job,
    }
    return made[name]()
