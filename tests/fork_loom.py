"""Looms whose processes are forks of one that has loaded them, and looms that cannot be forked."""

from __future__ import annotations

import os
import random
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import BaseModel

from yarnloom import Loom, each, item, param, step

LOADED_BY = os.getpid()


class Folder(BaseModel):
    """Where marks are left."""

    folder: str


class Count(BaseModel):
    """How many items there are."""

    count: int


def declared(name: str, **options: Any) -> Loom:
    """Return a loom of this name with the same tasks."""
    new = Loom(name, **options)

    @new.task
    def draw(number: int) -> dict[str, Any]:
        """Draw random numbers, and say which process did, and which loaded this module."""
        time.sleep(0.05)
        drawn = [random.random(), float(np.random.random())]
        return {"pid": os.getpid(), "loaded_by": LOADED_BY, "drawn": drawn}

    @new.task
    def wait(folder: str) -> int:
        """Wait until a file is there."""
        (Path(folder) / "waits").write_text(str(os.getpid()))
        while not (Path(folder) / "go").exists():
            time.sleep(0.01)
        return os.getpid()

    @new.task
    def leave_orphan(folder: str) -> None:
        """Start a process that starts another and ends."""
        code = "import subprocess, sys; print(subprocess.Popen([sys.executable, '-c', '0']).pid)"
        command = [sys.executable, "-c", code]
        started = subprocess.run(command, check=True, stdout=subprocess.PIPE, text=True)
        with (Path(folder) / "orphans").open("a") as file:
            file.write(started.stdout)

    @new.task
    def numbers(count: int) -> list[int]:
        """That many numbers."""
        return list(range(count))

    new.workflow(
        "draws",
        params=Count,
        plan=each("all", over=list(range(12)), do=step("draw", draw, number=item())),
    )
    new.workflow("waits", params=Folder, plan=step("wait", wait, folder=param("folder")))
    new.workflow("orphans", params=Folder, plan=step("leave", leave_orphan, folder=param("folder")))
    return new


loom = declared("forks")
unforked = declared("unforked", fork=False)


def __getattr__(name: str) -> Loom:
    """Looms that are not safe to fork, since something runs or is open once they are loaded."""
    if name == "threaded":
        threading.Thread(target=threading.Event().wait, daemon=True, name="tide-clock").start()
        return declared("threaded")
    if name == "opened":
        found = declared("opened")
        found.kept = Path(__file__).open()  # type: ignore[attr-defined]  # noqa: SIM115
        return found
    raise AttributeError(name)
