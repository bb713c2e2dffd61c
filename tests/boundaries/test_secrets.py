"""Secrets are nowhere to be found: not in records, logs, files, answers, processes or commands."""

from __future__ import annotations

import base64
import contextlib
import json
import os
import sqlite3
import zlib
from pathlib import Path
from urllib.parse import quote

import pytest

from tests import raw_http
from tests.helpers import ServiceProgram, eventually, processes_with, run_command, service
from yarnloom.errors import InvalidInput, RunFailed

LOOM = "tests.secret_loom:loom"
PASSWORD = 'swordfish-7/ü"%'
TOKEN = "hun\\ter2-<&>ä"
EDITED = "edited-9'%\"ö"
SECRETS = (TOKEN, PASSWORD, EDITED)


def forms(secret: str) -> set[bytes]:
    """A secret as JSON, URLs and base64 would write it."""
    raw = secret.encode()
    found = {raw, secret.encode("latin-1", "replace")}
    found |= {
        json.dumps(secret)[1:-1].encode(),
        json.dumps(secret, ensure_ascii=False)[1:-1].encode(),
    }
    found |= {quote(secret, safe="").encode(), quote(secret).encode(), repr(secret)[1:-1].encode()}
    for shift in range(3):  # base64 of a longer text that holds it, wherever it begins
        whole = base64.b64encode(b"x" * shift + raw)
        found |= {whole[4:-4], whole[4:-4].replace(b"+", b"-").replace(b"/", b"_")}
    return {form for form in found if len(form) > 6}


def places_with(secret: str, data: bytes) -> bool:
    """Whether a secret is in some bytes, in any form."""
    return any(form in data for form in forms(secret))


def log_text(path: Path) -> bytes:
    """The chunks of a log file, unpacked."""
    with contextlib.closing(sqlite3.connect(path)) as connection:
        rows = connection.execute("SELECT body FROM lines UNION ALL SELECT body FROM published")
        bodies = [
            zlib.decompress(one) if isinstance(one, bytes) else one.encode() for (one,) in rows
        ]
    assert bodies
    return b"".join(bodies)


def leaks_in_folder(folder: Path) -> list[str]:
    """Files below a folder in which a secret can be found."""
    found = []
    for path in folder.rglob("*"):
        if path.is_file():
            data = path.read_bytes() + (log_text(path) if path.name == "logs.db" else b"")
            found += [f"{path.name}: {one}" for one in SECRETS if places_with(one, data)]
    return found


def answers_of(program: ServiceProgram, runs: list[int], token: str) -> dict[str, bytes]:
    """Everything that the service says of some runs."""
    http = raw_http.Client(
        base_url=program.url,
        trust_env=False,
        headers={"Authorization": f"Bearer {token}"},
        timeout=30,
    )
    paths = ["/runs", "/commands", "/tasks", "/workflows", "/schedules", "/files", "/overview"]
    for run in runs:
        one = f"/runs/{run}"
        paths += [one, *(f"{one}/{what}" for what in ("graph", "steps", "why", "ledger", "record"))]
        paths += [f"{one}/commands", f"{one}/published", f"{one}/attempts"]
        for step in http.get(f"/api/v1{one}/steps").json()["steps"]:
            address = quote(step["address"], safe="")
            paths += [f"{one}/steps?address={address}", f"{one}/log?address={address}"]
        paths.append(f"{one}/items?address=accounts")
        paths.append(f"{one}/export?address=accounts")
    return {path: http.get(f"/api/v1{path}").content for path in paths}


def leaks_in_processes() -> list[str]:
    """Processes of this machine whose command line holds a secret."""
    found = []
    for folder in Path("/proc").glob("[0-9]*"):
        try:
            data = (folder / "cmdline").read_bytes()
        except OSError:
            continue
        found += [f"{folder.name}: {one}" for one in SECRETS if places_with(one, data)]
    return found


def test_no_secret_is_found_after_anything(tmp_path: Path) -> None:
    """Success, failure, edit, mend, rerun, once, the start of a task, and a schedule."""
    with service(tmp_path / "data", "--load", LOOM) as program:
        with program.client() as own:
            token = own.add_token("all", ["admin"]).token
        file = tmp_path / "token"
        file.write_text(token)
        client = program.client(token)
        accounts = [{"name": "harbour", "password": PASSWORD}]
        good = client.start("spill", token=TOKEN, accounts=accounts)
        assert good.wait() == ["harbour"]
        bad = client.start("spill", token=TOKEN, fail=True)
        with pytest.raises(RunFailed):
            bad.wait()
        with pytest.raises(RunFailed, match="name of an effect"):
            client.start("names", token=TOKEN).wait()
        held = client.start("hold", token=TOKEN, until=str(tmp_path / "go"))
        eventually(lambda: held.refresh().state == "running")
        held.step("hold").cancel()
        with pytest.raises(RunFailed):
            held.wait()
        held.step("hold").edit(inputs={"token": EDITED}, reason="another one")
        (tmp_path / "go").touch()
        assert held.mend().wait() == "held"
        again = good.rerun()
        assert again.wait() == ["harbour"]
        # Its input is plain text, but a workflow feeds it with a secret.
        assert client.start("log_in", name="x", password=PASSWORD).wait() == "x"
        marked = client.start("marked", token=TOKEN)
        assert marked.wait() == "sent"
        with pytest.raises(InvalidInput) as refused:
            client.start("spill", token=TOKEN, accounts=[{"name": 5, "password": [PASSWORD]}])
        with pytest.raises(InvalidInput) as short:
            client.start("spill", token=[TOKEN])
        runs = [good.number, bad.number, held.number, again.number, marked.number]

        said = answers_of(program, runs, token)
        env = {"YARNLOOM_TOKEN_FILE": str(file)}
        commands = [
            run_command(*words, url=program.url, env={**env}).stdout.encode()
            for run in runs
            for words in (("show", str(run)), ("why", str(run)), ("log", str(run)))
        ]
        commands.append(run_command("commands", "--json", url=program.url, env=env).stdout.encode())

        leaks = [
            f"{path}: {one}"
            for path, data in said.items()
            for one in SECRETS
            if places_with(one, data)
        ]
        leaks += [str(data) for data in commands for one in SECRETS if places_with(one, data)]
        refusals = (str(refused.value) + str(short.value)).encode()
        assert [one for one in SECRETS if places_with(one, refusals)] == []
        assert leaks == []
        assert leaks_in_processes() == []
        assert [path for path, data in said.items() if token.encode() in data] == []
        assert token not in program.text
        assert [pid for pid in processes_with(token) if pid != os.getpid()] == []
    assert leaks_in_folder(tmp_path / "data") == []
    kept = [one.read_bytes() for one in (tmp_path / "data").rglob("*") if one.is_file()]
    assert not any(token.encode() in data for data in kept)


def test_tasks_do_not_know_the_keys_of_the_service(tmp_path: Path) -> None:
    """Neither the token nor the key of the vault is in the environment of a task's process."""
    key = "x" * 43 + "="
    env = {"YARNLOOM_TOKEN_FILE": "/dev/null", "YARNLOOM_SECRET_KEY": key}
    with service(tmp_path / "data", "--load", LOOM, env=env) as program:
        client = program.client()

        assert client.start("environment").wait() == []


def test_the_records_are_for_their_owner(tmp_path: Path) -> None:
    """Files and folders, also those that were there before, and readable by all."""
    data = tmp_path / "data"
    (data / "files").mkdir(parents=True)
    for name in ("files/old", "logs.db"):
        (data / name).touch()
        os.chmod(data / name, 0o644)
    os.chmod(data, 0o755)
    with service(data, "--load", LOOM) as program:
        program.client().start("spill", token=TOKEN).wait()
        modes = {path: path.stat().st_mode & 0o077 for path in [data, *data.rglob("*")]}

    assert {str(path): oct(mode) for path, mode in modes.items() if mode} == {}


def test_a_folder_with_other_things_is_left_open(tmp_path: Path) -> None:
    """Others may need to get in, so it is said, and the records in it are closed."""
    (tmp_path / "notes.txt").write_text("not ours")
    os.chmod(tmp_path, 0o755)
    with service(tmp_path) as program:
        assert tmp_path.stat().st_mode & 0o077
        assert (tmp_path / "yarnloom.db").stat().st_mode & 0o077 == 0
        assert (tmp_path / "notes.txt").stat().st_mode & 0o077
        program.wait_for("can be read by others, and holds more than the records")
