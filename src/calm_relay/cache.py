"""Stage cache: results kept by the content of what made them, in memory by bytes, some also on disk."""

from __future__ import annotations

import contextlib
import functools
import hashlib
import json
import os
import tempfile
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterable, Mapping
from importlib import metadata
from pathlib import Path
from typing import Any, Generic, TypeVar

import numpy as np
import platformdirs
from numpy.typing import NDArray

Arrays = Mapping[str, NDArray[Any]]


CODE_SUFFIXES = (".py", ".toml", ".json")
LIBRARIES = ("numpy", "pvlib", "pandas", "demandlib", "tzdata")  # whose other version may bring other numbers
DISK_LIMIT_BYTES = 400_000_000
# What the memory holds: small answers, single series, a year's inputs, years of plans step by step.
ROOMS_BESIDE = ((200_000, 5_000_000), (3_000_000, 10_000_000), (20_000_000, 40_000_000), (float("inf"), 40_000_000))  # other steps
ROOMS = ((200_000, 6_000_000), (3_000_000, 14_000_000), (20_000_000, 50_000_000), (float("inf"), 30_000_000))


def digest_of_code(package: Path, without: tuple[str, ...] = ("ui", "assets")) -> str:
    """Return a digest of all code and data of a package but the rooms left out: no result of other code is found under it."""
    digest = hashlib.blake2b(digest_size=16)
    for file in sorted(package.rglob("*")):
        place = file.relative_to(package)
        if file.suffix in CODE_SUFFIXES and place.parts[0] not in without:
            digest.update(f"{place.as_posix()}\0".encode())
            digest.update(file.read_bytes())
    for name in LIBRARIES:
        with contextlib.suppress(metadata.PackageNotFoundError):
            digest.update(f"{name} {metadata.version(name)}\0".encode())
    return digest.hexdigest()


@functools.cache
def code_digest() -> str:
    """Return the digest of this program's own code, once a process."""
    return digest_of_code(Path(__file__).parent)


def content_key(stage: str, *parts: object) -> str:
    """Return a digest of a stage's name, the program's code and everything the stage reads (plain data only)."""
    digest = hashlib.blake2b(digest_size=20)
    digest.update(json.dumps([stage, code_digest(), parts], sort_keys=True, separators=(",", ":")).encode())
    return digest.hexdigest()


def cache_folder() -> Path:
    """Return the folder for things that can be computed again (``CALM_RELAY_CACHE`` or XDG)."""
    named = os.environ.get("CALM_RELAY_CACHE")
    return Path(named) if named else Path(platformdirs.user_cache_dir("calm-relay"))


def code_cache_folder(package: Path, *beside_it: Path) -> Path:
    """Return where compiled code of a package is kept, named by the content of its files, and of those that it reads beside it.

    It is the user's cache where the package cannot be written.
    """
    digest = hashlib.blake2b(digest_size=8)
    for file in (*sorted(package.glob("*.py")), *beside_it):
        digest.update(file.read_bytes())
    beside = package / "__pycache__"
    with contextlib.suppress(OSError):
        beside.mkdir(exist_ok=True)
    base = beside if os.access(beside, os.W_OK) else cache_folder()
    return base / f"compiled-{digest.hexdigest()}"


class StageCache:
    """Keeps results by key, safe between threads; the longest unused are dropped past a limit.

    Results have rooms by their size (`rooms`: the largest that a room takes, and the bytes it holds, smallest room first), or in
    the last where it is said: facts and bills are never pushed out by what light, weather and house need, nor that by years step
    by step. A room's newest stays.
    """

    def __init__(self, rooms: tuple[tuple[float, int], ...] = ROOMS) -> None:
        self._rooms = rooms
        self._kept: list[OrderedDict[str, tuple[Any, int]]] = [OrderedDict() for _ in rooms]
        self._bytes = [0] * len(rooms)
        self._lock = threading.Lock()
        self._busy: dict[str, threading.Lock] = {}

    @property
    def nbytes(self) -> int:
        """Bytes held."""
        with self._lock:
            return sum(self._bytes)

    def _find(self, key: str) -> tuple[Any, int] | None:
        for kept in self._kept:
            found = kept.get(key)
            if found is not None:
                kept.move_to_end(key)
                return found
        return None

    def get(
        self,
        key: str,
        make: Callable[[], Any],
        size: Callable[[Any], int] = lambda _: 2_000,
        *,
        in_last: bool = False,
        stays: int = 1,
    ) -> Any:
        """Return the kept result of `key`, or make it; two threads that ask for one key make it once.

        One for the last room, if told, finds room before it is made: all but the newest `stays` there may be dropped for it.
        """
        with self._lock:
            found = self._find(key)
            if found is not None:
                return found[0]
            gate = self._busy.setdefault(key, threading.Lock())
        with gate:
            with self._lock:
                found = self._find(key)
                if found is not None:
                    return found[0]
            try:
                if in_last:
                    self._make_room(stays)
                result = make()
                weight = size(result)
                with self._lock:
                    self._put(key, result, weight, in_last=in_last)
            finally:
                with self._lock:  # only now: who asks from here on finds the result, or makes it anew after a failure
                    self._busy.pop(key, None)
            return result

    def _put(self, key: str, result: Any, weight: int, *, in_last: bool) -> None:
        last = len(self._rooms) - 1
        room = last if in_last else next(i for i, (largest, _) in enumerate(self._rooms) if weight <= largest)
        kept = self._kept[room]
        kept[key] = (result, weight)
        self._bytes[room] += weight
        self._drop_oldest(room)

    def _drop_oldest(self, room: int, coming: int = 0, stays: int = 1) -> None:
        """Drop what was longest unused of a room until it fits, and what is coming with it; the newest `stays` do."""
        kept = self._kept[room]
        while self._bytes[room] + coming > self._rooms[room][1] and len(kept) > stays:
            _, (_, dropped) = kept.popitem(last=False)
            self._bytes[room] -= dropped

    def _make_room(self, stays: int) -> None:
        """Drop what has to go from the last room for one more like its newest: what is made now can use the memory again."""
        with self._lock:
            newest = next(reversed(self._kept[-1].values()), None)
            self._drop_oldest(len(self._rooms) - 1, 0 if newest is None else newest[1], stays)

    def has(self, keys: Iterable[str]) -> bool:
        """Return whether all of them are kept. [bool]"""
        with self._lock:
            return all(any(key in kept for kept in self._kept) for key in keys)

    def peek(self, key: str) -> Any | None:
        """Return the kept result of `key`, or None, without making it."""
        with self._lock:
            found = self._find(key)
            return None if found is None else found[0]


class KeysOfLate:
    """Keys worked out lately, by the very job and plan they were worked out for, which are held: neither ever changes."""

    def __init__(self, most: int = 60) -> None:
        self._most = most
        self._kept: OrderedDict[tuple[str, int, int], tuple[object, object, str]] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, name: str, job: object, plan: object, make: Callable[[], str]) -> str:
        """Return the key of that name, or work it out."""
        place = name, id(job), id(plan)
        with self._lock:
            found = self._kept.get(place)
        if found is not None:
            return found[2]
        made = make()
        with self._lock:
            self._kept[place] = job, plan, made
            while len(self._kept) > self._most:
                self._kept.popitem(last=False)
        return made


T = TypeVar("T")


class Last(Generic[T]):
    """The answer given last, by the very objects it was made of: they are held, and neither they nor it are ever changed."""

    def __init__(self) -> None:
        self._kept: tuple[tuple[object, ...], T] | None = None

    def get(self, made_of: tuple[object, ...], make: Callable[[], T]) -> T:
        """Return the last answer if it was made of these, or make it."""
        kept = self._kept
        if kept is None or len(kept[0]) != len(made_of) or any(a is not b for a, b in zip(kept[0], made_of, strict=True)):
            kept = self._kept = made_of, make()
        return kept[1]


@functools.cache
def shared_cache(step_s: int = 0) -> StageCache:
    """Return the one cache that every window of this process shares; at another step than the usual one of its own. [s]"""
    return StageCache() if step_s == 0 else StageCache(ROOMS_BESIDE)


def array_bytes(arrays: Arrays) -> int:
    """Return the bytes held by a mapping of arrays."""
    return sum(a.nbytes for a in arrays.values())


def on_disk(key: str, make: Callable[[], dict[str, NDArray[Any]]]) -> dict[str, NDArray[Any]]:
    """Return arrays kept on disk under `key`, or make and keep them; a cache that cannot be written is done without."""
    path = cache_folder() / f"{key}.npz"
    try:
        with np.load(path, allow_pickle=False) as kept:
            found = {name: kept[name] for name in kept.files}
        with contextlib.suppress(OSError):
            path.touch()  # used now: the last to go
        return found
    except (OSError, ValueError, EOFError, KeyError):
        pass
    except Exception as error:
        if type(error).__name__ != "BadZipFile":
            raise
    arrays = make()
    with contextlib.suppress(OSError):
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, temp = tempfile.mkstemp(dir=path.parent, suffix=".part")
        try:
            with os.fdopen(handle, "wb") as out:
                np.savez(out, **arrays)  # type: ignore[arg-type]
            Path(temp).replace(path)
            trim_disk(path.parent, DISK_LIMIT_BYTES)
        except OSError:
            Path(temp).unlink(missing_ok=True)
            raise
    return arrays


def trim_disk(folder: Path, limit_bytes: int) -> None:
    """Take away the kept arrays that were used longest ago until what is left fits; half-written files of old go as well."""
    held = []
    for file in folder.iterdir():
        if file.suffix in (".npz", ".part"):
            with contextlib.suppress(OSError):
                status = file.stat()
                held.append((status.st_mtime, status.st_size, file))
    total = sum(size for _, size, _ in held)
    for _, size, file in sorted(held, key=lambda row: row[0]):
        if total <= limit_bytes:
            break
        with contextlib.suppress(OSError):
            file.unlink()
            total -= size
