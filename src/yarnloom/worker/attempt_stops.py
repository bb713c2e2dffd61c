"""Stopping attempts: after its grace a stop is raised in it, then its process is killed.

Decision: `docs/decisions/07-stops-in-processes.md`.
"""

from __future__ import annotations

from collections.abc import Callable

from yarnloom.sdk.hooks import DEFAULT_GRACE, RESUMABLE_STOPS
from yarnloom.worker.attempt_reports import AttemptReports
from yarnloom.worker.clock import Clock, Timer
from yarnloom.worker.process_pool import ProcessPool
from yarnloom.worker.processes.child_process import Child
from yarnloom.worker.routing import Routing

INTERRUPT_SECONDS = 2.0

KILL_SECONDS = 1.0
"""After a stop was raised in a task, until its process is killed."""

AGAIN_SECONDS = 0.05
"""After which it is raised again: the function may just not have run."""


class AttemptStops:
    """Attempts of this worker that have to stop.

    Args:
        pool: the processes.
        routing: what waits for one.
        reports: hear of what was stopped.
        clock: the clock.
        say: tells the user.
        finish: called for an attempt that is over for the service.
    """

    def __init__(
        self,
        pool: ProcessPool,
        routing: Routing,
        reports: AttemptReports,
        clock: Clock,
        say: Callable[[str], None],
        finish: Callable[[Child, int], None],
    ) -> None:
        self._pool = pool
        self._routing = routing
        self._reports = reports
        self._clock = clock
        self._say = say
        self._finish = finish
        self._stops: dict[int, str] = {}
        self._early_stops: dict[int, tuple[str, float | None, bool]] = {}
        self._timers: dict[int, Timer] = {}

    def concerns(self, attempt: int) -> bool:
        """Whether an attempt has to stop."""
        return attempt in self._stops or attempt in self._timers

    def ends(self, attempt: int) -> bool:
        """Whether an attempt has to end, and not only to pause."""
        return bool(self._stops) and self._stops.get(attempt, "pause") not in RESUMABLE_STOPS

    def apply_early(self, attempt: int) -> None:
        """Stop an attempt that has come, if its stop came before it."""
        if self._early_stops and (early := self._early_stops.pop(attempt, None)):
            why, raise_in, now = early
            self.stop(attempt, why, raise_in=raise_in, now=now)

    def forget(self, attempt: int) -> None:
        """Forget the stop of an attempt that is over."""
        self._stops.pop(attempt, None)
        if timer := self._timers.pop(attempt, None):
            timer.cancel()

    def forget_early(self) -> None:
        """Forget stops of attempts that have not come: numbers are others' now."""
        self._early_stops.clear()

    def stop(
        self, attempt: int, why: str, *, raise_in: float | None = None, now: bool = False
    ) -> None:
        """Tell an attempt to stop; after its grace the stop is raised in it.

        Args:
            attempt: the attempt.
            why: pause and drain raise nothing: it stops where it can resume, or runs on.
            raise_in: seconds after which it is raised, whatever the grace: its time is over then.
            now: raise it now.
        """
        child = self._pool.process_with(attempt)
        if (child is None or not child.shared) and self._routing.unqueue(attempt):
            outcome = "handed_back" if why in RESUMABLE_STOPS else "cancelled"
            self._reports.queue.report({"attempt": attempt, "outcome": outcome})
            return
        if child is None:
            # A stop comes over another connection than the work, and may be here first.
            if not self._routing.has_seen(attempt):
                self._early_stops[attempt] = why, raise_in, now
            return
        before = self._stops.get(attempt, "pause")
        if before not in RESUMABLE_STOPS:
            if now or raise_in is not None:  # what it still had of its grace is over
                self._raise_later(attempt, raise_in or 0.0)
            return
        facts = self._pool.tasks.get(child.attempts[attempt]["task"], {})
        self._stops[attempt] = why
        if why in RESUMABLE_STOPS:
            child.send({"kind": "stop", "attempt": attempt, "why": why})
            return
        grace = float(facts.get("grace", DEFAULT_GRACE))
        if facts.get("hears", True) or grace:
            child.send({"kind": "stop", "attempt": attempt, "why": why})
        self._raise_later(attempt, 0.0 if now else grace if raise_in is None else raise_in)

    def _raise_later(self, attempt: int, seconds: float) -> None:
        """Raise a stop in an attempt after some seconds, and end it where that does not help."""
        if timer := self._timers.pop(attempt, None):
            timer.cancel()
        if seconds > 0:
            self._timers[attempt] = self._clock.later(seconds, self._raise, attempt, KILL_SECONDS)
        else:
            self._raise(attempt, KILL_SECONDS)

    def _raise(self, attempt: int, left: float) -> None:
        """Raise the stop in an attempt, again and again until it has heard, or is ended."""
        child = self._pool.process_with(attempt)
        if child is None:
            return
        if child.shared or left <= 0:
            self.end(attempt)
            return
        child.interrupt(attempt, self._stops.get(attempt, "cancel"))
        call = self._clock.later
        self._timers[attempt] = call(AGAIN_SECONDS, self._raise, attempt, left - AGAIN_SECONDS)

    def go_on(self, attempt: int) -> None:
        """An attempt that was told to pause need not."""
        child = self._pool.process_with(attempt)
        if child is not None and self._stops.get(attempt) == "pause":
            del self._stops[attempt]
            child.send({"kind": "go_on", "attempt": attempt})

    def stop_for_drain(self) -> None:
        """Let what can be gone on with elsewhere stop at its next checkpoint."""
        for attempt in self._pool.running:
            if attempt not in self._stops:
                self.stop(attempt, "drain")

    def end(self, attempt: int) -> None:
        """End an attempt that did not stop: kill its process, or ask a coroutine to leave."""
        child = self._pool.process_with(attempt)
        if child is None:
            return
        if not child.shared:
            child.kill()
            return
        why = self._stops.setdefault(attempt, "lost")
        child.send({"kind": "interrupt", "attempt": attempt, "why": why})
        self._timers[attempt] = self._clock.later(INTERRUPT_SECONDS, self._abandon, attempt)

    def _abandon(self, attempt: int) -> None:
        """An attempt in a shared process stops for nothing: fence it off, and let the others end.

        The process takes nothing new, and is killed and replaced when the others have ended.
        """
        child = self._pool.process_with(attempt)
        if child is None:
            return
        self._say(f"{child.attempts[attempt]['address']} does not stop, and is abandoned")
        fault = "it did not stop within its grace, and was abandoned; its process is being replaced"
        error = {"type": "Abandoned", "message": fault}
        ended = {"ended_at": self._clock.now(), "abandoned": True}
        self._reports.ended(child, attempt, outcome="cancelled", error=error, **ended)
        child.abandoned.add(attempt)
        self._pool.replace(child)
        self._finish(child, attempt)

    def end_what_must_not_overlap(self) -> None:
        """Others may be given what runs here."""
        for child in self._pool.children:
            for attempt, work in list(child.attempts.items()):
                if self._pool.tasks.get(work["task"], {}).get("overlap") == "never":
                    self._say(f"cut off for a whole lease, ends {work['address']}")
                    self.end(attempt)
