"""What a step saves of itself: loops that go on, counts that are not doubled, what is refused."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yarnloom import AsyncStepContext, NotDone, StepContext, UnsureEffect
from yarnloom.errors import CallAgain, Stopped, ValueRefused
from yarnloom.sdk.attempt_channel import OwnLine


class Stopping(OwnLine):
    """A line that tells to stop after so many looks, and keeps what was saved last."""

    def __init__(self, looks: int | None = None, why: str = "pause") -> None:
        super().__init__()
        self.looks = looks
        self.why = why
        self.kept: dict[str, Any] = {}

    def stop_asked(self) -> str | None:
        if self.looks is None:
            return None
        self.looks -= 1
        return self.why if self.looks < 0 else None

    def saved(self, changed: dict[str, Any]) -> None:
        self.kept |= changed


class Again:
    """Goes through the same numbers every time, without being a list."""

    def __init__(self, count: int) -> None:
        self.count = count

    def __iter__(self) -> Iterator[int]:
        return iter(range(self.count))


@pytest.mark.parametrize("kind", [lambda n: list(range(n)), range, Again, lambda n: str(n) * n])
@given(count=st.integers(1, 40), stops=st.lists(st.integers(0, 12), max_size=6))
def test_whatever_stops_it_each_item_is_done_once(
    kind: Callable[[int], Any], count: int, stops: list[int]
) -> None:
    """And counted once: by a pause, or by the death of its process after an item began."""
    seen: list[Any] = []
    saved: dict[str, Any] = {}
    for looks in [*stops, None]:
        line = Stopping(looks)
        ctx = StepContext(saved=saved, line=line)
        try:
            for item in ctx.track(kind(count)):
                seen.append(item)
                ctx.count(added=1)
        except Stopped:
            pass
        saved = saved | line.kept
    assert seen == list(kind(count))
    assert saved["counts"]["added"] == len(seen)
    assert saved["progress"]["done"] == len(seen)


def test_what_an_unfinished_item_counted_is_not_counted() -> None:
    """Its repeat counts it."""
    line = Stopping()
    ctx = StepContext(line=line)
    with pytest.raises(ZeroDivisionError):
        for number in ctx.track([1, 2, 0]):
            ctx.count(added=1)
            1 / number
    saved = line.kept | ctx.record(done=False)

    assert (saved["counts"]["added"], saved["places"][""]["at"]) == (2, 2)
    again = StepContext(saved=saved, line=Stopping())
    for _ in again.track([1, 2, 1]):
        again.count(added=1)
    assert again.record(done=True)["counts"]["added"] == 3


def test_an_order_that_changed_is_noticed() -> None:
    """By the last item of what has no positions, and by its length."""
    line = Stopping(3)
    with pytest.raises(Stopped, match="told to stop: pause at 3"):
        list(StepContext(line=line).track(Again(9)))

    class Other(Again):
        def __iter__(self) -> Iterator[int]:
            return iter(range(100, 100 + self.count))

    for changed in (Other(9), Again(2), [1, 2]):
        with pytest.raises(ValueRefused, match="the order changed"):
            list(StepContext(saved=line.kept).track(changed))
    assert list(StepContext(saved=line.kept).track(Other(3), resume=False)) == [100, 101, 102]


def test_what_cannot_be_gone_on_with_is_refused() -> None:
    """With what to do instead."""
    ctx = StepContext()
    with pytest.raises(TypeError, match="sort it first"):
        list(ctx.track({1, 2}))
    with pytest.raises(TypeError, match="resume=False"):
        list(ctx.track(iter([1])))
    with pytest.raises(ValueError, match="every is 0"):
        list(ctx.track([1], every=0))
    with pytest.raises(ValueError, match="within another"):
        for _ in ctx.track([1], name="outer"):
            list(ctx.track([1], name="inner"))
    with pytest.raises(ValueError, match="give each its own"):
        list(ctx.track([1], name="outer"))
    assert list(ctx.track([1], name="third")) == [1]


def test_a_checkpoint_is_saved_before_it_stops() -> None:
    """The next attempt finds it."""
    line = Stopping(0)
    with pytest.raises(Stopped):
        StepContext(line=line).checkpoint({"page": 3})

    assert StepContext(saved=line.kept).restored == {"page": 3}
    with pytest.raises(ValueRefused, match="what was given to checkpoint"):
        StepContext().checkpoint(object())


def test_what_is_carried_comes_back() -> None:
    """And the wait is in seconds."""
    ctx = StepContext()
    with pytest.raises(CallAgain) as asked:
        ctx.call_again("5m", {"page": 2})

    assert asked.value.after == 300
    assert StepContext(saved=ctx.record(done=False)).carried == {"page": 2}


class Unsure(OwnLine):
    """A ledger in which everything is unsure until it is begun again."""

    def ask(self, question: dict[str, Any]) -> dict[str, Any]:
        if question["kind"] == "begin_effect" and not question["again"]:
            return {"now": "unsure", "token": "t"}
        return super().ask(question)


def test_what_is_unsure_is_not_repeated_silently() -> None:
    """It fails, or is done again, or the outside is asked."""
    done: list[str] = []

    def do(token: str) -> str:
        done.append(token)
        return "sent"

    with pytest.raises(UnsureEffect, match="yarnloom settle 1/mail 'the bill' --done`"):
        StepContext(address="1/mail", line=Unsure()).once("the bill", do)
    assert StepContext(line=Unsure()).once("a", do, if_unsure=lambda token: True) is None
    assert done == []
    assert StepContext(line=Unsure()).once("a", do, if_unsure=lambda token: False) == "sent"
    assert StepContext(line=Unsure()).once("a", do, if_unsure="again") == "sent"
    assert len(done) == 2
    with pytest.raises(TypeError, match="expected True"):
        StepContext(line=Unsure()).once("a", do, if_unsure=lambda token: "yes")  # type: ignore[arg-type, return-value]


def test_once_in_a_unit_test_does_it_once() -> None:
    """With a context that the test made; what did not happen can be done again."""
    ctx = StepContext()
    calls: list[int] = []

    def refuse() -> None:
        raise NotDone("busy")

    assert ctx.once("a", lambda: calls.append(1) or 7) == 7
    with pytest.raises(ValueError, match="has done 'a' already, so it would not be done again"):
        ctx.once("a", lambda: calls.append(2))
    assert calls == [1]
    with pytest.raises(NotDone):
        ctx.once("b", refuse)
    assert ctx.once("b", lambda: 2) == 2
    for bad in ({"what": ""}, {"what": "x", "scope": "all"}, {"what": "x", "if_unsure": "skip"}):
        with pytest.raises(ValueError, match="expected"):
            ctx.once(do=lambda: 1, **bad)  # type: ignore[arg-type]


async def _ring(ctx: AsyncStepContext) -> list[int]:
    async def do(token: str) -> int:
        return 3

    found = [item async for item in ctx.track_each([1, 2], every=1)]
    found.append(await ctx.once("a", do))
    with pytest.raises(ValueError, match="has done 'a' already"):
        await ctx.once("a", do)
    return found


def test_an_async_task_awaits_what_waits() -> None:
    """As the other kinds, with await."""
    import asyncio

    assert asyncio.run(_ring(AsyncStepContext())) == [1, 2, 3]


class Looking(OwnLine):
    """Remembers whether values are used."""

    def __init__(self) -> None:
        super().__init__()
        self.used: list[bool] = []

    def ask(self, question: dict[str, Any]) -> dict[str, Any]:
        if question["kind"] == "begin_effect":
            self.used.append(question["is_used"])
        return super().ask(question)


def test_whether_the_value_of_an_effect_is_used_is_told_from_the_code() -> None:
    """Only a statement of its own throws it away, awaited or not."""
    import asyncio

    line = Looking()
    ctx, later = StepContext(line=line), AsyncStepContext(line=line)

    def give() -> int:
        return 1

    ctx.once("a", give)
    kept = ctx.once("b", give)
    if ctx.once("c", give):
        ctx.once("d", give, if_unsure="again")

    async def all_of_it() -> Any:
        await later.once("e", give)
        found = await later.once("f", give)
        await asyncio.gather(later.once("g", give))
        return found + await later.once("h", give)

    assert (kept, asyncio.run(all_of_it())) == (1, 2)
    assert line.used == [False, True, True, False, False, True, True, True]


class Ledger(Stopping):
    """A line that keeps effects as the service does, with where they were used."""

    def __init__(self) -> None:
        super().__init__()
        self.asked: list[dict[str, Any]] = []

    def ask(self, question: dict[str, Any]) -> dict[str, Any]:
        self.asked.append(question)
        return {"now": "go", "token": "t"} if question["kind"] == "begin_effect" else {}


def test_an_effect_knows_at_which_item_of_which_loop_it_is() -> None:
    """So that one name for two letters is refused, also with a retry between them."""
    line = Ledger()
    ctx = StepContext(line=line)
    ctx.once("first", lambda: None)
    for name in ctx.track(["a", "b"], name="letters"):
        ctx.once(f"mail {name}", lambda: None)
        ctx.once(f"run {name}", lambda: None, scope="run")

    asked = [question for question in line.asked if question["kind"] == "begin_effect"]
    positions = {question["what"]: question["position"] for question in asked}
    assert positions == {
        "first": "",
        "mail a": "letters#0",
        "mail b": "letters#1",
        "run a": "",
        "run b": "",
    }


@pytest.mark.parametrize(
    ("carry", "warned"), [({}, True), ({"carry": None}, False), ({"carry": {"sum": 0}}, False)]
)
def test_a_loop_that_resumes_without_a_word_on_its_carry_says_so(
    carry: dict[str, Any], warned: bool, caplog: pytest.LogCaptureFixture
) -> None:
    """In the log and in its record, from which `why` takes it: a local sum would be too small."""
    saved: dict[str, Any] = {}
    for looks in (3, None):
        line = Stopping(looks)
        ctx = StepContext(saved=saved, line=line)
        try:
            for _ in ctx.track([1, 2, 3, 4, 5], **carry):
                pass
        except Stopped:
            assert not caplog.records, "not in the first attempt"
        saved = ctx.record(done=False)

    assert ("resumes at item" in caplog.text) == warned
    assert saved["places"][""].get("bare", False) == warned
