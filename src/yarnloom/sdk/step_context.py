"""The context of a task: its `ctx` argument."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any, TypeVar

from yarnloom.errors import NotDone
from yarnloom.sdk.base_context import BaseContext, IfUnsure, end_question, takes_token, yes_or_no
from yarnloom.sdk.file_values import File, Rows
from yarnloom.sdk.ignored_results import is_value_used
from yarnloom.sdk.interrupts import enter

T = TypeVar("T")


class StepContext(BaseContext):
    """The step that a task runs for. A task gets one where an argument is annotated with it.

    In a unit test make one yourself: `fetch(StepContext(), harbour="brackwater")`.
    """

    def save_file(self, given: Path | str | bytes, name: str = "", media_type: str = "") -> File:
        """Keep a file, so that it can be returned, read by other steps, and downloaded.

        Args:
            given: where it is on this machine, or its bytes.
            name: its name; of a path its own unless given.
            media_type: e.g. `"image/png"`; as the name's ending suggests unless given.
        """
        self._raise_again()
        with self.shelf.to_keep(given, name, media_type) as question:
            return File(**self._line.ask(question))

    def save_rows(self, rows: Iterable[Any], name: str = "rows.jsonl") -> Rows[Any]:
        """Keep a list that is too long for a value: return it, and an each can go through it.

        Args:
            rows: values that are JSON; gone through once, one at a time in memory.
            name: what its file is called.
        """
        self._raise_again()
        with self.shelf.of_lines(rows, name) as (question, count):
            return self._rows(self._line.ask(question), count)

    def once(
        self, what: str, do: Callable[..., T], *, if_unsure: IfUnsure = "fail", scope: str = "step"
    ) -> T:
        """Do something outside that must not happen again, whatever is retried, resumed or mended.

        That it begins is kept before, and what it gave after. Where an attempt ended between the
        two nobody here can know whether it happened: it is unsure. Exactly once is promised only
        for what answers to the token.

        Args:
            what: names it within the step, such as `"mail harbour-7"`.
            do: does it, and returns JSON. It may take one argument, the token: text that is the
                same over all attempts, for an outside that knows idempotency keys. Where it knows
                that nothing happened, it raises `NotDone`.
            if_unsure: `"fail"` raises; `"again"` does it again; a function is given the token,
                asks the outside, and says whether it was done.
            scope: `"run"` has one entry for all steps of the run that use the same `what`.

        Raises:
            UnsureEffect: it is unsure; the step fails without more tries until someone decides.
            TryLater: another step of the run is at it at this moment.
        """
        is_used = is_value_used(sys._getframe(1))
        begin = self._begin_question(what, if_unsure, scope, is_used=is_used)
        answer = self._line.ask(begin)
        if answer["now"] == "unsure" and callable(if_unsure):
            was_done = yes_or_no(enter(if_unsure, answer["token"]))
            answer = self._line.ask(self._again(begin))
            if was_done:
                self._line.ask(end_question(begin, done=True))
                self._did.add((scope, what))
                return None  # type: ignore[return-value]
        if answer["now"] != "go":
            return self._known(begin, answer)  # type: ignore[no-any-return]
        try:
            value = enter(do, answer["token"]) if takes_token(do) else enter(do)
        except NotDone:
            self._line.ask(end_question(begin, done=False))
            raise
        self._line.ask(end_question(begin, done=True, value=value))
        self._did.add((scope, what))
        return value
