"""The workers of a simulated world: they poll, run attempts, report, freeze and die."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from tests.plans import KINDS, behave
from tests.same import expanded
from yarnloom.engine.commands import Poll, Register, Report, Reported, ReportItem
from yarnloom.errors import WorkerUnknown
from yarnloom.protocol.attempt_groups import one_by_one

LOST = object()
"""In place of an answer that never arrived."""

LEASE = 10.0
TASKS = {f"random/{name}": "hash" for name in KINDS}


@dataclass
class SimWorker:
    """A worker, as the protocol asks for it, without processes.

    Attributes:
        ahead: how many more it takes than it has places, so that items go to it without rows.
        hands: attempts that it runs, by their message.
        stops: why some of them are told to stop.
        untold: report items that the service has not answered.
        still: attempts whose process stands still; whether the worker can tell.
        begun: attempts that are to be told to have begun.
        gave: outputs of attempts that others come behind.
        epoch: of the records, as it was told last.
        commits: how many of them it has seen.
    """

    name: str
    places: int
    ahead: int = 0
    hands: dict[int, dict[str, Any]] = field(default_factory=dict)
    stops: dict[int, str] = field(default_factory=dict)
    seen: set[int] = field(default_factory=set)
    untold: dict[int, dict[str, Any]] = field(default_factory=dict)
    received: list[int] = field(default_factory=list)
    still: dict[int, bool] = field(default_factory=dict)
    begun: set[int] = field(default_factory=set)
    gave: dict[int, Any] = field(default_factory=dict)
    epoch: str = ""
    commits: int = 0
    registered: bool = False
    alive: bool = True
    frozen_until: float = 0.0


class WorldOfWorkers:
    """What the workers of a world do; `World` has the rest."""

    def add_worker(self, name: str) -> None:
        """A worker begins."""
        worker = self.workers[name] = SimWorker(
            name, self.random.choice((1, 2, 5)), self.random.choice((0, 0, 3, 20))
        )
        self.register(worker)
        self.later(LEASE / 3, lambda: self.report(worker))
        if self.random.random() < 0.5:
            late = self.FAULTS_UNTIL * 0.8
            self.later(self.random.uniform(late / 10, late), lambda: self.trouble(worker))

    def trouble(self, worker: SimWorker) -> None:
        """A worker dies, or stands still for longer than its lease."""
        if self.calm:
            return
        if self.random.random() < 0.5:
            self.tell(f"{self.clock.mono:8.3f} {worker.name} dies")
            worker.alive = False
            self.counts["dead workers"] += 1
            self.later(self.random.uniform(0, 5), lambda: self.add_worker(worker.name + "'"))
        else:
            self.tell(f"{self.clock.mono:8.3f} {worker.name} stands still")
            worker.frozen_until = self.clock.mono + LEASE * 2
            self.counts["frozen workers"] += 1
            if worker.hands and self.random.random() < 0.7:
                # What it had sent before is still on the wire, and arrives too late.
                attempt = next(iter(worker.hands))
                late = Report(worker.name, (ReportItem(attempt, "done", -1),))
                self.later(LEASE * 2 + 3, lambda: self.submit(late))

    def awake(self, worker: SimWorker, action: Callable[[], None]) -> bool:
        """Whether a worker can do something now; if it stands still, it does it afterwards."""
        if self.clock.mono < worker.frozen_until:
            self.later(worker.frozen_until - self.clock.mono, action)
            return False
        return worker.alive

    def register(self, worker: SimWorker) -> None:
        """Say what this worker has in hand, then ask."""
        if not self.awake(worker, lambda: self.register(worker)):
            return
        worker.registered = False
        worker.received.clear()
        in_hand = tuple({*worker.hands, *worker.untold})
        command = Register(
            *(worker.name, worker.name, {}, worker.places, TASKS, in_hand),
            plain_tasks=tuple(TASKS) if worker.ahead else (),
            ahead=worker.ahead,
            service=self.database.id,
            epoch=worker.epoch,
            commits=worker.commits,
        )

        def on_answer(answer: Any) -> None:
            if answer is LOST:
                self.later(0.5, lambda: self.register(worker))
                return
            if worker.epoch not in ("", answer.epoch):
                for kept in (worker.hands, worker.untold, worker.still, worker.begun, worker.seen):
                    kept.clear()
                self.counts["epochs seen"] += 1
                worker.epoch = answer.epoch
                self.register(worker)
                return
            worker.epoch, worker.registered = answer.epoch, True
            self.ask(worker)

        self.send(worker, command, on_answer, 0.5)

    def ask(self, worker: SimWorker) -> None:
        """Open the request for work."""
        if not self.awake(worker, lambda: self.ask(worker)) or not worker.registered:
            return
        received, worker.received = tuple(worker.received), []
        serial = next(self.order)
        self.open_asks[worker.name] = serial
        self.send(
            worker,
            Poll(worker.name, received, epoch=worker.epoch),
            lambda answer: self.on_asked(worker, answer),
            0.3,
        )
        self.later(5.0, lambda: self.close_ask(worker, serial))

    def on_asked(self, worker: SimWorker, answer: Any) -> None:
        """An open request broke, or was refused."""
        if isinstance(answer, WorkerUnknown):
            self.register(worker)
        else:
            self.ask(worker)

    def close_ask(self, worker: SimWorker, serial: int) -> None:
        """An open request that got no answer in time is opened again."""
        if self.open_asks.get(worker.name, serial) == serial and worker.alive:
            self.open_asks.pop(worker.name, None)
            self.ask(worker)

    def answer_ask(self, name: str, messages: list[dict[str, Any]]) -> None:
        """The service answers an open request; the answer may be lost."""
        self.open_asks.pop(name, None)
        worker = self.workers[name]
        if self.chance(0.08):
            self.counts["lost answers"] += 1
            self.later(0.3, lambda: self.ask(worker))
            return
        epoch, worker.commits = worker.epoch, self.database.past.commits
        self.later(self.delay(), lambda: self.on_messages(worker, messages, epoch, then_ask=True))

    def on_messages(
        self, worker: SimWorker, messages: list[dict[str, Any]], epoch: str, *, then_ask: bool
    ) -> None:
        """Work and orders have arrived."""
        again = lambda: self.on_messages(worker, messages, epoch, then_ask=then_ask)  # noqa: E731
        if not self.awake(worker, again):
            return
        if epoch != worker.epoch:
            return  # it was given out by records that are gone
        worker.received += [message["serial"] for message in messages]
        for message in one_by_one(messages):
            attempt = message["attempt"]
            if message["kind"] == "work" and attempt not in worker.seen:
                worker.seen.add(attempt)
                given = expanded(self.database, message["input"])
                worker.hands[attempt] = {**message, "input": given}
                if "behind" in message:
                    continue  # it begins when that is done
                if self.chance(0.03):
                    self.stand_still(worker, attempt)
                    continue
                self.later(self.takes(), lambda a=attempt: self.finish(worker, a))
            elif message["kind"] == "stop":
                worker.stops[attempt] = message["why"]
                if "behind" in worker.hands.get(attempt, {}):
                    self.hand_back(worker, attempt)
            elif message["kind"] == "go_on":
                worker.stops.pop(attempt, None)
            elif message["kind"] == "drop":
                worker.hands.pop(attempt, None)
                self.go_on_behind(worker, attempt, "dropped")
                worker.untold.pop(attempt, None)
                worker.still.pop(attempt, None)
            elif message["kind"] == "give_back":
                self.give_back(worker, attempt)
        if then_ask:
            self.ask(worker)

    def stand_still(self, worker: SimWorker, attempt: int) -> None:
        """The process that got an attempt stands still; the worker notices, or not even that."""
        self.tell(f"{self.clock.mono:8.3f} {worker.name} does not begin {attempt}")
        worker.still[attempt] = self.random.random() < 0.5
        self.counts["stuck processes"] += 1

    def give_back(self, worker: SimWorker, attempt: int) -> None:
        """An attempt that was not begun is asked back."""
        if worker.still.get(attempt):
            del worker.still[attempt]
            if attempt in worker.hands:
                self.hand_back(worker, attempt)
        elif attempt in worker.hands and attempt not in worker.still:
            worker.begun.add(attempt)
        self.report_now(worker)

    def finish(self, worker: SimWorker, attempt: int) -> None:
        """An attempt ends: usually well."""
        if not self.awake(worker, lambda: self.finish(worker, attempt)):
            return
        work = worker.hands.get(attempt)
        if work is None:
            return
        if attempt in worker.stops and self.random.random() < 0.7:
            item = {"outcome": "cancelled"}
        elif self.chance(0.05):
            item = {"outcome": "lost", "error": {"message": "its process died"}}
        else:
            name = work["task"].partition("/")[2]
            outcome, value = behave(name, work["input"], work["tries"])
            item = {"outcome": outcome, "output": value}
            if outcome == "failed":
                item = {"outcome": outcome, "error": {"type": "E", "message": ""}}
        self.end(worker, attempt, item)

    def end(self, worker: SimWorker, attempt: int, item: dict[str, Any]) -> None:
        """An attempt ends; the one behind it begins, or goes back."""
        worker.hands.pop(attempt, None)
        worker.untold[attempt] = item
        worker.gave[attempt] = item.get("output")
        if self.quick and item["outcome"] == "done" and self.random.random() < 0.7:
            self.go_on_behind(worker, attempt, "done")  # the report has several ends
            return
        self.report_now(worker)
        self.go_on_behind(worker, attempt, item["outcome"])

    def go_on_behind(self, worker: SimWorker, attempt: int, outcome: str) -> None:
        """The attempt behind one begins, or goes back."""
        for other, work in list(worker.hands.items()):
            if work.get("behind") != attempt:
                continue
            if outcome != "done":
                self.hand_back(worker, other)
                continue
            del work["behind"]
            work["input"] |= {name: worker.gave[one] for name, one in work["passed"].items()}
            self.counts["run behind others"] += 1
            if self.random.random() < 0.5:
                self.finish(worker, other)
            else:
                self.later(self.takes(), lambda a=other: self.finish(worker, a))
            return
        self.report_now(worker)

    def hand_back(self, worker: SimWorker, attempt: int) -> None:
        """An attempt that has not begun goes back, and all that is behind it."""
        del worker.hands[attempt]
        worker.untold[attempt] = {"outcome": "handed_back"}
        self.go_on_behind(worker, attempt, "handed_back")

    def report(self, worker: SimWorker) -> None:
        """Renew the lease, again and again."""
        if not worker.alive:
            return
        if self.awake(worker, lambda: None):
            self.report_now(worker)
        if self.clock.mono < self.ENDS_BY * 0.75:
            self.later(LEASE / 3, lambda: self.report(worker))

    def report_now(self, worker: SimWorker) -> None:
        """Tell the service everything that it has not answered yet."""
        if not worker.registered:
            self.later(0.5, lambda: worker.untold and worker.alive and self.report_now(worker))
            return
        items = tuple(
            ReportItem(
                attempt, begun_ago=None if item["outcome"] == "handed_back" else 0.01, **item
            )
            for attempt, item in worker.untold.items()
        )
        begun, worker.begun = worker.begun - worker.untold.keys(), set()
        items += tuple(ReportItem(attempt, begun_ago=0.01) for attempt in sorted(begun))

        def on_answer(answer: Any) -> None:
            if isinstance(answer, WorkerUnknown):
                self.register(worker)
                self.later(1.0, lambda: worker.alive and self.report_now(worker))
            elif answer is LOST:
                self.later(0.5, lambda: worker.alive and self.report_now(worker))
            else:
                assert isinstance(answer, Reported)
                for item in items:
                    worker.untold.pop(item.attempt, None)
                for refused in answer.refused:
                    if worker.hands.pop(refused["attempt"], None):
                        self.go_on_behind(worker, refused["attempt"], "refused")
                self.counts["refused reports"] += len(answer.refused)
                self.on_messages(worker, answer.messages, told.epoch or "", then_ask=False)

        told = Report(worker.name, items, (), epoch=worker.epoch)
        self.send(worker, told, on_answer, 0.5)
