"""Bodies of requests that workers send."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import (
    Field,
    model_validator,
)

from yarnloom.protocol.bodies import Ago, Natural
from yarnloom.protocol.fields import (
    LONGEST,
    AttemptKey,
    Id,
    Ids,
    JsonObject,
    Name,
    Reported,
    Strict,
    Trouble,
    Truth,
    Value,
    Word,
)


class OfferBody(Strict):
    """A task as a worker has it."""

    code_hash: Annotated[str, Field(max_length=100)]
    input: JsonObject | None = Field(None, description="JSON Schema of its inputs.")
    output: JsonObject | None = Field(None, description="JSON Schema of what it returns.")
    source: Annotated[str, Field(max_length=200_000)] = Field("", description="The code.")
    grace: Annotated[float, Field(strict=True, ge=0, le=LONGEST)] = Field(
        0.0, description="Seconds that it needs to hear of a time-out before it has come."
    )


class RegisterBody(Strict):
    """A worker says what it is."""

    id: Annotated[str, Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$")]
    name: Annotated[str, Field(max_length=100)]
    facts: JsonObject = Field(default_factory=dict, description="Host, pid and the like.")
    places: Annotated[int, Field(strict=True, ge=0, le=100_000)]
    io_places: Annotated[int, Field(strict=True, ge=0, le=100_000)] = 0
    tasks: dict[str, str | OfferBody] = Field(
        description="Full task names, each with its code hash, or that and its types."
    )
    io_tasks: list[str] = Field(
        default_factory=list, description="Those of them that have the io places."
    )
    plain_tasks: list[str] = Field(
        default_factory=list, description="Those of them that need nothing but their input."
    )
    in_hand: Ids = Field(default_factory=list, description="Attempts it is running.")
    ahead: Annotated[int, Field(strict=True, ge=0, le=100_000)] = Field(
        0, description="Attempts over its places that it may hold, since they begin at once."
    )
    has: Annotated[list[Word], Field(max_length=100)] = Field(
        default_factory=list, description="What steps can ask for with `only_on`."
    )
    pools: list[Name] | None = Field(None, description="Takes from these only; null takes all.")
    draining: Truth = Field(False, description="Takes nothing new, and ends.")
    until_idle: Truth = Field(False, description="To be told when nothing is left to do.")
    abandoned: Ids = Field(
        default_factory=list, description="Ended attempts whose processes go on."
    )
    trouble: Trouble = None
    service: Annotated[str, Field(max_length=100)] = Field(
        "", description="The service that it was registered with before."
    )
    epoch: Annotated[str, Field(max_length=100)] = Field(
        "", description="Of that service's records, as they were then."
    )
    commits: Annotated[int, Field(strict=True, ge=0, le=2**53)] = Field(
        0, description="The newest commit of them that it has seen."
    )


class FromWorker(Strict):
    """What every request of a worker carries."""

    epoch: Annotated[str, Field(max_length=100)] = Field(
        description="As the registration was answered: in which its attempts were given out."
    )

    received: Ids = Field(
        default_factory=list, description="Serial numbers of messages that have arrived."
    )
    places: Annotated[int, Field(strict=True, ge=0, le=100_000)] | None = None
    io_places: Annotated[int, Field(strict=True, ge=0, le=100_000)] | None = None
    ahead: Annotated[int, Field(strict=True, ge=0, le=100_000)] | None = None
    trouble: Trouble = None


class PollBody(FromWorker):
    """The open request."""


class ItemBody(Strict):
    """What happened to one attempt."""

    attempt: Id
    outcome: (
        Literal[
            "done",
            "failed",
            "refused",
            "lost",
            "stopped",
            "handed_back",
            "called_again",
            "cancelled",
        ]
        | None
    ) = None
    output: Any = None
    error: Reported | None = None
    begun_ago: Annotated[float, Field(strict=True, ge=0, le=LONGEST)] | None = None
    ended_ago: Annotated[float, Field(strict=True, ge=0, le=LONGEST)] = 0.0
    pid: Annotated[int, Field(strict=True, ge=0, le=2**53)] | None = None
    cpu: Annotated[float, Field(strict=True, ge=0, le=LONGEST)] | None = None
    memory: Annotated[int, Field(strict=True, ge=0, le=2**53)] | None = None
    after: Annotated[float, Field(strict=True, ge=0, le=31_622_400)] | None = Field(
        None, description="Seconds after which the task asked to be tried, or called, again."
    )
    saved: Reported | None = Field(None, description="All that it saved.")
    abandoned: Truth = Field(False, description="Its process goes on with it: see `freed`.")


class DoneBody(Strict):
    """Attempts that are done, with nothing special about them: an entry for each in every list."""

    attempts: Ids
    outputs: list[Any]
    begun_ago: list[Ago]
    ended_ago: list[Ago]
    pids: list[Natural | None]
    cpu: list[Ago | None]
    memory: list[Natural | None]

    @model_validator(mode="after")
    def _are_of_one_length(self) -> DoneBody:
        lengths = {name: len(getattr(self, name)) for name in type(self).model_fields}
        if len(set(lengths.values())) > 1:
            found = ", ".join(f"{name} {length}" for name, length in lengths.items())
            raise ValueError(f"every list has an entry for each attempt; found {found}")
        return self


class LogBody(Strict):
    """Lines that an attempt printed."""

    attempt: Id
    first: Annotated[int, Field(strict=True, ge=0, le=2**53)] = Field(
        description="How many lines came before these."
    )
    lines: Annotated[list[Reported], Field(max_length=100_000)]


class ReportBody(FromWorker):
    """What happened to a worker's attempts, and what they printed."""

    items: list[ItemBody] = Field(default_factory=list)
    done: DoneBody | None = None
    logs: list[LogBody] = Field(default_factory=list)
    freed: Ids = Field(
        default_factory=list, description="Abandoned attempts whose processes have ended."
    )
    saved: dict[AttemptKey, Reported] = Field(
        default_factory=dict, description="By running attempt all that it saved so far."
    )


class EffectBody(Strict):
    """A side effect, as an attempt names it."""

    attempt: Id
    what: Annotated[str, Field(min_length=1, max_length=200)]
    scope: Literal["step", "run"] = "step"


class BeginEffectBody(EffectBody):
    """A side effect is about to begin."""

    call: Annotated[int, Field(strict=True, ge=0, le=2**53)] = Field(
        description="Counts the attempt's calls."
    )
    again: Truth = Field(False, description="Begin it also where it is unsure.")
    is_used: Truth = Field(True, description="Whether the task looks at what it gives.")


class EndEffectBody(EffectBody):
    """A side effect was done, or did not happen."""

    done: Truth
    value: Value = None
