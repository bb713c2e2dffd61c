"""Which source files a run of one step passes, from its start to its end, in their order.

Usage: `python -m tools.walk`. It starts a real service and a real worker, lets one run warm them
up, and notes the files in which something is called while the next one runs. Calls within 10 ms of
each other in different processes may come in another order another time.
"""

from __future__ import annotations

import contextlib
import os
import socket
import sqlite3
import subprocess
import sys
import tempfile
import time
import urllib.request
from collections.abc import Iterator
from pathlib import Path

from yarnloom import Client

TRACE = Path(__file__).parent / "trace"
LOOM = '''
from yarnloom import Loom, step

loom = Loom("walk")

@loom.task
def add(number: int) -> int:
    """Add one."""
    return number + 1

loom.workflow("one", plan=step("only", add, number=1))
'''


@contextlib.contextmanager
def service(folder: Path) -> Iterator[str]:
    """A service with a worker, each noting what it calls; its address."""
    (folder / "walk_loom.py").write_text(LOOM, encoding="utf-8")
    with socket.create_server(("127.0.0.1", 0)) as free:
        port = free.getsockname()[1]
    url = f"http://127.0.0.1:{port}"
    env = {**os.environ, "YARNLOOM_TRACE": str(folder), "YARNLOOM_DATA": str(folder / "data")}
    env["PYTHONPATH"] = os.pathsep.join((str(TRACE), str(folder)))
    program = [sys.executable, "-m", "yarnloom"]
    served = [*program, "serve", "--port", str(port), "--load", "walk_loom:loom", "--quiet"]
    process = subprocess.Popen(served, env=env, cwd=folder, stdout=subprocess.DEVNULL)
    try:
        yield url
    finally:
        process.terminate()
        process.wait(30)


def _wait_for(folder: Path, number: int) -> None:
    """Wait for the end of a run, without asking the service."""
    database = next((folder / "data").rglob("*.db"))
    with contextlib.closing(sqlite3.connect(database)) as records:
        while not records.execute(
            "SELECT 1 FROM runs WHERE number = ? AND ended_at IS NOT NULL", (number,)
        ).fetchall():
            time.sleep(0.01)


def walk(folder: Path) -> dict[str, str]:
    """Let a step run; return the files that it passes, each with the first function called."""
    folder.mkdir(exist_ok=True)
    with service(folder) as url:
        while True:
            with contextlib.suppress(OSError), urllib.request.urlopen(f"{url}/ready"):
                break
            time.sleep(0.1)
        with Client(url) as client:
            for _ in range(3):
                _wait_for(folder, client.start("one").number)
            armed = folder / "armed"
            armed.touch()
            _wait_for(folder, client.start("one").number)
            armed.unlink()
    lines = [
        line.split()
        for file in folder.iterdir()
        if file.name.isdigit()
        for line in file.read_text(encoding="utf-8").splitlines()
    ]
    found: dict[str, str] = {}
    for _, path, name in sorted(lines, key=lambda line: int(line[0])):
        found.setdefault(path, name)
    return found


def main() -> int:
    """Print the walk."""
    with tempfile.TemporaryDirectory() as folder:
        files = walk(Path(folder))
    for number, (path, name) in enumerate(files.items(), 1):
        print(f"{number:3} {path:50} {name}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
