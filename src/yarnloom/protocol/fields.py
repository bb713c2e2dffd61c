"""Fields of request bodies: their types and limits."""

from __future__ import annotations

from datetime import datetime
from itertools import islice
from typing import Annotated, Any, Literal, get_args

from pydantic import (
    AfterValidator,
    AwareDatetime,
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    ValidatorFunctionWrapHandler,
    WrapValidator,
)

from yarnloom.task_texts import MESSAGE_LIMIT, cut_text
from yarnloom.units import seconds
from yarnloom.values import PLAN_DEPTH, JsonObject, JsonValue, depth_problem, number_problem


def _fits(limit: int) -> AfterValidator:
    """Refuse a value that is nested too deeply, or holds a number that cannot be kept."""

    def check(value: JsonValue) -> JsonValue:
        if problem := depth_problem(value, limit) or number_problem(value):
            raise ValueError(f"{problem.message}: see {problem.where}")
        return value

    return AfterValidator(check)


def _is_text(value: JsonValue) -> JsonValue:
    if isinstance(value, str | datetime):
        return value
    raise ValueError("expected text as 2027-03-01T07:30:00Z")


def _within_calendar(value: datetime) -> datetime:
    if FIRST_YEAR <= value.year <= LAST_YEAR:
        return value
    raise ValueError(f"expected a year from {FIRST_YEAR} to {LAST_YEAR}")


def _is_span(value: str) -> str:
    seconds(value)
    return value


FIRST_YEAR, LAST_YEAR = 1970, 9998
"""Beyond them an offset can lead out of the calendar."""


Time = Annotated[AwareDatetime, BeforeValidator(_is_text), AfterValidator(_within_calendar)]
"""RFC 3339 with an offset."""


Span = Annotated[str, Field(max_length=50), AfterValidator(_is_span)]
"""A duration as text."""


Role = Literal["view", "operate", "publish", "work", "admin"]
"""What a token may do: read all; start, pause, cancel and decide; publish workflows; work for the
service; everything."""

ROLES: tuple[Role, ...] = get_args(Role)


FilterName = Annotated[str, Field(pattern=r"^\w[\w .-]{0,59}$")]
"""The name of a saved filter."""


Value = Annotated[JsonValue, _fits(64)]
"""Any JSON value, as deep as a value may be."""


ValueObject = Annotated[JsonObject, _fits(64)]
"""An object of them: one level more."""


PlanDocument = Annotated[JsonObject, _fits(PLAN_DEPTH)]


Real = Annotated[float, Field(strict=True)]


Truth = Annotated[bool, Field(strict=True)]


Id = Annotated[int, Field(strict=True, ge=1, le=2**53)]
"""The number of an attempt or a message."""


AttemptKey = Annotated[int, Field(ge=1, le=2**53)]
"""The same as the key of an object, which is a text."""


STOP_EARLY = Field(fail_fast=True)
"""Of a list: say the first mistake. To build the texts of thousands would hold up everybody."""

Ids = Annotated[list[Id], Field(max_length=100_000, fail_fast=True)]


Name = Annotated[str, Field(min_length=1, max_length=201)]


Word = Annotated[str, Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,49}$")]


Tags = Annotated[list[Annotated[str, Field(max_length=100)]], Field(max_length=20)]


LONGEST = 315_360_000.0
"""Ten years, in seconds."""


def cut_to(limit: int) -> AfterValidator:
    """Cut a text to so many bytes. A report is never refused since a text in it is long."""
    return AfterValidator(lambda text: cut_text(text, limit))


def first_mistakes(most: int) -> WrapValidator:
    """Look for mistakes in a piece of a large object at a time, and stop at the first that has any.

    Args:
        most: how many entries are in a piece.
    """

    def check(value: JsonValue, handler: ValidatorFunctionWrapHandler) -> JsonValue:
        if not isinstance(value, dict) or len(value) <= most:
            return handler(value)
        checked: dict[Any, Any] = {}
        entries = iter(value.items())
        while piece := dict(islice(entries, most)):
            checked |= handler(piece)
        return checked

    return WrapValidator(check)


Trouble = Annotated[
    Annotated[str, cut_to(MESSAGE_LIMIT)] | None,
    Field(description="Why its processes can take nothing."),
]


Who = Annotated[str, Field(max_length=200)]


class Strict(BaseModel):
    """A request body: a field that is not known is a mistake."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


Priority = Annotated[int, Field(strict=True, ge=-1000, le=1000)]
"""How urgent a run is; higher runs first."""
