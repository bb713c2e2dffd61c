"""Published workflows, files, and how a workflow went over time."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class PublishedWorkflow:
    """A workflow that was published; `new` where its version was not known before."""

    workflow: str
    version: str
    new: bool
    current_since_now: bool


@dataclass(frozen=True, slots=True)
class KeptFile:
    """A file that is kept, as a param or output names it."""

    sha256: str
    name: str
    media_type: str
    size: int


@dataclass(frozen=True, slots=True)
class Went:
    """How many ended how, and how long they took, in seconds; None where none did."""

    ended: int
    outcomes: dict[str, int]
    failure_rate: float | None
    median: float | None
    p95: float | None
    waited: float | None


@dataclass(frozen=True, slots=True)
class DayWent(Went):
    """The runs of a workflow on one day."""

    day: str


@dataclass(frozen=True, slots=True)
class StepWent(Went):
    """The attempts of a step."""

    address: str


@dataclass(frozen=True, slots=True)
class OverTime:
    """How a workflow went over some days."""

    workflow: str
    days: list[DayWent]
    steps: list[StepWent]
