"""Which process on which machine: so that its end can be told from a connection that broke."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

_PROC = Path("/proc")


def cores() -> int:
    """How many processors this process may use."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


def this_process() -> dict[str, Any]:
    """What tells this process from every other, where the system says it; else nothing of it.

    The pid alone does not: another machine, container or later process can have the same.
    """
    pid = os.getpid()
    facts = {**_machine(), "started": _started(pid)}
    return {} if None in facts.values() else {**facts, "pid": pid}


def has_ended(process: dict[str, Any]) -> bool:
    """Whether a process of this machine, as `this_process` told of it, is surely gone.

    One on another machine, or in another container, is not known here: it is not gone.
    """
    if not process or any(process.get(name) != value for name, value in _machine().items()):
        return False
    pid = process.get("pid")
    return isinstance(pid, int) and _started(pid) != process.get("started")


def _machine() -> dict[str, Any]:
    """The machine since it started, and the name space in which pids are counted."""
    try:
        boot = (_PROC / "sys/kernel/random/boot_id").read_text(encoding="ascii").strip()
        return {"boot": boot, "pids": os.readlink(_PROC / "self/ns/pid")}
    except OSError:
        return {"boot": None, "pids": None}


def _started(pid: int) -> int | None:
    """When a process started, in ticks since the machine did; None if it has ended."""
    try:
        text = (_PROC / str(pid) / "stat").read_text(encoding="utf-8", errors="replace")
    except OSError:
        return None
    # The name, in parentheses, may hold anything.
    state, *fields = text.rpartition(")")[2].split()
    return None if state in "ZX" else int(fields[18])
