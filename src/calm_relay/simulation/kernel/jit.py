# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator, no-any-return, attr-defined"
# mypy: disable-error-code="call-overload, method-assign"
"""How the kernel is compiled, and small tables of records on the stack: the compiler keeps their fields in registers.

Functions take records, not tables of them: a table is counted by reference, and counting ends vectors.

With ``NUMBA_DISABLE_JIT=1`` the same source runs as plain Python.
"""

from __future__ import annotations

import importlib
import math
from pathlib import Path
from types import SimpleNamespace

import llvmlite.binding as llvm
import numba
from llvmlite import ir
from numba import carray, njit, types
from numba.core import cgutils, codegen
from numba.extending import intrinsic, overload
from numba.np import linalg

from calm_relay.cache import code_cache_folder
from calm_relay.simulation import columns
from calm_relay.simulation.kernel.records import BUS_DTYPE, MOST_NODES, PLANT_DTYPE, TERMS_DTYPE, WORK_DTYPE

# Compiled code is kept by the content of this folder and of the columns: numba's own cache sees changes in one file only.
numba.config.CACHE_DIR = str(code_cache_folder(Path(__file__).parent, Path(columns.__file__)))


def _no_blas():
    raise ImportError


# numba looks once whether it could multiply matrices, and loads all of scipy's algebra for that: 16 MB and a tenth of a second.
_look, linalg.ensure_blas = linalg.ensure_blas, _no_blas
importlib.import_module("numba.np.arraymath")
linalg.ensure_blas = _look

# Where the processor has vectors of eight numbers, use them: the compiler's own choice is four, and a loop over lanes waits for
# results more than it is short of room.
_features = llvm.get_host_cpu_features()
if numba.config.CPU_FEATURES is None and numba.config.CPU_NAME is None and _features.get("avx512f"):
    numba.config.CPU_NAME = llvm.get_host_cpu_name()
    numba.config.CPU_FEATURES = _features.flatten() + ",-prefer-256-bit"
# A loop over lanes has some hundred places in three tables; LLVM gives up grouping them after a hundred comparisons.
llvm.set_option("", "--memory-check-merge-threshold=10000000")
compiled = njit(cache=True, nogil=True, error_model="numpy")
# Inside others only: no wrapper for Python or C, and nothing kept, since the caller holds its code.
inside = njit(nogil=True, error_model="numpy", forceinline=True, no_cpython_wrapper=True, no_cfunc_wrapper=True)

_WORK_BYTES = MOST_NODES * WORK_DTYPE.itemsize
_TERMS_BYTES = MOST_NODES * TERMS_DTYPE.itemsize
_BUS_BYTES, _PLANT_BYTES = BUS_DTYPE.itemsize, PLANT_DTYPE.itemsize
# A list of calls, put into the caller before anything is compiled: else each level would be optimised anew with all below it.
thin = njit(nogil=True, error_model="numpy", inline="always")


_optimize = codegen.JITCodeLibrary._optimize_final_module


def _optimize_lanes_twice(self):
    """Optimise as numba does, and a loop over lanes once more: only then LLVM sees that no lane leaves anything behind."""
    _optimize(self)
    if "run_lanes" in self.name:
        passes, builder = self._codegen._module_pass_manager()
        passes.run(self._final_module, builder)


codegen.JITCodeLibrary._optimize_final_module = _optimize_lanes_twice


@intrinsic
def _on_stack(typingctx, size):
    """Return the address of `size` bytes of the calling function's frame, a literal number."""
    if not isinstance(size, types.IntegerLiteral):
        return None
    words = size.literal_value // 8

    def codegen(context, builder, sig, args):
        place = cgutils.alloca_once(builder, ir.ArrayType(ir.IntType(64), words))
        return builder.bitcast(place, ir.IntType(8).as_pointer())

    return types.voidptr(size), codegen


@intrinsic
def _root(typingctx, value):
    """Return the square root by the machine's own instruction: the library's function sets an error word, and vectors end there."""

    def codegen(context, builder, sig, args):
        double = ir.DoubleType()
        name = builder.module.declare_intrinsic("llvm.sqrt", [double])
        return builder.call(name, args)

    return types.float64(types.float64), codegen


def root(value):
    """Return the square root of a number that is not negative. [any]"""
    return math.sqrt(value)


@overload(root, inline="always")
def _root_of(value):
    return lambda value: _root(value)


def work_table():
    """Return room for each node's work in a step, unset: four records of WORK_DTYPE."""
    return tuple(SimpleNamespace() for _ in range(MOST_NODES))


def bus_table():
    """Return room for what nodes share in a step, unset: a record of BUS_DTYPE."""
    return SimpleNamespace()


def terms_table():
    """Return room for each node's terms, unset. (4,) TERMS_DTYPE"""
    return [SimpleNamespace() for _ in range(MOST_NODES)]


def plant_table():
    """Return room for the plant, unset. (1,) PLANT_DTYPE"""
    return [SimpleNamespace()]


@overload(work_table, inline="always")
def _work_table():
    def make():
        rows = carray(_on_stack(_WORK_BYTES), (MOST_NODES,), WORK_DTYPE)
        return rows[0], rows[1], rows[2], rows[3]

    return make


@overload(bus_table, inline="always")
def _bus_table():
    return lambda: carray(_on_stack(_BUS_BYTES), (1,), BUS_DTYPE)[0]


@overload(terms_table, inline="always")
def _terms_table():
    return lambda: carray(_on_stack(_TERMS_BYTES), (MOST_NODES,), TERMS_DTYPE)


@overload(plant_table, inline="always")
def _plant_table():
    return lambda: carray(_on_stack(_PLANT_BYTES), (1,), PLANT_DTYPE)
