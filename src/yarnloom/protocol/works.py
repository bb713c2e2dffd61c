"""Attempts that a service gives many in one message, and a worker takes one by one."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

Message = dict[str, Any]


def one_by_one(messages: Iterable[Message]) -> Iterator[Message]:
    """Messages to a worker, with each attempt of a `works` message as a `work` message."""
    for message in messages:
        if message["kind"] == "works":
            yield from _works(message)
        else:
            yield message


def _works(message: Message) -> Iterator[Message]:
    before, after = message["address"]
    first, step, token, shared = (message[one] for one in ("first", "step", "token", "input"))
    task, code_hash = message["task"], message["code_hash"]
    for behind, item in enumerate(message["items"]):
        if item is None:
            continue  # it must not be run
        key, own = item
        yield {
            "kind": "work",
            "attempt": first + behind,
            "address": f"{before}{key}{after}",
            "number": 1,
            "tries": 1,
            "task": task,
            "code_hash": code_hash,
            "input": {**shared, **own} if shared else own,
            "token": f"{token}{step + behind}",
        }
