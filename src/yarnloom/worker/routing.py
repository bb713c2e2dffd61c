"""Routing: which process runs which attempt, and what waits for one.

Short attempts wait in a process behind each other; what waits behind a long one is taken back.

Decision: `docs/decisions/14-batches-in-a-process.md`.
"""

from __future__ import annotations

import asyncio
from collections import OrderedDict, deque
from collections.abc import Callable

from yarnloom.values import JsonObject
from yarnloom.worker.attempt_reports import AttemptReports
from yarnloom.worker.clock import Clock, Timer
from yarnloom.worker.process_pool import ProcessPool
from yarnloom.worker.processes.child_process import Child

Message = JsonObject

AHEAD_SECONDS = 0.02

AHEAD_MOST = 500

SHORTEST = 30e-6
"""Seconds that an attempt takes with its way to a process and back, however short its task."""

BETWEEN_SECONDS = 0.001

LOOK_SECONDS = 0.005
"""After which the worker reports the begin of an attempt that has not ended."""

COMPACT_SECONDS = 1.0
"""After which the begin of a compact attempt is reported in any case."""

COMPACT_BEGINS = 5
"""Begins of compact attempts a second that are reported before that. On a machine with too little
processor time most attempts take long now and then, and a report of each would make that worse."""

BEHIND_SECONDS = 0.2
"""After which what waits behind long attempts is given back, so that another worker can have it."""

REMEMBERED = 50_000

_NOT_BEHIND = "it was to be run behind another, which has not ended well here"


class Routing:
    """Attempts that wait for a process of this worker.

    Args:
        pool: the processes.
        reports: hear of attempts that go back.
        clock: the clock.
        watch_memory: called when a process gets an attempt whose memory is limited.

    Attributes:
        idle: set while no process has an attempt.
    """

    def __init__(
        self,
        pool: ProcessPool,
        reports: AttemptReports,
        clock: Clock,
        watch_memory: Callable[[], None],
    ) -> None:
        self._pool = pool
        self._reports = reports
        self._clock = clock
        self._watch_memory = watch_memory
        self._queues: dict[bool, deque[Message]] = {False: deque(), True: deque()}
        self._stale: list[Message] = []
        self._introducing = False
        self._seen: OrderedDict[int, None] = OrderedDict()  # attempts ever received
        self._spent: float | None = None
        self._look: Timer | None = None
        self._told: set[int] = set()  # attempts that run, and whose begin was reported
        self._compact_begins: deque[float] = deque()
        self.idle = asyncio.Event()

    def close(self) -> None:
        """Stop the timer."""
        if self._look:
            self._look.cancel()

    def take(self, work: Message) -> bool:
        """Queue an attempt until `feed` is called; False if it is known or goes back."""
        attempt = work["attempt"]
        if attempt in self._seen:
            return False  # the same message, sent again because an answer was lost
        self.note_seen(attempt)
        if self._pool.draining:
            self._reports.queue.report({"attempt": attempt, "outcome": "handed_back"})
            return False
        self._queues[self._pool.is_io(work["task"])].append(work)
        return True

    def has_seen(self, attempt: int) -> bool:
        """Whether an attempt ever came."""
        return attempt in self._seen

    def note_seen(self, attempt: int) -> None:
        """Never run an attempt that comes from now on."""
        self._seen[attempt] = None
        while len(self._seen) > REMEMBERED:
            self._seen.popitem(last=False)

    def forget_seen(self) -> None:
        """Forget which attempts came: numbers are others' now."""
        self._seen.clear()

    @property
    def waiting(self) -> list[int]:
        """Attempts that wait for a process."""
        return [
            work["attempt"] for queue in (*self._queues.values(), self._stale) for work in queue
        ]

    def has_waiting(self, *, shared: bool) -> bool:
        """Whether attempts of a kind wait for a process."""
        return bool(self._queues[shared])

    @property
    def ahead(self) -> int:
        """How many attempts are expected to begin within `AHEAD_SECONDS`."""
        if self._all_take_long(AHEAD_SECONDS):
            return 0
        return self._ahead_in_one() * self._pool.options.processes

    def feed(self) -> None:
        """Give processes what waits: those first that have the least."""
        for shared, queue in self._queues.items():
            if queue:
                self._give_out(shared, queue)
        if self._stale and not self._introducing:
            self.introduced()

    def wait_for_introduction(self) -> None:
        """Keep attempts of other code until the service knows the tasks as they are now."""
        self._introducing = True

    def _ahead_in_one(self) -> int:
        """Return how many begin soon in one process, by what attempts took until now."""
        if self._spent is None or self._spent >= AHEAD_SECONDS:
            return 0
        return min(AHEAD_MOST, int(AHEAD_SECONDS / max(self._spent, SHORTEST)))

    def _all_take_long(self, seconds: float) -> bool:
        """Whether every process has an attempt that has run for so long."""
        since = self._clock.now() - seconds
        alone = [child for child in self._pool.children if not child.shared and child.counts]
        return all(any(at < since for at in child.begun.values()) for child in alone)

    def note_spent(self, child: Child, begun_at: float, ended_at: float) -> None:
        """Learn how long attempts take, with what lies between two that follow each other."""
        between = begun_at - child.last_end
        spent = ended_at - (child.last_end if 0 <= between < BETWEEN_SECONDS else begun_at)
        child.last_end = ended_at
        self._spent = spent if self._spent is None else 0.9 * self._spent + 0.1 * spent

    def _give_out(self, shared: bool, queue: deque[Message]) -> None:
        ahead = self._ahead_in_one()
        children = [child for child in self._pool.children if child.shared == shared]
        rooms = {child: min(child.room(ahead), self._left_in(child)) for child in children}
        given: dict[Child, list[Message]] = {child: [] for child, room in rooms.items() if room > 0}
        # A process whose attempt takes long, or that begins none, has nobody wait behind it.
        for child in [one for one in given if not shared and self._keeps_waiting(one)]:
            del given[child]
        while queue and given:
            child = max(given, key=lambda one: rooms[one] - len(given[one]))
            if rooms[child] <= len(given[child]):
                break
            works = self.take_first(queue, self._left_in(child) - len(given[child]))
            if all(map(child.has_code_of, works)):
                given[child] += works
            else:
                self._stale += works
        for child, works in given.items():
            if works:
                self.idle.clear()
                child.give(works)
                if any(work.get("memory") for work in works):
                    self._watch_memory()
                if not shared:
                    self._look_later()

    def _left_in(self, child: Child) -> int:
        """How many attempts a process may still run before it is replaced."""
        after = self._pool.options.replace_after
        return REMEMBERED if after is None else after - child.given

    def take_first(self, queue: deque[Message], most: int) -> list[Message]:
        """The first of what waits, with all that is to be run right behind it, up to so many."""
        works: list[Message] = []
        while queue and len(works) < most and (not works or _is_behind(queue[0], works[-1])):
            works.append(queue.popleft())
        if "behind" not in works[0]:
            return works
        for work in works:  # the attempt before it is elsewhere, so this process has no input
            self._reports.hand_back(work["attempt"], _NOT_BEHIND)
        return []

    def _keeps_waiting(self, child: Child) -> bool:
        """Return whether nobody may wait behind a process: it is stalled or runs long."""
        since = self._clock.now() - AHEAD_SECONDS
        return any(at < since for at in child.begun.values()) or child.is_stalled(BEHIND_SECONDS)

    def _may_tell(self, work: Message, spent: float) -> bool:
        """Whether the begin of an attempt is reported now; that of a compact one may wait."""
        if not work.get("compact") or spent >= COMPACT_SECONDS:
            return True
        now = self._clock.now()
        while self._compact_begins and now - self._compact_begins[0] >= 1.0:
            self._compact_begins.popleft()
        if len(self._compact_begins) >= COMPACT_BEGINS:
            return False
        self._compact_begins.append(now)
        return True

    def _look_later(self) -> None:
        if self._look is None:
            self._look = self._clock.later(LOOK_SECONDS, self._look_at_begun)

    def _look_at_begun(self) -> None:
        """Report begins; take attempts back that wait behind a long one."""
        self._look = None
        again = False
        self._told &= set(self._pool.running)
        for child in [one for one in self._pool.children if not one.shared and one.attempts]:
            running = child.running
            if running is None:
                again = True
                if child.is_stalled(BEHIND_SECONDS) and len(child.attempts) > 1:
                    # The first stays: where it is not begun, the process is replaced after all.
                    _, *behind = child.attempts
                    self.queue_first(child.take_back(set(behind)))
                    self._reports.queue.wake()
                continue
            attempt, at = running
            spent = self._clock.now() - at
            if spent >= LOOK_SECONDS and attempt not in self._told:
                child.begun[attempt] = at
                if self._may_tell(child.attempts[attempt], spent):
                    self._told.add(attempt)
                    self._reports.begun(child, attempt)
                else:
                    again = True
            if spent < AHEAD_SECONDS:
                again = again or attempt not in child.begun or len(child.attempts) > 1
            elif len(child.attempts) > 1:
                self.take_behind(child)
                self._reports.queue.wake()  # less is to be handed ahead from now on
        waits = bool(self._queues[False])
        if waits:
            self.feed()
            if self._all_take_long(BEHIND_SECONDS):
                self._give_back_queue()
        if again or self._queues[False]:
            self._look_later()

    def _give_back_queue(self) -> None:
        """Nothing here gets to what waits soon: another worker may."""
        queue = self._queues[False]
        for work in queue:
            self._reports.hand_back(work["attempt"], "no process was free to begin it")
        queue.clear()

    def take_behind(self, child: Child) -> None:
        """Take back what waits behind an attempt in a process."""
        self.queue_first(child.take_back())

    def queue_first(self, works: list[Message]) -> None:
        """Queue attempts again that a process had and did not begin.

        An attempt stays behind the one before it, or goes back to the service.
        """
        kept: list[Message] = []
        for work in works:
            if "behind" not in work or (kept and _is_behind(work, kept[-1])):
                kept.append(work)
            else:
                self._reports.hand_back(work["attempt"], _NOT_BEHIND)
        self._queues[False].extendleft(reversed(kept))

    def unqueue(self, attempt: int) -> bool:
        """Take an attempt out of what waits, here or in a process; whether it had not begun."""
        for queue in (*self._queues.values(), self._stale):
            for work in queue:
                if work["attempt"] == attempt:
                    queue.remove(work)
                    return True
        child = self._pool.process_with(attempt)
        return child is not None and bool(child.take_back({attempt}))

    def hand_back_queue(self) -> None:
        """Give back what no process has begun."""
        for child in self._pool.children:
            self.take_behind(child)
        for queue in (*self._queues.values(), self._stale):
            for work in queue:
                self._reports.queue.report({"attempt": work["attempt"], "outcome": "handed_back"})
            queue.clear()
        self.note_idle()

    def introduced(self) -> None:
        """The service knows the tasks as they are now: what it gave for older code goes back."""
        self._introducing = False
        for work in self._stale:
            self._reports.queue.report({"attempt": work["attempt"], "outcome": "handed_back"})
        self._stale.clear()
        self.note_idle()

    def note_idle(self) -> None:
        """Note when no process has an attempt any longer."""
        if not any(child.attempts for child in self._pool.children):
            self.idle.set()


def _is_behind(work: Message, other: Message) -> bool:
    """Whether an attempt is run right behind another."""
    return "behind" in work and bool(work["behind"] == other["attempt"])
