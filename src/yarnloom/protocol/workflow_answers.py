"""Answers about workflows, tasks, files, and the service itself."""

from __future__ import annotations

from typing import Literal

from pydantic import ConfigDict, Field

from yarnloom.protocol.answer_fields import Answer, Moment, OrUnreadable
from yarnloom.protocol.part_answers import PartAnswer
from yarnloom.values import JsonObject, JsonValue


class PublishedWorkflow(Answer):
    """A workflow that was published."""

    workflow: str
    version: str
    new: bool = Field(description="Its version was not known before.")
    current_since_now: bool


class PublishedWorkflows(Answer):
    """The workflows of a publication."""

    workflows: list[PublishedWorkflow]


class WorkflowAnswer(Answer):
    """The current version of a workflow."""

    name: str
    version: str
    params: JsonObject = Field(description="JSON Schema.")
    tasks: list[str]
    published_at: Moment
    published_by: str
    last_run: int | None


class WorkflowWithPlan(WorkflowAnswer):
    """The current version of a workflow, with its plan."""

    plan: PartAnswer


class WorkflowList(Answer):
    """The current version of every workflow."""

    workflows: list[OrUnreadable[WorkflowAnswer]]


class TaskOnWorker(Answer):
    """A worker that has a task."""

    name: str
    code_hash: str


class TaskAnswer(Answer):
    """A published task, as it was published, and which workers have it."""

    model_config = ConfigDict(extra="allow")

    name: str
    code_hash: str
    input: JsonObject = Field(description="JSON Schema.")
    output: JsonObject = Field(description="JSON Schema.")
    workers: list[TaskOnWorker]
    published_at: Moment


class TaskWithCode(TaskAnswer):
    """A task with its code."""

    shown_code: str = Field(description="The hash of the code that is shown.")
    source: str
    seen_at: Moment


class TaskList(Answer):
    """Every task that was published."""

    tasks: list[OrUnreadable[TaskAnswer]]


class FileReference(Answer):
    """A file that is kept, as params and outputs name it."""

    sha256: str
    name: str
    media_type: str
    size: int


class KeptFile(FileReference):
    """A file that is kept."""

    kept_by: str
    count: int | None = Field(description="Of a list, how many values it has.")
    runs: int = Field(description="How many runs use it.")
    kept_at: Moment
    idle_from: Moment | None = Field(description="Since when no run uses it.")


class FileList(Answer):
    """Files, newest first."""

    files: list[OrUnreadable[KeptFile]]
    next: str | None


class FileFacts(KeptFile):
    """A file with the runs that use it, the newest first."""

    used_by: list[int] = Field(description="Run numbers.")


class Preview(Answer):
    """What is in a file, at a glance."""

    kind: Literal["picture", "table", "text", "none"]
    columns: list[str] = Field(default_factory=list)
    rows: list[list[JsonValue] | None] = Field(default_factory=list)
    text: str = ""
    more: bool = False


class RowProblemAnswer(Answer):
    """One mistake in a file of rows."""

    line: int = Field(description="Where its row begins, from 1; 0 for the file as a whole.")
    column: str | None = Field(description="Null where its row as a whole is meant.")
    message: str


class RowsPreview(Answer):
    """The first rows of a file as a run would get them, and the first mistakes."""

    rows: list[JsonValue] = Field(description="Up to 10 good ones.")
    good: int = Field(description="Of the rows that were looked at.")
    bad: int = Field(description="Of the rows that were looked at.")
    whole: bool = Field(description="Whether these are all rows of the file.")
    problems: list[RowProblemAnswer] = Field(description="Up to 20.")
    remark: str | None = Field(description="What the bytes say against how they are read.")


class HealthAnswer(Answer):
    """Whether the process answers, or the service is ready."""

    status: Literal["pass", "fail"]
    reason: str = Field("", description="With `fail`.")


class ServiceAnswer(Answer):
    """Which service this is."""

    id: str
    version: str
    data: str = Field(description="Its data folder.")
    starts: int
    started_at: Moment
    commits_on: Literal["thread", "loop"]
    pid: int
