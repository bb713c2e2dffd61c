"""Tracked loops, as a task goes through them: `ctx.track(items)` and `ctx.track_each(items)`."""

from __future__ import annotations

from collections.abc import AsyncIterable, AsyncIterator, Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Generic, TypeVar

from yarnloom.sdk.saved_state import CARRY_LIMIT
from yarnloom.values import JsonObject, decode, encode

if TYPE_CHECKING:
    from yarnloom.sdk.base_context import BaseContext

T = TypeVar("T")

NOT_GIVEN: Any = object()
"""Of `carry`: nobody has said whether anything is to be carried."""


@dataclass(frozen=True, slots=True)
class Loop(Generic[T]):
    """A loop as it is asked for; `StepContext.track` says what each means."""

    iterable: Iterable[T]
    total: int | None
    every: int | None
    note: str
    name: str
    resume: bool


class _Tracked(Generic[T]):
    """What a tracked loop is, whether it waits or not."""

    def __init__(self, ctx: BaseContext, loop: Loop[T], carry: JsonObject | None) -> None:
        if loop.every is not None and loop.every < 1:
            raise ValueError(f"every is {loop.every}; expected at least 1")
        self._says_carry = carry is not NOT_GIVEN
        carry = carry if self._says_carry else None
        if carry is not None and not isinstance(carry, dict):
            raise TypeError(f"carry is {carry!r:.60}; expected a dict, as carry={{'total': 0}}")
        self._ctx = ctx
        self._loop = loop
        ctx._loops.check(loop.iterable, loop.name, resume=loop.resume)
        self._carry: JsonObject | None = None
        if carry is not None:
            kept = ctx._loops.carried(loop.name)
            self._carry = decode(_carry_text(carry)) if kept is None else kept

    @property
    def carry(self) -> JsonObject:
        """What the loop carries from item to item, and over stops: change it in place."""
        if self._carry is None:
            raise ValueError("this loop carries nothing: say ctx.track(items, carry={...})")
        return self._carry

    @carry.setter
    def carry(self, value: JsonObject) -> None:
        if self._carry is None or not isinstance(value, dict):
            raise TypeError("expected a dict for the carry of a loop that was given one")
        self._carry = value

    def _walk(self) -> Iterator[tuple[T, bool]]:
        """The items, each with False; and with True what is to be saved before going on."""
        ctx, loop, loops = self._ctx, self._loop, self._ctx._loops
        items, at, total = loops.begin(loop.iterable, loop.total, loop.note, loop.name)
        if at and not self._says_carry:
            loops.note_bare(loop.name)
            ctx.log.warning(
                "the loop%s resumes at item %d, and local variables are new in each attempt: what "
                "it adds up belongs into its carry, as in track(items, carry={'total': 0}); "
                "carry=None says that there is nothing to carry",
                f" {loop.name!r}" if loop.name else "",
                at,
            )
        by_position = isinstance(loop.iterable, Sequence)
        ctx._line.saved(ctx._ledge.moved())
        since_saved = 0
        try:
            for item in items:
                ctx.check()
                loops.at = at
                yield item, False
                ctx._raise_again()  # a bare except: in the loop may have swallowed it
                at += 1
                ctx._ledge.show(at, total, None)
                carry = None if self._carry is None else _carry_text(self._carry)
                loops.finished(loop.name, at, item, carry, by_position=by_position)
                ctx._line.saved(ctx._ledge.moved())
                since_saved += 1
                if loop.every is not None and since_saved >= loop.every:
                    since_saved = 0
                    yield item, True
        finally:
            loops.end()


class Track(_Tracked[T], Iterable[T]):
    """A loop that is tracked: go through it once with `for`.

    Attributes:
        carry: what the loop carries from item to item, and over stops.
    """

    def __iter__(self) -> Iterator[T]:
        """Go through the items that are left."""
        for item, due in self._walk():
            if due:
                question = {"kind": "save", "saved": self._ctx._ledge.moved()}
                self._ctx._line.ask(question)
            else:
                yield item


class AsyncTrack(_Tracked[T], AsyncIterable[T]):
    """The same for `async for`."""

    async def __aiter__(self) -> AsyncIterator[T]:
        """Go through the items that are left."""
        for item, due in self._walk():
            if due:
                question = {"kind": "save", "saved": self._ctx._ledge.moved()}
                await self._ctx._line.ask_later(question)
            else:
                yield item


def _carry_text(carry: JsonObject) -> str:
    return encode(carry, "what the loop carries", limit=CARRY_LIMIT)
