"""Messages of the service to a worker, one model for each kind (`docs/worker-protocol.md`)."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from yarnloom.protocol.answer_fields import Answer
from yarnloom.values import JsonObject


class SentAlong(Answer):
    """An attempt that the worker runs behind the one that it was sent along with."""

    attempt: int
    task: str
    code_hash: str
    address: str
    token: str
    input: JsonObject = Field(description="What is known already.")
    passed: dict[str, int] = Field(description="By input the attempt whose output it is.")


class WorkMessage(Answer):
    """Run an attempt."""

    kind: Literal["work"]
    serial: int = Field(description="To acknowledge it with, in `received`.")
    attempt: int
    address: str
    number: int = Field(description="Which attempt of its step.")
    tries: int = Field(description="Which try, as retry rules count.")
    task: str
    code_hash: str
    input: JsonObject
    token: str = Field(description="The same over all attempts of the step.")
    memory: int | None = Field(None, description="Bytes that it may use.")
    begin: Literal["recorded"] | None = Field(None, description="Report the begin first.")
    saved: JsonObject | None = Field(None, description="What the attempt before it saved.")
    secrets: list[str] | None = Field(None, description="Texts to hide in what is reported.")
    relay: list[SentAlong] | None = Field(None, description="Attempts that come behind it.")


class WorksMessage(Answer):
    """Run many attempts of one step, in items that follow each other."""

    kind: Literal["works"]
    serial: int
    first: int = Field(description="The first attempt; the others follow.")
    items: list[tuple[str, JsonObject] | None] = Field(
        description="The key of each item and its own inputs; null is not to be run."
    )
    address: tuple[str, str] = Field(description="What comes before the key, and behind it.")
    step: int
    task: str
    code_hash: str
    input: JsonObject = Field(description="The inputs that all have.")
    token: str = Field(description="What the token of each begins with.")


class StopMessage(Answer):
    """Stop an attempt."""

    kind: Literal["stop"]
    serial: int
    attempt: int
    why: str
    raise_in: float | None = Field(None, description="Seconds until it is raised in the task.")
    now: bool | None = Field(None, description="Raise it at once, without a grace.")


class AttemptMessage(Answer):
    """Let an attempt go on, drop it, or give it back if it has not begun."""

    kind: Literal["go_on", "drop", "give_back"]
    serial: int
    attempt: int


class WorkerMessage(Answer):
    """Take nothing new and end, or end since no work is left."""

    kind: Literal["drain", "idle"]
    serial: int


AnyMessage = Annotated[
    WorkMessage | WorksMessage | StopMessage | AttemptMessage | WorkerMessage,
    Field(discriminator="kind"),
]
"""A message of the service to a worker."""
