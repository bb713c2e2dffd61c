"""A PostgreSQL server of a test's own, on loopback, from Debian's package."""

from __future__ import annotations

import contextlib
import os
import shutil
import socket
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path

import psycopg

from tests.helpers import eventually

PLACES = sorted(Path("/usr/lib/postgresql").glob("*/bin"), reverse=True)
USER = "postgres"


def _words(*words: str) -> list[str]:
    """A command; as root by another user, since PostgreSQL refuses root."""
    if os.getuid() != 0:
        return list(words)
    return ["setpriv", f"--reuid={USER}", f"--regid={USER}", "--clear-groups", "--", *words]


@contextlib.contextmanager
def postgres() -> Iterator[str]:
    """Run a server; give the address of its database."""
    bin_folder = next(iter(PLACES), None)
    assert bin_folder is not None, "PostgreSQL is missing: apt-get install postgresql"
    folder = Path(tempfile.mkdtemp(prefix="pg-"))
    if os.getuid() == 0:
        shutil.chown(folder, USER, USER)
    with socket.create_server(("127.0.0.1", 0)) as free:
        port = free.getsockname()[1]
    data = str(folder / "data")
    make = _words(str(bin_folder / "initdb"), "-D", data, "-U", USER, "-A", "trust", "-N")
    subprocess.run(make, check=True, capture_output=True, cwd=folder)
    run = _words(
        *(str(bin_folder / "postgres"), "-D", data, "-p", str(port)),
        *("-h", "127.0.0.1", "-k", str(folder), "-F"),
    )
    url = f"postgresql://{USER}@127.0.0.1:{port}/postgres"
    with subprocess.Popen(run, stderr=subprocess.DEVNULL, cwd=folder) as server:
        try:
            eventually(lambda: _answers(url), "PostgreSQL answers")
            yield url
        finally:
            server.terminate()
            server.wait(30)
            shutil.rmtree(folder, ignore_errors=True)


def _answers(url: str) -> bool:
    try:
        psycopg.connect(url).close()
    except psycopg.OperationalError:
        return False
    return True
