"""Values: the JSON that passes between steps, strictly.

Integers stay exact up to 1,000 digits. Longer ones, NaN and infinity are refused with their path,
as is a value over 256 KiB or nested deeper than 64. `encode` and `decode` are the only way in and
out, and `depth_problem` is the one check of depth, at every door where a value enters.

A value of depth 64 can grow deeper in the engine's hands: each part of a plan can put it into one
more list or object. So the codecs take `CODEC_DEPTH`, which no value that was let in can reach.
"""

from __future__ import annotations

import hashlib
import json
import math
from collections.abc import Callable, Iterable, Iterator
from typing import Any

from pydantic_core import from_json
from pydantic_core import to_json as _to_json

from yarnloom.errors import InvalidInput, Problem, ValueRefused

JsonValue = Any
"""None, a bool, int, float or str, or a list or dict of them."""

JsonObject = dict[str, Any]
"""A JSON object. Where the fields are known, a record or a `TypedDict` says them."""

VALUE_LIMIT = 256 * 1024
"""Largest encoded value, in bytes."""

DEPTH_LIMIT = 64
"""Deepest value from outside or from a task: how many lists and objects stand in each other."""

PLAN_DEPTH = 200
"""Deepest JSON form of a plan, whose parts nest up to 50 deep."""

CODEC_DEPTH = 300
"""Deepest JSON that is read or written at all."""

DIGITS_LIMIT = 1_000
"""Most digits of an integer. Python itself reads and writes no more than 4,300."""

_INTEGER_LIMIT = 10**DIGITS_LIMIT
_SHAPES = bytes.maketrans(b"123456789E", b"000000000e")
_MANY_DIGITS, _LARGE_EXPONENT = b"0" * 300, b"0e000"
"""Shapes in a JSON text in which a number can be too long, or larger than any finite float."""

_NESTED = (dict, list, tuple)
_SHORT: dict[type, Callable[[JsonValue], str]] = {int: str, bool: lambda value: str(value).lower()}
_SMALL = 10**15
_FLAT = frozenset({str, int, float, bool, type(None)})


def encode(
    value: JsonValue, what: str = "the value", limit: int = VALUE_LIMIT, depth: int = DEPTH_LIMIT
) -> str:
    """Return the value as compact JSON text.

    Args:
        value: dicts, lists, text, numbers, booleans and None.
        what: names the value in the error, e.g. "the output of step fetch".
        limit: the most bytes that it may have.
        depth: how deeply it may be nested.

    Raises:
        ValueRefused: it is not JSON, holds NaN or infinity, is too large or nested too deeply.
    """
    if type(value) in _SHORT and -_SMALL < value < _SMALL:
        return _SHORT[type(value)](value)
    try:
        if type(value) is str:  # the same text, much faster; of numbers it would be another
            data = _to_json(value)
            text, size, deep = data.decode(), len(data), False
        else:
            text = json.dumps(value, allow_nan=False, separators=(",", ":"), ensure_ascii=False)
            size = len(text.encode())
            # A text with few brackets cannot be deep; most have few.
            deep = text.count("[") + text.count("{") > depth
    except (ValueError, TypeError, RecursionError) as error:
        _refuse_deep(value, what, depth)
        problem = _unfit(value, "") or Problem("", str(error))
        raise ValueRefused(
            f"{what} is not JSON, so it cannot be kept or passed on", problems=[problem]
        ) from error
    if size > DIGITS_LIMIT and type(value) is not str:
        _refuse_long_numbers(value, text.encode(), what)
    if size > limit:
        raise ValueRefused(
            f"{what} is {size:,} bytes; at most {limit:,} are kept. "
            "Return a file (ctx.save_file keeps one), rows (ctx.save_rows), or a summary."
        )
    if deep:
        _refuse_deep(value, what, depth)
    return text


def encode_given(value: JsonValue, what: str) -> str:
    """Return a value that someone gave as JSON text.

    Raises:
        InvalidInput: it is not JSON, or too large.
    """
    try:
        return encode(value, what)
    except ValueRefused as refused:
        raise InvalidInput(refused.detail, problems=refused.problems) from refused


def _refuse_long_numbers(value: JsonValue, text: bytes, what: str) -> None:
    """Refuse integers of too many digits and infinities, which most texts cannot hold."""
    shape = text.translate(_SHAPES, b"+")  # far faster than a regular expression
    if (_LARGE_EXPONENT in shape or _MANY_DIGITS in shape) and (problem := number_problem(value)):
        raise ValueRefused(f"{what} cannot be kept or passed on", problems=[problem])


def _refuse_deep(value: JsonValue, what: str, depth: int) -> None:
    if problem := depth_problem(value, depth):
        raise ValueRefused(f"{what} is nested too deeply", problems=[problem])


def size_of(text: str | None) -> int:
    """How many bytes a text has, encoded; 0 for None."""
    if text is None or text.isascii():
        return len(text or "")
    return len(text.encode())


def decode(text: str | bytes, what: str = "the value") -> JsonValue:
    """Return the value of a JSON text; NaN and infinity are refused.

    Raises:
        ValueRefused: the text is not JSON, or nested deeper than `CODEC_DEPTH`.
    """
    try:
        value = from_json(text, allow_inf_nan=False)
    except ValueError as error:
        if "recursion limit" not in str(error):
            raise ValueRefused(f"{what} is not JSON: {error}") from error
        value = _decode_deep(text, what)
    if len(text) > len(_LARGE_EXPONENT) - 1:
        _refuse_long_numbers(value, text.encode() if isinstance(text, str) else text, what)
    return value


def _decode_deep(text: str | bytes, what: str) -> JsonValue:
    """Decode what is deeper than the fast codec takes, up to `CODEC_DEPTH`."""
    try:
        value = json.loads(text, parse_constant=_refuse_constant)
    except (ValueError, RecursionError) as error:
        reason = "it is nested too deeply" if isinstance(error, RecursionError) else str(error)
        raise ValueRefused(f"{what} cannot be read: {reason}") from error
    if problem := depth_problem(value, CODEC_DEPTH):
        raise ValueRefused(f"{what} is nested too deeply", problems=[problem])
    return value


def _refuse_constant(name: str) -> None:
    raise ValueError(f"found {name}; JSON has only finite numbers")


def dump(value: JsonValue) -> bytes:
    """Return a message or answer as JSON, whatever depth up to `CODEC_DEPTH` its values have.

    Raises:
        ValueRefused: it is not JSON.
    """
    try:
        return _to_json(value, inf_nan_mode="constants")
    except ValueError:
        pass  # deeper than the fast codec takes, or not JSON at all
    try:
        return json.dumps(value, ensure_ascii=False, separators=(",", ":")).encode()
    except (ValueError, TypeError, RecursionError) as error:
        raise ValueRefused(f"this cannot be written as JSON: {error}") from error


def depth_problem(value: JsonValue, limit: int = DEPTH_LIMIT, where: str = "") -> Problem | None:
    """Return the place where a value is nested deeper than a limit, or None if it is nowhere.

    Args:
        value: of dicts, lists and tuples; everything else counts as one level less.
        limit: how many of them may stand in each other.
        where: the JSON Pointer of the value itself.
    """
    if not isinstance(value, _NESTED):
        return None
    level = [value]
    for _ in range(limit):
        # A whole level at once, told apart by exact types where possible: a value of 256 KiB can
        # hold 80,000 lists.
        level = [
            inner
            for outer in level
            for inner in (outer if type(outer) is list else _values(outer))
            if (kind := type(inner)) is list
            or kind is dict
            or (kind not in _FLAT and isinstance(inner, _NESTED))
        ]
        if not level:
            return None
    place = pointer(*_first_path(value, limit))
    return Problem(where + place, f"nested more than {limit} deep; at most {limit} levels are kept")


def _first_path(value: JsonValue, length: int) -> list[str | int]:
    """The keys and indices that lead to something `length` levels deep, cut for a message."""
    path: list[str | int] = []
    stack: list[Iterator[tuple[str | int, JsonValue]]] = [_inner(value)]
    while len(path) < length:
        for key, inner in stack[-1]:
            if isinstance(inner, _NESTED):
                path.append(str(key)[:40] if isinstance(key, str) else key)
                stack.append(_inner(inner))
                break
        else:
            stack.pop()
            path.pop()
    return path


def _values(value: JsonValue) -> Iterable[JsonValue]:
    return value.values() if isinstance(value, dict) else value


def _inner(value: JsonValue) -> Iterator[tuple[str | int, JsonValue]]:
    return iter(value.items() if isinstance(value, dict) else enumerate(value))


def fingerprint(value: JsonValue) -> str:
    """A hash of the value's content, the same whatever the order of its keys."""
    text = json.dumps(value, sort_keys=True, separators=(",", ":"), ensure_ascii=False)
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()


def pointer(*path: str | int) -> str:
    """A JSON Pointer (RFC 6901) for a path of keys and indices."""
    return "".join("/" + str(key).replace("~", "~0").replace("/", "~1") for key in path)


def number_problem(value: JsonValue, where: str = "") -> Problem | None:
    """Return the first NaN, infinity or too long integer in a value of Python types, or None."""
    # The usual types first: this looks at every value of every input and output.
    kind = type(value)
    if kind is str or kind is bool or value is None:
        return None
    if isinstance(value, float):
        if math.isfinite(value):
            return None
        return Problem(where, f"found {value}; JSON has only finite numbers. Use null instead.")
    if isinstance(value, int):
        if -_INTEGER_LIMIT < value < _INTEGER_LIMIT:
            return None
        digits = int(value.bit_length() * math.log10(2)) + 1
        return Problem(
            where,
            f"found an integer of about {digits:,} digits; at most {DIGITS_LIMIT:,} are kept. "
            "Use text instead.",
        )
    if isinstance(value, dict):
        problems = (
            number_problem(inner, where + pointer(str(key))) for key, inner in value.items()
        )
    elif isinstance(value, list | tuple | set | frozenset):
        problems = (number_problem(inner, f"{where}/{index}") for index, inner in enumerate(value))
    else:
        return None
    return next((problem for problem in problems if problem), None)


def _unfit(value: JsonValue, where: str) -> Problem | None:
    """The first place in a value that JSON cannot hold."""
    # Called only for a value that the encoder refused, so it may take its time to find the place.
    if isinstance(value, float | int):
        return number_problem(value, where)
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
    if value is None or isinstance(value, str):
        return None
    return Problem(
        where, f"found a {type(value).__name__}; expected text, number, boolean, null, list or dict"
    )
