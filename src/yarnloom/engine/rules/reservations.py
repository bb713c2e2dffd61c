"""Reservations: room that is kept in pools for a step that needs much of one, or several at once.

A step that is next and does not fit makes one, for its share, priority and pools. It takes nothing:
it only keeps steps behind it out of the room that it needs. So a heavy step starts as soon as the
attempts that run now leave enough, however many light ones would like to go on. Reservations rank
by priority, then age. One whose step cannot begin at all is not active, and keeps nobody out.

Decision: `docs/decisions/04-pools.md`.
"""

from __future__ import annotations

from bisect import insort
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

from yarnloom.engine.rules.limits import uses_in

MOST = 10_000
"""Reservations that are kept; of more, the ones that are not active are forgotten."""

Key = tuple[str, int, str]  # pools, priority, share


@dataclass(slots=True, eq=False)
class Reservation:
    """Room that is kept for the next step of a share.

    Attributes:
        pools: the pools that it enters, as `pool_key` has them.
        priority: the step's.
        share: the step's.
        number: its place among all that were ever made: smaller is older.
        since: when it was made, in microseconds since 1970 UTC.
        active: whether nothing but running attempts and rates is in its way.
    """

    pools: str
    priority: int
    share: str
    number: int
    since: int
    active: bool = True

    def __lt__(self, other: Reservation) -> bool:
        return (-self.priority, self.number) < (-other.priority, other.number)

    @property
    def key(self) -> Key:
        """What it is known by."""
        return self.pools, self.priority, self.share


@dataclass(slots=True)
class Reservations:
    """All reservations, by rank."""

    made: dict[Key, Reservation] = field(default_factory=dict)
    _ranked: list[Reservation] = field(default_factory=list)
    _kept: dict[int, Counter[str]] = field(default_factory=dict)
    _numbers: int = 0

    def make(self, key: Key, now: int, is_active: Callable[[Reservation], bool]) -> None:
        """Make a reservation, unless there is one."""
        if key in self.made:
            return
        self._numbers += 1
        one = Reservation(*key, self._numbers, now)
        one.active = is_active(one)
        self.made[key] = one
        insort(self._ranked, one)
        for least, kept in self._kept.items():
            if one.active and one.priority >= least:
                kept.update(dict(uses_in(one.pools)))

    def drop(self, key: Key) -> None:
        """Forget a reservation: its step was handed out."""
        one = self.made.pop(key, None)
        if one is not None:
            self._ranked.remove(one)
            self._kept.clear()

    def refresh(
        self, is_active: Callable[[Reservation], bool], is_over: Callable[[Reservation], bool]
    ) -> set[str]:
        """Find out anew which are active.

        Args:
            is_active: whether nothing but running attempts and rates is in the way of one.
            is_over: whether one that is not active can be forgotten.

        Returns:
            The pools in which less is kept than before.
        """
        freed: set[str] = set()
        changed = False
        for one in list(self._ranked):
            active = is_active(one)
            if one.active != active:
                changed = True
                if one.active:
                    freed |= {pool for pool, _ in uses_in(one.pools)}
                one.active = active
            if not active and (len(self._ranked) > MOST or is_over(one)):
                self.drop(one.key)
        if changed:
            self._kept.clear()
        return freed

    def kept_from(self, priority: int) -> Counter[str]:
        """By pool the weight that is kept from steps of a priority without a reservation."""
        kept = self._kept.get(priority)
        if kept is None:
            kept = self._kept[priority] = Counter()
            for one in self._ranked:
                if one.active and one.priority >= priority:
                    kept.update(dict(uses_in(one.pools)))
        return kept

    def ranked(self) -> Iterator[tuple[Reservation, Counter[str]]]:
        """Yield each active reservation, with the weight that is kept by pool for older ones."""
        kept: Counter[str] = Counter()
        for one in self._ranked:
            if one.active:
                yield one, kept
                kept.update(dict(uses_in(one.pools)))

    def before(self, key: Key) -> list[Reservation]:
        """Return the active reservations before a step, which may have one itself."""
        own = self.made.get(key)
        return [
            one
            for one in self._ranked
            if one.active and (one < own if own else one.priority >= key[1])
        ]
