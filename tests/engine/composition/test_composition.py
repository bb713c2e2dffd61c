"""The rules of composition: random plans against a plain reading of the rules."""

from __future__ import annotations

import json
import random
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import BaseModel

from tests.fractions import Falls, broken_fractions
from tests.naive import Naive
from tests.plans import POOL, Maker, behave
from tests.same import PARAMS, document_of, expanded, same_end
from yarnloom import Loom, each, output, parallel, param, sequence, step
from yarnloom.engine.commands import CancelRun, Poll, Publish, Register, Report, ReportItem, Tick
from yarnloom.store import audit
from yarnloom.testing import InlineService, inline_service
from yarnloom.values import VALUE_LIMIT

LIVE = ("ready", "running", "backing_off")


class Race:
    """One plan, run on the engine and on the naive interpreter, event by event."""

    def __init__(self, inline: InlineService, seed: int, size: int) -> None:
        self.random = random.Random(seed)
        maker = Maker(self.random.randrange, size)
        plan, on_failure, on_end = maker.make()
        self.document = document_of(maker, "w", plan, on_failure, on_end)
        inline.do(Publish([self.document], [], "test", [POOL]))
        self.inline = inline
        self.falls = Falls(inline.database.writer)
        self.places = self.random.choice((1, 2, 50))
        self.held: dict[int, dict[str, Any]] = {}
        self.begun: set[int] = set()
        self.parts = (plan, on_failure, on_end)
        self.names = {function: name for name, function in maker.tasks.items()}
        self.naive = Naive(plan, PARAMS, on_failure, on_end)
        self.number = inline.start("random/w", PARAMS)
        tasks = {f"random/{name}": "hash" for name in maker.tasks}
        inline.do(Register("w", "w", {}, self.places, tasks))
        self.take(inline.batch(Poll("w")).messages.get("w", []))

    def take(self, messages: list[dict[str, Any]]) -> None:
        """What the worker is given: every step of it begins at once."""
        for message in messages:
            if message["kind"] != "work" or message["attempt"] in self.begun:
                continue
            self.begun.add(message["attempt"])
            address = message["address"].partition("/")[2]
            given = expanded(self.inline.database, message["input"])
            self.held[message["attempt"]] = {**message, "address": address, "input": given}
            expected = self.naive.begin(address)
            self.same_input(expected, given)
            answer = self.inline.do(Report("w", (ReportItem(message["attempt"], begun_ago=0.0),)))
            self.take(answer.messages)
        while self.inline.list_jobs:
            self.take(self.inline.do_list_jobs().messages.get("w", []))
            self.take(self.inline.batch(Poll("w")).messages.get("w", []))

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
            if not self.held and not self.backs_off():
                break
            if not self.held or self.random.random() < 0.1:
                self.wake()
            else:
                self.finish(self.random.choice(sorted(self.held)))
        self.check_end()

    def cancel(self) -> None:
        results = self.inline.batch(CancelRun(self.number, "test"))
        if not isinstance(results.answers[0], Exception):
            self.naive.cancel()
        self.take(results.messages.get("w", []))
        self.take(self.inline.batch(Poll("w")).messages.get("w", []))

    def finish(self, attempt: int) -> None:
        """One attempt ends."""
        message = self.held.pop(attempt)
        address = message["address"]
        (spot,) = (
            one for one in self.naive.root.all() if (one.address, one.state) == (address, "running")
        )
        name = message["task"].partition("/")[2]
        outcome, value = behave(name, message["input"], message["tries"])
        if spot.asked and (outcome != "done" or self.random.random() > 0.3):
            outcome = "cancelled"
        error = {"type": "E", "message": ""}
        item = ReportItem(attempt, outcome, value, None if outcome == "done" else error, 0.0)
        if outcome == "failed":
            self.naive.fail_try(address)
        else:
            self.naive.finish(address, outcome, value if outcome == "done" else None)
        self.take(self.inline.do(Report("w", (item,))).messages)

    def backs_off(self) -> bool:
        """Whether anything does."""
        return any(one.state == "backing_off" for one in self.naive.root.all())

    def wake(self) -> None:
        """So much time passes that every back-off is over."""
        self.inline.clock.advance(15)
        self.inline.do(Report("w"))
        self.naive.wake()
        self.inline.do(Tick())
        self.take(self.inline.batch(Poll("w")).messages.get("w", []))

    # Comparing

    def compare(self) -> None:
        """What could run and what runs is the same."""
        if self.random.random() < 0.3:
            writer = self.inline.database.writer
            broken = audit(writer) + broken_fractions(writer) + self.falls.look()
            assert not broken, broken
        rows = self.inline.database.writer.execute(
            "SELECT count(*) FROM steps WHERE ended_at IS NULL"
        ).fetchone()
        waiting = [one for one in self.naive.root.all() if one.state in LIVE]
        steps = [one for one in waiting if not one.written.inner]
        assert rows[0] == len(steps), [one.address for one in steps]

    def check_end(self) -> None:
        """Everything is the same, and each step was done once."""
        same_end(self.inline.database, self.number, self.naive)
        doubled = self.inline.database.writer.execute(
            "SELECT step FROM attempts WHERE outcome = 'done' GROUP BY step HAVING count(*) > 1"
        ).fetchall()
        assert not doubled


def race(seed: int, size: int, cancel_at: int | None, list_above: int) -> None:
    """Run one; a failure shows the plan."""
    with inline_service(
        list_above=list_above, failures_above=0 if list_above < 100 else 200
    ) as inline:
        one = None
        try:
            one = Race(inline, seed, size)
            one.run(cancel_at)
        except AssertionError as error:
            if one is not None:
                error.add_note(json.dumps(one.document["plan"], indent=1))
            raise


@settings(max_examples=50, deadline=None)
@given(
    st.integers(0, 2**32),
    st.integers(2, 14),
    st.none() | st.integers(0, 12),
    st.sampled_from((0, 12, VALUE_LIMIT)),
)
def test_any_plan_ends_as_the_rules_say(
    seed: int, size: int, cancel_at: int | None, list_above: int
) -> None:
    """Nested, with cross references, conditions and failures under every rule, and cancelled.

    From which size on gathered lists are files makes no difference.
    """
    race(seed, size, cancel_at, list_above)


def test_what_follows_from_a_freed_branch_comes_before_the_next_begins() -> None:
    """Here two wait for one, and the second fails at once: all of the first had ended before."""
    loom = Loom("l")

    @loom.task
    def go(value: Any = None) -> Any:
        return [1, 2]

    plan = parallel(
        "both",
        step("first", go),
        each("items", over=output("first"), do=step("not", go, only_if=False)),
        sequence("odd", step("fails", go, value=output("first"), only_if=param("odd"))),
    )
    loom.workflow("w", plan=plan, params=Odd)
    with inline_service() as inline:
        inline.publish(loom)
        number = inline.start("l/w", {"odd": 3})
        inline.work(loom)
        states = {one["label"]: one["state"] for one in inline.graph(number)["parts"][0]["parts"]}
        assert states == {"first": "done", "items": "skipped", "odd": "failed"}
        reasons = {one["skip_reason"] for one in inline.items(number, "both/items")}
        assert reasons == {"only_if"}


class Odd(BaseModel):
    """Something that is no truth value."""

    odd: Any
