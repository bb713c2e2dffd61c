"""The desk where copies of the almanac are ordered: a small program with a database of its own.

An order and the start of the run that prints it are one transaction: an order that is rolled back
prints nothing, and one that is kept is printed once, whoever is killed meanwhile.
"""

from __future__ import annotations

import sqlite3
from pathlib import Path

from yarnloom import Outbox

outbox = Outbox()


class NotPaid(Exception):
    """Nobody paid, so nothing is ordered."""


class Desk:
    """The desk.

    Args:
        path: its database, a SQLite file; made where it is not there.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        with self.connect() as connection:
            connection.execute(
                "CREATE TABLE IF NOT EXISTS orders"
                " (number INTEGER PRIMARY KEY, harbour TEXT, copies INTEGER)"
            )
            outbox.create_table(connection)

    def connect(self) -> sqlite3.Connection:
        """A connection to its database."""
        return sqlite3.connect(self.path, timeout=30.0)

    def order(self, harbour: str, copies: int, *, paid: bool) -> str:
        """Order copies; the start key of the run that prints them.

        Raises:
            NotPaid: nothing was ordered, and nothing will be printed.
        """
        with self.connect() as connection:  # commits, or rolls back where something is raised
            number = connection.execute(
                "INSERT INTO orders (harbour, copies) VALUES (?, ?)", (harbour, copies)
            ).lastrowid
            key = outbox.start(
                connection, "print-copies", order=number, harbour=harbour, copies=copies
            )
            if not paid:
                raise NotPaid(f"order {number} was not paid")
        return str(key)
