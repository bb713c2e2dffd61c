"""A service with simulated workers that a test leads by the hand: nothing moves by itself."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

from yarnloom import Loom
from yarnloom.engine import Results
from yarnloom.engine.commands import (
    ChangePool,
    Command,
    MakePool,
    Poll,
    Register,
    Report,
    ReportItem,
    Started,
    StartRun,
    Tick,
)
from yarnloom.protocol.attempt_groups import one_by_one
from yarnloom.protocol.setting_answers import PoolAnswer
from yarnloom.service.render.answers import show
from yarnloom.testing import InlineService, inline_service

Message = dict[str, Any]


@dataclass
class Hand:
    """A worker: what it has in hand, by attempt, and the orders that it was given."""

    facts: dict[str, Any]
    attempts: dict[int, Message] = field(default_factory=dict)
    orders: list[Message] = field(default_factory=list)


class Floor:
    """Workers around an engine. What is handed out is said to have begun, unless told otherwise.

    Attributes:
        log: every begin: the time, and the address.
        given: every address that was handed out.
        begins: whether what is handed out begins at once.
    """

    def __init__(self, inline: InlineService) -> None:
        self.inline = inline
        self.hands: dict[str, Hand] = {}
        self.log: list[tuple[float, str]] = []
        self.given: list[str] = []
        self.begins = True
        self.looms: dict[str, str] = {}
        self.keys = 0

    def publish(self, loom: Loom) -> None:
        """Publish a loom; workers that come then have its tasks."""
        self.inline.publish(loom)
        self.looms |= dict.fromkeys(loom.served, "hash")

    def start(self, workflow: str, params: dict[str, Any] | None = None, **options: Any) -> int:
        """Start a run; its number."""
        self.keys += 1
        started: Started = self.do(
            StartRun(workflow, params or {}, f"k{self.keys}", "t", **options)
        )
        number: int = started.run.number
        return number

    def worker(self, name: str = "w", **facts: Any) -> None:
        """A worker comes, with one place unless it is said, or registers again as it was."""
        known = self.hands.get(name)
        facts = {"places": 1, "tasks": self.looms, **(known.facts if known else {}), **facts}
        hand = self.hands.setdefault(name, Hand(facts))
        hand.facts = facts
        self.do(Register(name, name, {}, in_hand=tuple(hand.attempts), **facts))
        self.do(Poll(name))

    def do(self, command: Command) -> Any:
        """Do a command; messages are taken in."""
        results = self.inline.batch(command)
        (answer,) = results.answers
        self.take(results)
        if isinstance(answer, Exception):
            raise answer
        if isinstance(command, Report) and not isinstance(answer, Exception):
            self.take_messages(command.worker, answer.messages)
        return answer

    def take(self, results: Results) -> None:
        """Take in what workers are told; they ask again at once."""
        for name, messages in results.messages.items():
            self.take_messages(name, messages)
            self.do(Poll(name, tuple(message["serial"] for message in messages)))

    def take_messages(self, name: str, messages: list[Message]) -> None:
        hand = self.hands[name]
        messages = list(one_by_one(messages))
        for message in messages:
            if message["kind"] == "work":
                hand.attempts[message["attempt"]] = message
                self.given.append(message["address"])
            else:
                hand.orders.append(message)
        for message in messages:
            if message["kind"] == "work" and self.begins:
                self.begin(message["address"])

    def change(self, pool: str, **options: Any) -> dict[str, Any]:
        """Change a pool, or make it."""
        changes = {name: options.pop(name) for name in ("limit", "rate", "note") if name in options}
        make = options.pop("make", False)
        command = (
            MakePool(pool, changes, "t") if make else ChangePool(pool, changes, "t", **options)
        )
        return show(PoolAnswer, self.do(command))

    # What workers do

    def find(self, address: str) -> tuple[str, int]:
        """Who has a step in hand, and as which attempt."""
        found = [
            (name, attempt)
            for name, hand in self.hands.items()
            for attempt, message in hand.attempts.items()
            if message["address"] == address
        ]
        assert len(found) == 1, (address, self.running)
        return found[0]

    def begin(self, address: str) -> None:
        """A step begins where it is in hand."""
        worker, attempt = self.find(address)
        self.log.append((self.inline.clock.mono, address))
        self.do(Report(worker, (ReportItem(attempt, begun_ago=0.0),)))

    def end(self, address: str, outcome: str = "done", **item: Any) -> None:
        """A step ends."""
        worker, attempt = self.find(address)
        del self.hands[worker].attempts[attempt]
        self.do(Report(worker, (ReportItem(attempt, outcome, **item),)))

    def fail(self, address: str, kind: str = "OSError", **item: Any) -> None:
        """A step fails with an error."""
        error = {"type": kind, "message": "it failed", "kinds": [kind, "Exception"]}
        self.end(address, "failed", error=error, **item)

    def advance(self, seconds: float) -> None:
        """Time passes; workers say that they live."""
        self.inline.clock.advance(seconds)
        for name in self.hands:
            self.do(Report(name))
        self.do(Tick())

    @property
    def running(self) -> list[str]:
        """The addresses in hand, in the order in which they were given out."""
        found = {
            attempt: message["address"]
            for hand in self.hands.values()
            for attempt, message in hand.attempts.items()
        }
        return [found[attempt] for attempt in sorted(found)]

    def drain_some(self, count: int) -> None:
        """Let so many end, the oldest first."""
        for _ in range(count):
            self.end(self.running[0])

    def drain(self, finish: Callable[[str], None] | None = None) -> list[str]:
        """Let everything end, one after another; the order in which it was given out."""
        order = []
        while self.running:
            order.append(self.running[0])
            (finish or self.end)(self.running[0])
        return order


@contextmanager
def floor() -> Iterator[Floor]:
    """A new one."""
    with inline_service() as inline:
        yield Floor(inline)


def state(at: Floor, number: int, label: str) -> str:
    """The state of a step."""
    found: str = at.inline.step(number, label)["state"]
    return found


def task_loom(name: str = "l") -> tuple[Loom, Callable[..., Any]]:
    """A loom with one task that takes anything; no process runs it."""
    loom = Loom(name)

    @loom.task
    def work(value: Any = None) -> Any:
        raise NotImplementedError

    return loom, work
