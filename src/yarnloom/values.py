"""Values: the JSON that passes between steps, strictly.

Integers stay exact at any size, NaN and infinity are refused with their path, and a value over
256 KiB is refused. `encode` and `decode` are the only way in and out.
"""

from __future__ import annotations

import hashlib
import json
import math
from typing import Any

from pydantic_core import from_json

from yarnloom.errors import Problem, ValueRefused

VALUE_LIMIT = 256 * 1024
"""Largest encoded value, in bytes."""


def encode(value: Any, what: str = "the value", limit: int = VALUE_LIMIT) -> str:
    """The value as compact JSON text.

    Args:
        value: dicts, lists, text, numbers, booleans and None, nested at will.
        what: names the value in the error, e.g. "the output of step fetch".
        limit: the most bytes that it may have.

    Raises:
        ValueRefused: it is not JSON, holds NaN or infinity, or is too large.
    """
    try:
        text = json.dumps(value, allow_nan=False, separators=(",", ":"), ensure_ascii=False)
        size = len(text.encode())
    except (ValueError, TypeError, RecursionError) as error:
        problem = _unfit(value, "") or Problem("", str(error))
        raise ValueRefused(
            f"{what} is not JSON, so it cannot be kept or passed on", problems=[problem]
        ) from error
    if size > limit:
        raise ValueRefused(
            f"{what} is {size:,} bytes; at most {limit:,} are kept. "
            "Return a file (ctx.save_file keeps one), rows (ctx.save_rows), or a summary."
        )
    return text


def size_of(text: str | None) -> int:
    """How many bytes a text has, encoded; 0 for None."""
    if text is None or text.isascii():
        return len(text or "")
    return len(text.encode())


def decode(text: str | bytes, what: str = "the value") -> Any:
    """The value of a JSON text; NaN and infinity are refused.

    Raises:
        ValueRefused: the text is not JSON.
    """
    try:
        return from_json(text, allow_inf_nan=False)
    except ValueError as error:
        raise ValueRefused(f"{what} is not JSON: {error}") from error


def fingerprint(value: Any) -> str:
    """A hash of the value's content, the same whatever the order of its keys."""
    text = json.dumps(value, sort_keys=True, separators=(",", ":"), ensure_ascii=False)
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()


def pointer(*path: str | int) -> str:
    """A JSON Pointer (RFC 6901) for a path of keys and indices."""
    return "".join("/" + str(key).replace("~", "~0").replace("/", "~1") for key in path)


def not_finite(value: Any, where: str = "") -> Problem | None:
    """The first NaN or infinity in a value of Python types, or None."""
    if isinstance(value, float):
        if math.isfinite(value):
            return None
        return Problem(where, f"found {value}; JSON has only finite numbers. Use null instead.")
    if isinstance(value, dict):
        found = (not_finite(inner, where + pointer(str(key))) for key, inner in value.items())
    elif isinstance(value, list | tuple | set | frozenset):
        found = (not_finite(inner, f"{where}/{index}") for index, inner in enumerate(value))
    else:
        return None
    return next((problem for problem in found if problem), None)


def _unfit(value: Any, where: str) -> Problem | None:
    """The first place in a value that JSON cannot hold."""
    if isinstance(value, float):
        return not_finite(value, where)
    if isinstance(value, str):
        try:
            value.encode()
        except UnicodeEncodeError:
            return Problem(where, "found text with a lone surrogate, which UTF-8 cannot hold")
    if isinstance(value, dict):
        for key, inner in value.items():
            if not isinstance(key, str):
                return Problem(where, f"found the key {key!r}; keys must be text")
            if problem := _unfit(inner, where + pointer(key)):
                return problem
        return None
    if isinstance(value, list | tuple):
        found = (_unfit(inner, f"{where}/{index}") for index, inner in enumerate(value))
        return next((problem for problem in found if problem), None)
    if value is None or isinstance(value, str | bool | int | float):
        return None
    return Problem(
        where, f"found a {type(value).__name__}; expected text, number, boolean, null, list or dict"
    )
