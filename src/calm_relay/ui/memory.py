"""What the C library keeps of memory that is no longer used, where it has such settings; and what Python searches for it."""

from __future__ import annotations

import ctypes
import functools
import gc

from PySide6.QtCore import QObject, QTimer

SEARCH_MS = 100
_YOUNG, _SOME, _MANY = 2_000, 6, 6  # objects made since the last search; searches of a generation before the next one's turn

_TRIM_THRESHOLD, _MMAP_THRESHOLD, _ARENA_MAX = -1, -3, -8  # M_… of malloc.h


def keep_memory_small() -> None:
    """Let whole tables of a year go back to the system when they are dropped: large blocks are kept ever longer otherwise.

    Measured: 220 MB less after a look at every page. Single columns of a year are kept for the next while figures are worked out:
    to fetch each anew from the system doubled the time of an edit.
    """
    setting = getattr(ctypes.CDLL(None), "mallopt", None)
    if setting is not None:
        setting(_MMAP_THRESHOLD, 4 * 1024 * 1024)
        setting(_TRIM_THRESHOLD, 8 * 1024 * 1024)
        setting(_ARENA_MAX, 1)


def give_memory_back() -> None:
    """Give all that is free back to the system: when there is nothing to work out for now."""
    trim = getattr(ctypes.CDLL(None), "malloc_trim", None)
    if trim is not None:
        trim(0)


@functools.cache
def pass_over_what_stays() -> None:
    """Let the search for unused cycles pass over all that stands when the first figures do: modules, models, cards, the window.

    Once a process. Measured: 200,000 objects, at which the window stood still for 135 ms whenever the search came round.
    """
    gc.freeze()


def search_in_this_thread(parent: QObject) -> None:
    """Search for unused cycles in the window's thread alone, now and then, and never from within another one.

    Python searches in whichever thread makes objects, and drops what it finds there: widgets too, which only the thread that paints
    them may drop. The study's thread makes most of them.
    """
    gc.disable()
    timer = QTimer(parent)
    timer.setInterval(SEARCH_MS)
    timer.timeout.connect(_search)
    timer.start()


def _search() -> None:
    made, young, some = gc.get_count()
    if made > _YOUNG:
        gc.collect(0 if young < _SOME else 1 if some < _MANY else 2)
