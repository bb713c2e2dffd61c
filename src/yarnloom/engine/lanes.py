"""Who runs next: what could begin, counted by pool, priority, share and contract.

Steps themselves stay in the store, under one index; here is one small entry per pool, priority,
share and contract (a task as a plan expects it), so that finding the next step never scans what
cannot run. The order is that of the rules: highest priority, then the share with the fewest running
attempts in the pool, then the one that has waited longest since its last start, or since it came;
within a share, plan order.
"""

from __future__ import annotations

import heapq
from collections.abc import Container
from dataclasses import dataclass, field

LaneKey = tuple[str, int, str]  # pool, priority, contract


@dataclass(slots=True)
class Share:
    """Whom turns are counted for, in one pool.

    Attributes:
        last_turn: when it last started something, or came: later is greater.
    """

    name: str
    last_turn: int
    running: int = 0
    ready: dict[LaneKey, int] = field(default_factory=dict)


@dataclass(slots=True)
class Lane:
    """What is ready of one contract, in one pool, at one priority."""

    ready: int = 0
    # (running, last turn, share); an entry that no longer says what the share says is stale.
    turns: list[tuple[int, int, str]] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Turn:
    """Whose turn it is: a share in a pool at a priority, and which of its contracts may run."""

    pool: str
    priority: int
    share: str
    contracts: tuple[str, ...]


class Lanes:
    """Counts of what could begin, and of what is in hand, by whom turns are counted for."""

    def __init__(self) -> None:
        self._lanes: dict[LaneKey, Lane] = {}
        self._shares: dict[tuple[str, str], Share] = {}
        self._turns = 0
        self.ready = 0

    def add(self, pool: str, priority: int, share: str, contract: str, count: int = 1) -> None:
        """Steps have become ready."""
        key = (pool, priority, contract)
        lane = self._lanes.setdefault(key, Lane())
        entry = self._share(pool, share)
        before = entry.ready.get(key, 0)
        entry.ready[key] = before + count
        lane.ready += count
        self.ready += count
        if not before:
            self._offer(lane, entry)

    def remove(self, pool: str, priority: int, share: str, contract: str) -> None:
        """A ready step was handed out, or can run no more."""
        key = (pool, priority, contract)
        entry = self._shares[pool, share]
        entry.ready[key] -= 1
        if not entry.ready[key]:
            del entry.ready[key]
        lane = self._lanes[key]
        lane.ready -= 1
        self.ready -= 1
        if not lane.ready:
            del self._lanes[key]
        self._drop_if_idle(pool, entry)

    def started(self, pool: str, share: str) -> None:
        """A step of the share was handed out."""
        entry = self._share(pool, share)
        entry.running += 1
        self._turns += 1
        entry.last_turn = self._turns
        self._offer_all(entry)

    def ended(self, pool: str, share: str) -> None:
        """An attempt of the share ended."""
        entry = self._shares[pool, share]
        entry.running -= 1
        self._offer_all(entry)
        self._drop_if_idle(pool, entry)

    def next_turn(self, takes: Container[str]) -> Turn | None:
        """Whose turn it is among those with a ready step that can be taken; None if nobody's."""
        best: tuple[int, int, int] | None = None
        chosen: tuple[LaneKey, str] | None = None
        for key, lane in self._lanes.items():
            _, priority, contract = key
            if contract not in takes:
                continue
            running, last_turn, share = self._first(key, lane)
            order = (-priority, running, last_turn)
            if best is None or order < best:
                best, chosen = order, (key, share)
        if chosen is None:
            return None
        (pool, priority, _), share = chosen
        of_share = self._shares[pool, share].ready
        known = tuple(one for (_, level, one) in of_share if level == priority and one in takes)
        return Turn(pool, priority, share, known)

    def _first(self, key: LaneKey, lane: Lane) -> tuple[int, int, str]:
        """The valid head of a lane's turns; stale entries above it are dropped."""
        while True:
            head = lane.turns[0]
            entry = self._shares.get((key[0], head[2]))
            if entry and head[:2] == (entry.running, entry.last_turn) and key in entry.ready:
                return head
            heapq.heappop(lane.turns)

    def _share(self, pool: str, name: str) -> Share:
        """The entry of a share; one that comes anew stands behind those that wait already."""
        entry = self._shares.get((pool, name))
        if entry is None:
            self._turns += 1
            entry = self._shares[pool, name] = Share(name, self._turns)
        return entry

    def _offer(self, lane: Lane, entry: Share) -> None:
        heapq.heappush(lane.turns, (entry.running, entry.last_turn, entry.name))

    def _offer_all(self, entry: Share) -> None:
        for key in entry.ready:
            lane = self._lanes[key]
            self._offer(lane, entry)
            if len(lane.turns) > 64 + 4 * lane.ready:
                self._tidy(key, lane)

    def _tidy(self, key: LaneKey, lane: Lane) -> None:
        """Drop the stale entries that have gathered in a lane."""
        current = {
            (entry.running, entry.last_turn, entry.name)
            for (pool, _), entry in self._shares.items()
            if pool == key[0] and key in entry.ready
        }
        lane.turns = sorted(current)

    def _drop_if_idle(self, pool: str, entry: Share) -> None:
        if not entry.running and not entry.ready:
            self._shares.pop((pool, entry.name), None)
