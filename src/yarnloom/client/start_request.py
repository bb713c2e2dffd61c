"""Starts, as the clients send them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, fields
from datetime import datetime
from typing import TYPE_CHECKING, Any, TypedDict

from yarnloom.errors import Problem, ValueRefused, nearest
from yarnloom.plain_values import plain_values
from yarnloom.start_keys import generated_key
from yarnloom.units import Duration, seconds
from yarnloom.values import JsonObject, JsonValue, encode

if TYPE_CHECKING:
    from yarnloom.sdk.calls import Call, Startable


@dataclass(frozen=True, slots=True)
class Start:
    """One start of many: `client.start_many([Start(letter.of(order=17), key="17")])`.

    Attributes:
        target: a call; or the name of a workflow or task, `loom/name` where the short one is not
            unique.
        params: after a name the params, or the inputs of a task.
        key: start key: starting twice with one makes one run. Made up unless given, so that
            sending twice is safe.
        priority: higher runs first.
        share: the name fair turns count by; the run itself unless given.
        tags: words to find it by.
        at: not before that time; with a time zone.
        after: instead of it: how long from now, by the service's clock.
        start_by: it is not begun after that time, but ends cancelled as expired.
        keywords: options that were given among named inputs.
    """

    target: Call[Any] | str
    params: Mapping[str, JsonValue] = field(default_factory=dict)
    key: str | None = None
    priority: int = 0
    share: str = ""
    tags: Sequence[str] = ()
    at: datetime | None = None
    after: Duration | None = None
    start_by: datetime | None = None
    keywords: tuple[str, ...] = ()

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
        if not isinstance(self.target, str) and self.params:
            raise TypeError("the inputs of a call are in it; params are for a name")

    @property
    def name(self) -> str:
        """A workflow or task that is started."""
        return self.target if isinstance(self.target, str) else self.target.target.full_name

    def to_json(self) -> JsonObject:
        """The start as it is sent.

        Raises:
            ValueRefused: the params are not JSON, or a time makes no sense.
        """
        given = self.params if isinstance(self.target, str) else self.target.inputs
        params = plain_values(dict(given))
        encode(params, "params")
        body = {
            "target": self.name,
            "params": params,
            "key": self.key or generated_key(),
            "priority": self.priority,
            "share": self.share,
            "tags": list(self.tags),
        }
        more = {
            "at": moment_text("at", self.at),
            "after": wait_seconds(self.after),
            "start_by": moment_text("start_by", self.start_by),
            "keywords": list(self.keywords) or None,
        }
        return body | {name: value for name, value in more.items() if value is not None}


class StartOptions(TypedDict, total=False):
    """Options of a start; `Start` says what each means."""

    key: str | None
    priority: int
    share: str
    tags: Sequence[str]
    at: datetime | None
    after: Duration | None
    start_by: datetime | None


class WatchedStartOptions(StartOptions, total=False):
    """The same with a function that hears how far the check of rows is."""

    on_check: Callable[[list[JsonObject]], None] | None


OPTIONS = tuple(
    option.name for option in fields(Start) if option.name not in ("target", "params", "keywords")
)


def start_of(
    target: Call[Any] | Startable[Any] | str, given: tuple[Any, ...], named: dict[str, Any]
) -> tuple[Start, Startable[Any] | None]:
    """Return the start that the arguments of `start` mean, and its declaration.

    Args:
        target: a name, a call, or a task or workflow.
        given: further arguments without a name.
        named: arguments by name.

    Raises:
        TypeError: there is no such option, input or param.
    """
    if isinstance(target, Start):
        raise TypeError("start() takes a name, a call or a task; Start(...) is for start_many")
    declared: Any = target
    if not isinstance(target, str) and hasattr(target, "bind"):  # a task or workflow: inputs only
        return Start(declared.call(declared.bind(given, named))), declared
    options = {name: named.pop(name) for name in OPTIONS if name in named}
    if isinstance(target, str):
        params, *surplus = given or (None,)
        if surplus:
            raise TypeError("after a name one mapping of params may follow")
        if params is None:
            return Start(target, named, **options, keywords=tuple(options)), None
        _refuse_unknown(named, "with a mapping of params keywords are options only")
        return Start(target, params, **options), None
    if not hasattr(target, "inputs"):
        raise TypeError(
            f"found {target!r:.80}; expected a name, a task or workflow of a loom, or a call"
        )
    if given:
        raise TypeError("after a call only options may follow, by name")
    _refuse_unknown(named, "after a call keywords are options only")
    return Start(declared, **options), declared.target


def _refuse_unknown(named: dict[str, Any], why: str) -> None:
    for name in named:
        raise TypeError(f"start() has no option {name!r}{nearest(name, OPTIONS)}; {why}")


def many(starts: Iterable[Start | Call[Any]]) -> list[JsonObject]:
    """Many starts as they are sent."""
    return [(start if isinstance(start, Start) else Start(start)).to_json() for start in starts]


def moment_text(name: str, at: datetime | None) -> str | None:
    """Return a time as it is sent.

    Raises:
        ValueRefused: it has no time zone.
    """
    if at is None:
        return None
    if not isinstance(at, datetime) or at.utcoffset() is None:
        message = f"found {at!r:.60}; expected a datetime with a time zone, as datetime.now(UTC)"
        raise ValueRefused("the start time is not right", problems=[Problem(f"/{name}", message)])
    return at.isoformat()


def wait_seconds(after: Duration | None) -> float | None:
    """Return how long to wait, in seconds.

    Raises:
        ValueRefused: it is no duration.
    """
    if after is None:
        return None
    try:
        return seconds(after)
    except ValueError as error:
        problem = Problem("/after", str(error))
        raise ValueRefused("the start time is not right", problems=[problem]) from None
