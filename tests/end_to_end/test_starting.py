"""A service that comes up: nobody is told that a workflow is not there that will be."""

from __future__ import annotations

import os
import socket
import subprocess
import sys
import threading
from pathlib import Path

import pytest

from tests.helpers import LOOM, Program, run_command
from yarnloom import Client
from yarnloom.errors import NotFound, YarnloomError


def free_port() -> int:
    """A port that nobody has."""
    with socket.create_server(("127.0.0.1", 0)) as free:
        return int(free.getsockname()[1])


def test_the_first_start_against_a_fresh_service_is_held_until_its_looms_are_there(
    tmp_path: Path,
) -> None:
    """The port accepts before they are published: five starts at once, none answered 404."""
    port = free_port()
    url = f"http://127.0.0.1:{port}"
    found: list[object] = []

    def start(number: int) -> None:
        with Client(url, wait_for_service="60s") as client:
            try:
                found.append(client.start("sums", number=number).wait(60))
            except YarnloomError as error:
                found.append(error)

    threads = [threading.Thread(target=start, args=(number,)) for number in range(5)]
    for thread in threads:
        thread.start()
    program = Program("serve", "--data", str(tmp_path), "--port", str(port), "--load", LOOM)
    try:
        for thread in threads:
            thread.join(90)
        assert sorted(found, key=str) == [2, 3, 4, 5, 6]
        waited = run_command("--wait", "30s", "runs", url=url)
        assert waited.returncode == 0
    finally:
        program.end()


def test_a_command_waits_for_a_service_that_comes_up(tmp_path: Path) -> None:
    """With `--wait`; without it, it says at once that nothing answers."""
    port = free_port()
    url = f"http://127.0.0.1:{port}"
    assert run_command("runs", url=url).returncode == 3
    words = [sys.executable, "-m", "yarnloom", "--wait", "50s", "runs"]
    with subprocess.Popen(words, env={**os.environ, "YARNLOOM_URL": url}) as waiting:
        program = Program("serve", "--data", str(tmp_path), "--port", str(port))
        try:
            assert waiting.wait(60) == 0
        finally:
            program.end()


def test_a_loom_that_cannot_be_loaded_is_the_reason_of_the_404(tmp_path: Path) -> None:
    """A held request is answered with it, or hears that the service ends."""
    port = free_port()
    program = Program(
        "serve", "--data", str(tmp_path), "--port", str(port), "--load", "tests.wrong_loom:loom"
    )
    try:
        with (
            Client(f"http://127.0.0.1:{port}", wait_for_service="30s") as client,
            pytest.raises((NotFound, YarnloomError), match=r"could not be loaded|stopping|answers"),
        ):
            client.start("sums", number=1)
    finally:
        program.end()
