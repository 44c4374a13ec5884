"""Writes the launcher with the place of this tree in it: reads the template, prints it with `Exec` naming the script given.

A folder's name may hold anything. In `Exec` an argument is quoted, with a backslash before `"`, `` ` ``, `$` and `\\`, a percent
sign is doubled, and a backslash is doubled once more as in every string of such a file (Desktop Entry Specification 1.5).
"""

from __future__ import annotations

import re
import sys

TEMPLATE = "Exec=calm-relay-window"


def exec_word(path: str) -> str:
    """Return a path as one word of an `Exec` line."""
    quoted = re.sub(r'(["`$\\])', r"\\\1", path)
    return '"' + quoted.replace("\\", "\\\\").replace("%", "%%") + '"'


if __name__ == "__main__":
    text = sys.stdin.read()
    sys.stdout.write(text.replace(TEMPLATE, f"Exec={exec_word(sys.argv[1])} app"))
