"""The disk is full while a service runs, and when it starts."""

from __future__ import annotations

import resource
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from tests import raw_http
from tests.helpers import LOOM, ROOT, ServiceProgram, eventually, run_command, service

pytestmark = pytest.mark.slow


@contextmanager
def full(program: ServiceProgram) -> Iterator[None]:
    """No file of the service grows any more, as on a disk that has no room."""
    pid = program.process.pid
    before = resource.prlimit(pid, resource.RLIMIT_FSIZE)
    resource.prlimit(pid, resource.RLIMIT_FSIZE, (1, before[1]))
    try:
        yield
    finally:
        resource.prlimit(pid, resource.RLIMIT_FSIZE, before)


def test_a_full_disk_is_said_once_and_costs_nothing_that_was_acknowledged(tmp_path: Path) -> None:
    """Nothing is accepted, reading goes on, what runs ends, and all of it is stored afterwards."""
    with service(tmp_path / "data", "--load", LOOM) as program:
        client = program.client()
        held = client.start("held", folder=str(tmp_path))
        eventually((tmp_path / "hold").exists)
        http = raw_http.Client(base_url=f"{program.url}/api/v1", trust_env=False, timeout=30)
        with full(program):
            (tmp_path / "go").touch()
            for _ in range(3):
                refused = http.post("/runs", json={"target": "sums", "params": {"number": 1}})
                assert (refused.status_code, refused.json()["type"]) == (
                    503,
                    "urn:yarnloom:cannot-store",
                )
            ready = raw_http.get(f"{program.url}/ready", trust_env=False)
            assert ready.status_code == 503
            assert "nothing can be stored: " in ready.json()["reason"]
            told = run_command("cancel", str(held.number), url=program.url)
            assert (told.returncode, len(told.stderr.strip().splitlines())) == (5, 1)
            kept = http.post("/files", params={"name": "a.txt"}, content=b"x" * 10)
            assert (kept.status_code, kept.json()["type"]) == (503, "urn:yarnloom:cannot-store")
            for path in ("/runs", f"/runs/{held.number}", f"/runs/{held.number}/graph"):
                assert http.get(path).status_code == 200
            assert "hold" in run_command("why", str(held.number), url=program.url).stdout
            assert http.get("/overview").status_code == 200
        assert held.wait(60) == "begun, held, finished"
        assert client.start("sums", number=1).wait(60) == 3
        assert program.text.count("nothing can be stored, so nothing is accepted") == 1
        assert program.text.count("changes can be stored again") == 1
        assert "Traceback" not in program.text


def test_serve_on_a_full_disk_ends_with_one_line(tmp_path: Path) -> None:
    """And with exit code 5."""
    command = [sys.executable, "-m", "yarnloom", "serve", "--data", str(tmp_path / "d")]
    done = subprocess.run(
        ["sh", "-c", 'ulimit -f 0; exec "$@"', "sh", *command, "--port", "0"],
        capture_output=True,
        text=True,
        cwd=ROOT,
        timeout=60,
        check=False,
    )
    assert done.returncode == 5, done.stderr
    assert len(done.stderr.strip().splitlines()) == 1
    assert done.stderr.startswith("yarnloom serve: ")
