"""Saves a job in a traced child and kills it for real at each of its system calls; run as a script, prints JSON.

ptrace(2) through ctypes: the child stops at the entry and at the exit of every system call between a marker and the end of
the save; the parent lets it run to the n-th stop, then sends SIGKILL. No memory of the child is read.
"""

from __future__ import annotations

import ctypes
import json
import os
import signal
import sys
from pathlib import Path

from calm_relay.errors import BadInput
from calm_relay.job.container import OpenedJob, read_job, save_job

TRACEME, SYSCALL, SETOPTIONS = 0, 24, 0x4200
SYSGOOD = 1
libc = ctypes.CDLL(None, use_errno=True)
libc.ptrace.argtypes = [ctypes.c_long, ctypes.c_long, ctypes.c_void_p, ctypes.c_void_p]
libc.ptrace.restype = ctypes.c_long


def ptrace(request: int, pid: int, data: int = 0) -> None:
    if libc.ptrace(request, pid, None, ctypes.c_void_p(data)) < 0:
        raise OSError(ctypes.get_errno(), "ptrace")


def child(target: Path, opened: OpenedJob) -> None:
    try:
        ptrace(TRACEME, 0)
        os.kill(os.getpid(), signal.SIGSTOP)
        save_job(target, opened.job, opened.store)
        os._exit(0)
    except BaseException:  # noqa: BLE001 - a forked child must never go on as the parent
        os._exit(3)


def run(target: Path, opened: OpenedJob, stop_at: int | None) -> tuple[int, bool]:
    """Save in a traced child; returns how many stops it made and whether it was killed."""
    pid = os.fork()
    if pid == 0:
        child(target, opened)
    os.waitpid(pid, 0)  # at its own SIGSTOP
    ptrace(SETOPTIONS, pid, SYSGOOD)
    stops, pass_on = 0, 0
    while True:
        ptrace(SYSCALL, pid, pass_on)
        _, status = os.waitpid(pid, 0)
        if os.WIFEXITED(status):
            if os.WEXITSTATUS(status):
                raise SystemExit("the child failed by itself")
            return stops, False
        pass_on = 0
        if os.WSTOPSIG(status) != signal.SIGTRAP | 0x80:
            pass_on = os.WSTOPSIG(status)
            continue
        stops += 1
        if stops == stop_at:
            os.kill(pid, signal.SIGKILL)
            os.waitpid(pid, 0)
            return stops, True


def main() -> None:
    old_file, new_file, folder = Path(sys.argv[1]), Path(sys.argv[2]), Path(sys.argv[3])
    target = folder / "job.crjob"
    old, new = read_job(old_file), read_job(new_file)
    old_bytes = old_file.read_bytes()

    def fresh() -> None:
        for leftover in folder.iterdir():
            leftover.unlink()
        target.write_bytes(old_bytes)

    fresh()
    total, _ = run(target, new, None)
    new_bytes = target.read_bytes()
    rows = []
    for n in range(1, total + 1):
        fresh()
        _, killed = run(target, new, n)
        parts = [p for p in folder.iterdir() if p.name.endswith(".part")]
        whole = any(p.read_bytes() == new_bytes for p in parts)
        now = target.read_bytes()
        try:
            job = read_job(target).job
            state = "old" if job == old.job and now == old_bytes else "new" if job == new.job and now == new_bytes else "torn"
        except BadInput:
            state = "unreadable"
        rows.append({"stop": n, "killed": killed, "state": state, "whole_temp_file": whole})
    print(json.dumps(rows))


if __name__ == "__main__":
    main()
