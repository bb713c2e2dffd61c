"""Chunks: lines of one attempt as one row of the log file, packed where that saves much."""

from __future__ import annotations

import json
import zlib
from collections.abc import Iterator
from dataclasses import dataclass, field

from yarnloom.store.logs.log_records import FEW, PUBLISHED, Line, Mark, Printed, Printer, quoted
from yarnloom.store.select import Columns
from yarnloom.values import depth_problem

LINE_LIMIT = 20_000


CHUNK_SIZE = 128 * 1024
"""Characters of JSON after which the next chunk begins."""


_COMPRESSED_FROM = 400


_SHORT = ("at", "stream", "level", "logger")


@dataclass(slots=True)
class Chunk:
    """Consecutive lines of one attempt that are stored as one row."""

    first: int
    count: int = 0
    size: int = 0
    at: int = 0
    texts: list[str] = field(default_factory=list)


def only_chunk(pieces: list[Printed]) -> Columns | None:
    """Return the row of an attempt's first lines; None where there is more about them."""
    printer, first, lines, at = pieces[0]
    if first or len(pieces) > 1 or len(lines) > FEW:
        return None
    chunk = Chunk(0, len(lines), 0, at)
    for line in lines:
        if line.get("stream") == PUBLISHED:
            return None
        chunk.texts.append(text := json_of(line))
        chunk.size += len(text)
    return row_of(printer, chunk) if lines and chunk.size <= CHUNK_SIZE else None


def row_of(printer: Printer, chunk: Chunk) -> Columns:
    """Return a chunk as a row of the log file."""
    place = (None, printer.run, printer.address.partition("/")[2], *printer.key)
    return (*place, chunk.first, chunk.count, chunk.size, chunk.at, packed(chunk.texts))


def json_of(line: Line) -> str:
    """Return the JSON that is stored for a line, whose fields are all texts."""
    fields = [
        f'"{name}": {quoted(str(value)[:100])}' for name in _SHORT if (value := line.get(name))
    ]
    return f'{{{", ".join(fields)}, "text": {quoted(text_of(line)[:LINE_LIMIT])}}}'


def chunks_of(texts: list[str]) -> Iterator[list[str]]:
    """Divide texts into chunks of about `CHUNK_SIZE`."""
    chunk: list[str] = []
    size = 0
    for text in texts:
        chunk.append(text)
        size += len(text)
        if size > CHUNK_SIZE:
            yield chunk
            chunk, size = [], 0
    yield chunk


def published_text(printer: Printer, line: Line) -> str:
    """Return the JSON that is stored for a published value."""
    value = line.get("value")
    if problem := depth_problem(value):
        value = f"what was published cannot be shown: {problem}"
    entry = {"at": str(line.get("at"))[:100], "address": printer.address}
    named = {name: line[name] for name in ("to", "append") if line.get(name)}
    return json.dumps({**entry, "attempt": printer.key.attempt, "value": value, **named})


def text_of(line: Line) -> str:
    """Return the text of a line; of something published its value."""
    if line.get("stream") != PUBLISHED:
        return str(line.get("text", ""))
    value = line.get("value")
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)


def mark_of(line: Line) -> Mark:
    """Return where a line is in the log."""
    return Mark.of(line["mark"]) or Mark()


def packed(texts: list[str]) -> str | bytes:
    """Return texts as a JSON array, compressed where that saves much."""
    text = f"[{','.join(texts)}]"
    return text if len(text) < _COMPRESSED_FROM else zlib.compress(text.encode(), 1)


def unpacked(body: str | bytes) -> list[Line]:
    """Return the lines of a chunk."""
    lines: list[Line] = json.loads(body if isinstance(body, str) else zlib.decompress(body))
    return lines


def lines_after(first: int, body: str | bytes, after: int) -> list[Line]:
    """Return a chunk's lines from an index on."""
    lines = unpacked(body)
    begin = max(0, after - first)
    return [{"line": first + begin + at, **line} for at, line in enumerate(lines[begin:])]


def is_in(address: str, place: str) -> bool:
    """Whether a step is at a place, or in it: an item, an each, a part of the plan."""
    if not place or address == place:
        return True
    return address.startswith(place) and address[len(place)] in "/["


@dataclass(frozen=True, slots=True)
class Wanted:
    """Which lines of a run are asked for.

    Attributes:
        limit: how many at most.
        address: of a step, or of what is around it; empty for the whole run.
        text: is in them, small and capital letters alike; empty for any.
    """

    limit: int
    address: str = ""
    text: str = ""

    def among(
        self, id_: int, address: str, number: int, first: int, body: str | bytes
    ) -> list[Line]:
        """Return those lines of a chunk that are wanted."""
        if not is_in(address, self.address):
            return []
        sought = self.text.casefold()
        of_step = {"address": address, "attempt": number}
        return [
            {"mark": str(Mark(id_, at + 1)), **of_step, "line": first + at, **line}
            for at, line in enumerate(unpacked(body))
            if sought in line["text"].casefold()
        ]
