"""Promises as properties: any sequence, any order of commands, any worker."""

from __future__ import annotations

from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from tests import looms
from yarnloom import Loom, param, previous, sequence, step
from yarnloom.engine import Ask, Register, Report, Reported, ReportItem, Started, StartRun, Tick
from yarnloom.plan import Part
from yarnloom.store import audit
from yarnloom.testing import inline_service, run_workflow

# Each step of a made-up sequence: how it ends, or a sequence of its own.
Shape = st.recursive(
    st.sampled_from(["add", "add", "add", "raise"]),
    lambda inner: st.lists(inner, min_size=1, max_size=3),
    max_leaves=8,
)


def naive(shape: Any, value: int) -> tuple[str, int, list[str]]:
    """State, output and the states of all steps, by as plain a reading of the rules as can be."""
    if shape == "add":
        return "done", value + 1, ["done"]
    if shape == "raise":
        return "failed", value, ["failed"]
    states: list[str] = []
    outcome = "done"
    for inner in shape:
        if outcome == "failed":
            states += ["skipped"] * leaves(inner)
            continue
        outcome, value, found = naive(inner, value)
        states += found
    return outcome, value, states


def leaves(shape: Any) -> int:
    """How many steps a shape has."""
    return 1 if isinstance(shape, str) else sum(map(leaves, shape))


def states_in(part: dict[str, Any]) -> list[str]:
    """The states of a graph's steps, in plan order."""
    if part["kind"] == "step":
        return [part["state"]]
    return [state for inner in part["parts"] for state in states_in(inner)]


@settings(max_examples=60)
@given(st.lists(Shape, min_size=1, max_size=4))
def test_any_sequence_ends_as_the_rules_say(shape: list[Any]) -> None:
    """Outputs, states and skips are those of a naive interpreter."""
    loom = Loom("shapes")
    labels = iter(range(1_000))

    @loom.task
    def add(value: int) -> int:
        return value + 1

    @loom.task
    def fail(value: int) -> int:
        raise ValueError(value)

    def part(one: Any, first: bool) -> Part:
        source = param("value") if first else previous
        if isinstance(one, str):
            return step(f"p{next(labels)}", add if one == "add" else fail, value=source)
        inner = [part(each, first and not index) for index, each in enumerate(one)]
        return sequence(f"p{next(labels)}", *inner)

    parts = [part(one, not index) for index, one in enumerate(shape)]
    loom.workflow("w", params=Value, plan=sequence(*parts))
    run = run_workflow(loom, "w", value=0)
    state, output, states = naive(shape, 0)

    assert run.state == state
    assert run.output == (output if state == "done" else None)
    assert states_in(run.graph) == states


class Value(looms.BaseModel):
    """Params."""

    value: int


starts = st.lists(
    st.lists(st.tuples(st.sampled_from("abc"), st.integers(0, 1)), min_size=1, max_size=4),
    min_size=1,
    max_size=5,
)


@settings(max_examples=40)
@given(starts)
def test_a_key_makes_one_run_whatever_comes_together(batches: list[list[tuple[str, int]]]) -> None:
    """In one transaction or in several, with the same params or others."""
    first: dict[str, tuple[int, int]] = {}
    with inline_service() as inline:
        inline.publish(looms.loom)
        for batch in batches:
            commands = [StartRun("sums", {"number": number}, key, "t") for key, number in batch]
            for (key, number), answer in zip(batch, inline.batch(*commands).answers, strict=True):
                if key not in first:
                    assert isinstance(answer, Started)
                    assert answer.created
                    first[key] = (number, answer.run["number"])
                elif first[key][0] == number:
                    assert isinstance(answer, Started)
                    assert (answer.created, answer.run["number"]) == (False, first[key][1])
                else:
                    assert not isinstance(answer, Started)

    assert sorted(run for _, run in first.values()) == list(range(1, len(first) + 1))


moves = st.lists(
    st.tuples(
        st.sampled_from(["ask", "done", "lost", "twice", "renew", "silence", "restart"]),
        st.integers(0, 2),
    ),
    max_size=40,
)


@settings(max_examples=40)
@given(moves, st.lists(st.integers(1, 3), min_size=3, max_size=3))
def test_places_are_kept_and_every_run_ends(
    played: list[tuple[str, int]], places: list[int]
) -> None:
    """Whatever workers do: places are kept, each step is done once, nothing is lost."""
    tasks = {"marks/add": "hash"}
    with inline_service() as inline:
        inline.publish(looms.loom)
        numbers = [inline.start("sums", {"number": n}, f"k{n}") for n in range(4)]
        hands: list[dict[int, dict[str, Any]]] = [{}, {}, {}]

        def register(index: int) -> None:
            inline.do(Register(f"w{index}", "w", {}, places[index], tasks, tuple(hands[index])))

        def take(index: int, messages: list[dict[str, Any]]) -> None:
            for message in messages:
                if message["kind"] == "work":
                    hands[index][message["attempt"]] = message
                elif message["kind"] == "drop":
                    hands[index].pop(message["attempt"], None)
            assert len(hands[index]) <= places[index]

        def tell(index: int, **item: Any) -> None:
            attempt = min(hands[index])
            reported = inline.batch(
                Report(f"w{index}", (ReportItem(attempt, begun_ago=0.0, **item),))
            ).answers[0]
            if isinstance(reported, Reported):
                del hands[index][attempt]
                take(index, reported.messages)
            else:
                register(index)

        def finish(index: int) -> None:
            given = hands[index][min(hands[index])]["input"]
            tell(index, outcome="done", output=given["number"] + given.get("more", 1))

        for index in range(3):
            register(index)
        for kind, index in played:
            name = f"w{index}"
            if kind == "ask":
                results = inline.batch(Ask(name, tuple(_serials(hands[index]))))
                if results.answers[0] is not None:
                    register(index)
                take(index, results.messages.get(name, []))
            elif kind == "renew":
                inline.batch(Report(name))
            elif kind == "silence":
                inline.clock.advance(9.0)
                inline.do(Tick())
            elif kind == "restart":
                inline.restart()
            elif hands[index] and kind == "lost":
                tell(index, outcome="lost", error={"message": "gone"})
            elif hands[index]:
                finish(index)
            assert audit(inline.database.writer) == []
        for _ in range(60):
            for index in range(3):
                register(index)
                take(index, inline.batch(Ask(f"w{index}")).messages.get(f"w{index}", []))
                while hands[index]:
                    finish(index)
        runs = [inline.run(number) for number in numbers]

    for number, run in enumerate(runs):
        lost = run["state"] == "failed" and "lost 4 times" in run["error"]["message"]
        assert lost or (run["state"], run["output"]) == ("done", number + 2)


def _serials(hand: dict[int, dict[str, Any]]) -> list[int]:
    return [message["serial"] for message in hand.values()]
