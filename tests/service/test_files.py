"""Files over raw HTTP: up and down, what cannot harm a browser, exports, starts with rows."""

from __future__ import annotations

import base64
import csv
import hashlib
import io
import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests import raw_http
from tests.engine.dispatch.test_kept_files import contacts
from tests.helpers import ServiceProgram, eventually, service
from yarnloom.store.files.file_folder import MARK_ROWS, FileFolder

LOOM = "tests.files_loom:loom"


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service with the loom of files and a worker."""
    data = tmp_path_factory.mktemp("files")
    with service(data, "--load", LOOM, "--processes", "1") as found:
        yield found


@pytest.fixture(scope="module")
def http(program: ServiceProgram) -> Iterator[httpx.Client]:
    """Raw requests."""
    with raw_http.Client(base_url=f"{program.url}/api/v1", timeout=40, trust_env=False) as found:
        yield found


def keep(http: httpx.Client, data: bytes, name: str, **query: str) -> dict[str, Any]:
    """Upload."""
    answer = http.post("/files", params={"name": name, **query}, content=data)
    assert answer.status_code == 201, answer.text
    found: dict[str, Any] = answer.json()
    return found


def start(http: httpx.Client, workflow: str, **params: Any) -> dict[str, Any]:
    """Start a run, and wait for its end."""
    answer = http.post("/runs", json={"target": workflow, "params": params})
    assert answer.status_code == 201, answer.text
    number = answer.json()["number"]
    found: dict[str, Any] = http.get(f"/runs/{number}", params={"wait": 25}).json()
    return found


def test_up_and_down(http: httpx.Client) -> None:
    """By hash, with name and type, in ranges too; it never changes."""
    data = bytes(range(256)) * 5_000
    kept = keep(http, data, "tides.bin")
    sha256 = hashlib.sha256(data).hexdigest()
    whole = http.get(f"/files/{sha256}")
    part = http.get(f"/files/{sha256}", headers={"Range": "bytes=1000-1003"})
    head = http.head(f"/files/{sha256}")

    assert kept == {
        "sha256": sha256,
        "name": "tides.bin",
        "media_type": "application/octet-stream",
        "size": len(data),
    }
    assert whole.content == data
    assert whole.headers["etag"] == f'"{sha256}"'
    assert (part.status_code, part.content) == (206, data[1000:1004])
    assert part.headers["content-range"] == f"bytes 1000-1003/{len(data)}"
    assert int(head.headers["content-length"]) == len(data)
    empty = keep(http, b"", "empty.txt")
    assert http.get(f"/files/{empty['sha256']}").content == b""


def test_a_digest_is_compared(http: httpx.Client) -> None:
    """What was changed on its way is not kept."""
    digest = base64.b64encode(hashlib.sha256(b"right").digest()).decode()
    headers = {"Content-Digest": f"sha-256=:{digest}:"}
    good = http.post("/files", params={"name": "a"}, content=b"right", headers=headers)
    bad = http.post("/files", params={"name": "a"}, content=b"wrong", headers=headers)
    odd = http.post(
        "/files", params={"name": "a"}, content=b"x", headers={"Content-Digest": "sha-256=abc"}
    )

    assert (good.status_code, bad.status_code, odd.status_code) == (201, 422, 422)
    assert "changed on its way" in bad.json()["detail"]
    assert http.get(f"/files/{hashlib.sha256(b'wrong').hexdigest()}").status_code == 404


@pytest.mark.parametrize(
    ("query", "problem"),
    [
        ({}, "name"),
        ({"name": "../../etc/passwd"}, "a name has no slashes"),
        ({"name": "a\nb"}, "a name has no slashes, can be printed"),
        ({"name": ".."}, "a name has no slashes"),
        ({"name": "ß" * 101}, "at most 200 bytes"),
        ({"name": "x" * 201}, "at most 200"),
        ({"name": "a", "media_type": "text/html\r\nSet-Cookie: a=b"}, "media type"),
    ],
)
def test_hostile_names_are_refused(http: httpx.Client, query: dict[str, str], problem: str) -> None:
    """With what a name may be."""
    answer = http.post("/files", params=query, content=b"x")
    assert answer.status_code == 422
    assert problem in answer.text


def test_what_is_kept_cannot_run_in_the_console(http: httpx.Client) -> None:
    """A page is downloaded, not shown, and whatever is shown may do nothing."""
    page = keep(http, b"<script>alert(1)</script>", "page.html")
    picture = keep(http, b"<svg xmlns='http://www.w3.org/2000/svg'/>", "plot.svg")
    text = keep(http, b"plain", "notes.txt")
    found = {one["name"]: http.get(f"/files/{one['sha256']}") for one in (page, picture, text)}

    for answer in found.values():
        assert answer.headers["x-content-type-options"] == "nosniff"
        assert "sandbox" in answer.headers["content-security-policy"]
    assert found["page.html"].headers["content-disposition"].startswith("attachment")
    assert found["plot.svg"].headers["content-disposition"].startswith("attachment")
    assert found["notes.txt"].headers["content-disposition"].startswith("inline")


def test_previews(http: httpx.Client) -> None:
    """A table's first rows, a text's beginning, pictures; none of what is neither."""

    def look(data: bytes, name: str) -> dict[str, Any]:
        found: dict[str, Any] = http.get(
            f"/files/{keep(http, data, name)['sha256']}/preview"
        ).json()
        return found

    rows = "\n".join(["a;b", *(f"{n};x" for n in range(150))]).encode()
    table = look(rows, "a.csv")
    assert (table["kind"], table["columns"], len(table["rows"]), table["more"]) == (
        *("table", ["a", "b"]),
        *(100, True),
    )
    lines = look(b'{"a":1}\n{"a":2,"b":[3]}\n', "a.jsonl")
    assert lines["rows"] == [[1, None], [2, [3]]]
    assert look(b"1\n2\n", "n.jsonl")["columns"] == ["value"]
    assert look(b"high\nlow\n", "a.txt") == {"kind": "text", "text": "high\nlow\n", "more": False}
    assert look(b"\x89PNG", "a.png") == {"kind": "picture"}
    assert look(b"\0\1", "a.bin") == {"kind": "none"}
    # What calls itself a table and is none is shown as what it is.
    assert look(b"\xff\xfeh\0", "b.csv")["kind"] == "text"


def test_a_cut_upload_leaves_nothing(program: ServiceProgram, http: httpx.Client) -> None:
    """The connection breaks in the middle: no file, and no bytes of one."""
    data = program.data
    before = {path.name for path in (data / "files").rglob("*") if path.is_file()}
    host, port = program.url.removeprefix("http://").split(":")
    with raw_http.connect(int(port)) as wire:
        head = f"POST /api/v1/files?name=cut.bin HTTP/1.1\r\nHost: {host}:{port}\r\n"
        wire.sendall(f"{head}Content-Length: 50000000\r\n\r\n".encode() + b"x" * 3_000_000)
        incoming = data / "files" / "incoming"
        eventually(lambda: any(path.stat().st_size for path in incoming.iterdir()))
    eventually(lambda: not list(incoming.iterdir()))

    assert {path.name for path in (data / "files").rglob("*") if path.is_file()} == before
    assert "cut.bin" not in http.get("/files").text


def test_bytes_that_somebody_removed_are_told(program: ServiceProgram, http: httpx.Client) -> None:
    """By hand, from the data folder: the record is there, the file is gone."""
    kept = keep(http, b"soon gone", "gone.txt")
    data = program.data
    FileFolder(data).remove(kept["sha256"])
    answers = [http.get(f"/files/{kept['sha256']}{path}") for path in ("", "/facts", "/preview")]

    assert {answer.status_code for answer in answers} == {410}
    assert "are missing in the data folder" in answers[0].json()["detail"]
    keep(http, b"soon gone", "gone.txt")
    assert http.get(f"/files/{kept['sha256']}").content == b"soon gone"


def test_the_list_of_files_pages(http: httpx.Client) -> None:
    """Newest first, each once, with who uses it."""
    kept = [keep(http, f"page {n}".encode(), f"page-{n}.txt") for n in range(5)]
    start(http, "copies", one=kept[0])
    seen: list[str] = []
    cursor = None
    while True:
        page = http.get("/files", params={"limit": 2, **({"cursor": cursor} if cursor else {})})
        seen += [one["sha256"] for one in page.json()["files"]]
        cursor = page.json()["next"]
        if cursor is None:
            break
    facts = http.get(f"/files/{kept[0]['sha256']}/facts").json()

    assert len(seen) == len(set(seen))
    assert [one for one in seen if one in {k["sha256"] for k in kept}] == [
        one["sha256"] for one in reversed(kept)
    ]
    assert (facts["runs"], len(facts["used_by"]), facts["idle_from"]) == (1, 1, None)


def test_a_start_with_rows_says_how_far_the_check_is(http: httpx.Client) -> None:
    """202 while it goes on, and nothing is started; then 201, and for the same key the same run."""
    kept = keep(http, contacts(30_000), "contacts.csv")
    body = {"target": "letters", "params": {"contacts": kept}, "key": "many rows"}
    first = http.post("/runs", json=body, params={"wait": 0})
    assert first.status_code == 202
    assert http.get("/runs", params={"workflow": "letters"}).json()["runs"] == []
    (checking,) = first.json()["checking"]
    assert (checking["param"], checking["file"]["name"]) == ("/contacts", "contacts.csv")
    done = http.post("/runs", json=body, params={"wait": 25})
    again = http.post("/runs", json=body, params={"wait": 0})
    number = done.json()["number"]
    http.post(f"/runs/{number}/cancel")

    assert (done.status_code, again.status_code) == (201, 200)
    assert again.json()["number"] == number
    assert done.json()["params"]["contacts"]["count"] == 30_000


def test_errors_in_rows_have_lines_and_columns(http: httpx.Client) -> None:
    """As problem details, the same each time it is asked."""
    kept = keep(http, b"harbour,address\nh1,coast\n", "bad.csv")
    body = {"target": "letters", "params": {"contacts": kept}}
    for answer in (http.post("/runs", json=body), http.post("/runs", json=body)):
        assert answer.status_code == 422
        assert answer.headers["content-type"] == "application/problem+json"
        (problem,) = answer.json()["problems"]
        assert problem["pointer"] == "/contacts"
        assert (problem["line"], problem["column"]) == (2, "address")


def test_items_and_outcomes_are_taken_out(http: httpx.Client) -> None:
    """As CSV whose rows can be corrected and given to a new run, as JSON Lines, some or all."""
    kept = keep(http, contacts(60, (7, 31)), "contacts.csv")
    run = start(http, "letters", contacts=kept)
    path = f"/runs/{run['number']}/export"
    answer = http.get(path, params={"address": "write"})
    head, *rows = csv.reader(io.StringIO(answer.text, newline=""))
    by_name = [dict(zip(head, row, strict=True)) for row in rows]
    failed = http.get(path, params={"address": "write", "as": "json-lines", "state": "failed"})
    lines = [json.loads(line) for line in failed.text.splitlines()]

    assert head[:3] == ["harbour", "address", "copies"]
    assert [row["harbour"] for row in by_name] == [f"h{n}" for n in range(60)]
    assert by_name[7]["yarnloom.error"] == "ValueError: nine are too many"
    assert by_name[8]["yarnloom.output"].startswith("to h8.")
    assert [one["name"] for one in lines] == ["h7", "h31"]
    assert lines[0]["value"]["copies"] == 9
    assert f"run-{run['number']}-write.csv" in answer.headers["content-disposition"]
    again = keep(http, answer.content, "again.csv")
    assert start(http, "letters", contacts=again)["output"]["weigh"] == [60, 2, 2]
    wrong = http.get(path, params={"address": "then/bind"})
    assert wrong.status_code == 404
    assert "expected an each" in wrong.json()["detail"]


def test_a_runs_whole_record(http: httpx.Client) -> None:
    """One JSON object: what it was started with, its plan, commands, files, and every step."""
    kept = keep(http, contacts(300), "contacts.csv")
    run = start(http, "letters", contacts=kept)
    record = http.get(f"/runs/{run['number']}/record").json()

    assert record["run"]["params"] == run["params"]
    assert record["plan"]["workflow"] == "letters"
    assert record["graph"]["state"] == "done"
    assert record["commands"][0]["what"] == "start"
    assert kept["sha256"] in {one["sha256"] for one in record["files"]}
    addresses = [one["address"] for one in record["steps"]]
    assert len(addresses) == len(set(addresses)) == 300 + 3 + 1
    assert f"{run['number']}/write[h299]/one" in addresses
    # On a busy machine, what waited behind a process that got no time was handed back first.
    assert all(one["attempts"][-1]["outcome"] == "done" for one in record["steps"])


# The folder itself

TEXTS = st.lists(st.integers(0, 400).map(lambda n: json.dumps("x" * n)), max_size=30)


@settings(max_examples=40, deadline=None)
@given(TEXTS, st.integers(0, 40), st.integers(1, 40), st.integers(1, 3))
def test_any_slice_of_a_list(
    tmp_path_factory: pytest.TempPathFactory, texts: list[str], first: int, limit: int, times: int
) -> None:
    """Is what a list in memory would give, wherever its marks are."""
    folder = FileFolder(tmp_path_factory.getbasetemp() / "slices")
    texts = texts * (times * MARK_ROWS // 20)
    kept = folder.write_list(texts)
    values = [json.loads(text) for text in texts]
    start_at = min(len(texts), first * 50)

    assert kept.count == len(texts)
    assert kept.marks is not None
    found = folder.read_list(kept.sha256, kept.marks, start_at, limit)
    assert found == values[start_at : start_at + limit]
    assert folder.index_list(kept.sha256) == kept


def test_what_a_crash_left_is_removed(tmp_path: Path) -> None:
    """Half a file, and a whole one that was never recorded."""
    with service(tmp_path) as program:
        client = program.client()
        kept = client.upload(b"recorded", "a.txt")
    folder = tmp_path / "files"
    (folder / "incoming" / "half").write_bytes(b"half")
    stray = hashlib.sha256(b"stray").hexdigest()
    (folder / stray[:2]).mkdir(exist_ok=True)
    (folder / stray[:2] / stray).write_bytes(b"stray")
    with service(tmp_path) as program:
        left = {path.name for path in folder.rglob("*") if path.is_file()}
        assert left == {kept.sha256}
        assert program.client().download(kept, tmp_path / "down").read_bytes() == b"recorded"


OFFICE_ROWS = 100_000


def office_file(bad_every: int) -> bytes:
    """Rows in cp1252 with decimal commas, of which one in so many is bad."""
    lines = ["Hafen;Pegel;Kopien"]
    for row in range(OFFICE_ROWS):
        level = "viel" if row % bad_every == 7 else f"{row % 900},{row % 10}"
        lines.append(f"Köge {row};{level};1")
    return ("\r\n".join(lines) + "\r\n").encode("cp1252")


def test_a_file_of_a_real_office_goes_in_without_its_bad_rows(http: httpx.Client) -> None:
    """The bad file, corrected by hand, goes in unchanged otherwise; exports have the lines."""
    read = {"delimiter": ";", "encoding": "cp1252", "decimal": ",", "bad": "collect"}
    source = {**keep(http, office_file(100), "pegel.csv"), **read, "at_most_bad": "2%"}
    look = http.post(
        "/files/preview-rows", json={"target": "levels", "param": "levels", "value": source}
    ).json()
    assert (look["good"], look["bad"], look["whole"]) == (1980, 20, False)
    assert look["problems"][0] == {
        "line": 9,
        "column": "Pegel",
        "message": "found 'viel'; expected a number",
    }
    run = start(http, "levels", levels=source)
    assert (run["state"], run["output"]) == (
        "done",
        {"rows": 99_000, "bad": "bad rows of pegel.csv"},
    )
    kept = run["params"]["levels"]
    assert (kept["count"], kept["bad_count"]) == (99_000, 1_000)
    bad = http.get(f"/files/{kept['bad_rows']['sha256']}").content
    lines = bad.decode("cp1252").splitlines()
    assert lines[0] == "Hafen;Pegel;Kopien;yarnloom.line;yarnloom.reason"
    assert lines[1].startswith("Köge 7;viel;1;9;")
    assert "Pegel: found 'viel'; expected a number" in lines[1]
    again = start(
        http, "levels", levels={**keep(http, bad.replace(b"viel", b"2,5"), "bad.csv"), **read}
    )
    assert again["output"] == {"rows": 1_000, "bad": None}


def test_an_export_says_on_which_line_each_row_began(http: httpx.Client) -> None:
    """Behind bad rows and empty lines, too; nothing where an each goes through something else."""
    data = b"Hafen,Pegel\na,1\n\nb,x\nc,2\nd,3\n"
    run = start(http, "each-level", levels={**keep(http, data, "few.csv"), "bad": "collect"})
    assert run["state"] == "done"
    address = {"address": "few", "as": "csv"}
    text = http.get(f"/runs/{run['number']}/export", params=address).text
    rows = list(csv.DictReader(io.StringIO(text)))

    assert [(row["Hafen"], row["yarnloom.line"]) for row in rows] == [
        *(("a", "2"), ("c", "5"), ("d", "6"))
    ]
