"""Promises as properties: any order of commands, any worker."""

from __future__ import annotations

from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from tests import looms
from yarnloom.engine.commands import (
    Poll,
    Register,
    Report,
    Reported,
    ReportItem,
    Started,
    StartRun,
    Tick,
)
from yarnloom.store import audit
from yarnloom.testing import inline_service

starts = st.lists(
    st.lists(st.tuples(st.sampled_from("abc"), st.integers(0, 1)), min_size=1, max_size=4),
    min_size=1,
    max_size=5,
)


@settings(max_examples=15)
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
                    first[key] = (number, answer.run.number)
                elif first[key][0] == number:
                    assert isinstance(answer, Started)
                    assert (answer.created, answer.run.number) == (False, first[key][1])
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


@settings(max_examples=15)
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
                results = inline.batch(Poll(name, tuple(_serials(hands[index]))))
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
                take(index, inline.batch(Poll(f"w{index}")).messages.get(f"w{index}", []))
                while hands[index]:
                    finish(index)
        runs = [inline.run(number) for number in numbers]

    for number, run in enumerate(runs):
        lost = run["state"] == "failed" and "lost 4 times" in run["error"]["message"]
        assert lost or (run["state"], run["output"]) == ("done", number + 2)


def _serials(hand: dict[int, dict[str, Any]]) -> list[int]:
    return [message["serial"] for message in hand.values()]
