"""How far everything is, computed by brute force from the records, as a test of what is kept."""

from __future__ import annotations

import json
import sqlite3
from functools import lru_cache
from typing import Any

from yarnloom.engine.state.time_shares import shares
from yarnloom.plan import Kind, Node, Plan, read_plan

CLOSE = 1e-6
PASSED_OVER = ("only_if", "by_hand", "gone", "not_chosen")
Row = dict[str, Any]


def broken_fractions(connection: sqlite3.Connection) -> list[str]:
    """Every row whose fraction is another than what follows from all that is in it."""
    inner = []
    for run in _rows(connection, "SELECT * FROM runs"):
        inner += _Fold(connection, run).broken()
    return inner


class Falls:
    """Watches that nothing falls but where it may: with an attempt more, a mend or a decision."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._connection = connection
        self._seen: dict[int, tuple[float, str]] = {}

    def look(self) -> list[str]:
        """Runs that fell since it was looked last."""
        inner = []
        for row in _rows(
            self._connection,
            "SELECT r.number, p.fraction, (SELECT printf('%d %d %d', total(attempts), total(tries),"
            " total(losses)) FROM steps WHERE run = r.number) || ' ' ||"
            " (SELECT count(*) FROM commands WHERE run = r.number) AS causes"
            " FROM runs r JOIN parts p ON p.run = r.number AND p.parent IS NULL",
        ):
            before, causes = self._seen.get(row["number"], (0.0, row["causes"]))
            if row["fraction"] < before - CLOSE and causes == row["causes"]:
                inner.append(f"run {row['number']} fell from {before} to {row['fraction']}")
            self._seen[row["number"]] = row["fraction"], row["causes"]
        return inner


def _rows(connection: sqlite3.Connection, sql: str, *values: Any) -> list[Row]:
    cursor = connection.execute(sql, values)
    names = [column[0] for column in cursor.description]
    return [dict(zip(names, row, strict=True)) for row in cursor.fetchall()]


@lru_cache(256)
def _plan(document: str) -> Plan:
    return read_plan(json.loads(document))


class _Fold:
    def __init__(self, connection: sqlite3.Connection, run: Row) -> None:
        self.run = run
        ((document,),) = connection.execute(
            "SELECT document FROM plans WHERE id = ?", (run["plan"],)
        ).fetchall()
        self.plan = _plan(document)
        self.parts = _rows(connection, "SELECT * FROM parts WHERE run = ?", run["number"])
        self.steps = _rows(connection, "SELECT * FROM steps WHERE run = ?", run["number"])
        self.folded = dict(
            connection.execute(
                "SELECT each, count(*) FROM folded WHERE run = ? GROUP BY each", (run["number"],)
            ).fetchall()
        )
        self.shares: dict[int, float] = {}
        if run["weights"] is not None:
            ((nodes,),) = connection.execute(
                "SELECT nodes FROM weights WHERE id = ?", (run["weights"],)
            ).fetchall()
            self.shares = shares(self.plan, json.loads(nodes))

    def broken(self) -> list[str]:
        inner = []
        for row in self.steps:
            if abs(row["fraction"] - self.of_step(row)) > CLOSE:
                inner.append(f"step {row['id']} is at {row['fraction']}, not {self.of_step(row)}")
        for row in self.parts:
            if abs(row["fraction"] - self.of_part(row)) > CLOSE:
                inner.append(f"part {row['id']} is at {row['fraction']}, not {self.of_part(row)}")
            if self.plan.nodes[row["node"]].kind is Kind.EACH:
                inner += self.broken_each(row)
        return inner

    def of_step(self, row: Row) -> float:
        if row["state"] == "done" or _passed_over(row, row["state"]):
            return 1.0
        if row["saved"] is None:
            return 0.0
        # What a step said of itself within one attempt never counts for less than before.
        return float(row["fraction"])

    def of_part(self, row: Row) -> float:
        node, outcome = self.plan.nodes[row["node"]], row["outcome"] or row["state"]
        if outcome == "done" or _passed_over(row, outcome):
            return 1.0
        if row["value"] is not None and outcome in ("failed", "cancelled"):
            each = next(one for one in self.parts if one["id"] == row["parent"])
            if self.may_fail(each) and row["fraction"] == 1.0:
                return 1.0  # how many of them there are is checked with the each
        inner = self.inside(row, node)
        if node.kind is Kind.EACH:
            sizes = {one["id"]: self.size(one) for one in self.parts if self.is_item_of(one, row)}
            total = max(1, row["covers"])
            with_rows = sum(self.of_part(one) * sizes[one["id"]] for one in inner)
            return (with_rows + self.folded.get(row["id"], 0)) / total
        if node.kind is Kind.FALLBACK:
            inner = [one for one in inner if one["node"] == node.children[0]]
        only_one = node.kind in (Kind.CHOOSE, Kind.FALLBACK)
        equal = 1 if only_one else 1 / max(1, len(node.children))
        return sum(
            (self.of_part(one) if "covers" in one else self.of_step(one))
            * self.shares.get(one["node"], equal)
            for one in inner
        )

    def inside(self, row: Row, node: Node) -> list[Row]:
        parts = [one for one in self.parts if one["parent"] == row["id"]]
        steps = [one for one in self.steps if one["part"] == row["id"]]
        inner = [one for one in (*parts, *steps) if one["node"] in node.children]
        return [
            one
            for one in inner
            if one["state"] != "skipped"
            or one["skip_reason"] not in ("gone", "not_chosen")
            or one.get("value") is not None
        ]

    def is_item_of(self, row: Row, each: Row) -> bool:
        return row["parent"] == each["id"] and row["value"] is not None

    def may_fail(self, each: Row) -> int:
        facts = self.plan.nodes[each["node"]].each
        assert facts is not None
        return facts.allowed(each["total"])

    def size(self, item: Row) -> int:
        node = self.plan.nodes[item["node"]]
        assert node.parent is not None
        facts = self.plan.nodes[node.parent].each
        assert facts is not None
        return len(json.loads(item["value"])) if facts.batch else 1

    def broken_each(self, each: Row) -> list[str]:
        items = [one for one in self.parts if self.is_item_of(one, each)]
        pardoned = [
            one
            for one in items
            if one["outcome"] in ("failed", "cancelled") and one["fraction"] == 1.0
        ]
        whole = sum(self.size(one) for one in items if one["fraction"] == 1.0)
        whole += self.folded.get(each["id"], 0)
        idle = [
            one
            for one in items
            if one["outcome"] is None and one["state"] == "running" and one["begun_at"] is None
        ]
        inner = []
        if len(pardoned) > self.may_fail(each):
            inner.append(f"each {each['id']} pardons {len(pardoned)}")
        if whole != each["covered"]:
            inner.append(f"each {each['id']} has {each['covered']} through, not {whole}")
        if len(idle) != each["idle"]:
            inner.append(f"each {each['id']} has {each['idle']} idle items, not {len(idle)}")
        begun = {row["item_part"] for row in self.steps if row["state"] == "running"}
        if wrong := [one["id"] for one in idle if one["id"] in begun]:
            inner.append(f"items {wrong} run, and are said to wait")
        return inner


def _passed_over(row: Row, state: str) -> bool:
    return state == "skipped" and row["skip_reason"] in PASSED_OVER
