"""What a step saves of itself while it runs: how far it is, where its loops stand, what it counted.

All of it is one record, a JSON object, kept with the step (`docs/worker-protocol.md`):

- `progress`: `done`, `total`, `unit`, `note`, `rate` (a second), `added`, `skipped`: what is shown.
- `places`: by a loop's name how many items it has finished (`at`), a fingerprint of the last, and
  what the loop carries (`carry`, a JSON text).
- `counts`: `added` and `skipped` up to these places: what an unfinished item counted is not in it.
- `kept`: what the task gave to `checkpoint`.
- `carried`: what it gave to `call_again`.
"""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence, Set, Sized
from itertools import islice
from typing import Any, TypeVar

from yarnloom.errors import Stopped, ValueRefused
from yarnloom.sdk.file_values import Rows
from yarnloom.task_texts import NAME_LIMIT, NOTE_LIMIT, cut_text, printable, progress_figure
from yarnloom.values import JsonObject, JsonValue, decode, fingerprint

T = TypeVar("T")

RATE_SECONDS = 5.0
CARRY_LIMIT = 64 * 1024
"""Bytes of what a loop carries from item to item."""


class Ledge:
    """The record of one step, as one attempt goes on with it.

    Args:
        saved: what the attempts before saved.
        clock: gives seconds, for rates.
    """

    def __init__(
        self, saved: JsonObject | None = None, clock: Callable[[], float] = time.monotonic
    ) -> None:
        saved = saved or {}
        self._clock = clock
        self.progress: JsonObject | None = saved.get("progress")
        self.places: dict[str, JsonObject] = dict(saved.get("places", {}))
        self.counts: dict[str, int] = {"added": 0, "skipped": 0, **saved.get("counts", {})}
        self.kept: JsonValue = saved.get("kept")
        self.carried: JsonValue = saved.get("carried")
        self.pending = {"added": 0, "skipped": 0}
        self._marks: list[tuple[float, float]] = []

    def moved(self) -> JsonObject:
        """What changes with every item: the record without what the task keeps and carries."""
        found: JsonObject = {}
        if self.places:
            found["places"] = self.places
        if any(self.counts.values()):
            found["counts"] = self.counts
        if self.progress is not None or any(self.pending.values()):
            found["progress"] = {**(self.progress or {}), **self.counted()}
        return found

    def record(self) -> JsonObject:
        """All of it."""
        found = self.moved()
        if self.kept is not None:
            found["kept"] = self.kept
        if self.carried is not None:
            found["carried"] = self.carried
        return found

    def counted(self) -> dict[str, int]:
        """What was counted, with what the unfinished item has so far."""
        return {name: self.counts[name] + self.pending[name] for name in self.counts}

    def commit(self) -> None:
        """What was counted is counted for good, together with the place that is saved with it."""
        self.counts = self.counted()
        self.pending = {"added": 0, "skipped": 0}

    def show(
        self, done: float | None, total: float | None, note: str | None, unit: str | None = None
    ) -> None:
        """How far it is; of what is None what was said before stands, but for `done`."""
        before = self.progress or {}
        self.progress = {
            "done": done,
            "total": before.get("total") if total is None else total,
            "unit": before.get("unit", "") if unit is None else _note(unit),
            "note": before.get("note", "") if note is None else _note(note),
            "rate": None if done is None else self._rate(done),
        }

    def _rate(self, done: float) -> float | None:
        """Items a second, over the last seconds."""
        now, marks = self._clock(), self._marks
        if marks and done < marks[-1][1]:
            marks.clear()
        if not marks or now - marks[-1][0] >= RATE_SECONDS / 2:
            marks.append((now, done))
            del marks[:-3]
        since, was = marks[0]
        return round((done - was) / (now - since), 3) if now > since and done > was else None


def _note(text: object) -> str:
    return cut_text(printable(str(text)), NOTE_LIMIT)


class Loops:
    """The loops of one attempt that are tracked; at most one at a time.

    Attributes:
        at: the index of the item at hand.
    """

    def __init__(self, ledge: Ledge) -> None:
        self.ledge = ledge
        self._used: set[str] = set()
        self._open: str | None = None
        self.at = 0

    @property
    def position(self) -> str:
        """Which item of which loop is at hand, as `NAME#INDEX`; empty outside of loops."""
        return "" if self._open is None else f"{self._open}#{self.at}"

    def note_bare(self, name: str) -> None:
        """Note that a loop resumed in a new attempt without a word on what it carries."""
        self.ledge.places[name]["bare"] = True

    @property
    def active(self) -> bool:
        """Whether a loop is being gone through."""
        return self._open is not None

    def check(self, iterable: Iterable[T], name: str, *, resume: bool) -> None:
        """Refuse what cannot be tracked.

        Raises:
            TypeError: it has no order, or cannot be gone through again.
            ValueError: it has another's name, or too long a one.
        """
        if len(name) > NAME_LIMIT:
            raise ValueError(
                f"the name of a loop has {len(name):,} characters; expected at most {NAME_LIMIT}"
            )
        if isinstance(iterable, Set) and not isinstance(iterable, Sequence):
            raise TypeError("track cannot go through a set, which has no order; sort it first")
        if resume and iter(iterable) is iterable:
            raise TypeError(
                "track cannot go on in an iterator that can be gone through once; give it a list, "
                "or say resume=False to begin anew with each attempt"
            )
        if name in self._used:
            which = f"named {name!r}" if name else "without a name"
            raise ValueError(
                f"two loops {which}: give each its own, as in track(rows, name='rows')"
            )
        self._used.add(name)
        if not resume:
            self.ledge.places.pop(name, None)

    def carried(self, name: str) -> Any:
        """Return what the loop carried when it was left; None if it carried nothing."""
        text = self.ledge.places.get(name, {}).get("carry")
        return None if text is None else decode(text)

    def begin(
        self, iterable: Iterable[T], total: int | None, note: str, name: str
    ) -> tuple[Iterator[T], int, int | None]:
        """Go to where a loop was left.

        Returns:
            The items from there on, how many were finished before, and how many there are.

        Raises:
            ValueError: it is within another.
            ValueRefused: its items are not those of the attempt before.
        """
        if self._open is not None:
            raise ValueError("track within another track; use one, around the outer loop")
        progress_figure("total", total)
        if total is None and isinstance(iterable, Sized):
            total = len(iterable)
        place = self.ledge.places.get(name)
        at = place["at"] if place else 0
        items = self._from(iterable, place) if place else iter(iterable)
        self.ledge.show(at, total, note, name)
        self._open = name
        return items, at, total

    def finished(
        self, name: str, at: int, item: object, carry: str | None, *, by_position: bool
    ) -> None:
        """Note that the loop asks for the next: an item is finished, its carry is kept."""
        place: JsonObject = {"at": at}
        if self.ledge.places.get(name, {}).get("bare"):
            place["bare"] = True
        if not by_position:
            place["last"] = _mark(item)
        if carry is not None:
            place["carry"] = carry
        self.ledge.places[name] = place
        self.ledge.commit()

    def end(self) -> None:
        """The loop is left."""
        self._open = None

    @staticmethod
    def _from(iterable: Iterable[T], place: JsonObject) -> Iterator[T]:
        at, known = place["at"], place.get("last")
        if isinstance(iterable, Sequence):
            if at > len(iterable):
                raise _order_changed(f"it had finished {at} items, and there are {len(iterable)}")
            # Rows of a file find their place without reading what stands before it.
            return (
                iter(iterable.starting_at(at))
                if isinstance(iterable, Rows)
                else islice(iterable, at, None)
            )
        items = iter(iterable)
        passed: deque[tuple[int, T]] = deque(enumerate(islice(items, at), 1), maxlen=1)
        count, last = passed[0] if passed else (0, None)
        if count < at:
            raise _order_changed(f"it had finished {at} items, and there are {count}")
        if at and known is not None and _mark(last) != known:
            raise _order_changed(f"item {at - 1} is another than before")
        return items


def _order_changed(why: str) -> ValueRefused:
    return ValueRefused(
        f"the order changed: {why}. The loop cannot go on where it was; say resume=False to begin "
        "anew with each attempt"
    )


def _mark(item: object) -> str:
    """Tells an item from others; of what is not JSON only its type."""
    try:
        return fingerprint(item)[:12]
    except (TypeError, ValueError):
        return type(item).__name__


def stopped(why: str, ledge: Ledge) -> Stopped:
    """What is raised in a task that is told to stop."""
    progress = ledge.progress or {}
    at = f" at {progress['done']}" if progress.get("done") is not None else ""
    of = f" of {progress['total']}" if at and progress.get("total") is not None else ""
    return Stopped(f"told to stop: {why}{at}{of}")
