"""Lists as commands print them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from rich.text import Text

from yarnloom.cli import output
from yarnloom.cli.output import out
from yarnloom.cli.show import View
from yarnloom.client import Call, Client


def print_list(
    client: Client,
    noun: str,
    columns: tuple[str, ...],
    row: Callable[[View], list[Any]],
    hint: str,
    as_json: bool,
) -> int:
    """A table of everything of a kind, or how to get the first."""
    found = client.call(Call("GET", f"/{noun}"))
    if as_json:
        output.print_json(found)
        return 0
    if not found[noun]:
        output.say(f"no {noun}; {hint}")
        return 0
    rows = output.table(*columns)
    for one in output.readable(found[noun]):
        cells = ["–" if cell is None else cell for cell in row(one)]
        rows.add_row(*(cell if isinstance(cell, Text) else str(cell) for cell in cells))
    out.print(rows)
    return 0
