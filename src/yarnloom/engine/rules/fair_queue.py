"""Who runs next: what could begin, counted by pool, priority, share and contract.

Steps themselves stay in the store, under one index; here is one small entry per pool, priority,
share and contract (a task as a plan expects it, with what a worker must have), so that finding the
next step never scans what cannot run. The order is that of the rules: highest priority, then the
share with the fewest running attempts in its pool, then the one that has waited longest since its
last start, or since it came; within a share, plan order.

Each lane has its shares in the order of their turns, and for each priority and contract the pools
stand in the order of their first share. A pool of which nothing may start is put aside when it
comes up, and comes back when whoever lets it start again says so.

"Pool" here is all that a step enters at once, as `limits.pool_key` writes it: mostly one pool, now
and then several, or more than one place. Turns are counted in the pool that is named first.

Decision: `docs/decisions/03-fair-turns.md`.
"""

from __future__ import annotations

import heapq
from collections.abc import Callable, Container, Iterator
from dataclasses import dataclass, field
from typing import Protocol

from yarnloom.engine.rules.limits import first_in, is_single, pools_in, uses_in

Level = tuple[int, str]  # priority, contract
Head = tuple[int, int, str]  # running, last turn, share

NO_POOL = (("", 1),)
"""What a step without a pool enters, as turns are counted."""

MOST_AHEAD = 1_000
"""How many shares are counted that have a turn before one."""


class CanTake(Protocol):
    """What a worker can take."""

    @property
    def pools(self) -> frozenset[str] | None:
        """The only pools that it takes from; None for any, and for what has none."""

    def __contains__(self, contract: object) -> bool:
        """Whether it can take steps of a contract."""


@dataclass(slots=True)
class Turn:
    """The place of a share in one pool.

    Attributes:
        last: when it last started something there, or came: later is greater.
        running: the weight that it has in use there.
        shares: by the pools that steps enter, of those that name this one first, what is ready.
    """

    last: int
    running: int = 0
    shares: dict[str, Share] = field(default_factory=dict)


@dataclass(slots=True)
class Share:
    """The ready steps of a share that enter the same pools."""

    name: str
    turn: Turn
    ready: dict[Level, int] = field(default_factory=dict)


@dataclass(slots=True)
class Lane:
    """What is ready of one contract, in one pool, at one priority.

    Attributes:
        turns: its shares; an entry that no longer says what the share says is stale.
        offered: its first share as it stands among the pools; None if it does not.
    """

    ready: int = 0
    turns: list[Head] = field(default_factory=list)
    offered: tuple[int, int] | None = None


@dataclass(frozen=True, slots=True)
class NextUp:
    """Whose turn it is: a share in a pool at a priority, and which of its contracts may run."""

    pool: str
    priority: int
    share: str
    contracts: tuple[str, ...]


MayStart = Callable[[str, int, str], bool]
"""Whether a step may start that enters some pools, by its priority and share."""


def _always(_pool: str, _priority: int, _share: str) -> bool:
    return True


class Lanes:
    """Counts of ready and of assigned steps, by share."""

    def __init__(self) -> None:
        self._pools: dict[str, dict[Level, Lane]] = {}
        self._tops: dict[Level, list[tuple[int, int, str]]] = {}  # running, last turn, pool
        self._aside: dict[str, set[int]] = {}  # by pool the priorities
        self._shares: dict[tuple[str, str], Share] = {}
        self._by_pool: dict[tuple[str, str], Turn] = {}
        self._entering: dict[str, set[str]] = {}  # by single pool those that enter it and more
        self._turns = 0
        self.ready = 0

    def add(self, pool: str, priority: int, share: str, contract: str, count: int = 1) -> None:
        """Steps have become ready."""
        level = (priority, contract)
        if pool not in self._pools:
            self._open(pool)
        lane = self._pools[pool].setdefault(level, Lane())
        entry = self._share(pool, share)
        before = entry.ready.get(level, 0)
        entry.ready[level] = before + count
        lane.ready += count
        self.ready += count
        if not before:
            self._offer(pool, level, lane, entry)

    def remove(self, pool: str, priority: int, share: str, contract: str, count: int = 1) -> None:
        """Ready steps were handed out, or can run no more."""
        level = (priority, contract)
        entry = self._shares[pool, share]
        entry.ready[level] -= count
        if not entry.ready[level]:
            del entry.ready[level]
        lanes = self._pools[pool]
        lanes[level].ready -= count
        self.ready -= count
        if not lanes[level].ready:
            del lanes[level]
        if not lanes:
            self._close(pool)
        self._drop_if_idle(pool, entry)

    def _open(self, pool: str) -> None:
        self._pools[pool] = {}
        if not is_single(pool):
            for single, _ in uses_in(pool):
                self._entering.setdefault(single, set()).add(pool)

    def _close(self, pool: str) -> None:
        del self._pools[pool]
        self._aside.pop(pool, None)
        if not is_single(pool):
            for single, _ in uses_in(pool):
                self._entering[single].discard(pool)
                if not self._entering[single]:
                    del self._entering[single]

    def started(self, pool: str, share: str, count: int = 1) -> None:
        """Steps of the share were handed out."""
        self._turns += 1
        for place, (single, weight) in enumerate(uses_in(pool) or NO_POOL):
            turn = self._turn(single, share)
            turn.running += count * weight
            if not place:
                turn.last = self._turns
            self._offer_again(turn)

    def ended(self, pool: str, share: str, count: int = 1) -> None:
        """Attempts of the share ended."""
        for single, weight in uses_in(pool) or NO_POOL:
            turn = self._by_pool[single, share]
            turn.running -= count * weight
            self._offer_again(turn)
            if not turn.running and not turn.shares:
                del self._by_pool[single, share]

    def reopen(self, pool: str) -> None:
        """Something that enters a pool may start again, perhaps."""
        if not self._aside:
            return
        for entered in (pool, *self._entering.get(pool, ())):
            priorities = self._aside.pop(entered, ())
            for level, lane in self._pools.get(entered, {}).items():
                if level[0] in priorities:
                    self._put_on_top(entered, level, lane)

    def put_back(self, pool: str, priority: int) -> None:
        """All that was put aside at a priority comes up again."""
        priorities = self._aside.get(pool, set())
        if priority in priorities:
            priorities.discard(priority)
            for level, lane in self._pools[pool].items():
                if level[0] == priority:
                    self._put_on_top(pool, level, lane)

    def order_of(self, pool: str, priority: int, share: str) -> tuple[int, int, int] | None:
        """Where a share's ready steps come among all: the least is next; None if it has none."""
        entry = self._shares.get((pool, share))
        if entry is None or not any(level == priority for level, _ in entry.ready):
            return None
        return -priority, entry.turn.running, entry.turn.last

    def next_up(self, takes: CanTake, may_start: MayStart = _always) -> NextUp | None:
        """Whose turn it is among those with a ready step that can be taken; None if nobody's.

        Args:
            takes: which contracts can be taken, and from which pools.
            may_start: whether anything of a pool may start now.
        """
        if takes.pools is not None:
            found = self._first_in(takes.pools, takes, may_start)
        else:
            found = self._first_of_all(takes, may_start)
        if found is None:
            return None
        pool, priority, share = found
        return NextUp(pool, priority, share, self.takeable(pool, priority, share, takes))

    def takeable(
        self, pool: str, priority: int, share: str, takes: Container[str]
    ) -> tuple[str, ...]:
        """The contracts of a share's ready steps that can be taken."""
        entry = self._shares.get((pool, share))
        ready = entry.ready if entry else {}
        return tuple(one for (level, one) in ready if level == priority and one in takes)

    def count(self, pool: str, priority: int, share: str, contract: str) -> int:
        """How many steps of a share are ready, of a contract at a priority."""
        entry = self._shares.get((pool, share))
        return entry.ready.get((priority, contract), 0) if entry else 0

    def waiting_in(self, pool: str) -> int:
        """How many steps are ready that enter a pool, or one of its values."""
        return sum(
            lane.ready
            for entered in (pool, *self._entering.get(pool, ()))
            for lane in self._pools.get(entered, {}).values()
        )

    def waiting_shares(self) -> Iterator[tuple[str, int, str, int]]:
        """Yield pools, priority, share and count of all ready steps that enter the same."""
        for (pool, share), entry in self._shares.items():
            counts: dict[int, int] = {}
            for (priority, _), count in entry.ready.items():
                counts[priority] = counts.get(priority, 0) + count
            for priority, count in counts.items():
                yield pool, priority, share, count

    def ready_contracts(self) -> list[tuple[str, str]]:
        """Pool and contract of everything that is ready."""
        return [(pool, one) for pool, lanes in self._pools.items() for _, one in lanes]

    def pools_with_ready(self) -> list[str]:
        """Every single pool that a ready step enters, with its value."""
        return list(dict.fromkeys(single for pool in self._pools for single, _ in uses_in(pool)))

    def ahead_of(self, pool: str, priority: int, share: str) -> tuple[int, list[str]]:
        """Who comes before a share in its pool: steps of higher priority, and other shares.

        The shares are in the order of their turns, and `MOST_AHEAD` of them at most.
        """
        lanes = self._pools.get(pool, {})
        higher = sum(lane.ready for (level, _), lane in lanes.items() if level > priority)
        own = self._shares.get((pool, share))
        if own is None:
            return higher, []
        before: list[str] = []
        turns = [
            self._turns_before(pool, level, lane, (own.turn.running, own.turn.last, share))
            for level, lane in lanes.items()
            if level[0] == priority
        ]
        for _, _, name in heapq.merge(*turns):
            if name not in before[-1:]:  # one share has its entries of several lanes in a row
                before.append(name)
            if len(before) == MOST_AHEAD:
                break
        return higher, before

    def _turns_before(self, pool: str, level: Level, lane: Lane, own: Head) -> Iterator[Head]:
        """The valid entries of a lane before one, in order; the rest of its heap is not touched."""
        reached = [(lane.turns[0], 0)] if lane.turns else []
        while reached and (least := heapq.heappop(reached))[0] < own:
            head, at = least
            for below in (2 * at + 1, 2 * at + 2):
                if below < len(lane.turns):
                    heapq.heappush(reached, (lane.turns[below], below))
            if self._is_valid(pool, level, head):
                yield head

    def _first_of_all(
        self, takes: Container[str], may_start: MayStart
    ) -> tuple[str, int, str] | None:
        best: tuple[int, int, int] | None = None
        found = None
        for level in list(self._tops):
            priority, contract = level
            if contract not in takes or (best is not None and -priority > best[0]):
                continue
            top = self._top(level, may_start)
            if top is None:
                continue
            running, last_turn, pool = top
            order = (-priority, running, last_turn)
            if best is None or order < best:
                best = order
                found = (pool, priority, self._first(pool, level)[2])
        return found

    def _first_in(
        self, pools: frozenset[str], takes: Container[str], may_start: MayStart
    ) -> tuple[str, int, str] | None:
        """The same for a worker that takes from some pools only: it looks at those alone."""
        candidates = []
        for pool, lanes in self._pools.items():
            if not pool or not pools_in(pool) <= pools:
                continue
            for level in lanes:
                if level[1] in takes:
                    running, last_turn, share = self._first(pool, level)
                    if may_start(pool, level[0], share):
                        candidates.append((-level[0], running, last_turn, pool, share))
        if not candidates:
            return None
        priority, _, _, pool, share = min(candidates)
        return pool, -priority, share

    def _top(self, level: Level, may_start: MayStart) -> tuple[int, int, str] | None:
        """The valid head among the pools at a priority and of a contract."""
        heap = self._tops[level]
        while heap:
            running, last_turn, pool = heap[0]
            lane = self._pools.get(pool, {}).get(level)
            if lane is None or lane.offered != (running, last_turn):
                heapq.heappop(heap)
                continue
            *order, share = self._first(pool, level)
            head = (order[0], order[1])
            if head != lane.offered:
                lane.offered = head
                heapq.heapreplace(heap, (*head, pool))
            elif may_start(pool, level[0], share):
                return heap[0]
            else:
                heapq.heappop(heap)
                lane.offered = None
                self._aside.setdefault(pool, set()).add(level[0])
        del self._tops[level]
        return None

    def _put_on_top(self, pool: str, level: Level, lane: Lane) -> None:
        """Let a lane stand among the pools with its first share."""
        head = self._first(pool, level)[:2]
        if lane.offered is None or head < lane.offered:
            lane.offered = head
            heapq.heappush(self._tops.setdefault(level, []), (*head, pool))

    def _first(self, pool: str, level: Level) -> Head:
        """The valid head of a lane's turns; stale entries above it are dropped."""
        turns = self._pools[pool][level].turns
        while True:
            head = turns[0]
            if self._is_valid(pool, level, head):
                return head
            heapq.heappop(turns)

    def _is_valid(self, pool: str, level: Level, head: Head) -> bool:
        entry = self._shares.get((pool, head[2]))
        return (
            entry is not None
            and head[:2] == (entry.turn.running, entry.turn.last)
            and level in entry.ready
        )

    def _share(self, pool: str, name: str) -> Share:
        """The entry of a share that enters some pools."""
        entry = self._shares.get((pool, name))
        if entry is None:
            turn = self._turn(first_in(pool), name)
            entry = self._shares[pool, name] = turn.shares[pool] = Share(name, turn)
        return entry

    def _turn(self, single: str, share: str) -> Turn:
        """The place of a share in a pool; one that comes anew is behind those that wait."""
        turn = self._by_pool.get((single, share))
        if turn is None:
            self._turns += 1
            turn = self._by_pool[single, share] = Turn(self._turns)
        return turn

    def _offer(self, pool: str, level: Level, lane: Lane, entry: Share) -> None:
        head = (entry.turn.running, entry.turn.last)
        heapq.heappush(lane.turns, (*head, entry.name))
        earlier = lane.offered is None or head < lane.offered
        if earlier and level[0] not in self._aside.get(pool, ()):
            self._put_on_top(pool, level, lane)

    def _offer_again(self, turn: Turn) -> None:
        """A share has another place in its pool: so do all its ready steps."""
        for pool, entry in turn.shares.items():
            for level in entry.ready:
                lane = self._pools[pool][level]
                self._offer(pool, level, lane, entry)
                if len(lane.turns) > 64 + 4 * lane.ready:
                    self._tidy(pool, level, lane)

    def _tidy(self, pool: str, level: Level, lane: Lane) -> None:
        """Drop the stale entries that have gathered in a lane."""
        lane.turns = sorted(
            (entry.turn.running, entry.turn.last, entry.name)
            for (where, _), entry in self._shares.items()
            if where == pool and level in entry.ready
        )

    def _drop_if_idle(self, pool: str, entry: Share) -> None:
        if entry.ready:
            return
        del self._shares[pool, entry.name]
        del entry.turn.shares[pool]
        if not entry.turn.running and not entry.turn.shares:
            del self._by_pool[first_in(pool), entry.name]
