"""Limits of the texts and numbers that come from tasks: errors, notes, units, progress.

A task can raise an error of any size, or none that Python can write as text. Each text is cut where
it arises, in the task's process, and again at the service's door, so that one task cannot burden
those who read it. A cut leaves the beginning and the end, with the count between them.
"""

from __future__ import annotations

import math
import numbers
import traceback
from types import TracebackType

from yarnloom.values import JsonObject, JsonValue

TYPE_LIMIT = 200
"""Bytes of the name of an error's class."""

MESSAGE_LIMIT = 4_000
TRACEBACK_LIMIT = 32_000
NOTE_LIMIT = 1_000
"""Bytes of a note, and of a unit."""

NAME_LIMIT = 200
"""Characters of the name of a tracked loop."""

KINDS_LIMIT = 50
"""Classes of which an error is said to be."""

LINE_LIMIT = 16_384
"""Characters of a printed line; a longer one is split, a longer log record is cut."""

LARGEST_PROGRESS = 2.0**63
"""The largest figure of progress and of counts."""


def cut_text(text: str, limit: int) -> str:
    """Return a text of at most `limit` bytes; a longer one loses its middle, with the count."""
    if len(text) <= limit and (text.isascii() or len(_bytes(text)) <= limit):
        return text
    note = f" […{len(text):,} characters in all…] "
    room = max(0, limit - len(note.encode()))
    # A character has up to four bytes, so look only at those that can be kept.
    first = _bytes(text[:room])[: room - room // 3].decode("utf-8", "ignore")
    last = _bytes(text[-room:])[-(room // 3) :].decode("utf-8", "ignore") if room > 2 else ""
    return first + note + last


def _bytes(text: str) -> bytes:
    return text.encode("utf-8", "replace")


def printable(text: str) -> str:
    """Return a text without characters that UTF-8 cannot hold, such as lone surrogates."""
    return text if text.isascii() else text.encode("utf-8", "backslashreplace").decode()


def text_of(error: BaseException) -> str:
    """Return what an error says; its `__str__` may itself fail."""
    try:
        return "".join([str(error)])  # a plain str, whatever class it is of
    except BaseException as other:
        return f"(the text of this error cannot be made: its __str__ raised {type_name(other)})"


def type_name(error: BaseException) -> str:
    """Return the name of an error's class."""
    return cut_text(printable(type(error).__name__), TYPE_LIMIT)


def traceback_text(error: BaseException, trace: TracebackType | None) -> str:
    """Return an error with its traceback as text, cut."""
    try:
        text = "".join(traceback.format_exception(type(error), error, trace))
    except Exception as other:
        text = f"(the traceback cannot be written: {type_name(other)}: {text_of(other)})"
    return cut_text(printable(text), TRACEBACK_LIMIT)


def error_record(
    kind: str, message: str, *, trace: str | None = None, kinds: list[str] | None = None
) -> JsonObject:
    """Return an error as it is kept with its attempt, its texts cut.

    Args:
        kind: the name of its class.
        message: what it says.
        trace: its traceback; None where that tells a reader no more than the message.
        kinds: the names of all classes that it is of, for the retry rule.
    """
    record: JsonObject = {
        "type": cut_text(printable(kind), TYPE_LIMIT),
        "message": cut_text(printable(message), MESSAGE_LIMIT),
    }
    if trace is not None:
        record["traceback"] = cut_text(printable(trace), TRACEBACK_LIMIT)
    if kinds is not None:
        record["kinds"] = [cut_text(printable(name), TYPE_LIMIT) for name in kinds[:KINDS_LIMIT]]
    return record


def cut_error(record: JsonObject) -> JsonObject:
    """Return an error record with its texts cut, as `error_record` makes it."""
    return record | error_record(
        record.get("type", ""),
        record.get("message", ""),
        trace=record.get("traceback"),
        kinds=record.get("kinds"),
    )


def progress_figure(what: str, value: JsonValue) -> float | int | None:
    """Return a figure of progress as a plain number.

    Args:
        what: names it in the error, as "done".
        value: a number of any numeric type, or None.

    Raises:
        ValueError: it is no number, not finite, or beyond 2^63.
    """
    if value is None or (type(value) is int and abs(value) <= LARGEST_PROGRESS):
        return value
    if isinstance(value, numbers.Integral):
        figure: float | int = int(value)
    elif isinstance(value, numbers.Real):
        figure = float(value)
    else:
        raise ValueError(f"{what} is {value!r:.60}; expected a number")
    if (isinstance(figure, float) and not math.isfinite(figure)) or abs(figure) > LARGEST_PROGRESS:
        shown = f"{figure:g}" if isinstance(figure, float) else "larger than 2^63"
        raise ValueError(f"{what} is {shown}; expected a finite number of at most 2^63")
    return figure
