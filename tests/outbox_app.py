"""A caller, and a relay, that kill themselves at some point; in a process of their own.

Every statement, commit and roll-back, and every request and answer has a point before and one
after it. The process ends with `kill -9` at the point of the number it is given.
"""

from __future__ import annotations

import os
import signal
import sqlite3
from pathlib import Path
from typing import Any

from yarnloom import Client, Outbox, Relay
from yarnloom.client import HttpRequest, HttpResponse
from yarnloom.client.network import Network
from yarnloom.client.target import Target


class Points:
    """Counts points, and ends the process at one."""

    def __init__(self, last: int) -> None:
        self.left = last

    def passed(self) -> None:
        """A point."""
        if self.left == 0:
            os.kill(os.getpid(), signal.SIGKILL)
        self.left -= 1


class Fragile(sqlite3.Connection):
    """A connection with points around all that it does."""

    points: Points

    def commit(self) -> None:
        """Commit."""
        self.points.passed()
        super().commit()
        self.points.passed()

    def rollback(self) -> None:
        """Undo."""
        self.points.passed()
        super().rollback()
        self.points.passed()

    def cursor(self, *_: Any, **__: Any) -> Any:
        """A cursor."""
        points = self.points

        class Cursor(sqlite3.Cursor):
            """With points."""

            def execute(self, *given: Any) -> Any:
                """Do a statement."""
                points.passed()
                found = super().execute(*given)
                points.passed()
                return found

        return super().cursor(Cursor)


class FragileWire(Network):
    """The network with points around each request."""

    points: Points

    def request(self, request: HttpRequest) -> HttpResponse:
        """Send it."""
        self.points.passed()
        found = super().request(request)
        self.points.passed()
        return found


def main(what: str, path: Path, url: str, last: int, key: str) -> None:
    """Order something, or relay what was ordered; end at a point."""
    points = Fragile.points = FragileWire.points = Points(last)

    def connect() -> sqlite3.Connection:
        return sqlite3.connect(path, timeout=30.0, factory=Fragile)

    if what == "order":
        connection = connect()
        cursor = connection.cursor()
        cursor.execute("INSERT INTO orders VALUES (?)", (key,))
        Outbox().start(connection, "sums", number=1, key=key)
        connection.commit()
        points.passed()
    else:
        target = Target(url, "test")
        client = Client(target=target, transport=FragileWire(target))
        Relay(Outbox(), connect, client).deliver()
