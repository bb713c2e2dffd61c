"""Data in and out with real processes: clients, workers, a small service, and kills."""

from __future__ import annotations

import asyncio
import csv
import hashlib
import os
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from tests import raw_http
from tests.engine.dispatch.test_kept_files import contacts
from tests.helpers import Program, ServiceProgram, eventually, run_command, service
from yarnloom import AsyncClient, Client, File, Rows, Run
from yarnloom.client import Request
from yarnloom.errors import InvalidInput, NotFound, RunFailed, ValueRefused

LOOM = "tests.files_loom:loom"
MILLION = 10**6


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service with the loom of files and a worker."""
    with service(tmp_path_factory.mktemp("data"), "--load", LOOM, "--processes", "2") as found:
        yield found


def progress_of(client: Client, number: int) -> dict[str, Any]:
    """The counts of the first each of a run."""
    graph = client.call(Request("GET", f"/runs/{number}/graph"))
    found: dict[str, Any] = graph["parts"][0]["counts"]
    return found


def test_letters_through_real_workers(program: ServiceProgram, tmp_path: Path) -> None:
    """A long list with failures, batches, async tasks; the file that comes of it."""
    path = tmp_path / "contacts.csv"
    path.write_bytes(contacts(1_500, (7, 700)))
    client = program.client()
    told: list[int] = []
    kept = client.upload(path, on_progress=lambda gone, whole: told.append(gone))
    run = client.start("letters", contacts=kept, on_check=lambda _: None)
    output = run.wait(60)
    target = client.download(output["bind"], tmp_path)

    assert told[-1] == path.stat().st_size
    assert target == tmp_path / "letters.txt"
    assert len(target.read_text().splitlines()) == 1_499
    assert output["weigh"] == [1_500, 2, 2]
    assert output["batches"] == [300] * 5
    assert output["read"][2:] == [1_500, 1_500]
    listed = list(client.rows(run.data["params"]["contacts"]))
    assert (len(listed), listed[3]["harbour"]) == (1_500, "h3")
    assert output["bind"]["sha256"] in {file.sha256 for file in client.files()}


def test_files_and_models_as_params(program: ServiceProgram, tmp_path: Path) -> None:
    """`Rows.of` says how a file is read; async tasks save files too."""
    client = program.client()
    text = contacts(30).replace(b",", b";")
    kept = client.upload(text, "contacts.csv")
    with pytest.raises(InvalidInput, match="look separated by semicolons"):
        client.start("letters", contacts=kept)
    output = client.start("letters", contacts=Rows.of(kept, delimiter=";")).wait(60)
    assert output["weigh"] == [30, 0, 0]
    later = client.start("later", one=kept).wait(60)
    assert (later["name"], later["sha256"]) == ("later contacts.csv", kept.sha256)
    with pytest.raises(NotFound, match="is kept"):
        client.download("ab" * 32, tmp_path / "nothing")
    with pytest.raises(ValueRefused, match="cannot be read"):
        client.upload(tmp_path / "nowhere.csv")
    assert list(tmp_path.iterdir()) == []
    with pytest.raises(RunFailed, match="names a file that is not kept"):
        client.start("invents").wait(60)


def test_the_async_client_moves_files(program: ServiceProgram, tmp_path: Path) -> None:
    """As the other one does."""

    async def main() -> tuple[Path, list[Any]]:
        async with AsyncClient(program.url) as client:
            kept = await client.upload(contacts(40), "contacts.csv")
            run = await client.start("letters", contacts=kept)
            output = await run.wait(60)
            path = await client.download(File(**output["bind"]), tmp_path / "out.txt")
            return path, [row async for row in client.rows(run.data["params"]["contacts"])]

    path, rows = asyncio.run(main())
    assert len(path.read_text().splitlines()) == 41
    assert len(rows) == 40


def test_a_large_file_up_and_down_under_a_limit(tmp_path: Path) -> None:
    """400 MB through a service that may have 300 MB: no path holds a whole file in memory."""
    block = os.urandom(MILLION)
    large = tmp_path / "large.bin"
    digest = hashlib.sha256()
    with large.open("wb") as file:
        for index in range(400):
            part = index.to_bytes(8, "big") + block[8:]
            digest.update(part)
            file.write(part)
    with service(tmp_path / "data", limit=300 * MILLION) as limited:
        client = limited.client()
        kept = client.upload(large)
        large.unlink()
        assert kept.sha256 == digest.hexdigest()
        down = client.download(kept, tmp_path / "down.bin")
        assert down.stat().st_size == 400 * MILLION
        assert limited.end() == 0


@pytest.mark.slow
def test_many_rows_under_a_limit(tmp_path: Path) -> None:
    """8,000 rows with a service of 250 MB; pause and cancel in the middle act, all others end."""
    path = tmp_path / "contacts.csv"
    path.write_bytes(contacts(8_000))
    limited = ServiceProgram(tmp_path / "data", limit=250 * MILLION)
    url = limited.url
    worker = Program("worker", "--load", LOOM, "--publish", "--processes", "2", "--url", url)
    try:
        worker.wait_for("takes work")
        client = Client(url)
        kept = client.upload(path)
        run, other = client.start("letters", contacts=kept), client.start("letters", contacts=kept)
        eventually(lambda: progress_of(client, run.number)["done"] > 1_000)
        run.pause("in the middle")
        eventually(lambda: run.refresh().state == "paused")
        before = progress_of(client, run.number)
        other.cancel("in the middle")
        eventually(lambda: other.refresh().state == "cancelled")
        counts = progress_of(client, other.number)

        assert counts["done"] + counts["cancelled"] == 8_000
        assert progress_of(client, run.number) == before
        run.resume()
        assert run.wait(120)["weigh"] == [8_000, 0, 0]
    finally:
        worker.end()
        assert limited.end() == 0


@pytest.mark.parametrize("at", [0.1, 0.5, 0.9])
def test_a_service_killed_during_an_upload_keeps_nothing_half(tmp_path: Path, at: float) -> None:
    """Nothing refers to what is not whole; sent again to the next service, it is whole."""
    data = os.urandom(20 * MILLION)
    folder = tmp_path / "data"
    with service(folder) as first:
        sent = threading.Event()

        def blocks() -> Iterator[bytes]:
            for place in range(0, len(data), 65_536):
                yield data[place : place + 65_536]
                if place > len(data) * at and not sent.is_set():
                    first.kill()
                    sent.set()

        with pytest.raises(httpx.TransportError):
            raw_http.post(
                f"{first.url}/api/v1/files?name=a",
                content=blocks(),
                headers={"Content-Length": str(len(data))},
                trust_env=False,
            )
        assert sent.is_set()
    with service(folder) as second:
        client = second.client()
        assert list(client.files()) == []
        assert [path for path in (folder / "files").rglob("*") if path.is_file()] == []
        kept = client.upload(data, "a")
        assert client.download(kept, tmp_path / "a").read_bytes() == data


@pytest.mark.slow
def test_a_service_killed_while_lists_are_read_and_gathered(tmp_path: Path) -> None:
    """Whatever was under way beside it is done by its successor."""
    folder = tmp_path / "data"
    with service(folder) as first:
        worker = Program("worker", "--load", LOOM, "--publish", "--url", first.url)
        worker.wait_for("takes work")
        run = first.client().start("numbers", count=12_000)
        port = first.port
        for _ in range(3):
            eventually(lambda: waits_for_list_job(run) or is_far(run))
            first.kill()
            first = ServiceProgram(folder, port=port)  # noqa: PLW2901  # its successor
        try:
            assert run.wait(120) == 12_000 * 11_999
        finally:
            worker.end()
            first.end()


def waits_for_list_job(run: Run) -> bool:
    """Whether a run waits for something that is done beside the service."""
    why = run.why()
    kinds = {reason.kind for wait in why.waits for reason in wait.reasons}
    return bool(kinds & {"reading", "gathering"})


def is_far(run: Run) -> bool:
    """Whether it goes through its items."""
    graph = run._client.call(Request("GET", f"/runs/{run.number}/graph"))
    return (graph["parts"][1].get("counts") or {}).get("done", 0) > 200


def test_track_over_rows_goes_on_after_a_kill(program: ServiceProgram, tmp_path: Path) -> None:
    """Of the process that runs it: no row is left out, and none comes twice in what it kept."""
    client = program.client()
    rows = client.upload("\n".join(map(str, range(120))).encode(), "numbers.jsonl")
    run = client.start("walks", rows=rows, folder=str(tmp_path))
    marks = tmp_path / "rows"
    eventually(lambda: marks.exists() and len(marks.read_text().splitlines()) > 20)
    step = client.call(Request("GET", f"/runs/{run.number}/steps", query={"address": "walk"}))
    os.kill(step["attempts"][-1]["pid"], 9)

    # What was under way when it was killed is repeated; what it kept by then is no less.
    assert sorted(set(run.wait(60))) == list(range(120))
    begun = [int(line) for line in marks.read_text().splitlines()]
    assert sorted(set(begun)) == list(range(120))
    assert len(begun) <= 121


# The command


def test_the_command_brings_data_in_and_takes_it_out(
    program: ServiceProgram, tmp_path: Path
) -> None:
    """Upload, start, list, look, download, export."""
    path = tmp_path / "letters.csv"
    path.write_bytes(contacts(25, (4,)).replace(b",", b"\t"))
    given = ("--file", f"contacts={path}", "--delimiter", "tab")
    wrong = run_command("start", "letters", "--file", f"contacts={path}", url=program.url)
    start = run_command("start", "letters", *given, "--watch", url=program.url)
    number = start.stdout.partition("run ")[2].split()[0]
    files = run_command("files", url=program.url)
    shown = run_command("files", "letters.csv", url=program.url)
    down = run_command("download", "letters.txt", "-o", str(tmp_path), url=program.url)
    items = run_command(
        *("export", f"{number}/write", "--state", "failed", "-o", str(tmp_path / "bad.csv")),
        url=program.url,
    )
    record = run_command("export", number, url=program.url)
    kept = run_command("upload", str(path), "--name", "other.tsv", "--json", url=program.url)

    assert wrong.returncode == 2
    assert "line 1: the columns look separated by tabs" in wrong.stderr
    assert start.returncode == 0, start.stderr
    assert "25 of 25" in start.stdout or "24 of 25 done, 1 failed" in start.stdout
    assert "letters.csv" in files.stdout
    assert "h24" in shown.stdout or "h9" in shown.stdout
    assert down.returncode == 0, down.stderr
    assert (tmp_path / "letters.txt").read_text().startswith("no head\nto h0")
    assert items.returncode == 0, items.stderr
    (row,) = csv.DictReader((tmp_path / "bad.csv").open(newline=""))
    assert (row["harbour"], row["yarnloom.state"]) == ("h4", "failed")
    assert '"steps": [' in record.stdout
    assert '"name": "other.tsv"' in kept.stdout
    piped = run_command("upload", "-", "--name", "piped.txt", url=program.url, input="ebb\n")
    assert "piped.txt: 4 bytes, text/plain" in piped.stdout, piped.stderr
    for words, said in (
        (("files", "nowhere"), "no file called 'nowhere'"),
        (("upload", "/nowhere"), "cannot be read: No such file"),
        (("download", "letters.txt", "-o", "/no/where"), "/no/where cannot be written: No such"),
        (("export", number, "-o", "/no/where"), "/no/where cannot be written: No such"),
        (("export", number, "--as", "csv"), "a whole run as json"),
        (("export", f"{number}/then/bind"), "expected an each"),
        (("start", "letters", "--file", "contacts"), "expected --file NAME=PATH"),
        (("start", "letters", "-p", "contacts=c.csv"), "give it with --file contacts=c.csv"),
        (("start", "copies", "-p", "one=c.csv"), "give it with --file one=c.csv"),
        (("start", "letters", *given[:2], "--delimiter", "x"), "found 'x'; expected comma"),
    ):
        done = run_command(*words, url=program.url)
        assert (done.returncode, said in done.stderr) == (2, True), (words, done.stderr)
