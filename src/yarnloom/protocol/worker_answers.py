"""Answers about workers, and to them."""

from __future__ import annotations

from pydantic import Field

from yarnloom.protocol.answer_fields import Answer, Moment
from yarnloom.protocol.worker_messages import AnyMessage
from yarnloom.values import JsonObject, JsonValue


class AttemptInHand(Answer):
    """An attempt that a worker runs."""

    run: int
    address: str
    begun_at: Moment | None
    code_hash: str


class LastAttempt(Answer):
    """The attempt that a worker had in hand and that ended last."""

    id: int
    ended_at: Moment
    run: int | None = None
    address: str = ""
    begun_at: Moment | None = None
    code_hash: str = ""


class WorkerFacts(Answer):
    """A worker as it is now, without the addresses of what it runs."""

    id: str
    name: str
    facts: JsonObject
    registered: bool
    places: int
    io_places: int
    has: list[str] = Field(description="What steps can ask for with `only_on`.")
    pools: list[str] | None = Field(description="It takes from these only; null takes all.")
    draining: bool
    trouble: str | None
    in_hand: list[int] = Field(description="Its open attempts.")
    idle_since: Moment | None
    last: LastAttempt | None
    tasks: dict[str, str] = Field(description="By full name the hash of the code.")
    code: str = Field(description="A hash of all its code.")
    seen_at: Moment


class WorkerAnswer(WorkerFacts):
    """A worker as it is now, with what it runs."""

    runs: list[AttemptInHand]


class WorkerList(Answer):
    """The workers as they are now."""

    workers: list[WorkerAnswer]


class RegisteredAnswer(Answer):
    """To a worker that has registered."""

    worker: str
    service: str
    lease: float = Field(description="Seconds.")
    epoch: str = Field(description="Of the records; later requests carry it.")
    commits: int
    secret: str = Field(description="Later requests carry it in the header `Yarnloom-Worker`.")


class PollAnswer(Answer):
    """Work and orders for a worker: `docs/worker-protocol.md` has each kind."""

    messages: list[AnyMessage]
    closing: bool
    commits: int


class RefusedItem(Answer):
    """A report of an attempt that was refused."""

    attempt: int
    why: str


class ReportAnswer(Answer):
    """What was refused of a report, and work and orders for the worker."""

    refused: list[RefusedItem]
    messages: list[AnyMessage]
    commits: int


class BegunEffectAnswer(Answer):
    """How an attempt goes on with a side effect."""

    now: str = Field(description="go, done, unsure or busy.")
    token: str
    value: JsonValue = Field(None, description="With `done`: what it gave.")


class NoContent(Answer):
    """It was done."""
