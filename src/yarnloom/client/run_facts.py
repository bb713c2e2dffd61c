"""Facts about a run or step, as of the last request."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Any, Literal, NoReturn, TypeVar

from pydantic import BaseModel, ValidationError

from yarnloom.errors import BadAnswer
from yarnloom.values import JsonObject, JsonValue

if TYPE_CHECKING:
    from yarnloom.protocol.part_answers import StepAnswer, StepProgress
    from yarnloom.protocol.run_answers import (
        Fault,
        RunAnswer,
        RunProgress,
        RunStateWord,
        StepStateWord,
    )

M = TypeVar("M", bound=BaseModel)


def read(model: type[M], data: JsonValue) -> M:
    """Return an answer as a record, with times as `datetime`.

    Raises:
        BadAnswer: it is none.
    """
    from yarnloom.protocol.answer_fields import READING

    try:
        return model.model_validate(data, context=READING)
    except ValidationError as error:
        raise BadAnswer(
            f"an answer does not fit {model.__name__}: {error.errors()[0]['msg']}; the service is "
            "of another version"
        ) from error


def read_list(model: type[M], data: list[JsonObject]) -> list[M]:
    """Return the records of a list; those that are damaged, and say so, are left out.

    Raises:
        BadAnswer: one does not fit.
    """
    return [read(model, record) for record in data if "unreadable" not in record]


class RunSummary(BaseModel):
    """A run in few words, to be put into an answer of your own.

    Attributes:
        fraction: how far it is, from 0 to 1; None until known.
        text: the innermost part that moves: "255 of 5,000 sacks".
        message: why it failed or was cancelled; None if it did not.
    """

    number: int
    workflow: str
    state: str
    fraction: float | None
    seconds_left: float | None
    text: str
    message: str | None
    created_at: datetime
    started_at: datetime | None
    ended_at: datetime | None


class RunFacts:
    """A run, as it was when it was last looked at; the clients' runs look again.

    Attributes:
        number: the run's number.
        data: everything the service says of it, as JSON.
    """

    __slots__ = ("_details", "_seen", "data", "number")

    def __init__(self, data: JsonObject) -> None:
        self.data = data
        self.number: int = data["number"]
        self._details: RunAnswer | None = None
        self._seen: JsonObject | None = None

    def __repr__(self) -> str:
        return f"<{type(self).__name__} {self.number} of {self.data['workflow']}: {self.state}>"

    def __iter__(self) -> NoReturn:
        """Refuse to be taken for values, as by an encoder of JSON."""
        raise TypeError(f"a {type(self).__name__} has no JSON form; return run.summary() instead")

    @property
    def details(self) -> RunAnswer:
        """Everything the service says of it, typed."""
        from yarnloom.protocol.run_answers import RunAnswer

        if self._details is None or self._seen is not self.data:
            self._details, self._seen = read(RunAnswer, self.data), self.data
        return self._details

    @property
    def state(self) -> RunStateWord | Literal["unreadable"]:
        """Its state; "unreadable" of a run whose records are damaged."""
        found: RunStateWord | Literal["unreadable"] = self.data.get("state", "unreadable")
        return found

    @property
    def workflow(self) -> str:
        """Full name of its workflow, or of a run of a single task of the task."""
        return str(self.data["workflow"])

    @property
    def params(self) -> JsonObject:
        """Its params, defaults included, secrets masked."""
        return self.details.params

    @property
    def tags(self) -> tuple[str, ...]:
        """Words to find it by."""
        return tuple(self.details.tags)

    @property
    def error(self) -> Fault | None:
        """Why it failed or was cancelled; None if it did not."""
        return self.details.error

    @property
    def progress(self) -> RunProgress:
        """How far it is."""
        return self.details.progress

    @property
    def created_at(self) -> datetime:
        """When its start was accepted."""
        return self.details.created_at

    @property
    def started_at(self) -> datetime | None:
        """When its first attempt began; None before."""
        return self.details.started_at

    @property
    def ended_at(self) -> datetime | None:
        """When it ended; None before."""
        return self.details.ended_at

    def summary(self) -> RunSummary:
        """Return it in few words, as a model that a web application can answer with."""
        run = self.details
        return RunSummary(
            number=run.number,
            workflow=run.workflow,
            state=run.state,
            fraction=run.progress.fraction,
            seconds_left=run.progress.seconds_left,
            text=run.progress.text,
            message=run.error.message if run.error else None,
            created_at=run.created_at,
            started_at=run.started_at,
            ended_at=run.ended_at,
        )


class StepFacts:
    """A step, as it was when it was last looked at; the clients' steps look again.

    Attributes:
        run: its run's number.
        address: its address within the run.
        data: everything the service says of it, its attempts included.
    """

    def __init__(self, run: int, data: JsonObject) -> None:
        self.run = run
        self.data = data
        self.address: str = data["address"].partition("/")[2]

    def __repr__(self) -> str:
        return f"<{type(self).__name__} {self.run}/{self.address}: {self.state}>"

    @property
    def details(self) -> StepAnswer:
        """Everything the service says of it, typed."""
        from yarnloom.protocol.part_answers import StepAnswer

        return read(StepAnswer, self.data)

    @property
    def state(self) -> StepStateWord:
        """Its state."""
        found: StepStateWord = self.data["state"]
        return found

    @property
    def output(self) -> Any:
        """Its output, None as long as it is not done."""
        return self.data["output"]

    @property
    def progress(self) -> StepProgress | None:
        """How far it is by its own account; None if it gives none."""
        return self.details.progress
