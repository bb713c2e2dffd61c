"""Checking in a process beside the service: large bodies, and values that are costly to check.

`main` answers one job after the other, each a frame on its standard input:
four bytes of length, big-endian, and a pickle. The other side is
`service/processes/check_processes.py`,
which ends this process when a job takes too long. Nobody else can write to it: clients send JSON.
"""

from __future__ import annotations

import json
import pickle
import sys
from collections import Counter
from dataclasses import dataclass
from itertools import islice
from typing import Any, BinaryIO

from pydantic import BaseModel, ValidationError

from yarnloom.errors import InvalidInput, Problem, ValueRefused
from yarnloom.plan.value_problems import MOST_SHOWN, problems_of
from yarnloom.protocol.worker_bodies import PollBody, RegisterBody, ReportBody
from yarnloom.values import JsonObject, JsonValue, decode, pointer

MOST_WRITTEN = 200
"""Mistakes in a body of which Pydantic may make the texts."""

PIECE_BYTES = 64 * 1024
"""About how much of a body the service takes over at a time, so that it holds up nobody."""


@dataclass(frozen=True, slots=True)
class ParseBody:
    """Read a request's body, and check it against its model."""

    model: type[BaseModel]
    raw: bytes


@dataclass(frozen=True, slots=True)
class CheckValue:
    """Find out what is wrong with a value; both are JSON texts."""

    value: str
    schema: str


@dataclass(frozen=True, slots=True)
class Parsed:
    """A body that is right: the model without its long lists, and these in pieces.

    Attributes:
        head: the pickled model.
        pieces: for each part of a list the field that it belongs to, and the pickled part.
    """

    head: bytes
    pieces: list[tuple[str, bytes]]


FROM_PROGRAMS = (PollBody, ReportBody, RegisterBody)
"""Bodies that come often, and that no person writes."""

Job = ParseBody | CheckValue
Answer = Parsed | list[Problem]


def parse_body(model: type[BaseModel], raw: bytes) -> BaseModel:
    """Return a body as its model.

    Raises:
        InvalidInput: it is not JSON, or does not fit; every problem is named.
    """
    if not raw:
        missing = [Problem("", "Field required")]
        raise InvalidInput("the request does not fit; see `problems`", problems=missing)
    try:
        value = decode(raw, "the body")
    except ValueRefused as error:
        raise InvalidInput(error.detail, problems=error.problems) from error
    if model not in FROM_PROGRAMS and (twice := _doubled_name(raw)):
        raise InvalidInput(f"an object of the body has the name {twice!r:.80} twice")
    try:
        return model.model_validate(value)
    except ValidationError as error:
        problems = body_problems(model, value, error)
        raise InvalidInput("the body does not fit; see `problems`", problems=problems) from None


def _doubled_name(raw: bytes) -> str | None:
    """Return a name that an object in a JSON text has twice: which value is meant, nobody knows."""
    doubled: list[str] = []

    def look(pairs: list[tuple[str, Any]]) -> JsonObject:
        names = dict(pairs)
        if len(names) < len(pairs):
            counts = Counter(name for name, _ in pairs)
            doubled.append(next(name for name in names if counts[name] > 1))
        return names

    try:
        json.loads(raw, object_pairs_hook=look)
    except (ValueError, RecursionError):
        return None  # deeper than is read at all, or long integers, which are refused elsewhere
    return doubled[0] if doubled else None


def body_problems(
    model: type[BaseModel], value: JsonValue, error: ValidationError
) -> list[Problem]:
    """Return the first mistakes in a body, each with its JSON Pointer.

    Pydantic makes the texts of all mistakes or of none, and of tens of thousands that takes
    seconds. So of a body with many only the beginning of each list and object is looked at.
    """
    count = error.error_count()
    if count <= MOST_WRITTEN:
        return _first_mistakes(error)
    try:
        model.model_validate(_beginning(value))
    except ValidationError as fewer:
        if found := _first_mistakes(fewer, but="missing"):
            return found
    return [Problem("", f"{count:,} things in it do not fit")]


def _first_mistakes(error: ValidationError, but: str = "") -> list[Problem]:
    found = error.errors(include_url=False, include_context=False, include_input=False)
    some = [mistake for mistake in found if mistake["type"] != but][:MOST_SHOWN]
    return [mistake_in(mistake["loc"], mistake["msg"]) for mistake in some]


def _beginning(value: JsonValue, entries: int = 40) -> JsonValue:
    """The first entries of a value, and of the values in it, fewer on each level."""
    if isinstance(value, dict):
        some = islice(value.items(), entries)
        return {key: _beginning(inner, entries // 2) for key, inner in some}
    if isinstance(value, list):
        return [_beginning(inner, entries // 2) for inner in value[:entries]]
    return value


def mistake_in(place: tuple[int | str, ...], message: str) -> Problem:
    """Return what Pydantic says of a place, without the words that it puts before ours."""
    return Problem(pointer(*place), message.removeprefix("Value error, "))


def do_job(job: Job) -> Answer:
    """Do one job; of a body that does not fit the answer is what is wrong with it."""
    if isinstance(job, CheckValue):
        return problems_of(json.loads(job.value), json.loads(job.schema))
    try:
        body = parse_body(job.model, job.raw)
    except InvalidInput as error:
        return list(error.problems) or [Problem("", error.detail)]
    pieces = []
    for name, value in body:
        if isinstance(value, list) and len(value) > 1:
            at_once = max(1, PIECE_BYTES * len(value) // len(job.raw))
            for first in range(0, len(value), at_once):
                pieces.append((name, pickle.dumps(value[first : first + at_once])))
            object.__setattr__(body, name, [])
    return Parsed(pickle.dumps(body), pieces)


def main() -> None:
    """Answer jobs until the service is gone."""
    asked, answered = sys.stdin.buffer, sys.stdout.buffer
    write_frame(answered, "ready")
    while (job := _read_frame(asked)) is not None:
        try:
            answer: Any = do_job(job)
        except Exception as error:
            answer = error
        write_frame(answered, answer)


def write_frame(file: BinaryIO, message: Any) -> None:
    """Write a message as it travels between the two processes."""
    data = pickle.dumps(message)
    file.write(len(data).to_bytes(4, "big") + data)
    file.flush()


def _read_frame(file: BinaryIO) -> JsonValue:
    head = file.read(4)
    if len(head) < 4:
        return None
    return pickle.loads(file.read(int.from_bytes(head, "big")))
