"""A service in the background of this machine: begin, look, end. Its data folder names it."""

from __future__ import annotations

import argparse
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

from yarnloom import local_socket
from yarnloom.cli import output
from yarnloom.cli.output import out
from yarnloom.errors import NotFound, StartError
from yarnloom.settings.project import data_folder_here

BEGIN_SECONDS = 60.0
END_SECONDS = 60.0
LOOK_SECONDS = 0.05
LOG = "service.log"


def do(options: argparse.Namespace) -> int:
    """Do what was typed about the service of a data folder."""
    data = (Path(options.data) if options.data else data_folder_here()).absolute()
    match options.words:
        case "status":
            return _status(data, as_json=options.json)
        case "stop":
            return _stop(data)
    return _begin(data)


def living(data: Path) -> local_socket.ServiceRecord | None:
    """Return the record of a data folder's service, if that lives."""
    record = local_socket.read_record(data)
    return record if record is not None and local_socket.answers(record.socket) else None


def _begin(data: Path) -> int:
    if (record := living(data)) is not None:
        raise StartError(f"a service runs for {data} already: process {record.pid} at {record.url}")
    data.mkdir(mode=0o700, parents=True, exist_ok=True)
    log = data / LOG
    words = [word for word in sys.argv[1:] if word != "--detach"]
    with log.open("w") as lines:
        process = subprocess.Popen(
            [sys.executable, "-m", "yarnloom", *words],
            stdin=subprocess.DEVNULL,
            stdout=lines,
            stderr=subprocess.STDOUT,
            start_new_session=True,
            env={**os.environ, "PYTHONUNBUFFERED": "1"},
        )
    until = time.monotonic() + BEGIN_SECONDS
    while (record := living(data)) is None and time.monotonic() < until:
        if process.poll() is not None:
            said = " ".join(log.read_text(errors="replace").splitlines()[-3:]) or "it said nothing"
            raise StartError(f"the service has ended: {said}")
        time.sleep(LOOK_SECONDS)
    if record is None:
        raise StartError(f"the service has not begun within {BEGIN_SECONDS:g} s; see {log}")
    out.print(f"the service is process {record.pid} in the background, at {record.url}")
    out.print(f"its log: {log}", style="dim", soft_wrap=True)
    out.print("end it: yarnloom serve stop", style="dim")
    return 0


def _status(data: Path, *, as_json: bool) -> int:
    record = living(data)
    if as_json:
        shown = None if record is None else {"pid": record.pid, "url": record.url}
        output.print_json({"data": str(data), "service": shown})
    elif record is None:
        output.say(f"no service runs for {data}")
    else:
        out.print(f"process {record.pid} serves {data} at {record.url}", soft_wrap=True)
    return 0 if record is not None else 1


def _stop(data: Path) -> int:
    record = living(data)
    if record is None:
        raise NotFound(f"no service runs for {data}", hint="`yarnloom serve` starts one")
    os.kill(record.pid, signal.SIGTERM)
    until = time.monotonic() + END_SECONDS
    while local_socket.answers(record.socket):
        if time.monotonic() > until:
            raise StartError(
                f"the service (process {record.pid}) has not ended yet; it waits for what runs"
            )
        time.sleep(LOOK_SECONDS)
    output.say(f"the service for {data} has ended")
    return 0
