"""The plant: records that hold no document, the same objects where nothing changed, keys by what a stage can see."""

from __future__ import annotations

import ast
import json
import time
import typing
from dataclasses import fields, is_dataclass
from pathlib import Path

import numpy as np
import pytest
from pydantic import BaseModel

import calm_relay
from calm_relay.demo import demo_job
from calm_relay.job.container import job_json, validate_job
from calm_relay.job.edits import Edit, apply_edits
from calm_relay.job.models import BatteryChoice, GeneratorChoice, Job, Node, Plan, StringGroup, Transfer
from calm_relay.library.base import CardBase
from calm_relay.plant.lines import Lines
from calm_relay.plant.resolve import plant_of, resolve
from calm_relay.plant.same import plain, same
from calm_relay.plant.whole import Plant
from calm_relay.study import Study
from tests.plants import PLANTS

ROOT = Path(calm_relay.__file__).parent
DOCUMENT = (Job, Plan, Node, BatteryChoice, StringGroup, Transfer, GeneratorChoice, CardBase)
NOT_READ = {"Job", "CardBook", "Card", "InverterCard", "BatteryCard", "ModuleCard", "TransferCard", "BatterySideUnit"}
# Rooms that take the plant and its parts; a job and its cards are read below them, and by who edits.
ROOMS = ("year", "simulation", "relay")


def reached(kind: object, seen: set[object]) -> set[object]:
    """Every type that records of a kind reach."""
    if kind in seen:
        return seen
    seen.add(kind)
    for part in typing.get_args(kind):
        reached(part, seen)
    if is_dataclass(kind) and isinstance(kind, type):
        hints = typing.get_type_hints(kind)
        for field in fields(kind):
            reached(hints[field.name], seen)
    elif isinstance(kind, type) and issubclass(kind, BaseModel):
        for info in kind.model_fields.values():
            reached(info.annotation, seen)
    return seen


def test_no_record_of_the_plant_holds_a_document_or_a_card():
    held = {kind for kind in reached(Plant, set()) if isinstance(kind, type) and issubclass(kind, DOCUMENT)}
    assert not held
    assert reached(Job, set()) & set(DOCUMENT), "the walk finds what is there"


def readers(source: str) -> list[str]:
    """Functions that take a job or a card, by name."""
    out = []
    for node in ast.walk(ast.parse(source)):
        if not isinstance(node, ast.FunctionDef):
            continue
        given = [*node.args.posonlyargs, *node.args.args, *node.args.kwonlyargs]
        words = {word.id for arg in given if arg.annotation for word in ast.walk(arg.annotation) if isinstance(word, ast.Name)}
        if words & NOT_READ:
            out.append(node.name)
    return out


def test_year_and_relay_take_neither_a_job_nor_cards():
    found = [f"{file.name}: {name}" for room in ROOMS for file in (ROOT / room).rglob("*.py") for name in readers(file.read_text())]
    assert not found
    assert readers("def planted(job: Job | None): ...") == ["planted"]


def test_root_three_and_thirds_stand_with_the_lines():
    """Where the plant is read nobody works lines out anew; what still does is listed until it is mended."""
    still = {"wiring/sums.py", "load/motors.py"}
    found = set()
    for file in ROOT.rglob("*.py"):
        name = file.relative_to(ROOT).as_posix()
        if "3.0**0.5" in file.read_text() and not name.startswith(("plant/", "equipment/", "weather/")):
            found.add(name)
    assert found <= still | {"rules/checks_wiring.py"}


@pytest.mark.parametrize("key", PLANTS)
def test_an_edit_leaves_what_it_does_not_touch_the_same_objects(key):
    job = PLANTS[key]()
    plan = job.plans[1]
    before = plant_of(job, plan)
    others = [same(Lines("single_phase", 100.0 + n)) for n in range(5000)]
    named = apply_edits(job, [Edit(f"plans[{plan.id}].nodes[{plan.nodes[0].id}].name", "Another name")])
    after = plant_of(named, named.plan(plan.id))
    assert after.stations[0].name == "Another name" and len(others) == 5000, "what is made between pushes nothing out"
    for old, new in zip(before.stations, after.stations, strict=True):
        assert new.converter is old.converter, "a name is no electrical figure"
        assert new.box is old.box
        assert all(a.row is b.row for a, b in zip(old.strings, new.strings, strict=True))
    assert all(new is old for old, new in zip(before.stations[1:], after.stations[1:], strict=True))
    assert (after.lines, after.transfer, after.caps) == (before.lines, before.transfer, before.caps)
    read_again = validate_job(json.loads(job_json(job)), key)
    again = plant_of(read_again, read_again.plan(plan.id))
    assert all(a.converter is b.converter for a, b in zip(before.stations, again.stations, strict=True)), "by content"


def test_a_plan_is_resolved_in_a_moment():
    """At most 2 ms; the least of several runs, with a margin for a machine that does something else."""
    for job in (demo_job(), *(make() for make in PLANTS.values())):
        took = []
        for _ in range(7):
            begin = time.perf_counter()
            resolve(job, job.plans[-1], job.cards())
            took.append(time.perf_counter() - begin)
        assert min(took) < 0.002


PAPER = (
    ("library[{card}].weight_kg", 44.0), ("library[{card}].firmware_note", "looked at"), ("library[{card}].warranty_years", 7.0),
    ("library[{card}].name", "Another"), ("plans[{plan}].nodes[{node}].name", "Another"), ("plans[{plan}].note", "seen"),
    ("plans[{plan}].name", "Another"),
)  # fmt: skip


@pytest.mark.parametrize("key", PLANTS)
def test_words_weights_and_marks_run_no_year_anew(key):
    job, study = PLANTS[key](), Study(step_s=3600)
    plan, keys = job.plans[1], None
    node = plan.nodes[0]
    for path, value in (("", None), *PAPER):
        at = path.format(card=node.card, plan=plan.id, node=node.id)
        changed = apply_edits(job, [Edit(at, value)]) if path else job
        found = study.flow_key(changed, changed.plan(plan.id)), study._facts_key(changed, changed.plan(plan.id))
        keys = keys or found
        assert found == keys, path
    marked = job.model_copy(update={"marks": ()})
    assert study.flow_key(marked, marked.plan(plan.id)) == keys[0]


def turned(value: object) -> object:
    """Another value of a figure, near it."""
    return not value if isinstance(value, bool) else value * 0.9 if isinstance(value, float) else None


def figures(job: Job) -> list[tuple[str, float]]:
    """Every figure of the second plan's nodes and of the cards that it names."""
    plan, out = job.plans[1], []
    for card in job.library:
        out += [(f"library[{card.id}].{n}", v) for n, v in card if isinstance(v, float | bool)]
    for node in plan.nodes:
        at = f"plans[{plan.id}].nodes[{node.id}]"
        for place, record in ((at, node), (f"{at}.battery", node.battery), *((f"{at}.strings[{g.id}]", g) for g in node.strings)):
            out += [(f"{place}.{n}", v) for n, v in record or () if isinstance(v, float | bool)]
    out += [(f"plans[{plan.id}].controls.{n}", v) for n, v in plan.controls if isinstance(v, float | bool)]
    return out


@pytest.mark.parametrize("key", PLANTS)
def test_each_figure_moves_the_years_key_or_none_of_its_results(key):
    """What the key leaves out is proved to move nothing: a year of the changed plan, run anew, is the same to the bit."""
    job, study = PLANTS[key](), Study(step_s=3600)
    plan = job.plans[1]
    before = study.flow(job, plan)
    system = before.flow.system.copy()
    moved = still = 0
    for path, value in figures(job):
        try:
            changed = apply_edits(job, [Edit(path, turned(value))])
        except Exception:  # noqa: BLE001 - a value the document refuses
            continue
        if study.flow_key(changed, changed.plan(plan.id)) != study.flow_key(job, plan):
            moved += 1
            continue
        still += 1
        if still % 3 == 0:  # every third is run: all of them take a minute a plant
            anew = Study(step_s=3600).flow(changed, changed.plan(plan.id))
            assert np.array_equal(anew.flow.system, system), path
    assert moved > 40
    assert still > 20


def test_content_is_plain_data_in_the_order_of_fields():
    plant = plant_of(PLANTS["three"](), PLANTS["three"]().plans[1])
    data = plain(plant.stations[0].converter)
    assert json.loads(json.dumps(data)) == json.loads(json.dumps(data))
    assert data[:2] == ["old1", "grid"]
