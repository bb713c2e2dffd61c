"""Reading writes nothing: every GET, over items in both forms, of two runs."""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from tests import raw_http
from tests.end_to_end.test_disk import full
from tests.helpers import ServiceProgram, eventually, service
from yarnloom.client import Request

LOOM = "tests.reading_loom:loom"
STREAMS = ("/live", "/events")
STEP = "shelf[7]/dust"
OF_A_STEP = ("/log", "/steps")
OF_ALL = ("/lines", "/attempts", "/graph", "/why")


class Readable:
    """A service with a run that has ended and one that goes on, in which all rests.

    Attributes:
        paths: all that can be read.
    """

    def __init__(self, program: ServiceProgram, folder: Path) -> None:
        self.program = program
        self.http = raw_http.Client(base_url=program.url, timeout=60, trust_env=False)
        self.back = folder / "back"
        client = program.client()
        self.ended = client.start("books")
        self.ended.wait(60)
        file = client.upload(b"1\n2\n", "two.csv")
        self.running = client.start("books", count=5_000, lent_from=400, back=str(self.back))
        link = client.call(Request("POST", f"/runs/{self.running.number}/links", {}))
        client.call(Request("PUT", "/filters/mine", {"states": ["failed"]}))
        client.make_schedule("books", name="early", cron="0 6 * * *")
        eventually(lambda: self._graph(self.running.number)["counts"].get("done") == 400)
        self._rest()
        self.paths = []
        for number in (self.ended.number, self.running.number):
            facts = {"number": str(number), "token": link["token"], "sha256": file.sha256}
            self.paths += [path for path in self._all(facts) if path not in self.paths]

    def _graph(self, number: int) -> dict[str, dict[str, int]]:
        graph: dict[str, list[dict[str, dict[str, int]]]] = self.http.get(
            f"/api/v1/runs/{number}/graph"
        ).json()
        return graph["parts"][1]

    def _all(self, facts: dict[str, str]) -> Iterator[str]:
        """Every path that the description has, with all that it needs; streams are left out."""
        for path, operations in self.http.get("/api/v1/openapi.json").json()["paths"].items():
            if "get" not in operations or path.endswith((*STREAMS, "/link")):
                continue  # `/link` is the same as `/links/{token}`, by a header
            whole = path
            for name, value in {**facts, "name": self._name(path)}.items():
                whole = whole.replace(f"{{{name}}}", value)
            asked = {parameter["name"] for parameter in operations["get"].get("parameters", [])}
            query = {"cron": "0 6 * * *", "days": "7", "text": "7"}
            query["name"] = "shelf/dust" if path.endswith("/tasks") else "shelf/books"
            if path.endswith(OF_A_STEP):
                query["address"] = STEP
            elif not path.endswith(OF_ALL):
                query["address"] = "shelf"
            used = {
                name: query[name] for name in query if name in asked and f"{{{name}}}" not in path
            }
            yield str(httpx.URL(whole, params=used))

    @staticmethod
    def _name(path: str) -> str:
        return "ladder" if "/pools/" in path else "early"

    def _rest(self) -> None:
        """Wait until the service writes nothing of itself."""
        with contextlib.closing(self.records()) as records:
            seen: list[int] = []

            def rests() -> bool:
                seen.append(version(records))
                return len(seen) > 150 and len(set(seen[-150:])) == 1

            eventually(rests, "the service writes nothing")

    def records(self) -> sqlite3.Connection:
        """A connection to the records, for reading."""
        path = self.program.data / "yarnloom.db"
        return sqlite3.connect(f"{path.as_uri()}?mode=ro", uri=True)


def version(records: sqlite3.Connection) -> int:
    """Something that is another number after each commit of somebody else."""
    ((number,),) = records.execute("PRAGMA data_version").fetchall()
    return int(number)


@pytest.fixture(scope="module")
def readable(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Readable]:
    """Both runs are there; the books come back at the end."""
    folder = tmp_path_factory.mktemp("reading")
    with service(folder / "data", "--load", LOOM, "--processes", "2") as program:
        both = Readable(program, folder)
        yield both
        both.back.touch()


def test_reading_writes_nothing(readable: Readable) -> None:
    """Every GET is answered, of items in batches and with rows."""
    with contextlib.closing(readable.records()) as records:
        ((batched,),) = records.execute("SELECT count(*) FROM folded").fetchall()
        assert batched > 600
        before = version(records)
        answers = {path: readable.http.get(path).status_code for path in readable.paths}
        assert version(records) == before
    assert len(answers) > 50
    assert set(answers.values()) == {200}, answers


def moved(readable: Readable) -> contextlib.AbstractContextManager[None]:
    """The data folder is elsewhere for a while."""

    @contextlib.contextmanager
    def move() -> Iterator[None]:
        data = readable.program.data
        data.rename(data.with_name("elsewhere"))
        try:
            yield
        finally:
            data.with_name("elsewhere").rename(data)

    return move()


@pytest.mark.parametrize("trouble", ["full", "moved"])
def test_every_page_answers_while_nothing_can_be_stored(readable: Readable, trouble: str) -> None:
    """Also of items that nobody had looked at; but the bytes of files, which are elsewhere."""
    item = "11" if trouble == "full" else "12"
    pages = [
        path.replace("[7]", f"[{item}]").replace("%5B7", f"%5B{item}") for path in readable.paths
    ]
    with full(readable.program) if trouble == "full" else moved(readable):
        refused = readable.http.post("/api/v1/runs", json={"target": "shelf/books"})
        assert refused.status_code == 503
        answers = {path: readable.http.get(path) for path in pages}
    bad = {
        path: answer.status_code for path, answer in answers.items() if answer.status_code != 200
    }
    assert {path: status for path, status in bad.items() if "/files/" not in path} == {}
    assert trouble == "moved" or not bad
    for path, answer in answers.items():
        assert answer.content
        if path.endswith("/record"):
            assert len(answer.json()["steps"]) > 400
    eventually(lambda: readable.http.get("/ready").status_code == 200)
