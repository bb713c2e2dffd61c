"""Workers as they are now, and answers to them."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.values import JsonObject, JsonValue


@dataclass(frozen=True, slots=True)
class LastAttempt:
    """The attempt that a worker had in hand and that ended last."""

    id: int
    ended_at: int


@dataclass(frozen=True, slots=True)
class WorkerRecord:
    """A worker as it is now."""

    id: str
    name: str
    facts: JsonObject
    registered: bool
    places: int
    io_places: int
    has: list[str]
    pools: list[str] | None
    draining: bool
    trouble: str | None
    in_hand: list[int]
    idle_since: int | None
    last: LastAttempt | None
    tasks: dict[str, str]
    code: str
    seen_at: int


@dataclass(frozen=True, slots=True)
class AttemptInHand:
    """An attempt that a worker runs, by address."""

    run: int
    address: str
    begun_at: int | None
    code_hash: str


@dataclass(frozen=True, slots=True)
class Registered:
    """Answer to a worker that has registered: the service, its lease in seconds, its epoch."""

    worker: str
    service: str
    lease: float
    epoch: str


@dataclass(frozen=True, slots=True)
class BegunEffect:
    """How an attempt goes on with a side effect.

    Attributes:
        now: `go`, `done` with a value, `unsure` or `busy`.
        token: the same for each try of the effect.
        value: what the effect gave.
    """

    now: str
    token: str
    value: JsonValue = None

    @property
    def is_done(self) -> bool:
        """Whether it was done before, so that `value` is what it gave."""
        return self.now == "done"
