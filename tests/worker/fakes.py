"""Made-up parts for a worker's rooms: a clock, processes, a spawner, a report queue."""

from __future__ import annotations

import asyncio
import itertools
from collections.abc import Callable, Container, Iterable, Sequence
from typing import Any

from yarnloom.worker.attempt_runner import AttemptRunner
from yarnloom.worker.process_pool import PoolOptions
from yarnloom.worker.processes.spawner import ProcessEvents

Message = dict[str, Any]


class FakeTimer:
    """A call that is still to come."""

    def __init__(self, at: float, call: Callable[[], Any]) -> None:
        self.at = at
        self.call = call
        self.cancelled = False

    def cancel(self) -> None:
        """Do not make the call."""
        self.cancelled = True


class FakeClock:
    """A clock that the test moves."""

    def __init__(self) -> None:
        self.time = 100.0
        self.timers: list[FakeTimer] = []

    def now(self) -> float:
        """The time that the test has set."""
        return self.time

    def later(self, seconds: float, call: Callable[..., Any], *args: Any) -> FakeTimer:
        """Call a function when the test has moved the clock so far."""
        timer = FakeTimer(self.time + seconds, lambda: call(*args))
        self.timers.append(timer)
        return timer

    def advance(self, seconds: float) -> None:
        """Move the clock, and make the calls that are due, in their order."""
        until = self.time + seconds
        while due := sorted(
            (one for one in self.timers if one.at <= until and not one.cancelled),
            key=lambda one: one.at,
        ):
            timer = due[0]
            self.timers.remove(timer)
            self.time = max(self.time, timer.at)
            timer.call()
        self.time = until


class FakeProcess:
    """A process that does what the test says."""

    _serials = itertools.count()

    def __init__(self, events: ProcessEvents, *, shared: bool, places: int = 1) -> None:
        self.events = events
        self.shared = shared
        self.serial = next(self._serials)
        self.pid = 1_000 + self.serial
        self.places = places
        self.attempts: dict[int, Message] = {}
        self.begun: dict[int, float] = {}
        self.abandoned: set[int] = set()
        self.ready = self.closing = self.killed = self.ended = False
        self.given = 0
        self.tasks: dict[str, Message] = {}
        self.last_end = 0.0
        self.running: tuple[int, float] | None = None
        self.sent: list[Message] = []
        self.interrupted: list[tuple[int, str]] = []
        self.until = 0.0
        self.stalled = False

    @property
    def counts(self) -> bool:
        """Whether it is a place."""
        return self.ready and (not self.closing or bool(self.attempts))

    def room(self, ahead: int) -> int:
        """How many attempts it can take."""
        if not self.ready or self.closing:
            return 0
        return self.places + (0 if self.shared else ahead) - len(self.attempts)

    def is_stalled(self, _: float) -> bool:
        """Whether it runs nothing although an attempt is next."""
        return self.stalled

    def has_code_of(self, work: Message) -> bool:
        """Whether it has the code that the service thinks it has."""
        return work.get("code_hash", "") in ("", self.tasks[work["task"]]["code_hash"])

    def give(self, works: Sequence[Message]) -> None:
        """Let it run attempts."""
        self.attempts |= {work["attempt"]: work for work in works}
        self.given += len(works)

    def take_back(self, which: Container[int] | None = None) -> list[Message]:
        """Take back attempts that have not begun."""
        running = self.running[0] if self.running else None
        waiting = [
            attempt
            for attempt in self.attempts
            if attempt not in (running, *self.begun) and (which is None or attempt in which)
        ]
        if self.shared:
            return []
        self.given -= len(waiting)
        return [self.attempts.pop(attempt) for attempt in waiting]

    def send(self, message: Message) -> None:
        """Keep a message for the test."""
        self.sent.append(message)

    def interrupt(self, attempt: int, why: str) -> None:
        """Keep a stop that is raised."""
        self.interrupted.append((attempt, why))

    def allow_until(self, at: float) -> None:
        """Keep until when it may go on."""
        self.until = at

    def end(self) -> None:
        """Let it end."""
        self.ended = True

    def kill(self) -> None:
        """Kill it."""
        self.killed = True

    def reap(self) -> None:
        """Nothing has died by itself."""

    # What the test lets it do

    def load(self, **tasks: Message) -> None:
        """It has loaded the looms."""
        facts = {name: {"code_hash": "h", "io": False, **more} for name, more in tasks.items()}
        self.tell(kind="loaded", tasks=facts or TASKS, folders=[])
        self.tell(kind="ready")

    def begin(self, attempt: int, at: float) -> None:
        """It runs an attempt."""
        self.running = attempt, at

    def done(self, attempt: int, begun: float, ended: float) -> None:
        """An attempt has ended well."""
        self.running = None
        message = {"kind": "ended", "attempt": attempt, "outcome": "done", "output": 1}
        end = {**message, "cpu": 0.0, "memory": 1, "at": (begun, ended)}
        self.events.on_ends(self, [end])  # type: ignore[arg-type]

    def tell(self, **message: Any) -> None:
        """It sends a message."""
        self.events.on_message(self, message)  # type: ignore[arg-type]

    def die(self, code: int, unbegun: Iterable[Message] = ()) -> None:
        """It has died."""
        self.events.on_death(self, code, list(unbegun))  # type: ignore[arg-type]


TASKS = {"l/t": {"code_hash": "h", "io": False}, "l/io": {"code_hash": "h", "io": True}}


class FakeSpawner:
    """Starts made-up processes."""

    def __init__(self, events: ProcessEvents) -> None:
        self.events = events
        self.processes: list[FakeProcess] = []

    def can_fork(self, *, wanted: bool) -> bool:
        """Each loads the looms itself."""
        return False

    def template(self, events: Any) -> Any:
        """There is none."""
        raise NotImplementedError

    def process(self, *, shared: bool, until: float, template: Any) -> Any:
        """Start one."""
        process = FakeProcess(self.events, shared=shared)
        self.processes.append(process)
        return process

    def reap(self, own: Iterable[Any]) -> None:
        """Nothing has died."""

    def close(self) -> None:
        """Nothing is left."""


class Reports:
    """What a report queue takes."""

    def __init__(self) -> None:
        self.items: list[Message] = []
        self.begun: list[Message] = []
        self.forgotten: list[int] = []
        self.lines: list[tuple[int, Message]] = []
        self.records: dict[int, Message] = {}
        self.freed_attempts: list[int] = []

    def report(self, item: Message) -> None:
        """An attempt ended."""
        self.items.append(item)

    def report_all(self, items: list[Message]) -> None:
        """Attempts ended."""
        self.items += items

    def report_begun(self, item: Message) -> None:
        """An attempt began."""
        self.begun.append(item)

    def forget(self, attempt: int) -> None:
        """Nothing of an attempt goes out."""
        self.forgotten.append(attempt)

    def line(self, attempt: int, line: Message) -> None:
        """An attempt printed."""
        self.lines.append((attempt, line))

    def saved(self, attempt: int, record: Message) -> None:
        """An attempt saved."""
        self.records[attempt] = dict(record)

    def freed(self, attempt: int) -> None:
        """The process of an abandoned attempt has ended."""
        self.freed_attempts.append(attempt)

    def wake(self) -> None:
        """The places have changed."""


class Rooms:
    """A worker's rooms around made-up processes."""

    def __init__(self, options: PoolOptions) -> None:
        self.reports = Reports()
        self.clock = FakeClock()
        self.said: list[str] = []
        self.questions: list[tuple[int, Message]] = []
        self.spawner: FakeSpawner

        def make(events: ProcessEvents) -> Any:
            self.spawner = FakeSpawner(events)
            return self.spawner

        self.runner = AttemptRunner(
            options,
            self.reports,  # type: ignore[arg-type]
            lambda attempt, question, reply: self.questions.append((attempt, question)),
            lambda: self.said.append("new code"),
            self.said.append,
            clock=self.clock,
            make_spawner=make,
        )

    @property
    def process(self) -> FakeProcess:
        """The first process that runs attempts alone and is not closing."""
        return next(
            process
            for process in self.spawner.processes
            if not process.shared and not process.closing
        )

    def take(self, *works: Message) -> None:
        """Take attempts, and give them to processes."""
        for work in works:
            self.runner.take(work)
        self.runner.routing.feed()


def with_rooms(
    do: Callable[[Rooms], None], *, processes: int = 1, started: bool = True, **options: Any
) -> Rooms:
    """Do something with a worker's rooms; return them."""
    chosen: list[Rooms] = []

    async def run() -> None:
        rooms = Rooms(PoolOptions(("nowhere:loom",), processes, 1, **options))
        chosen.append(rooms)
        if started:
            rooms.runner.pool.start()
            for process in list(rooms.spawner.processes):
                process.load()
        do(rooms)

    asyncio.run(run())
    return chosen[0]


def work(attempt: int, **more: Any) -> Message:
    """An attempt."""
    return {"kind": "work", "attempt": attempt, "task": "l/t", "address": "1/t", **more}


def relay(first: int, count: int) -> list[Message]:
    """Attempts of which each runs right behind the one before it."""
    works = [work(first + at) for at in range(count)]
    for at in range(1, count):
        works[at]["behind"] = first + at - 1
    return works
