"""The attempts of a worker, from their arrival to their report: the worker's rooms together.

`process_pool` has the processes, `routing` says which of them runs what, `attempt_stops` stops
attempts, `memory_watch` looks at their memory, `attempt_reports` passes on what they say.
"""

from __future__ import annotations

import asyncio
import signal
from collections.abc import Callable

from yarnloom.units import size_text
from yarnloom.values import JsonObject
from yarnloom.worker.attempt_notices import AttemptNotices
from yarnloom.worker.attempt_reports import AskService, AttemptReports
from yarnloom.worker.attempt_stops import AttemptStops
from yarnloom.worker.clock import Clock, LoopClock
from yarnloom.worker.memory_watch import MemoryWatch, children_of, memory_of
from yarnloom.worker.process_pool import PoolEvents, PoolOptions, ProcessPool
from yarnloom.worker.processes.child_process import Child
from yarnloom.worker.processes.spawner import ProcessEvents, ProcessSpawner, Spawner
from yarnloom.worker.report_queue import ReportQueue
from yarnloom.worker.routing import Routing

Message = JsonObject

OF_AN_END = ("outcome", "output", "error", "cpu", "memory", "after", "saved")
"""Fields of a process's `ended` message that go into the report."""

MakeSpawner = Callable[[ProcessEvents], Spawner]
"""Makes what starts processes, which tell what happens to them."""


class AttemptRunner:
    """Runs attempts in the processes of one worker.

    Args:
        options: how many processes, and how long each is used.
        queue: where reports wait for the service.
        ask: asks the service for an attempt.
        on_new_code: called when the tasks are others now; the caller calls `introduced` when the
            service knows.
        say: tells the user.
        clock: the clock; None for the event loop's.
        make_spawner: makes what starts processes; None for real ones.
        worker: the worker's id.
        notices: say how attempts ended; None for silence.
    """

    def __init__(
        self,
        options: PoolOptions,
        queue: ReportQueue,
        ask: AskService,
        on_new_code: Callable[[], None],
        say: Callable[[str], None],
        *,
        clock: Clock | None = None,
        make_spawner: MakeSpawner | None = None,
        worker: str = "",
        notices: AttemptNotices | None = None,
    ) -> None:
        self._say = say
        self._clock = clock or LoopClock()
        self._reports = AttemptReports(queue, ask, ", ".join(options.load), say)
        self._reports.notices = notices
        events = ProcessEvents(
            on_message=self._on_message,
            on_ends=self._on_ends,
            on_line=self._reports.line,
            on_death=self._on_death,
            on_broken=self._on_broken,
        )
        if make_spawner is None:
            self._spawner: Spawner = ProcessSpawner(options.load, options.io, events, say, worker)
        else:
            self._spawner = make_spawner(events)
        self.pool = ProcessPool(
            options,
            self._spawner,
            self._clock,
            memory_of,
            PoolEvents(
                changed=queue.wake,
                usable=lambda: self.routing.feed(),  # noqa: PLW0108  # it comes after the pool
                closing=lambda child: self.routing.take_behind(child),  # noqa: PLW0108
                new_code=on_new_code,
                introducing=lambda: self.routing.wait_for_introduction(),  # noqa: PLW0108
            ),
            say,
        )
        self._memory = MemoryWatch(self.pool, self._clock, memory_of, self._end_large)
        self.routing = Routing(self.pool, self._reports, self._clock, self._memory.keep_watching)
        self.stops = AttemptStops(
            self.pool, self.routing, self._reports, self._clock, say, self._finish
        )

    def start(self) -> None:
        """Start the processes."""
        asyncio.get_running_loop().add_signal_handler(signal.SIGCHLD, self.pool.reap)
        self.pool.start()

    def close(self) -> None:
        """Kill every process."""
        asyncio.get_running_loop().remove_signal_handler(signal.SIGCHLD)
        self._memory.close()
        self.routing.close()
        self.pool.kill()
        self._spawner.close()

    @property
    def ahead(self) -> int:
        """How many more attempts may be in hand than there are places, since they begin soon."""
        return 0 if not self.pool.places else self.routing.ahead

    @property
    def in_hand(self) -> set[int]:
        """Attempts that processes have or wait for one."""
        return {*self.pool.running, *self.routing.waiting}

    def take(self, work: Message) -> None:
        """Run an attempt as soon as a process is free, and `routing.feed` is called."""
        if self.routing.take(work):
            self.stops.apply_early(work["attempt"])

    def drop(self, attempt: int) -> None:
        """An attempt was given up as lost: its step may be running elsewhere, so end it here."""
        self.routing.note_seen(attempt)  # also where its work is still on the way
        self.routing.unqueue(attempt)
        self._reports.queue.forget(attempt)
        child = self.pool.process_with(attempt)
        if child is None:
            return
        self._say(f"{child.attempts[attempt]['address']} was lost, and is ended here")
        if child.shared:
            child.send({"kind": "interrupt", "attempt": attempt, "why": "lost"})
        else:
            child.kill()
        self._finish(child, attempt)

    async def drop_all(self) -> None:
        """End all that is in hand: records that are gone gave it out, and numbers mean others now.

        Returns when the processes have ended that had any of it.
        """
        busy = [child for child in self.pool.children if child.attempts or child.abandoned]
        for attempt in self.in_hand:
            self.drop(attempt)
        for child in busy:
            child.abandoned.clear()
            child.kill()
        self.routing.forget_seen()
        self.stops.forget_early()
        while any(child in self.pool.children for child in busy):
            await self.pool.wait_for_death().wait()

    def give_back(self, attempt: int) -> None:
        """Give back what has not begun; a process that does not begin what it has is replaced."""
        child = self.pool.process_with(attempt)
        running = child.running if child else None
        if (child is None or running) and self.routing.unqueue(attempt):
            self._reports.hand_back(attempt, "no process was free to begin it")
            return
        if child is None:
            return
        if running and running[0] == attempt:
            child.begun[attempt] = running[1]
        if attempt in child.begun:
            self._reports.begun(child, attempt)
            return
        # It runs nothing, and yet does not begin this.
        self._say(f"process {child.pid} does not begin what it has, and is replaced")
        if child.shared:  # others run in it: they end first
            child.send({"kind": "interrupt", "attempt": attempt, "why": "lost"})
            self.pool.replace(child)
        else:
            child.take_back({attempt})
            child.kill()
        self._reports.hand_back(attempt, f"process {child.pid} did not begin it, and was replaced")
        self._finish(child, attempt)

    def hand_back_running(self, why: str) -> None:
        """End what runs, and give it back."""
        for child in self.pool.children:
            if not child.attempts:
                continue
            for attempt in list(child.attempts):
                error = {"type": "HandedBack", "message": why}
                item = {"attempt": attempt, "outcome": "handed_back", "error": error}
                self._reports.queue.report(item | self._reports.saved_of(attempt))
                del child.attempts[attempt]
            child.kill()

    def _on_message(self, child: Child, message: Message) -> None:
        attempt = message.get("attempt")
        match message["kind"]:
            case "loaded":
                child.tasks, self.pool.folders = message["tasks"], message["folders"]
            case "ready":
                self.pool.on_ready(child)
            case "unusable":
                self.pool.on_unusable(child, message["message"])
            case "around_failed":
                self.pool.on_around_failed(child, message)
            case "begun" if attempt in child.attempts:  # of a shared process
                child.begun[attempt] = self._clock.now()
                self._reports.begun(child, attempt)
            case "saved" if attempt in child.attempts:
                self._reports.save(child, attempt, message["saved"])
            case "ask" if attempt in child.attempts:
                self._reports.ask(child, attempt, message)
            case "line":
                del message["kind"], message["attempt"]
                self._reports.line(child, message, attempt)
            case "ended" if attempt in child.attempts:
                self._on_ended(child, attempt, message)
            case "ended" if attempt in child.abandoned:
                child.abandoned.discard(attempt)
                self._reports.queue.freed(attempt)

    def _on_ends(self, child: Child, messages: list[Message]) -> None:
        """Attempts ended, one behind the other, in a process of its own."""
        items = []
        for message in messages:
            attempt = message["attempt"]
            if not self._is_usual_end(child, attempt, message):
                self._on_message(child, message)
                continue
            begun_at, ended_at = message["at"]
            self.routing.note_spent(child, begun_at, ended_at)
            work = child.attempts.pop(attempt)
            child.begun.pop(attempt, None)
            item = {
                "attempt": attempt,
                "pid": child.pid,
                "outcome": "done",
                "output": message.get("output"),
                "cpu": message["cpu"],
                "memory": message["memory"],
                "begun_at": begun_at,
                "ended_at": ended_at,
            }
            items.append(item)
            if self._reports.notices is not None:
                self._reports.notices.ended(work["address"], item)
        if not items:
            return
        self._reports.queue.report_all(items)
        self.pool.replace_if_used_up(child)
        if child.closing and not child.attempts:
            child.end()
        if self.routing.has_waiting(shared=False):
            self.routing.feed()
        self.routing.note_idle()

    def _is_usual_end(self, child: Child, attempt: int, message: Message) -> bool:
        """Whether an attempt is simply done: it saved nothing, and nobody told it to stop."""
        work = child.attempts.get(attempt)
        return (
            work is not None
            and message["outcome"] == "done"
            and not message.get("saved")
            and message["at"][0] is not None
            and not self._reports.has_saved(attempt)
            and not self.stops.concerns(attempt)
            and not work.get("secrets")
        )

    def _on_ended(self, child: Child, attempt: int, message: Message) -> None:
        begun_at, ended_at = message["at"] or (None, self._clock.now())
        if begun_at is not None and not child.shared:
            self.routing.note_spent(child, begun_at, ended_at)
        told = {name: message[name] for name in OF_AN_END if message.get(name) is not None}
        if not told.get("saved"):
            told.pop("saved", None)
        self._reports.ended(child, attempt, begun_at=begun_at, ended_at=ended_at, **told)
        stopped = self.stops.ends(attempt)
        if stopped and not child.shared and children_of(child.pid):
            # What an attempt started must not go on when the attempt itself was stopped.
            self.pool.replace(child)
            self._finish(child, attempt, used=True)
            child.kill()
            return
        self._finish(child, attempt, used=True)

    def _on_broken(self, child: Child, why: str) -> None:
        """A process said what cannot be read: its attempts fail, and it is replaced."""
        self._say(f"process {child.pid} said what cannot be read, and is replaced: {why}")
        self.pool.replace(child)
        for attempt in list(child.attempts):
            message = f"its process said what cannot be read, and was ended: {why}"
            error = {"type": "ProcessBroken", "message": message, "kinds": ["ProcessBroken"]}
            self._reports.ended(
                child, attempt, outcome="failed", error=error, ended_at=self._clock.now()
            )
            self._finish(child, attempt)

    def _on_death(self, child: Child, code: int, unbegun: list[Message]) -> None:
        self.routing.queue_first(unbegun)
        self.pool.remove(child)
        for attempt in child.abandoned:
            self._reports.queue.freed(attempt)
        for attempt in list(child.attempts):
            outcome, what = "lost", f"ended by itself with exit code {code}"
            if self.stops.ends(attempt) and not child.shared:
                outcome, what = "cancelled", "was told to stop and killed after its grace"
            elif code < 0:
                what = f"died by {signal.Signals(-code).name}"
            error = {"type": "ProcessDied", "message": f"its process {child.pid} {what}"}
            self._reports.ended(
                child, attempt, outcome=outcome, error=error, ended_at=self._clock.now()
            )
            self._finish(child, attempt)
        self.pool.died(child, code)

    def _end_large(self, child: Child, attempt: int, used: int, limit: int) -> None:
        message = f"its process used {size_text(used)} of memory, at most {size_text(limit)} may be"
        error = {"type": "MemoryExceeded", "message": message, "kinds": ["MemoryExceeded"]}
        ended = {"ended_at": self._clock.now(), "memory": used}
        self._reports.ended(child, attempt, outcome="failed", error=error, **ended)
        self.pool.replace(child)
        self._finish(child, attempt)

    def _finish(self, child: Child, attempt: int, *, used: bool = False) -> None:
        """An attempt is in nobody's hand any more."""
        child.attempts.pop(attempt, None)
        child.begun.pop(attempt, None)
        self.stops.forget(attempt)
        self._reports.forget(attempt)
        if used:
            self.pool.replace_if_used_up(child)
        if child.closing and not child.attempts:
            child.end()
        if self.routing.has_waiting(shared=child.shared):
            self.routing.feed()
        self.routing.note_idle()
