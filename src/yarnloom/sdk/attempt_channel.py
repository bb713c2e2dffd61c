"""How a task's context reaches whoever runs the attempt, and what a unit test has instead."""

from __future__ import annotations

import hashlib
from typing import Protocol

from yarnloom.sdk.file_values import TempFolder
from yarnloom.values import JsonObject, JsonValue


class AttemptLine(Protocol):
    """How a context reaches whoever runs the attempt."""

    def stop_asked(self) -> str | None:
        """Why the attempt is told to stop, or None."""

    def saved(self, changed: JsonObject) -> None:
        """Parts of the step's record have changed."""

    def publish(self, value: JsonValue, to: str = "", *, append: bool = False) -> None:
        """Something for whoever watches: a value, of a name, or more of the text of a name."""

    def ask(self, question: JsonObject) -> JsonObject:
        """Ask the service something, and wait for its answer."""

    async def ask_later(self, question: JsonObject) -> JsonObject:
        """The same in an `async def` task."""


class OwnLine:
    """The line of a context that a unit test makes: nobody is at the other end."""

    def __init__(self) -> None:
        self.published: list[JsonValue] = []
        self._done: JsonObject = {}
        self._files = TempFolder()

    def stop_asked(self) -> str | None:
        """Nobody asks it to stop."""
        return None

    def saved(self, changed: JsonObject) -> None:
        """Nothing is kept."""

    def publish(self, value: JsonValue, to: str = "", *, append: bool = False) -> None:
        """Keep it for the test."""
        self.published.append(value)

    def ask(self, question: JsonObject) -> JsonObject:
        """A ledger in memory, and files in a folder of this process."""
        if question["kind"] in ("fetch_file", "save_file"):
            return self._files.answer(question)
        what = question.get("what", "")
        if question["kind"] == "end_effect" and question["done"]:
            self._done[what] = question["value"]
        if question["kind"] == "begin_effect" and what in self._done:
            return {"now": "done", "value": self._done[what], "token": _token_of(what)}
        return {"now": "go", "token": _token_of(what)}

    async def ask_later(self, question: JsonObject) -> JsonObject:
        """A ledger in memory."""
        return self.ask(question)


def _token_of(what: str) -> str:
    return hashlib.blake2s(what.encode(), digest_size=16).hexdigest()
