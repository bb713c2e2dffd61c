"""The context of an `async def` task: its `ctx` argument."""

from __future__ import annotations

import sys
from collections.abc import Callable, Coroutine, Iterable
from pathlib import Path
from typing import Any, TypeVar

from yarnloom.errors import NotDone
from yarnloom.sdk.base_context import BaseContext, IfUnsure, end_question, takes_token, yes_or_no
from yarnloom.sdk.file_values import File, Rows
from yarnloom.sdk.ignored_results import is_value_used
from yarnloom.sdk.tracked_loop import NOT_GIVEN, AsyncTrack, Loop
from yarnloom.values import JsonObject, JsonValue

T = TypeVar("T")


class AsyncStepContext(BaseContext):
    """The context of an `async def` task: what waits for the service is awaited.

    As `StepContext`, but for `once`, and `track` with `every`, which is for `async for`.
    """

    def once(
        self,
        what: str,
        do: Callable[..., Any],
        *,
        if_unsure: IfUnsure = "fail",
        scope: str = "step",
    ) -> Coroutine[Any, Any, Any]:
        """As `StepContext.once`; `do` and a function for `if_unsure` may be coroutine functions."""
        is_used = is_value_used(sys._getframe(1))
        return self._once(what, do, if_unsure, scope, is_used=is_used)

    async def _once(
        self, what: str, do: Callable[..., Any], if_unsure: IfUnsure, scope: str, *, is_used: bool
    ) -> Any:
        begin = self._begin_question(what, if_unsure, scope, is_used=is_used)
        answer = await self._line.ask_later(begin)
        if answer["now"] == "unsure" and callable(if_unsure):
            was_done = yes_or_no(await _settled(if_unsure(answer["token"])))
            answer = await self._line.ask_later(self._again(begin))
            if was_done:
                await self._line.ask_later(end_question(begin, done=True))
                self._did.add((scope, what))
                return None
        if answer["now"] != "go":
            return self._known(begin, answer)
        try:
            value = await _settled(do(answer["token"]) if takes_token(do) else do())
        except NotDone:
            await self._line.ask_later(end_question(begin, done=False))
            raise
        await self._line.ask_later(end_question(begin, done=True, value=value))
        self._did.add((scope, what))
        return value

    async def save_file(
        self, given: Path | str | bytes, name: str = "", media_type: str = ""
    ) -> File:
        """As `StepContext.save_file`."""
        self._raise_again()
        with self.shelf.to_keep(given, name, media_type) as question:
            return File(**await self._line.ask_later(question))

    async def save_rows(self, rows: Iterable[Any], name: str = "rows.jsonl") -> Rows[Any]:
        """As `StepContext.save_rows`."""
        self._raise_again()
        with self.shelf.of_lines(rows, name) as (question, count):
            return self._rows(await self._line.ask_later(question), count)

    def track_each(
        self,
        iterable: Iterable[T],
        *,
        carry: JsonObject | None = NOT_GIVEN,
        total: int | None = None,
        every: int | None = None,
        note: str = "",
        name: str = "",
        resume: bool = True,
    ) -> AsyncTrack[T]:
        """As `track`, for `async for`: where it saves with `every`, others run meanwhile."""
        return AsyncTrack(self, Loop(iterable, total, every, note, name, resume), carry)


async def _settled(value: JsonValue) -> Any:
    return await value if hasattr(value, "__await__") else value
