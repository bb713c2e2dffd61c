"""Lists as commands print them."""

from __future__ import annotations

from yarnloom.cli import output
from yarnloom.cli.output import out
from yarnloom.client import Client, Request


def print_list(
    client: Client, noun: str, columns: tuple[output.Column, ...], hint: str, as_json: bool
) -> int:
    """A table of everything of a kind, or how to get the first."""
    found = client.call(Request("GET", f"/{noun}"))
    if as_json:
        output.print_json(found)
        return 0
    if not found[noun]:
        output.say(f"no {noun}; {hint}")
        return 0
    out.print(output.list_table(columns, found[noun]))
    return 0
