"""Bodies of requests that workers send."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal, NotRequired

from pydantic import AfterValidator, ConfigDict, Field, model_validator
from typing_extensions import TypedDict

from yarnloom.errors import ValueRefused
from yarnloom.protocol.bodies import Ago, Natural
from yarnloom.protocol.fields import (
    LONGEST,
    STOP_EARLY,
    AttemptKey,
    Id,
    Ids,
    Name,
    Strict,
    Trouble,
    Truth,
    Value,
    ValueObject,
    Word,
    cut_to,
    first_mistakes,
)
from yarnloom.task_texts import (
    KINDS_LIMIT,
    LINE_LIMIT,
    MESSAGE_LIMIT,
    NAME_LIMIT,
    NOTE_LIMIT,
    TRACEBACK_LIMIT,
    TYPE_LIMIT,
)
from yarnloom.values import JsonValue, encode

_CLOSED = ConfigDict(extra="forbid", allow_inf_nan=False)

REPORT_ENTRIES = 2_000
"""Most ends, most records and most batches of lines in one report."""

Short = Annotated[str, cut_to(TYPE_LIMIT)]
"""A name, cut where it is long."""

Figure = (
    Annotated[int, Field(strict=True, ge=-(2**63), le=2**63)]
    | Annotated[float, Field(strict=True, ge=-(2.0**63), le=2.0**63)]
)
"""A figure of progress."""

Count = Annotated[int, Field(strict=True, ge=-(2**63), le=2**63)]


class ErrorRecord(TypedDict):
    """Why an attempt is not done. Long texts are cut in the middle."""

    __pydantic_config__ = _CLOSED  # type: ignore[misc]  # as Pydantic documents it

    type: NotRequired[Annotated[Short, Field(description="The error's class.")]]
    message: NotRequired[Annotated[str, cut_to(MESSAGE_LIMIT)]]
    traceback: NotRequired[Annotated[str, cut_to(TRACEBACK_LIMIT)]]
    kinds: NotRequired[
        Annotated[
            list[Short],
            AfterValidator(lambda kinds: kinds[:KINDS_LIMIT]),
            Field(description="All classes that the error is of, for `on=` of the retry rule."),
        ]
    ]


class ProgressRecord(TypedDict, total=False):
    """How far a step is, by its own account."""

    __pydantic_config__ = _CLOSED  # type: ignore[misc]

    done: Figure | None
    total: Figure | None
    unit: Annotated[str, cut_to(NOTE_LIMIT)]
    note: Annotated[str, cut_to(NOTE_LIMIT)]
    rate: Annotated[Figure | None, Field(description="Of `done`, a second.")]
    added: Count
    skipped: Count


class PlaceRecord(TypedDict):
    """Where a tracked loop is."""

    __pydantic_config__ = _CLOSED  # type: ignore[misc]

    at: Annotated[int, Field(strict=True, ge=0, le=2**53, description="Items it has finished.")]
    last: NotRequired[Annotated[str, Field(max_length=500, description="Tells the last item.")]]
    carry: NotRequired[Annotated[str, Field(description="JSON text that the loop carries.")]]
    bare: NotRequired[
        Annotated[Truth, Field(description="It resumed without a word on what it carries.")]
    ]


class CountsRecord(TypedDict, total=False):
    """What was counted up to the places that are saved with it."""

    __pydantic_config__ = _CLOSED  # type: ignore[misc]

    added: Count
    skipped: Count


class SavedRecord(TypedDict, total=False):
    """What a step saved of itself."""

    __pydantic_config__ = _CLOSED  # type: ignore[misc]

    progress: ProgressRecord | None
    places: dict[Annotated[str, Field(max_length=NAME_LIMIT)], PlaceRecord]
    counts: CountsRecord
    kept: Annotated[JsonValue, Field(description="What the task gave to `checkpoint`.")]
    carried: Annotated[JsonValue, Field(description="What it gave to `call_again`.")]


def _is_time(text: str) -> str:
    if datetime.fromisoformat(text).tzinfo is None:
        raise ValueError("expected a time with its offset, as 2027-03-01T07:30:00Z")
    return text


class LineRecord(TypedDict):
    """A line that an attempt printed, or a value that it published."""

    __pydantic_config__ = _CLOSED  # type: ignore[misc]

    at: Annotated[
        str, Field(max_length=40, description="RFC 3339 with an offset."), AfterValidator(_is_time)
    ]
    stream: Literal["stdout", "stderr", "log", "published", "yarnloom"]
    text: NotRequired[Annotated[str, cut_to(4 * LINE_LIMIT)]]
    value: NotRequired[
        Annotated[JsonValue, Field(description="Of the stream `published`, any JSON.")]
    ]
    to: NotRequired[Annotated[str, Field(max_length=100, description="What it is called.")]]
    append: NotRequired[
        Annotated[
            bool, Field(strict=True, description="Whether it is put behind the text of `to`.")
        ]
    ]
    level: NotRequired[Short]
    logger: NotRequired[Short]
    address: NotRequired[Annotated[str, Field(max_length=2_000)]]


def _has_its_field(line: LineRecord) -> LineRecord:
    if line["stream"] == "published":
        if "value" not in line:
            raise ValueError("a published line has no `value`")
        try:
            encode(line["value"], "what was published")
        except ValueRefused as error:
            raise ValueError(str(error)) from None
    elif "text" not in line:
        raise ValueError("a printed line has no `text`")
    return line


Line = Annotated[LineRecord, AfterValidator(_has_its_field)]


class OfferBody(Strict):
    """A task as a worker has it."""

    code_hash: Annotated[str, Field(max_length=100)]
    input: ValueObject | None = Field(None, description="JSON Schema of its inputs.")
    output: ValueObject | None = Field(None, description="JSON Schema of what it returns.")
    source: Annotated[str, Field(max_length=200_000)] = Field("", description="The code.")
    grace: Annotated[float, Field(strict=True, ge=0, le=LONGEST)] = Field(
        0.0, description="Seconds that it needs to hear of a time-out before it has come."
    )


class RegisterBody(Strict):
    """A worker says what it is."""

    id: Annotated[str, Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$")]
    name: Annotated[str, Field(max_length=100)]
    facts: ValueObject = Field(default_factory=dict, description="Host, pid and the like.")
    places: Annotated[int, Field(strict=True, ge=0, le=100_000)]
    io_places: Annotated[int, Field(strict=True, ge=0, le=100_000)] = 0
    tasks: Annotated[dict[str, str | OfferBody], first_mistakes(20)] = Field(
        description="Full task names, each with its code hash, or that and its types."
    )
    io_tasks: Annotated[list[str], STOP_EARLY] = Field(
        default_factory=list, description="Those of them that have the io places."
    )
    plain_tasks: Annotated[list[str], STOP_EARLY] = Field(
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
    output: JsonValue = None
    error: ErrorRecord | None = None
    begun_ago: Annotated[float, Field(strict=True, ge=0, le=LONGEST)] | None = None
    ended_ago: Annotated[float, Field(strict=True, ge=0, le=LONGEST)] = 0.0
    pid: Annotated[int, Field(strict=True, ge=0, le=2**53)] | None = None
    cpu: Annotated[float, Field(strict=True, ge=0, le=LONGEST)] | None = None
    memory: Annotated[int, Field(strict=True, ge=0, le=2**53)] | None = None
    after: Annotated[float, Field(strict=True, ge=0, le=31_622_400)] | None = Field(
        None, description="Seconds after which the task asked to be tried, or called, again."
    )
    saved: SavedRecord | None = Field(None, description="All that it saved.")
    abandoned: Truth = Field(False, description="Its process goes on with it: see `freed`.")


class DoneBody(Strict):
    """Attempts that are done, with nothing special about them: an entry for each in every list."""

    attempts: Annotated[list[Id], Field(max_length=REPORT_ENTRIES, fail_fast=True)]
    outputs: list[JsonValue]
    begun_ago: Annotated[list[Ago], STOP_EARLY]
    ended_ago: Annotated[list[Ago], STOP_EARLY]
    pids: Annotated[list[Natural | None], STOP_EARLY]
    cpu: Annotated[list[Ago | None], STOP_EARLY]
    memory: Annotated[list[Natural | None], STOP_EARLY]

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
    lines: Annotated[list[Line], Field(max_length=100_000, fail_fast=True)]


class ReportBody(FromWorker):
    """What happened to a worker's attempts, and what they printed."""

    items: Annotated[list[ItemBody], Field(max_length=REPORT_ENTRIES, fail_fast=True)] = Field(
        default_factory=list
    )
    done: DoneBody | None = None
    logs: Annotated[list[LogBody], Field(max_length=REPORT_ENTRIES, fail_fast=True)] = Field(
        default_factory=list
    )
    freed: Ids = Field(
        default_factory=list, description="Abandoned attempts whose processes have ended."
    )
    saved: Annotated[
        dict[AttemptKey, SavedRecord], Field(max_length=REPORT_ENTRIES), first_mistakes(20)
    ] = Field(default_factory=dict, description="By running attempt all that it saved so far.")


class BeginBody(Strict):
    """An attempt begins that is recorded before it does anything."""

    attempt: Id


class GoneBody(Strict):
    """What workers had begun that are gone, as their files on that machine say."""

    begun_ago: Annotated[
        dict[
            Annotated[str, Field(max_length=100)],
            Annotated[dict[AttemptKey, Ago], Field(max_length=20_000), first_mistakes(20)],
        ],
        Field(max_length=100),
        first_mistakes(20),
    ] = Field(description="By worker and attempt how many seconds ago it began.")


class GoneAnswer(Strict):
    """Which of them the service knew."""

    known: list[str]


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
    position: Annotated[str, Field(max_length=300)] = Field(
        "", description="Of the tracked loop it is in: `NAME#INDEX`; empty outside of loops."
    )


class EndEffectBody(EffectBody):
    """A side effect was done, or did not happen."""

    done: Truth
    value: Value = None
