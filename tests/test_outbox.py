"""The outbox: what transactions leave, and what a relay makes of it. The service is a fake here."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.fake_network import FakeNetwork, answer_json, body_of
from yarnloom import Client, Outbox, Relay
from yarnloom.client import HttpRequest, HttpResponse
from yarnloom.errors import ValueRefused
from yarnloom.outbox import AT_ONCE
from yarnloom.outbox_connections import marked, paramstyle_of

Answer = Callable[[dict[str, Any]], HttpResponse]


class Office:
    """A service that answers starts, and keeps them by key."""

    def __init__(self) -> None:
        self.starts: list[dict[str, Any]] = []
        self.answer: Answer = lambda body: answer_json(201, {"number": 1})

    def client(self) -> Client:
        """A client of it."""
        return Client("http://office", transport=FakeNetwork(self.take))

    def take(self, request: HttpRequest) -> HttpResponse:
        """Answer a start."""
        body = json.loads(body_of(request))
        self.starts.append(body)
        return self.answer(body)

    @property
    def keys(self) -> list[str]:
        """In the order in which they came."""
        return [start["key"] for start in self.starts]


def problem(code: str, status: int, detail: str = "no") -> Answer:
    """An answer that refuses."""
    body = {"type": f"urn:yarnloom:{code}", "title": "", "status": status, "detail": detail}
    return lambda _: answer_json(status, body)


@pytest.fixture
def path(tmp_path: Path) -> Path:
    """The caller's database."""
    with sqlite3.connect(tmp_path / "app.db") as connection:
        connection.execute("CREATE TABLE orders (number INTEGER PRIMARY KEY)")
        Outbox().create_table(connection)
        Outbox().create_table(connection)  # twice does no harm
    return tmp_path / "app.db"


def leave(path: Path, *keys: str) -> None:
    """Leave starts, each in a transaction of its own."""
    for key in keys:
        with sqlite3.connect(path) as connection:
            Outbox().start(connection, "w", {"number": 1, "more": 2}, key=key)


def relay_of(path: Path, office: Office) -> Relay:
    """A relay."""
    return Relay(Outbox(), lambda: sqlite3.connect(path), office.client())


def left(path: Path) -> list[str]:
    """What is still there."""
    with sqlite3.connect(path) as connection:
        return [row[0] for row in connection.execute("SELECT start_key FROM yarnloom_outbox")]


def test_what_is_committed_is_delivered_in_order_and_once(path: Path) -> None:
    """As it was left; then it is gone."""
    office = Office()
    with sqlite3.connect(path) as connection:
        at = datetime(2027, 1, 1, tzinfo=UTC)
        key = Outbox().start(connection, "w", priority=3, share="s", tags=("t",), at=at, number=1)
    leave(path, "b", "a")
    found = relay_of(path, office).deliver()
    assert (found.delivered, len(found.refused), found.broken, found.more) == (3, 0, "", False)
    assert office.keys == [key, "b", "a"]
    assert office.starts[0] == {
        "target": "w",
        "params": {"number": 1},
        "key": key,
        "priority": 3,
        "share": "s",
        "tags": ["t"],
        "at": "2027-01-01T00:00:00+00:00",
        "keywords": ["priority", "share", "tags", "at"],
    }
    assert office.starts[1]["params"] == {"number": 1, "more": 2}
    assert left(path) == []
    assert relay_of(path, office).deliver().delivered == 0


def test_what_is_rolled_back_is_not_there(path: Path) -> None:
    """Nor what is not committed yet."""
    office = Office()
    connection = sqlite3.connect(path)
    Outbox().start(connection, "w", key="rolled back")
    connection.rollback()
    Outbox().start(connection, "w", key="open")
    assert relay_of(path, office).deliver().delivered == 0
    connection.commit()
    assert relay_of(path, office).deliver().delivered == 1
    assert office.keys == ["open"]


def test_what_is_refused_stays_with_the_reason_and_hinders_nobody(path: Path) -> None:
    """Until someone lets it be tried again."""
    office = Office()
    leave(path, "a", "b")
    office.answer = lambda body: (
        problem("invalid-input", 422, "does not fit")(body)
        if body["key"] == "a"
        else answer_json(201, {})
    )
    found = relay_of(path, office).deliver()
    assert (found.delivered, len(found.refused)) == (1, 1)
    with sqlite3.connect(path) as connection:
        assert Outbox().refused(connection) == [("a", "does not fit")]
    assert relay_of(path, office).deliver().refused == []
    with sqlite3.connect(path) as connection:
        Outbox().retry(connection)
    office.answer = lambda body: answer_json(200, {})
    assert relay_of(path, office).deliver().delivered == 1


def test_a_workflow_that_is_not_there_yet_is_tried_again_behind_the_others(path: Path) -> None:
    """Its loom may be published in a moment."""
    office = Office()
    leave(path, "a", "b")
    office.answer = problem("not-found", 404, "no workflow 'w'")
    found = relay_of(path, office).deliver()
    assert (found.delivered, found.later) == (0, "no workflow 'w'")
    leave(path, "c")
    office.answer = lambda body: answer_json(201, {})
    office.starts.clear()
    assert relay_of(path, office).deliver().delivered == 3
    assert office.keys == ["a", "b", "c"]


@pytest.mark.parametrize(
    "answer", [problem("busy", 503), problem("not-allowed", 401), lambda _: HttpResponse(502)]
)
def test_a_service_that_cannot_is_waited_for(path: Path, answer: Answer) -> None:
    """Nothing is lost, nothing refused, and the order stays."""
    office = Office()
    leave(path, "a", "b")
    office.answer = answer
    relay = relay_of(path, office)
    assert relay.deliver().broken
    assert left(path) == ["a", "b"]
    office.answer = lambda body: answer_json(201, {})
    assert relay.deliver().delivered == 2


def test_a_run_that_was_removed_since_was_made(path: Path) -> None:
    """So its start is delivered."""
    office = Office()
    leave(path, "a")
    office.answer = problem("gone", 410)
    assert relay_of(path, office).deliver().delivered == 1
    assert left(path) == []


def test_a_database_that_is_away_is_tried_again(path: Path) -> None:
    """With a new connection."""
    office = Office()
    leave(path, "a")
    connections: list[Any] = []

    def connect() -> Any:
        connections.append(None)
        if len(connections) == 1:
            raise OSError("no route to the database")
        return sqlite3.connect(path)

    relay = Relay(Outbox(), connect, office.client())
    assert "no route to the database" in relay.deliver().broken
    assert relay.deliver().delivered == 1
    assert len(connections) == 2


def test_more_than_are_taken_at_once(path: Path) -> None:
    """It says so, and the rest comes with the next look."""
    office = Office()
    with sqlite3.connect(path) as connection:
        for number in range(AT_ONCE + 5):
            Outbox().start(connection, "w", key=f"k{number:04}")
    relay = relay_of(path, office)
    assert (relay.deliver().more, relay.deliver().delivered) == (True, 5)
    assert office.keys == [f"k{number:04}" for number in range(AT_ONCE + 5)]


def test_it_runs_until_it_is_told(path: Path) -> None:
    """Trouble is said once, with growing waits; then it goes on."""
    office = Office()
    leave(path, "a")
    office.answer = problem("busy", 503, "the disk is full")
    waits, said = list[float](), list[str]()

    def wait(seconds: float) -> bool:
        waits.append(seconds)
        if len(waits) == 3:
            office.answer = lambda body: answer_json(201, {})
        return len(waits) < 5

    relay_of(path, office).run(wait, said.append, 7.0)
    assert said == ["waits: the disk is full", "delivers again"]
    assert waits[0] < waits[1] < waits[2]
    assert waits[3:] == [7.0, 7.0]


def test_what_cannot_be_left_is_refused_to_the_caller(path: Path) -> None:
    """Right where it is written, so that the transaction can be undone."""
    connection = sqlite3.connect(path)
    with pytest.raises(ValueRefused):
        Outbox().start(connection, "w", value=float("nan"))
    with pytest.raises(ValueRefused, match="start time"):
        Outbox().start(connection, "w", at=datetime(2027, 1, 1))
    for table in ("x; DROP TABLE orders", "1x", ""):
        with pytest.raises(ValueRefused):
            Outbox(table)
    with pytest.raises(ValueRefused, match="expected qmark"):
        Outbox(paramstyle="guess")


# Other drivers


class Driver:
    """A driver that marks values another way, over SQLite."""

    def __init__(self, path: Path, style: str) -> None:
        self.connection = sqlite3.connect(path)
        self.style = style
        self.seen: list[str] = []

    def cursor(self) -> Any:
        """A cursor."""
        driver, cursor = self, self.connection.cursor()

        class Cursor:
            """It."""

            fetchmany = cursor.fetchmany
            close = cursor.close

            def execute(self, sql: str, values: Any = ()) -> None:
                """Do a statement in this style."""
                driver.seen.append(sql)
                if driver.style in ("format", "pyformat"):
                    assert "?" not in sql
                    sql = sql.replace("%s", "?")
                cursor.execute(sql, values)

        return Cursor()

    def commit(self) -> None:
        """Commit."""
        self.connection.commit()

    def rollback(self) -> None:
        """Undo."""
        self.connection.rollback()


@pytest.mark.parametrize("style", ["qmark", "format", "pyformat", "numeric", "named"])
def test_every_style_of_driver(path: Path, style: str) -> None:
    """Written and delivered through it."""
    office, outbox = Office(), Outbox(paramstyle=style)
    driver = Driver(path, style)
    outbox.start(driver, "w", key="a")
    outbox.start(driver, "w", key="b")
    driver.commit()
    office.answer = lambda body: (
        problem("invalid-input", 422)(body) if body["key"] == "a" else answer_json(201, {})
    )
    found = Relay(outbox, lambda: driver, office.client()).deliver()
    assert (found.delivered, len(found.refused)) == (1, 1)


def test_the_style_of_a_connection_is_found(path: Path) -> None:
    """Also of a class that a caller made from it."""

    class Own(sqlite3.Connection):
        """A caller's."""

    assert paramstyle_of(sqlite3.connect(path)) == "qmark"
    assert paramstyle_of(sqlite3.connect(path, factory=Own)) == "qmark"
    with pytest.raises(ValueRefused, match="paramstyle"):
        paramstyle_of(Driver(path, "qmark"))


@given(st.lists(st.text(), min_size=1, max_size=5))
def test_every_style_says_the_same(values: list[str]) -> None:
    """Each value once, in order."""
    sql = "INSERT INTO t VALUES (" + ", ".join("?" * len(values)) + ")"
    for style in ("qmark", "numeric", "named"):
        connection = sqlite3.connect(":memory:")
        columns = ", ".join(f"c{place}" for place in range(len(values)))
        connection.execute(f"CREATE TABLE t ({columns})")
        text, given_values = marked(sql, style, tuple(values))
        connection.execute(text, given_values)
        assert list(connection.execute("SELECT * FROM t").fetchone()) == values
