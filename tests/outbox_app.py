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

import psycopg

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


class Fragile:
    """A DB-API connection with points around all that it does."""

    points: Points

    def __init__(self, connection: Any) -> None:
        self._connection = connection

    def commit(self) -> None:
        """Commit."""
        self.points.passed()
        self._connection.commit()
        self.points.passed()

    def rollback(self) -> None:
        """Undo."""
        self.points.passed()
        self._connection.rollback()
        self.points.passed()

    def close(self) -> None:
        """Let go of it."""
        self._connection.close()

    def cursor(self) -> FragileCursor:
        """A cursor."""
        return FragileCursor(self._connection.cursor(), self.points)


class FragileCursor:
    """A cursor with points around each statement."""

    def __init__(self, cursor: Any, points: Points) -> None:
        self._cursor = cursor
        self._points = points

    def execute(self, *given: Any) -> Any:
        """Do a statement."""
        self._points.passed()
        done = self._cursor.execute(*given)
        self._points.passed()
        return done

    def __getattr__(self, name: str) -> Any:
        return getattr(self._cursor, name)


def connect_to(database: str | Path) -> Any:
    """Connect to a SQLite file, or to PostgreSQL."""
    database = str(database)
    if database.startswith("postgresql:"):
        return psycopg.connect(database)
    return sqlite3.connect(database, timeout=30.0)


def outbox_of(database: str | Path) -> Outbox:
    """Return the outbox; the driver is hidden behind our own connection."""
    return Outbox(paramstyle="format" if str(database).startswith("postgresql:") else "qmark")


class FragileWire(Network):
    """The network with points around each request."""

    points: Points

    def request(self, request: HttpRequest) -> HttpResponse:
        """Send it."""
        self.points.passed()
        found = super().request(request)
        self.points.passed()
        return found


def main(what: str, database: str | Path, url: str, last: int, key: str) -> None:
    """Order something, or relay what was ordered; end at a point."""
    points = Fragile.points = FragileWire.points = Points(last)

    outbox = outbox_of(database)

    def connect() -> Fragile:
        return Fragile(connect_to(database))

    if what == "order":
        connection = connect()
        cursor = connection.cursor()
        cursor.execute(f"INSERT INTO orders VALUES ('{key}')")
        outbox.start(connection, "sums", number=1, key=key)
        connection.commit()
        points.passed()
    else:
        target = Target(url, "test")
        client = Client(target=target, transport=FragileWire(target))
        Relay(outbox, connect, client).deliver()
