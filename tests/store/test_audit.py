"""What the audit costs: no rule looks through a whole table again for each row of another."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator

from yarnloom.store.audit import rules


def scanned_again(connection: sqlite3.Connection, query: str) -> Iterator[str]:
    """The tables that a query scans for each row of another."""
    rows = connection.execute(f"EXPLAIN QUERY PLAN {query}").fetchall()
    around = {row[0]: row[1] for row in rows}
    details = {row[0]: row[3] for row in rows}
    for node, detail in details.items():
        above = node
        while above in around and not details[above].startswith(("CORRELATED", "MATERIALIZE")):
            above = around[above]
        again = details.get(above, "").startswith("CORRELATED")
        if again and detail.startswith("SCAN") and "VIRTUAL TABLE" not in detail:
            yield detail


def test_no_rule_is_quadratic(tables: sqlite3.Connection) -> None:
    """A folder of a year is verified in minutes, not in days."""
    found = {rule: [*scanned_again(tables, query)] for rule, query in rules().items()}

    assert {rule: scans for rule, scans in found.items() if scans} == {}
