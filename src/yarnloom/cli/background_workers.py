"""Workers in the background of this machine: begin, look, end.

Each has a record in the user's state folder, and holds a lock on it for as long as it lives: a
process number alone could by now be another's.
"""

from __future__ import annotations

import fcntl
import json
import os
import re
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import TextIO

from platformdirs import user_state_path

from yarnloom.cli import output
from yarnloom.cli.output import out
from yarnloom.errors import InvalidInput, NotFound, StartError, nearest
from yarnloom.values import JsonObject

BEGIN_SECONDS = 60.0
END_SECONDS = 30.0
LOOK_SECONDS = 0.05
_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,49}\Z")


def begin(name: str, load: str, url: str, arguments: list[str]) -> int:
    """Start a worker that stays when this command has ended, once it takes work.

    Raises:
        InvalidInput: one of that name is there already, or it is no name.
        StartError: it ended at once; the end of its log says why.
    """
    if not _NAME.match(name):
        raise InvalidInput(f"found --name {name!r}; letters, digits, '.', '_' and '-' are possible")
    folder = _folder()
    path, log = folder / f"{name}.json", folder / f"{name}.log"
    if _holder(path) is not None:
        raise InvalidInput(
            f"worker {name} is there already; end it with `yarnloom worker stop {name}`, or give "
            "this one another --name"
        )
    facts = {"name": name, "load": load, "url": url, "log": str(log), "folder": str(Path.cwd())}
    path.write_text(json.dumps(facts), encoding="utf-8")
    with log.open("w") as lines:
        process = subprocess.Popen(
            [sys.executable, "-m", "yarnloom", *arguments, "--record", str(path)],
            stdin=subprocess.DEVNULL,
            stdout=lines,
            stderr=subprocess.STDOUT,
            start_new_session=True,
            env={**os.environ, "PYTHONUNBUFFERED": "1"},
        )
    until = time.monotonic() + BEGIN_SECONDS
    while process.poll() is None and time.monotonic() < until:
        if "takes work from" in log.read_text(errors="replace"):
            break
        time.sleep(LOOK_SECONDS)
    if process.poll() is not None:
        path.unlink(missing_ok=True)
        raise StartError(f"worker {name} has ended: {_last_lines(log)}")
    working = "takes work" if time.monotonic() < until else "has not reached the service yet"
    out.print(f"worker {name} is process {process.pid} in the background and {working}")
    out.print(f"its log: {log}", style="dim", soft_wrap=True)
    out.print(f"end it: yarnloom worker stop {name}", style="dim")
    return 0


def hold_record(path: str) -> TextIO:
    """In a worker that was begun so: hold the lock of its record, for as long as it lives."""
    record = Path(path).open("r+", encoding="utf-8")  # noqa: SIM115  # closed by the process's end
    fcntl.flock(record, fcntl.LOCK_EX)
    facts = json.load(record)
    facts |= {"pid": os.getpid(), "since": datetime.now(UTC).isoformat()}
    record.seek(0)
    record.write(json.dumps(facts))
    record.truncate()
    record.flush()
    return record


def status(name: str | None, as_json: bool) -> int:
    """List this machine's workers in the background, or show one; 1 if that one is not there."""
    found = [facts for facts in _living() if name is None or facts["name"] == name]
    if as_json:
        output.print_json({"workers": found})
    elif found:
        rows = output.table("worker", "process", "since", "loom", "service", numbers=("process",))
        for one in found:
            facts = [str(one["pid"]), output.ago(one["since"]), one["load"], one["url"]]
            rows.add_row(one["name"], *facts)
        out.print(rows)
        out.print(f"their logs: {_folder()}/WORKER.log", style="dim", soft_wrap=True)
    elif name is not None:
        output.say(f"no worker {name} is in the background of this machine")
    else:
        output.say(
            "no workers are in the background of this machine; begin one with `yarnloom worker "
            "--load MODULE:LOOM --detach`"
        )
    return 1 if name is not None and not found else 0


def stop(name: str) -> int:
    """Tell a worker in the background to end, and wait until it has.

    Raises:
        NotFound: there is none of that name.
        StartError: it goes on.
    """
    path = _folder() / f"{name}.json"
    facts = _holder(path) if _NAME.match(name) else None
    if facts is None:
        known = [one["name"] for one in _living()]
        hint = nearest(name, known) if known else ""
        raise NotFound(f"no worker {name} is in the background of this machine{hint}")
    os.kill(facts["pid"], signal.SIGTERM)
    until = time.monotonic() + END_SECONDS + facts.get("drain", 10.0)
    while _holder(path) is not None:
        if time.monotonic() > until:
            raise StartError(
                f"worker {name} (process {facts['pid']}) has not ended yet; it may be waiting for "
                f"what it runs. Its log: {facts['log']}"
            )
        time.sleep(LOOK_SECONDS)
    path.unlink(missing_ok=True)
    out.print(f"worker {name} has ended")
    return 0


def _living() -> Iterator[JsonObject]:
    """The facts of every worker that lives; records of those that do not are removed."""
    for path in sorted(_folder().glob("*.json")):
        facts = _holder(path)
        if facts is not None:
            yield facts
        elif time.time() - path.stat().st_mtime > BEGIN_SECONDS:
            path.unlink(missing_ok=True)


def _holder(path: Path) -> JsonObject | None:
    """The facts of the worker that holds a record; None if nobody does."""
    try:
        with path.open(encoding="utf-8") as record:
            try:
                fcntl.flock(record, fcntl.LOCK_SH | fcntl.LOCK_NB)
            except BlockingIOError:
                facts: JsonObject = json.load(record)
                return facts
    except (FileNotFoundError, ValueError):
        pass
    return None


def _folder() -> Path:
    folder = user_state_path("yarnloom", appauthor=False) / "workers"
    folder.mkdir(parents=True, exist_ok=True)
    return folder


def _last_lines(log: Path) -> str:
    return " ".join(log.read_text(errors="replace").splitlines()[-3:]) or "it said nothing"
