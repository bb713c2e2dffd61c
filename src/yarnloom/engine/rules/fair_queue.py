"""Who runs next: what could begin, counted by pool, priority, share and contract.

Steps themselves stay in the store, under one index; here is one small entry per pool, priority,
share and contract (a task as a plan expects it, with what a worker must have), so that finding the
next step never scans what cannot run. The order is that of the rules: highest priority, then the
share with the fewest running attempts in its pool, then the one that has waited longest since its
last start, or since it came; within a share, plan order.

Each lane has its shares in the order of their turns, and for each priority and contract the pools
stand in the order of their first share. A pool of which nothing may start is put aside when it
comes up, and comes back when whoever lets it start again says so.

Decision: `docs/decisions/03-fair-turns.md`.
"""

from __future__ import annotations

import heapq
from collections.abc import Callable, Container, Iterator
from dataclasses import dataclass, field
from typing import Protocol

from yarnloom.engine.rules.limits import base_of

Level = tuple[int, str]  # priority, contract
Head = tuple[int, int, str]  # running, last turn, share

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
class Share:
    """Whom turns are counted for, in one pool.

    Attributes:
        last_turn: when it last started something, or came: later is greater.
    """

    name: str
    last_turn: int
    running: int = 0
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


def _always(_: str) -> bool:
    return True


class Lanes:
    """Counts of ready and of assigned steps, by share."""

    def __init__(self) -> None:
        self._pools: dict[str, dict[Level, Lane]] = {}
        self._tops: dict[Level, list[tuple[int, int, str]]] = {}  # running, last turn, pool
        self._aside: set[str] = set()
        self._shares: dict[tuple[str, str], Share] = {}
        self._turns = 0
        self.ready = 0

    def add(self, pool: str, priority: int, share: str, contract: str, count: int = 1) -> None:
        """Steps have become ready."""
        level = (priority, contract)
        lane = self._pools.setdefault(pool, {}).setdefault(level, Lane())
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
            del self._pools[pool]
            self._aside.discard(pool)
        self._drop_if_idle(pool, entry)

    def started(self, pool: str, share: str, count: int = 1) -> None:
        """Steps of the share were handed out."""
        entry = self._share(pool, share)
        entry.running += count
        self._turns += 1
        entry.last_turn = self._turns
        self._offer_all(pool, entry)

    def ended(self, pool: str, share: str, count: int = 1) -> None:
        """Attempts of the share ended."""
        entry = self._shares[pool, share]
        entry.running -= count
        self._offer_all(pool, entry)
        self._drop_if_idle(pool, entry)

    def reopen(self, pool: str) -> None:
        """Something of a pool may start again, perhaps."""
        if pool in self._aside:
            self._aside.discard(pool)
            for level, lane in self._pools[pool].items():
                self._put_on_top(pool, level, lane)

    def next_up(self, takes: CanTake, may_start: Callable[[str], bool] = _always) -> NextUp | None:
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
        of_share = self._shares[pool, share].ready
        known = tuple(one for (level, one) in of_share if level == priority and one in takes)
        return NextUp(pool, priority, share, known)

    def count(self, pool: str, priority: int, share: str, contract: str) -> int:
        """How many steps of a share are ready, of a contract at a priority."""
        entry = self._shares.get((pool, share))
        return entry.ready.get((priority, contract), 0) if entry else 0

    def waiting_in(self, pool: str) -> int:
        """How many steps are ready in a pool, or for one of its values."""
        return sum(lane.ready for lane in self._pools.get(pool, {}).values())

    def ready_contracts(self) -> list[tuple[str, str]]:
        """Pool and contract of everything that is ready."""
        return [(pool, one) for pool, lanes in self._pools.items() for _, one in lanes]

    def pools_with_ready(self) -> list[str]:
        """Every pool in which steps are ready."""
        return list(self._pools)

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
            self._turns_before(pool, level, lane, (own.running, own.last_turn, share))
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
        self, takes: Container[str], may_start: Callable[[str], bool]
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
        self, pools: frozenset[str], takes: Container[str], may_start: Callable[[str], bool]
    ) -> tuple[str, int, str] | None:
        """The same for a worker that takes from some pools only: it looks at those alone."""
        candidates = []
        for pool, lanes in self._pools.items():
            if base_of(pool) in pools and may_start(pool):
                for level in lanes:
                    if level[1] in takes:
                        running, last_turn, share = self._first(pool, level)
                        candidates.append((-level[0], running, last_turn, pool, share))
        if not candidates:
            return None
        priority, _, _, pool, share = min(candidates)
        return pool, -priority, share

    def _top(self, level: Level, may_start: Callable[[str], bool]) -> tuple[int, int, str] | None:
        """The valid head among the pools at a priority and of a contract."""
        heap = self._tops[level]
        while heap:
            running, last_turn, pool = heap[0]
            lane = self._pools.get(pool, {}).get(level)
            if lane is None or lane.offered != (running, last_turn):
                heapq.heappop(heap)
                continue
            head = self._first(pool, level)[:2]
            if head != lane.offered:
                lane.offered = head
                heapq.heapreplace(heap, (*head, pool))
            elif may_start(pool):
                return heap[0]
            else:
                heapq.heappop(heap)
                lane.offered = None
                self._aside.add(pool)
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
            and head[:2] == (entry.running, entry.last_turn)
            and level in entry.ready
        )

    def _share(self, pool: str, name: str) -> Share:
        """The entry of a share; one that comes anew stands behind those that wait already."""
        entry = self._shares.get((pool, name))
        if entry is None:
            self._turns += 1
            entry = self._shares[pool, name] = Share(name, self._turns)
        return entry

    def _offer(self, pool: str, level: Level, lane: Lane, entry: Share) -> None:
        heapq.heappush(lane.turns, (entry.running, entry.last_turn, entry.name))
        earlier = lane.offered is None or (entry.running, entry.last_turn) < lane.offered
        if earlier and pool not in self._aside:
            self._put_on_top(pool, level, lane)

    def _offer_all(self, pool: str, entry: Share) -> None:
        for level in entry.ready:
            lane = self._pools[pool][level]
            self._offer(pool, level, lane, entry)
            if len(lane.turns) > 64 + 4 * lane.ready:
                self._tidy(pool, level, lane)

    def _tidy(self, pool: str, level: Level, lane: Lane) -> None:
        """Drop the stale entries that have gathered in a lane."""
        lane.turns = sorted(
            (entry.running, entry.last_turn, entry.name)
            for (where, _), entry in self._shares.items()
            if where == pool and level in entry.ready
        )

    def _drop_if_idle(self, pool: str, entry: Share) -> None:
        if not entry.running and not entry.ready:
            self._shares.pop((pool, entry.name), None)
