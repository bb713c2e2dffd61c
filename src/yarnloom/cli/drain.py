"""Draining a worker."""

from __future__ import annotations

from yarnloom.cli import output
from yarnloom.cli.output import out
from yarnloom.client import Client
from yarnloom.client.http_requests import drain_request
from yarnloom.errors import InvalidInput


def drained(words: list[str]) -> str:
    """The worker that `worker drain NAME` names.

    Raises:
        InvalidInput: something else was typed.
    """
    match words:
        case ["drain", name]:
            return name
    raise InvalidInput(
        f"found `worker {' '.join(words)}`; expected `worker drain NAME`, `worker stop NAME` or "
        "`worker status`"
    )


def drain(client: Client, worker: str, reason: str, as_json: bool) -> int:
    """Let a worker end when it has nothing in hand."""
    found = client.call(drain_request(worker, reason))
    if as_json:
        output.print_json(found)
        return 0
    held = output.count(len(found["in_hand"]), "attempt")
    out.print(f"worker {found['name']} takes nothing new, and ends when its {held} have ended")
    return 0
