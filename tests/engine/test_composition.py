"""The rules of composition: random plans against a plain reading of the rules."""

from __future__ import annotations

import json
import random
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.naive import Naive, Spot
from tests.plans import Maker, behave
from yarnloom.engine import Ask, CancelRun, Register, Report, ReportItem
from yarnloom.plan import Part, compile_plan
from yarnloom.store import audit
from yarnloom.testing import InlineService, inline_service

PARAMS = {"value": 3, "list": [7, 8, 9], "yes": True, "no": False}
SCHEMA = {"type": "object", "properties": {name: {} for name in PARAMS}}


class Race:
    """One plan, run on the engine and on the naive interpreter, event by event."""

    def __init__(self, inline: InlineService, seed: int, size: int) -> None:
        self.random = random.Random(seed)
        maker = Maker(self.random.randrange, size)
        plan, on_failure, on_end = maker.make()
        document = self.publish(inline, maker, plan, on_failure, on_end)
        self.document = document
        self.inline = inline
        self.places = self.random.choice((1, 2, 50))
        self.held: dict[int, dict[str, Any]] = {}
        self.begun: set[str] = set()
        self.naive = Naive(plan, PARAMS, on_failure, on_end)
        self.number = inline.start("random/w", PARAMS)
        tasks = {f"random/{name}": "hash" for name in maker.tasks}
        inline.do(Register("w", "w", {}, self.places, tasks))
        self.take(inline.batch(Ask("w")).messages.get("w", []))

    @staticmethod
    def publish(
        inline: InlineService, maker: Maker, plan: Part, on_failure: Any, on_end: Any
    ) -> dict[str, Any]:
        from yarnloom.engine import Publish

        lookup = maker.loom._facts
        document, problems = compile_plan(
            "random", "w", SCHEMA, plan, lookup, on_failure=on_failure, on_end=on_end
        )
        assert not problems
        inline.do(Publish([document], [], "test"))
        return document

    def take(self, messages: list[dict[str, Any]]) -> None:
        """What the worker is given: every step of it begins at once."""
        for message in messages:
            if message["kind"] != "work":
                continue
            address = message["address"].partition("/")[2]
            assert address not in self.begun, f"{address} began twice"
            self.begun.add(address)
            self.held[message["attempt"]] = {**message, "address": address}
            expected = self.naive.begin(address)
            self.same_input(expected, message["input"])
            answer = self.inline.do(Report("w", (ReportItem(message["attempt"], begun_ago=0.0),)))
            self.take(answer.messages)

    def same_input(self, expected: Any, found: Any) -> None:
        """Inputs are equal; of failures where they happened."""
        assert expected.keys() == found.keys()
        for name, value in expected.items():
            other = found[name]
            if isinstance(value, dict) and "first" in value:
                assert other["first"]["address"].partition("/")[2] in value["first"]
                assert other["count"] == value["count"]
                told = [one["address"].partition("/")[2] for one in other["failures"]]
                assert sorted(told) == sorted(value["failures"])
            elif (
                isinstance(value, list)
                and value
                and isinstance(value[0], dict)
                and "name" in value[0]
            ):
                assert [(one["name"], f"{self.number}/{one['address']}") for one in value] == [
                    (one["name"], one["address"]) for one in other
                ]
            else:
                assert value == other, name

    def run(self, cancel_at: int | None) -> None:
        """Until nothing is left to do."""
        for event in range(2_000):
            self.compare()
            if cancel_at is not None and event in (cancel_at, cancel_at + 3):
                self.cancel()
            if not self.held:
                break
            self.finish(self.random.choice(sorted(self.held)))
        self.check_end()

    def cancel(self) -> None:
        answer = self.inline.batch(CancelRun(self.number, "test")).answers[0]
        if not isinstance(answer, Exception):
            self.naive.cancel()

    def finish(self, attempt: int) -> None:
        """One attempt ends."""
        message = self.held.pop(attempt)
        address = message["address"]
        (spot,) = (
            one for one in self.naive.root.all() if (one.address, one.state) == (address, "running")
        )
        outcome, value = behave(message["task"].partition("/")[2], message["input"])
        if spot.asked:
            outcome = "done" if self.random.random() < 0.3 else "cancelled"
        error = {"type": "E", "message": ""}
        item = ReportItem(attempt, outcome, value, None if outcome == "done" else error, 0.0)
        self.naive.finish(address, outcome, value if outcome == "done" else None)
        self.take(self.inline.do(Report("w", (item,))).messages)

    # Comparing

    def compare(self) -> None:
        """What could run and what runs is the same."""
        broken = audit(self.inline.database.writer)
        assert not broken, broken
        rows = self.inline.database.writer.execute(
            "SELECT count(*) FROM steps WHERE ended_at IS NULL"
        ).fetchone()
        waiting = [one for one in self.naive.root.all() if one.state in ("ready", "running")]
        steps = [one for one in waiting if not one.written.inner]
        assert rows[0] == len(steps), [one.address for one in steps]

    def check_end(self) -> None:
        """All states, skip reasons and the output are the same."""
        run, naive = self.inline.run(self.number), self.naive
        assert naive.root.settled
        expected = "done" if naive.root.state == "skipped" else naive.root.state
        assert run["state"] == expected
        if expected == "done":
            assert run["output"] == naive.root.output
            assert run["error"] is None
        if expected == "failed":
            assert run["error"]["step"].partition("/")[2] in naive.root.causes
        found: dict[str, tuple[str, str | None]] = {}
        self.gather(self.inline.graph(self.number), found)
        wanted = {
            one.address: (one.state, one.reason if one.state == "skipped" else None)
            for one in self.expected(naive.root)
        }
        assert found == wanted
        ended = self.inline.database.writer.execute(
            "SELECT count(*) FROM attempts WHERE outcome = 'done' GROUP BY step HAVING count(*) > 1"
        ).fetchall()
        assert not ended

    def expected(self, spot: Spot) -> list[Spot]:
        """Every spot that the engine shows: follow-ups only where they began."""
        found = [spot]
        for one in spot.inner:
            found += self.expected(one)
        for one in spot.follow.values():
            if one.state != "waiting":
                found += self.expected(one)
        return found

    def gather(self, view: dict[str, Any], found: dict[str, tuple[str, str | None]]) -> None:
        if view.get("begun") is False:
            return
        found[view["address"]] = (view["state"], view.get("skip_reason"))
        for inner in (*view.get("parts", ()), *view.get("follow_ups", {}).values()):
            self.gather(inner, found)
        if view["kind"] == "each":
            for item in self.inline.items(self.number, view["address"]):
                self.gather(self.inline.graph(self.number, item["address"]), found)


def race(seed: int, size: int, cancel_at: int | None) -> None:
    """Run one; a failure shows the plan."""
    with inline_service() as inline:
        one = None
        try:
            one = Race(inline, seed, size)
            one.run(cancel_at)
        except AssertionError as error:
            if one is not None:
                error.add_note(json.dumps(one.document["plan"], indent=1))
            raise


@settings(max_examples=150, deadline=None)
@given(st.integers(0, 2**32), st.integers(2, 14), st.none() | st.integers(0, 12))
def test_any_plan_ends_as_the_rules_say(seed: int, size: int, cancel_at: int | None) -> None:
    """Nested, with cross references, conditions and failures under every rule, and cancelled."""
    race(seed, size, cancel_at)
