"""One harness for every reader: whatever is in a file, the answer is a reading or clear lines with a remedy, never a crash."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from hypothesis import strategies as st

from calm_relay.errors import BadInput

Reader = Callable[[Path], Any]


def damaged(good: bytes) -> st.SearchStrategy[bytes]:
    """Return files like a good one with bytes changed, lines lost, doubled or swapped, cut short, or mere rubbish."""
    size = max(1, len(good))

    @st.composite
    def build(draw: st.DrawFn) -> bytes:
        kind = draw(st.sampled_from(["bytes", "cut", "lines", "digits", "rubbish", "text"]))
        if kind == "rubbish":
            return draw(st.binary(max_size=400))
        if kind == "text":
            return draw(st.text(max_size=400)).encode("utf-8", "surrogatepass")
        if kind == "cut":
            return good[: draw(st.integers(0, size))]
        changed = bytearray(good)
        if kind in ("bytes", "digits"):
            for _ in range(draw(st.integers(1, 6))):
                at = draw(st.integers(0, size - 1))
                changed[at : at + 1] = draw(st.sampled_from([b"", b"9", b"-", b"e", b"\xff", b"\x00", b",", b'"', b"\n", b"1e999"]))
            return bytes(changed)
        lines = good.split(b"\n")
        for _ in range(draw(st.integers(1, 4))):
            a, b = draw(st.integers(0, len(lines) - 1)), draw(st.integers(0, len(lines) - 1))
            action = draw(st.sampled_from(["swap", "drop", "double"]))
            if action == "swap":
                lines[a], lines[b] = lines[b], lines[a]
            elif action == "drop" and len(lines) > 1:
                del lines[a]
            else:
                lines.insert(b, lines[a])
            a = min(a, len(lines) - 1)
        return b"\n".join(lines)

    return build()


def read_or_explained(reader: Reader, path: Path, content: bytes, *, most_faults: int = 1) -> Any:
    """Write content, read it, and return what was read; a fault must be clear, name the file, and say what would be right."""
    path.write_bytes(content)
    try:
        return reader(path)
    except BadInput as error:
        assert 1 <= len(error.faults) <= most_faults, error.faults
        for fault in error.faults:
            assert fault.problem
            assert fault.remedy
            assert "\n" not in fault.line()
        return None


def heads(*starts: bytes) -> Sequence[bytes]:
    """Return beginnings that lead a reader into each of its formats."""
    return (b"", *starts)
