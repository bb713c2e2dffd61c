"""What a run is started with, as the clients send it."""

from __future__ import annotations

import uuid
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime

from yarnloom.client.file_transfer import plain
from yarnloom.errors import Problem, ValueRefused
from yarnloom.units import Duration, seconds
from yarnloom.values import JsonObject, JsonValue, encode


@dataclass(frozen=True, slots=True)
class Start:
    """One start of many: `client.start_many([Start("send-letter", {"order": 17}), ...])`.

    Attributes:
        workflow: its name, `loom/name` where the short one is not unique; of a single task its.
        params: what the run is started with.
        key: start key: starting twice with one makes one run. Made up unless given, so that
            sending twice is safe.
        priority: higher runs first.
        share: the name fair turns count by; the run itself unless given.
        tags: words to find it by.
        start_at: not before that time; with a time zone.
        start_in: instead of it: how long from now, by the service's clock.
        start_by: it is not begun after that time, but ends cancelled as expired.
        task: whether it is a single task.
    """

    workflow: str
    params: Mapping[str, JsonValue] = field(default_factory=dict)
    key: str | None = None
    priority: int = 0
    share: str = ""
    tags: tuple[str, ...] = ()
    start_at: datetime | None = None
    start_in: Duration | None = None
    start_by: datetime | None = None
    task: bool = False

    def __post_init__(self) -> None:
        """Refuse what would be taken for something else.

        Raises:
            TypeError: the tags are one text, which is a list of letters; or a number is none.
        """
        if isinstance(self.tags, str):
            raise TypeError(
                f"tags is the text {self.tags!r:.60}; expected a list or tuple of texts"
            )
        if isinstance(self.priority, bool) or not isinstance(self.priority, int):
            raise TypeError(f"priority is {self.priority!r:.60}; expected a whole number")

    def to_json(self) -> JsonObject:
        """The start as it is sent.

        Raises:
            ValueRefused: the params are not JSON, or a time makes no sense.
        """
        given = plain(dict(self.params))
        encode(given, "params")
        body = {
            "task" if self.task else "workflow": self.workflow,
            "params": given,
            "key": self.key or uuid.uuid4().hex,
            "priority": self.priority,
            "share": self.share,
            "tags": list(self.tags),
        }
        times = {
            "start_at": _moment("start_at", self.start_at),
            "start_in": _wait(self.start_in),
            "start_by": _moment("start_by", self.start_by),
        }
        return body | {name: value for name, value in times.items() if value is not None}


def many(starts: Iterable[Start]) -> list[JsonObject]:
    """Many starts as they are sent."""
    return [start.to_json() for start in starts]


def _moment(name: str, at: datetime | None) -> str | None:
    if at is None:
        return None
    if not isinstance(at, datetime) or at.utcoffset() is None:
        message = f"found {at!r:.60}; expected a datetime with a time zone, as datetime.now(UTC)"
        raise ValueRefused("the start time is not right", problems=[Problem(f"/{name}", message)])
    return at.isoformat()


def _wait(after: Duration | None) -> float | None:
    if after is None:
        return None
    try:
        return seconds(after)
    except ValueError as error:
        problem = Problem("/start_in", str(error))
        raise ValueRefused("the start time is not right", problems=[problem]) from None
