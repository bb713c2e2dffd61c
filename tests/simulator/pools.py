"""Random worlds of pools: weights, several at once, shares, priorities, rates, values, changes.

The engine hands steps out; the world keeps its own account of the places in use, and holds the
engine against the rules of reservations (`docs/limits.md`) at each hand-out and whenever nothing
moves.
"""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any
from unittest import mock

from pydantic import BaseModel

from tests.floor import Floor, Message
from yarnloom import Loom, Rate, Use, each, item, param, step
from yarnloom.engine.commands import CancelRun, PauseRun, Poll, Register, ResumeRun
from yarnloom.engine.dispatch.assign import Dispatcher
from yarnloom.engine.rules.limits import BlockReason, base_of
from yarnloom.testing import inline_service

POOLS = ("oven", "link", "desk", "dock")
Uses = dict[str, int]


class Params(BaseModel):
    """Params of the world's workflows."""

    values: list[int]
    share: str


def uses_of(key: str) -> Uses:
    """What a step enters, read anew from its text."""
    found = (one.partition("/") for one in key.split(" ") if key)
    return {pool: int(weight or 1) for pool, _, weight in found}


class PoolWorld(Floor):
    """One world.

    Args:
        seed: decides everything.
        say: is told what happens.
    """

    def __init__(self, seed: int, say: Callable[[str], None] = lambda _: None) -> None:
        self.random = random.Random(seed)
        self.say = say
        self.counts: Counter[str] = Counter()
        self.used: Counter[str] = Counter()
        self.begun: dict[str, list[tuple[float, int]]] = {}
        self.open: dict[int, Uses] = {}
        self.closed: set[str] = set()
        self.limits: dict[str, int | None] = {}
        self.rates: dict[str, Rate | None] = {}

    def run(self) -> None:
        """Live, then let everything end."""
        with inline_service() as inline, self.watched():
            super().__init__(inline)
            self.prepare()
            for _ in range(60):
                self.event()
                self.check_idle()
            self.calm_down()

    # The world

    def prepare(self) -> None:
        loom = Loom("l")
        for name in POOLS:
            limit = self.random.choice((None, 1, 2, 3, 5))
            rate = Rate(self.random.randint(2, 6), per=1.0) if self.random.random() < 0.2 else None
            self.limits[name], self.rates[name] = limit, rate
            loom.pool(name, limit=limit, rate=rate)
        self.claims = [self.claim() for _ in range(5)]
        for place, claim in enumerate(self.claims):
            self.declare(loom, f"t{place}", claim)
        self.tasks = [f"l/t{place}" for place in range(5)]
        self.publish(loom)
        for name in ("a", "b"):
            self.come(name)

    def claim(self) -> dict[str, Any]:
        """The pools of a task, in any order; some with limits by value."""
        names = self.random.sample(POOLS, self.random.choice((1, 1, 1, 2, 2, 3)))
        return {
            name: Use(self.weight(), per="value" if self.random.random() < 0.2 else None)
            for name in names
        }

    def weight(self) -> int:
        return self.random.choice((1, 1, 1, 2, 3))

    def declare(self, loom: Loom, name: str, claim: dict[str, Any]) -> None:
        plain = all(use.weight == 1 and use.per is None for use in claim.values())
        rules = {"pool": next(iter(claim))} if plain and len(claim) == 1 else {"pools": claim}

        def function(value: Any = None) -> Any:
            raise AssertionError("only simulated workers run this")

        task = loom.task(name=name, **rules)(function)
        priority = self.random.choice((None, None, 5))
        do = step("s", task.of(value=item()), priority=priority)
        at_once = self.random.choice((None, 2))
        plan = each("e", over=param("values"), do=do, at_once=at_once)
        loom.workflow(f"w{name}", params=Params, plan=plan, share=param("share"))

    def event(self) -> None:
        act = self.random.choice(
            (self.begin_run, self.begin_run, self.one_ends, self.one_ends, self.one_ends)
            + (self.change_pool, self.pause_pool, self.pause_run, self.worker_changes, self.wait)
            + ((self.crash,) if self.random.random() < 0.3 else ())
        )
        act()

    def begin_run(self) -> None:
        place = self.random.randrange(5)
        values = [self.random.randrange(3) for _ in range(self.random.randint(1, 6))]
        share = self.random.choice(("x", "y", "z"))
        self.say(f"run of t{place} for {share}: {values}")
        params = {"values": values, "share": share}
        self.start(f"l/wt{place}", params, priority=self.random.choice((0, 0, 3)))

    def one_ends(self) -> None:
        if self.running:
            self.end(self.random.choice(self.running))

    def change_pool(self) -> None:
        name = self.random.choice(POOLS)
        self.limits[name] = limit = self.random.choice((None, 0, 1, 2, 3, 6))
        self.say(f"{name} has limit {limit}")
        self.change(name, limit=limit)

    def pause_pool(self) -> None:
        name = self.random.choice(POOLS)
        (self.closed.discard if name in self.closed else self.closed.add)(name)
        self.say(f"{name} is {'paused' if name in self.closed else 'open'}")
        self.change(name, paused=name in self.closed)

    def pause_run(self) -> None:
        number = self.random.randint(1, max(1, self.keys))
        command = self.random.choice((PauseRun, PauseRun, ResumeRun, ResumeRun, CancelRun))
        results = self.inline.batch(command(number, "t"))
        self.say(f"{command.__name__} {number}: {results.answers[0]!r:.40}")
        self.take(results)

    def worker_changes(self) -> None:
        name = self.random.choice("abc")
        if name in self.hands and not self.hands[name].attempts and self.random.random() < 0.4:
            self.say(f"{name} can do nothing any more")
            self.worker(name, tasks={})
        else:
            self.come(name)

    def come(self, name: str) -> None:
        tasks = self.random.sample(self.tasks, self.random.randint(2, 5))
        if name in self.hands:
            tasks = sorted({*tasks, *self.hands[name].facts["tasks"]})
        self.say(f"{name} can do {tasks}")
        self.worker(name, places=self.random.randint(1, 4), tasks=dict.fromkeys(tasks, "hash"))

    def wait(self) -> None:
        self.advance(self.random.choice((0.1, 0.5, 1.2)))

    def crash(self) -> None:
        """The service is killed; workers come back with all that they have in hand."""
        self.say("crash")
        self.inline.restart()
        for name, hand in self.hands.items():
            self.do(Register(name, name, {}, in_hand=tuple(hand.attempts), **hand.facts))
            self.do(Poll(name))
        self.counts["crashes"] += 1

    def calm_down(self) -> None:
        """With every pool open and a worker for everything, all ends."""
        for name in POOLS:
            self.limits[name] = 6
            self.closed.discard(name)
            self.rates[name] = None
            self.change(name, limit=6, rate=None, paused=False)
        for number in range(1, self.keys + 1):
            self.take(self.inline.batch(ResumeRun(number, "t")))
        self.worker("last", places=3, tasks=dict.fromkeys(self.tasks, "hash"))
        for _ in range(5_000):
            self.check_idle()
            if not self.running:
                break
            self.one_ends()
        states = {self.inline.run(number)["state"] for number in range(1, self.keys + 1)}
        assert states <= {"done", "cancelled"}, states

    # Its own account

    def take_messages(self, name: str, messages: list[Message]) -> None:
        known = set(self.hands[name].attempts)
        super().take_messages(name, messages)
        for attempt, message in self.hands[name].attempts.items():
            if attempt not in known and attempt not in self.open:
                self.enter(attempt, message)

    def enter(self, attempt: int, message: Message) -> None:
        task = int(message["task"].removeprefix("l/t"))
        value = message["input"].get("value")
        uses = {
            name if use.per is None else f"{name}[{value}]": use.weight
            for name, use in self.claims[task].items()
        }
        self.open[attempt] = uses
        self.counts["handed out"] += 1
        self.counts["of several pools"] += len(uses) > 1
        for pool, weight in uses.items():
            self.used[pool] += weight
            begun = self.begun.setdefault(pool, [])
            begun.append((self.inline.clock.mono, weight))
            rate = self.rates[base_of(pool)]
            if rate is not None:
                since = self.inline.clock.mono - rate.seconds + 1e-9
                recent = sum(one for at, one in begun if at > since)
                assert recent <= rate.count, f"{pool}: {recent} began within {rate}"

    def end(self, address: str, outcome: str = "done", **given: Any) -> None:
        _, attempt = self.find(address)
        self.used.subtract(self.open[attempt])
        super().end(address, outcome, **given)

    # What the engine decides

    @contextmanager
    def watched(self) -> Iterator[None]:
        """Look at each hand-out, before it happens."""
        assign = Dispatcher.assign

        def watch(dispatcher: Dispatcher, one: Any, worker: Any) -> Any:
            self.check_start(dispatcher, one.pool, one.priority, one.share)
            return assign(dispatcher, one, worker)

        with mock.patch.object(Dispatcher, "assign", watch):
            yield

    def check_start(self, dispatcher: Dispatcher, key: str, priority: int, share: str) -> None:
        """A step that starts fits, and passes no reservation that comes before it."""
        reservations = dispatcher.needs.queue.reservations
        own = reservations.made.get((key, priority, share))
        before = [one for one in self.active() if self.comes_before(one, own, priority)]
        self.counts["beside reservations"] += bool(before)
        self.counts["with a reservation"] += own is not None
        for pool, weight in uses_of(key).items():
            limiter = dispatcher.needs.pools.limiter(pool)
            kept = sum(uses_of(one.pools).get(pool, 0) for one in before)
            limit = self.limits[base_of(pool)]
            assert base_of(pool) not in self.closed, pool
            if limit is not None:
                text = f"{key} of {share}: {limiter.used} + {weight} + {kept} of {limit} in {pool}"
                assert limiter.used + weight + kept <= limit, text

    @staticmethod
    def comes_before(one: Any, own: Any, priority: int) -> bool:
        if own is None:
            return bool(one.priority >= priority)
        return (-one.priority, one.number) < (-own.priority, own.number)

    def active(self) -> list[Any]:
        """The reservations that only running attempts and rates are in the way of."""
        memory = self.inline.engine._memory
        found = []
        for one in memory.queue.reservations.made.values():
            contracts = [
                contract
                for (level, contract), count in self.ready(one.pools, one.share).items()
                if level == one.priority and count
            ]
            able = any(
                contract.partition("@")[0] in hand.facts["tasks"]
                for contract in contracts
                for name, hand in self.hands.items()
                if memory.workers[name].session.registered
            )
            if able and all(map(self.can_ever, *zip(*uses_of(one.pools).items(), strict=True))):
                found.append(one)
        return found

    def ready(self, key: str, share: str) -> dict[tuple[int, str], int]:
        entry = self.inline.engine._memory.queue.lanes._shares.get((key, share))
        return entry.ready if entry else {}

    def can_ever(self, pool: str, weight: int) -> bool:
        limit, rate = self.limits[base_of(pool)], self.rates[base_of(pool)]
        fits = limit is None or 0 < weight <= limit
        return fits and base_of(pool) not in self.closed and (rate is None or weight <= rate.count)

    def check_idle(self) -> None:
        """Nothing is over its limit by more than it was; and what waits has to wait."""
        memory = self.inline.engine._memory
        for pool, used in self.used.items():
            assert memory.pools.limiter(pool).used == used, pool
        active = self.active()
        for (key, share), entry in list(memory.queue.lanes._shares.items()):
            for (priority, contract), count in entry.ready.items():
                if count and self.could_begin(key, contract):
                    self.check_waits(key, priority, share, active)

    def could_begin(self, key: str, contract: str) -> bool:
        """Whether a worker asks for work that has a place for it."""
        memory = self.inline.engine._memory
        for worker in memory.workers.values():
            takes = worker.can_take(memory.workers.contracts)
            if takes and memory.pools.rated(key):
                takes = takes.now()
            if worker.session.polling and takes and contract in takes:
                return True
        return False

    def check_waits(self, key: str, priority: int, share: str, active: list[Any]) -> None:
        memory = self.inline.engine._memory
        own = memory.queue.reservations.made.get((key, priority, share))
        before = [one for one in active if one is not own and self.comes_before(one, own, priority)]
        reasons = set()
        for pool, weight in uses_of(key).items():
            kept = sum(uses_of(one.pools).get(pool, 0) for one in before)
            closed = memory.pools.limiter(pool).closed(self.inline.clock.mono, weight, kept)
            reasons |= {closed.why} if closed else set()
        self.counts["waits"] += 1
        assert reasons, f"{key} of {share} waits, although it fits: {active}"
        heavy = len(uses_of(key)) > 1 or max(uses_of(key).values()) > 1
        if heavy and reasons <= {BlockReason.FULL, BlockReason.RATE}:
            made = memory.queue.reservations.made
            assert any((pools, level) == (key, priority) for pools, level, _ in made), key
