"""Figures of the five plants against sums by hand, which stand in data files: checks, runs, plants, facts, bills and drills.

A sum comes from the definitions, never from what is printed. One that fails today names the issue that mends it, strictly.
"""

from __future__ import annotations

import math
import tomllib
from pathlib import Path
from typing import Any

import pytest

from calm_relay.decision.outages import drill_of
from calm_relay.plant import chain
from calm_relay.plant.offgrid import offgrid_lines_va, plan_continuous_va
from calm_relay.plant.resolve import plant_of
from calm_relay.plant.runs import run_rows
from calm_relay.study import Study
from calm_relay.year.drill import Case
from tests.plants import PLANTS
from tests.test_check_values import out_w

HERE = Path(__file__).parent / "by_hand"
JOBS = {key: make() for key, make in PLANTS.items()}


def in_w(ac: float, p_self: float, a: float, b: float, rated: float) -> float:
    """DC of AC in the three-term form (Schmidt and Sauer, 1996)."""
    return ac + p_self + a * ac + b * ac * ac / rated


KNOWN = {"out_w": out_w, "in_w": in_w, "HOT": 1 + 0.00393 * 50, "math": math}  # copper at 70 °C


def summed(text: str) -> float:
    return float(eval(text, {"__builtins__": {}}, KNOWN))


def rows() -> list[Any]:
    out = []
    for key in PLANTS:
        for row in tomllib.loads((HERE / f"{key}.toml").read_text(encoding="utf-8"))["row"]:
            marks = [pytest.mark.xfail(reason=row["fails"], strict=True)] if "fails" in row else []
            name = f"{key}-{row['of']}-{row['name']}-{row.get('subject', '')}"
            out.append(pytest.param(key, row, id=name, marks=marks))
    return out


@pytest.fixture(scope="module")
def hourly() -> Study:
    """One study at an hour: what is summed here does not hang on the step."""
    return Study(step_s=3600)


@pytest.mark.parametrize(("key", "row"), rows())
def test_a_figure_is_its_sum_by_hand(key: str, row: dict[str, Any], hourly: Study) -> None:
    assert row["from"], "a sum says where it comes from"
    job = JOBS[key]
    plan = job.plan(row.get("plan", job.plans[1].id))
    plant = plant_of(job, plan)
    if row["of"] == "run":
        (run,) = (found for found in run_rows(plant_of(job, plan), job.rules()) if found.id == row["name"])
        assert run.amps == pytest.approx(summed(row["amps"]))
        if "volts" in row:
            assert run.change_v == pytest.approx(summed(row["volts"]))
        if "share" in row:
            assert (run.change_v or 0.0) / run.volts == pytest.approx(summed(row["share"]))
        return
    if row["of"] == "check":
        found = [f for f in hourly.quick_checks(job, plan) if f.check == row["name"] and row.get("subject") in (None, f.subject)]
        assert found, "the check speaks of it"
        assert any(f.value == pytest.approx(summed(row["value"])) for f in found), [f.value for f in found]
        (one, *_) = [f for f in found if f.value == pytest.approx(summed(row["value"]))]
        if "limit" in row:
            assert one.limit == pytest.approx(summed(row["limit"]))
        assert one.verdict == row.get("verdict", one.verdict)
        return
    assert figure(hourly, row["of"], row["name"], job, plan, plant) == pytest.approx(summed(row["value"]), rel=1e-6)


def figure(study: Study, of: str, name: str, job: Any, plan: Any, plant: Any) -> Any:
    if of == "bill":
        return sum(line.amount for line in study.bill(job, plan).lines if name in line.name.lower())
    if of == "drill":
        return getattr(drill_of(study, job, plan, Case(400, 2.0, charge_frac=0.5), by_means=True), name)
    if of == "fact":
        facts = study.facts(job, plan)
        line = next((row for row in facts.lines if name.startswith(row.name)), None)
        if line is not None:
            return getattr(line, name.rpartition(" ")[2])
        return facts.system_wh["load_w"] if name == "house_wh" else getattr(facts, name)
    lines = offgrid_lines_va(plant) or ()
    made = {
        "transfer.limit_w": lambda: plant.transfer.limit_w,
        "offgrid_lines_va": lambda: lines[0] if len(set(lines)) == 1 else lines,
        "offgrid_line_2_va": lambda: sum(lines) if lines[0] == lines[2] == 0 else lines,
        "continuous_va": lambda: plan_continuous_va(plant),
        "export_w": lambda: plant.caps.export_w,
        "charge_w": lambda: chain.terminals_limit_w(chain.charge_chain(plant.banked[0].unit, plant.banked[0].bank)),
    }
    return made[name]()
