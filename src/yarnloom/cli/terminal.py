"""Rich output on a terminal, through which nothing that others wrote reaches it as it is.

See `text_streams` for what is harmful. Colours are kept in log lines only.
"""

from __future__ import annotations

import re
import sys
from collections.abc import Iterable
from typing import Any

from rich.console import Console, ConsoleOptions, RenderableType
from rich.segment import Segment
from rich.table import Table
from rich.text import Text

from yarnloom.cli.text_streams import HARMFUL, visible
from yarnloom.values import JsonValue

_COLOUR = re.compile("\x1b\\[[0-9;:]{0,40}m")


def coloured(text: str) -> Text:
    """Return a log line with its colours, and nothing else of what a terminal would obey."""
    pieces, at = [], 0
    for colour in _COLOUR.finditer(text):
        pieces += [visible(text[at : colour.start()]), colour[0]]
        at = colour.end()
    pieces.append(visible(text[at:]))
    return Text.from_ansi("".join(pieces), end="")


WHOLE = 1_000_000
"""The width for pipes and files: a program reads every line whole."""


class SafeConsole(Console):
    """A console through which nothing reaches a terminal that was not made visible."""

    def on_broken_pipe(self) -> None:
        """Raise, so that the command decides how it goes on without a reader."""
        raise BrokenPipeError

    def render(
        self, renderable: RenderableType, options: ConsoleOptions | None = None
    ) -> Iterable[Segment]:
        """Render as ever, with the texts in it made visible; what Rich itself sends is kept."""
        for segment in super().render(renderable, options):
            if segment.control or not HARMFUL.search(segment.text):
                yield segment
            else:
                yield Segment(visible(segment.text), segment.style)


class SafeTable(Table):
    """A table whose cells are made visible before they are measured."""

    def add_row(self, *cells: Any, **options: Any) -> None:
        """Add a row."""
        super().add_row(*map(_safe_cell, cells), **options)


def _safe_cell(cell: JsonValue) -> JsonValue:
    if isinstance(cell, str):
        return visible(cell)
    if isinstance(cell, Text) and HARMFUL.search(cell.plain):
        return Text(visible(cell.plain), style=cell.style)
    return cell


def _console(*, stderr: bool = False) -> SafeConsole:
    stream = sys.stderr if stderr else sys.stdout
    width = None if stream.isatty() else WHOLE
    return SafeConsole(highlight=False, soft_wrap=False, markup=False, stderr=stderr, width=width)


out = _console()
err = _console(stderr=True)
