"""The house's own rules, held by machine: floors, circles, Qt in one room, rows by name, and no card figure that nobody reads."""

from __future__ import annotations

import ast
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from calm_relay.library import cards as card_models
from calm_relay.library.shipped import shipped_card
from calm_relay.plant.unit import unit_of
from calm_relay.rules.reads import LATER, READS, RESULTS
from calm_relay.rules.runner import all_checks
from calm_relay.simulation import columns
from calm_relay.simulation.kernel.node import inverter_ac_w, inverter_dc_w

ROOT = Path(__file__).parents[1]
SRC = ROOT / "src" / "calm_relay"
TREES = {path: ast.parse(path.read_text(encoding="utf-8")) for path in sorted(SRC.rglob("*.py"))}


def lint(folder: Path, *planted: tuple[str, str]) -> str:
    """Run the import contracts on a copy of the package with files planted in it; return what they print."""
    copy = folder / "calm_relay"
    if not copy.exists():
        shutil.copytree(SRC, copy, ignore=shutil.ignore_patterns("__pycache__", "assets/places"))
        shutil.copy(ROOT / "pyproject.toml", folder / "pyproject.toml")
    made = []
    for name, text in planted:
        path = copy / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")
        made.append(path)
    program = (
        "import sys; sys.path.insert(0, '.'); from importlinter.cli import lint_imports; sys.exit(lint_imports(no_cache=True))"
    )
    run = subprocess.run([sys.executable, "-c", program], cwd=folder, capture_output=True, text=True, timeout=120)
    for path in made:
        path.unlink()
    return run.stdout + run.stderr


def test_planted_imports_are_refused_by_the_contracts(tmp_path):
    clean = lint(tmp_path)
    assert "0 broken" in clean, clean
    qt = lint(tmp_path, ("planted/__init__.py", "from PySide6 import QtCore\n"))
    assert "nothing outside ui imports Qt BROKEN" in qt, "a new room that imports Qt"
    assert "floors: each imports only from below BROKEN" in qt or "planted" in qt, "a room that stands on no floor"
    shutil.rmtree(tmp_path / "calm_relay" / "planted", ignore_errors=True)
    up = lint(tmp_path, ("tariff/planted.py", "from calm_relay.rules import registry\n"))
    assert "floors: each imports only from below BROKEN" in up
    ring = lint(
        tmp_path,
        ("tariff/ring_a.py", "from calm_relay.tariff import ring_b\n"),
        ("tariff/ring_b.py", "from calm_relay.tariff import ring_a\n"),
    )
    assert "no circles between siblings BROKEN" in ring


def test_a_row_of_more_than_five_fields_is_made_by_name():
    """26 figures in a row by place alone is how two of them get exchanged."""
    rows = {
        node.name
        for tree in TREES.values()
        for node in ast.walk(tree)
        if isinstance(node, ast.ClassDef) and any("dataclass" in ast.unparse(d) for d in node.decorator_list)
    }
    by_place = [
        f"{path.name}:{call.lineno} {call.func.id}"
        for path, tree in TREES.items()
        for call in ast.walk(tree)
        if isinstance(call, ast.Call) and isinstance(call.func, ast.Name) and call.func.id in rows and len(call.args) > 5
    ]
    assert not by_place


def test_columns_are_reached_by_name():
    for path in (SRC / "simulation" / "kernel").glob("*.py"):
        assert not re.search(r"\b(sums|series|system|ac)\[([a-z]+, )*\d+\]", path.read_text(encoding="utf-8")), path
    assert columns.NODE[columns.NODE_CAUGHT] == "caught_w"
    assert columns.SYSTEM[columns.SYS_IMPORT] == "import_w"
    assert columns.AC[columns.AC_PV_G_FIXED] == "pv_g_fixed_w"
    constants = [name for name in vars(columns) if name.startswith(("SYS_", "NODE_", "AC_")) and not name.endswith("COLUMNS")]
    assert len(constants) == len(columns.SYSTEM) + len(columns.NODE) + len(columns.AC)
    assert set(columns.LOSS_COLUMNS) <= set(columns.NODE)
    assert set(columns.PV_ONLY_LOSS_COLUMNS) <= set(columns.SYSTEM)


def test_every_card_field_has_a_reader():
    fields = {
        name
        for model in vars(card_models).values()
        if isinstance(model, type) and issubclass(model, card_models.Record) and model is not card_models.Record
        for name in model.model_fields
    } - {"id", "kind", "name", "source", "chemistry"}  # shown with the card as they stand
    read = {node.attr for tree in TREES.values() for node in ast.walk(tree) if isinstance(node, ast.Attribute)}
    assert fields - read == set(LATER), "a new figure must be read, or say what it is kept for"
    assert not (set(READS) | set(RESULTS)) & set(LATER)
    assert {check for checks in READS.values() for check in checks} <= {entry.id for entry in all_checks()}
    assert set(READS) | set(RESULTS) <= fields


@pytest.mark.parametrize("watts", [0.0, 1.0, 250.0, 3000.0, 5200.0])
def test_the_curve_of_cards_is_the_kernels(watts):
    """Definitions D4 stands twice, since the kernel is compiled: on cards and there."""
    card = shipped_card("hybrid-5k")
    terms = (card.loss.p_self_w, 1.0 + card.loss.a, card.loss.b / card.ac_rated_w)
    assert unit_of(card).dc_w(watts) == pytest.approx(inverter_dc_w.py_func(watts, *terms), rel=1e-12)
    assert unit_of(card).ac_w(watts) == pytest.approx(inverter_ac_w.py_func(watts, *terms), rel=1e-12)


NUMERIC = re.compile(
    r"float|float \| None|Array|Array \| None|NDArray\[.*|tuple\[(float|Array|NDArray).*|list\[float\]|dict\[str, (float|Array)\]"
)
UNIT = re.compile(r"\[[^\]]+\]|frac|fraction|\bratio\b|\bshare\b|how many|factor", re.IGNORECASE)


def test_public_numeric_functions_name_their_unit():
    bare = [
        f"{path.relative_to(SRC)}: {f.name}"
        for path, tree in TREES.items()
        if path.relative_to(SRC).parts[0] != "ui"
        for owner in ast.walk(tree)
        if isinstance(owner, ast.Module | ast.ClassDef)
        for f in owner.body
        if isinstance(f, ast.FunctionDef) and not f.name.startswith("_") and f.returns is not None
        if NUMERIC.fullmatch(ast.unparse(f.returns)) and not UNIT.search((ast.get_docstring(f) or "") + f.name)
    ]
    assert not bare, "say the unit in brackets, and the shape where it is an array"


def test_every_list_and_slider_is_a_calm_one():
    bare = [
        f"{path.relative_to(SRC)}: {node.func.id}"
        for path, tree in TREES.items()
        for node in ast.walk(tree)
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in {"QComboBox", "QSlider"}
    ]
    assert not bare, "the wheel would change it: use those of calm_relay.ui.calm_wheel"
