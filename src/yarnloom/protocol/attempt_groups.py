"""Attempts that a service gives many in one message, and a worker takes one by one.

An attempt of `works` is `compact`: the service keeps nothing of it until its end, so that each
report before that costs far more than the end.

Those of a relay come behind the one that they were given with, each with `behind`, the attempt that
it is run behind, and `passed`, by input the attempt whose output that is; `leads` says that others
come behind one.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from yarnloom.values import JsonObject

Message = JsonObject


def one_by_one(messages: Iterable[Message]) -> Iterator[Message]:
    """Messages to a worker, with each attempt as a `work` message of its own."""
    for message in messages:
        if message["kind"] == "works":
            yield from _works(message)
        elif "relay" in message:
            yield from _relay(message)
        else:
            yield message


def _relay(message: Message) -> Iterator[Message]:
    legs = message["relay"]
    yield {**{name: one for name, one in message.items() if name != "relay"}, "leads": True}
    behind, last = message["attempt"], legs[-1]
    for leg in legs:
        about = {
            "kind": "work",
            "number": 1,
            "tries": 1,
            "behind": behind,
            "leads": leg is not last,
        }
        yield {**about, **leg}
        behind = leg["attempt"]


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
            "compact": True,
        }
