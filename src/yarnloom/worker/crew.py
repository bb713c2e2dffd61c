"""A worker's processes and the attempts in them: who runs what, what came of it, and its end.

Tasks that run alone have a process each; tasks that share one (`io`) have a process together.
"""

from __future__ import annotations

import asyncio
import contextlib
import signal
import time
from collections import OrderedDict, deque
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Protocol

from yarnloom.errors import LoomNotFound
from yarnloom.masking import masked_in, worth_masking
from yarnloom.sdk.hooks import DEFAULT_GRACE, MILD
from yarnloom.units import size_text
from yarnloom.worker.processes.child_process import (
    TEAR_DOWN_SECONDS,
    Child,
    Guardian,
    Template,
    adopt_orphans,
    reap_orphans,
)
from yarnloom.worker.processes.memory_use import children_of, memory_of

Message = dict[str, Any]

AHEAD_SECONDS = 0.02
AHEAD_MOST = 500
SHORTEST = 30e-6
"""Seconds that an attempt takes with its way to a process and back, however short its task."""

BETWEEN_SECONDS = 0.001
LOOK_SECONDS = 0.005
"""After which the worker reports the begin of an attempt that has not ended."""

BEHIND_SECONDS = 0.2
"""After which what waits behind long attempts is given back, so that another worker can have it."""

REMEMBERED = 50_000
INTERRUPT_SECONDS = 2.0
KILL_SECONDS = 1.0
"""After a stop was raised in a task, until its process is killed."""

AGAIN_SECONDS = 0.05
"""After which it is raised again: the function may just not have run."""

RESPAWN_SECONDS = 1.0
MOST_KILLED_EARLY = 3
LONGEST_RESPAWN = 30.0
MEMORY_SECONDS = 0.2


_NOT_BEHIND = "it was to be run behind another, which has not ended well here"

OF_AN_END = ("outcome", "output", "error", "cpu", "memory", "after", "saved")
"""Fields of a process's `ended` message that go into the report."""


class Teller(Protocol):
    """Whom the crew tells what happens."""

    def report(self, item: Message) -> None:
        """An attempt ended."""

    def report_all(self, items: list[Message]) -> None:
        """Attempts ended."""

    def report_begun(self, item: Message) -> None:
        """An attempt began."""

    def freed(self, attempt: int) -> None:
        """The process of an attempt that was abandoned has ended."""

    def line(self, attempt: int, line: Message) -> None:
        """An attempt printed a line."""

    def forget(self, attempt: int) -> None:
        """Nothing of an attempt is to be told any more."""

    def saved(self, attempt: int, record: Message) -> None:
        """All that a running attempt saved so far."""

    def wake(self) -> None:
        """The places, or what is in their way, have changed."""

    def ask(self, attempt: int, question: Message, reply: Callable[[Message], None]) -> None:
        """An attempt asks the service something; `reply` is told `answer` or `error`."""


@dataclass(frozen=True, slots=True)
class CrewOptions:
    """How many processes there are, and how long each is used.

    Attributes:
        load: MODULE:LOOM of each loom.
        processes: how many attempts run alone, each in a process.
        io: how many attempts share a process.
        replace_after: after how many attempts a process is replaced; None for never.
        replace_above: above how many bytes of memory it is, at an attempt's end; None for any.
        fork: whether processes are forked from one that has loaded the looms, where that is safe.
    """

    load: tuple[str, ...]
    processes: int
    io: int
    replace_after: int | None = None
    replace_above: int | None = None
    fork: bool = True


class Crew:
    """The processes of one worker.

    Args:
        options: how many, and how long each is used.
        teller: told what happens to attempts.
        on_new_code: told that the tasks are others now; `introduced` is to be called when the
            service knows.
        say: tells the user.

    Attributes:
        tasks: the facts of each task by name, as the newest process loaded them.
        folders: where its code was loaded from.
        publications: what the looms publish, once they are loaded; None where the template does
            not tell.
    """

    def __init__(
        self,
        options: CrewOptions,
        teller: Teller,
        on_new_code: Callable[[], None],
        say: Callable[[str], None],
    ) -> None:
        self._on_new_code = on_new_code
        self._options = options
        self._load = ", ".join(options.load)
        self._processes = options.processes
        self._io = options.io
        self._teller = teller
        self._say = say
        self._loop = asyncio.get_running_loop()
        self._guardian = Guardian()
        self._children: list[Child] = []
        self._queues: dict[bool, deque[Message]] = {False: deque(), True: deque()}
        self._seen: OrderedDict[int, None] = OrderedDict()  # attempts ever received
        self._stops: dict[int, str] = {}
        self._early_stops: dict[int, tuple[str, float | None, bool]] = {}
        self._saved: dict[int, Message] = {}
        self._timers: dict[int, asyncio.TimerHandle] = {}
        self._spent: float | None = None
        self._killed_early = 0
        self._look: asyncio.TimerHandle | None = None
        self._watching: asyncio.TimerHandle | None = None
        self.tasks: dict[str, Message] = {}
        self.folders: list[str] = []
        self._newest = -1
        self._introducing = False
        self._stale: list[Message] = []
        self._troubles: dict[bool, str] = {}
        self._failures: dict[bool, int] = {False: 0, True: 0}
        self._probes: set[int] = set()
        self._template: Template | None = None
        self._forks = False
        self.publications: asyncio.Future[list[Message] | None] = self._loop.create_future()
        self.ready: asyncio.Future[None] = self._loop.create_future()
        self.draining = False
        self.idle = asyncio.Event()
        self._died = asyncio.Event()
        self._until = 0.0

    def start(self) -> None:
        """Start the processes; `ready` is done when the first has loaded the loom."""
        self._loop.add_signal_handler(signal.SIGCHLD, self._reap)
        if self._options.fork and adopt_orphans():
            self._start_template()
        else:
            self.publications.set_result(None)
            self._spawn_all()

    def _spawn_all(self) -> None:
        for _ in range(self._processes):
            self._spawn()

    async def end(self) -> None:
        """Let every process tear down what it keeps, for a while."""
        self.draining = True
        for child in self._children:
            child.end()
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(TEAR_DOWN_SECONDS):
                while self._children:
                    self._died.clear()
                    await self._died.wait()

    def close(self) -> None:
        """Kill every process."""
        self._loop.remove_signal_handler(signal.SIGCHLD)
        for timer in (self._watching, self._look):
            if timer:
                timer.cancel()
        for child in (*self._children, *self._templates):
            child.kill()
        self._guardian.close()

    # What the worker asks

    @property
    def places(self) -> int:
        """How many attempts that run alone may run at once, in processes that are there."""
        if self.draining or False in self._troubles:
            return 0
        there = sum(child.counts for child in self._children if not child.shared)
        return min(self._processes, there)

    @property
    def ahead(self) -> int:
        """How many more of them may be in hand, since they begin soon."""
        return 0 if not self.places else self._ahead()

    @property
    def abandoned(self) -> list[int]:
        """Attempts that have ended for the service while their process goes on."""
        return sorted(attempt for child in self._children for attempt in child.abandoned)

    @property
    def io_places(self) -> int:
        """How many attempts that share a process may be in hand."""
        if self.draining or True in self._troubles:
            return 0
        return self._io if any(child.shared and child.counts for child in self._children) else 0

    @property
    def trouble(self) -> str | None:
        """Why no process can take attempts, of one kind or of both."""
        return "; ".join(self._troubles.values()) or None

    @property
    def running(self) -> list[int]:
        """Attempts that processes have."""
        return [attempt for child in self._children for attempt in child.attempts]

    @property
    def in_hand(self) -> set[int]:
        """Attempts that processes have or wait for one."""
        queues = (*self._queues.values(), self._stale)
        return {*self.running, *(work["attempt"] for queue in queues for work in queue)}

    def is_io(self, task: str) -> bool:
        """Whether attempts of a task share a process."""
        return bool(self.tasks.get(task, {}).get("io"))

    def _ahead(self) -> int:
        """How many attempts are expected to begin within `AHEAD_SECONDS`."""
        if self._all_take_long(AHEAD_SECONDS):
            return 0
        return self._ahead_in_one() * self._processes

    def _ahead_in_one(self) -> int:
        """The same for one process, by what attempts took until now."""
        if self._spent is None or self._spent >= AHEAD_SECONDS:
            return 0
        return min(AHEAD_MOST, int(AHEAD_SECONDS / max(self._spent, SHORTEST)))

    def _all_take_long(self, seconds: float) -> bool:
        """Whether every process has an attempt that has run for so long."""
        since = time.monotonic() - seconds
        alone = [child for child in self._children if not child.shared and child.counts]
        return all(any(at < since for at in child.begun.values()) for child in alone)

    # Work and orders

    def take(self, work: Message) -> None:
        """Run an attempt as soon as a process is free, and `feed` is called."""
        attempt = work["attempt"]
        if attempt in self._seen:
            return  # the same message, sent again because an answer was lost
        self._seen[attempt] = None
        while len(self._seen) > REMEMBERED:
            self._seen.popitem(last=False)
        if self.draining:
            self._teller.report({"attempt": attempt, "outcome": "handed_back"})
            return
        self._queues[self.is_io(work["task"])].append(work)
        if self._early_stops and (early := self._early_stops.pop(attempt, None)):
            why, raise_in, now = early
            self.stop(attempt, why, raise_in=raise_in, now=now)

    def feed(self) -> None:
        """Give the taken attempts to processes."""
        self._feed()

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
        child = self._child_with(attempt)
        if (child is None or not child.shared) and self._unqueue(attempt):
            outcome = "handed_back" if why in MILD else "cancelled"
            self._teller.report({"attempt": attempt, "outcome": outcome})
            return
        if child is None:
            if attempt not in self._seen:  # this came over another connection than its work will
                self._early_stops[attempt] = why, raise_in, now
            return
        before = self._stops.get(attempt, "pause")
        if before not in MILD:
            if now or raise_in is not None:  # what it still had of its grace is over
                self._raise_later(attempt, raise_in or 0.0)
            return
        facts = self.tasks.get(child.attempts[attempt]["task"], {})
        self._stops[attempt] = why
        if why in MILD:
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
            self._timers[attempt] = self._loop.call_later(
                seconds, self._raise, attempt, KILL_SECONDS
            )
        else:
            self._raise(attempt, KILL_SECONDS)

    def _raise(self, attempt: int, left: float) -> None:
        """Raise the stop in an attempt, again and again until it has heard, or is ended."""
        child = self._child_with(attempt)
        if child is None:
            return
        if child.shared or left <= 0:
            self._end(attempt)
            return
        child.interrupt(attempt, self._stops.get(attempt, "cancel"))
        call = self._loop.call_later
        self._timers[attempt] = call(AGAIN_SECONDS, self._raise, attempt, left - AGAIN_SECONDS)

    def go_on(self, attempt: int) -> None:
        """An attempt that was told to pause need not."""
        child = self._child_with(attempt)
        if child is not None and self._stops.get(attempt) == "pause":
            del self._stops[attempt]
            child.send({"kind": "go_on", "attempt": attempt})

    def stop_for_drain(self) -> None:
        """Let what can be gone on with elsewhere stop at its next checkpoint."""
        for attempt in self.running:
            if attempt not in self._stops:
                self.stop(attempt, "drain")

    def give_back(self, attempt: int) -> None:
        """Give back what has not begun; a process that does not begin what it has is replaced."""
        child = self._child_with(attempt)
        running = child.running if child else None
        if (child is None or running) and self._unqueue(attempt):
            self._hand_back(attempt, "no process was free to begin it")
            return
        if child is None:
            return
        if running and running[0] == attempt:
            child.begun[attempt] = running[1]
        if attempt in child.begun:
            self._tell_begun(child, attempt)
            return
        # It runs nothing, and yet does not begin this.
        self._say(f"process {child.pid} does not begin what it has, and is replaced")
        if child.shared:  # others run in it: they end first
            child.send({"kind": "interrupt", "attempt": attempt, "why": "lost"})
            self._replace(child)
        else:
            child.take_back({attempt})
            child.kill()
        self._hand_back(attempt, f"process {child.pid} did not begin it, and was replaced")
        self._finish(child, attempt)

    def _hand_back(self, attempt: int, why: str) -> None:
        error = {"type": "NotBegun", "message": why}
        self._teller.report({"attempt": attempt, "outcome": "handed_back", "error": error})

    def _tell_begun(self, child: Child, attempt: int) -> None:
        item = {"attempt": attempt, "outcome": None, "pid": child.pid}
        self._teller.report_begun({**item, "begun_at": child.begun[attempt]})

    def drop(self, attempt: int) -> None:
        """An attempt was given up as lost: its step may be running elsewhere, so end it here."""
        self._seen[attempt] = None  # also where its work is still on the way
        self._unqueue(attempt)
        self._teller.forget(attempt)
        child = self._child_with(attempt)
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
        busy = [child for child in self._children if child.attempts or child.abandoned]
        for attempt in self.in_hand:
            self.drop(attempt)
        for child in busy:
            child.abandoned.clear()
            child.kill()
        self._seen.clear()
        self._early_stops.clear()
        while any(child in self._children for child in busy):
            self._died.clear()
            await self._died.wait()

    def allow_until(self, at: float) -> None:
        """Say until when what must not overlap may go on, whatever becomes of this process."""
        self._until = at
        for child in self._children:
            child.allow_until(at)

    def end_what_must_not_overlap(self) -> None:
        """Others may be given what runs here."""
        for child in self._children:
            for attempt, work in list(child.attempts.items()):
                if self.tasks.get(work["task"], {}).get("overlap") == "never":
                    self._say(f"cut off for a whole lease, ends {work['address']}")
                    self._end(attempt)

    def hand_back_queue(self) -> None:
        """Give back what no process has begun."""
        for child in self._children:
            self._take_behind(child)
        for queue in (*self._queues.values(), self._stale):
            for work in queue:
                self._teller.report({"attempt": work["attempt"], "outcome": "handed_back"})
            queue.clear()
        self._note_idle()

    # New code

    def reload(self) -> None:
        """Code has changed: let one process load it, and if it can, replace all others."""
        if not self.draining:
            self._probes.add(self._spawn().serial)

    def introduced(self) -> None:
        """The service knows the tasks as they are now: what it gave for older code goes back."""
        self._introducing = False
        for work in self._stale:
            self._teller.report({"attempt": work["attempt"], "outcome": "handed_back"})
        self._stale.clear()
        self._note_idle()

    def _switch(self, child: Child) -> None:
        """From now on this process's code is the worker's: others make place when they can."""
        changed = [
            name
            for name, facts in child.tasks.items()
            if facts["code_hash"] != self.tasks.get(name, {}).get("code_hash")
        ]
        what = ", ".join(sorted(changed)[:5]) or "none of its tasks"
        self._say(f"new code is loaded ({what} changed); attempts that run finish with the old")
        self.tasks, self._newest = child.tasks, child.serial
        others = [one for one in self._children if one is not child and not one.closing]
        alone = [one for one in others if not one.shared]
        for place, other in enumerate(alone):
            # The first makes place for the process that is there already.
            self._replace(other, spawn=place > 0 or child.shared)
        shared = [one for one in others if one.shared]
        for other in shared:
            self._replace(other, spawn=False)
        if not child.shared:
            self._spawn_shared()
        self._introducing = True
        self._on_new_code()

    def _spawn_shared(self) -> None:
        io = any(facts["io"] for facts in self.tasks.values())
        if self._io and io and not self.draining:
            self._spawn(shared=True)

    def hand_back_running(self, why: str) -> None:
        """End what runs, and give it back."""
        for child in self._children:
            if not child.attempts:
                continue
            for attempt in list(child.attempts):
                error = {"type": "HandedBack", "message": why}
                item = {"attempt": attempt, "outcome": "handed_back", "error": error}
                self._teller.report(item | self._saved_of(attempt))
                del child.attempts[attempt]
            child.kill()

    def _end(self, attempt: int) -> None:
        """End an attempt that did not stop: kill its process, or ask a coroutine to leave."""
        child = self._child_with(attempt)
        if child is None:
            return
        if not child.shared:
            child.kill()
            return
        why = self._stops.setdefault(attempt, "lost")
        child.send({"kind": "interrupt", "attempt": attempt, "why": why})
        self._timers[attempt] = self._loop.call_later(INTERRUPT_SECONDS, self._abandon, attempt)

    def _abandon(self, attempt: int) -> None:
        """An attempt in a shared process stops for nothing: fence it off, and let the others end.

        The process takes nothing new, and is killed and replaced when the others have ended.
        """
        child = self._child_with(attempt)
        if child is None:
            return
        self._say(f"{child.attempts[attempt]['address']} does not stop, and is abandoned")
        fault = "it did not stop within its grace, and was abandoned; its process is being replaced"
        error = {"type": "Abandoned", "message": fault}
        ended = {"ended_at": time.monotonic(), "abandoned": True}
        self._report(child, attempt, outcome="cancelled", error=error, **ended)
        child.abandoned.add(attempt)
        self._replace(child)
        self._finish(child, attempt)

    # Memory, and processes that have been used enough

    def _watch_memory(self) -> None:
        """End attempts that use more memory than they may; look again while there are any."""
        self._watching = None
        for child in list(self._children):
            for attempt, work in list(child.attempts.items()):
                limit, used = work.get("memory"), memory_of(child.pid)
                if limit and used and used > limit and not child.shared:
                    self._end_large(child, attempt, used, limit)
        self._keep_watching()

    def _keep_watching(self) -> None:
        limited = any(
            work.get("memory") for child in self._children for work in child.attempts.values()
        )
        if limited and self._watching is None:
            self._watching = self._loop.call_later(MEMORY_SECONDS, self._watch_memory)

    def _end_large(self, child: Child, attempt: int, used: int, limit: int) -> None:
        message = f"its process used {size_text(used)} of memory, at most {size_text(limit)} may be"
        error = {"type": "MemoryExceeded", "message": message, "kinds": ["MemoryExceeded"]}
        ended = {"ended_at": time.monotonic(), "memory": used}
        self._report(child, attempt, outcome="failed", error=error, **ended)
        self._replace(child)
        self._finish(child, attempt)

    def _replace_if_used_up(self, child: Child) -> None:
        """Let another take a process's place that ran as many attempts as it may, or grew."""
        after, above = self._options.replace_after, self._options.replace_above
        used_up = after is not None and child.given >= after
        if not used_up and above is not None:
            used_up = (memory_of(child.pid) or 0) > above
        if used_up and not child.closing:
            self._replace(child)

    def _replace(self, child: Child, *, spawn: bool = True) -> None:
        """Let a new process take a process's place, which ends when it has no attempt any more."""
        child.closing = True
        self._take_behind(child)
        if spawn and not self.draining:
            self._spawn(shared=child.shared)
        if not child.attempts:
            child.end()
            self._teller.wake()

    # Processes

    @property
    def _templates(self) -> list[Template]:
        return [] if self._template is None else [self._template]

    def _start_template(self) -> None:
        self._template = Template(
            self._options.load,
            self._guardian,
            until=0.0,
            places=None,
            on_message=self._on_template,
            on_ends=self._on_ends,
            on_line=self._on_line,
            on_death=self._on_template_death,
            on_broken=self._on_broken_template,
        )

    def _on_template(self, template: Child, message: Message) -> None:
        """The template has loaded the looms, or could not."""
        match message["kind"]:
            case "line":
                self._say(f"{self._load}: {message['text']}")
            case "unusable":
                self._on_unusable(template, message["message"])
            case "loaded":
                template.ready = True
                self._forks = message["forks"]
                if message["not_forking"]:
                    self._say(
                        f"each process loads {self._load} itself, since {message['not_forking']}; "
                        "Loom(..., fork=False) says that this is meant"
                    )
                if not self.publications.done():
                    self.publications.set_result(message["publications"])
                    self._spawn_all()

    def _on_template_death(self, template: Child, code: int, _: list[Message]) -> None:
        """Processes load the looms themselves until another template has."""
        was_ready, was_used = template.ready, self._forks
        self._template, self._forks = None, False
        if self.draining or (self.ready.done() and self.ready.exception()):
            return
        if not was_ready:
            if not self.ready.done():
                self._on_early_death(code, self._start_template_again)
            else:
                self._loop.call_later(LONGEST_RESPAWN, self._start_template_again)
        elif was_used:
            self._say("the process of which others are forks has ended; another one is started")
            self._loop.call_later(RESPAWN_SECONDS, self._start_template_again)

    def _start_template_again(self) -> None:
        if not self.draining and self._template is None:
            self._start_template()

    def _on_broken_template(self, template: Child, why: str) -> None:
        self._say(f"the process of which others are forks said what cannot be read: {why}")

    def _on_early_death(self, code: int, again: Callable[[], None]) -> None:
        """The first process ended before it had loaded the looms; one that was killed gets another.

        Args:
            code: its exit code, negative for a signal.
            again: starts another.
        """
        why = f"a process that loads {self._load} ended with code {code}"
        self._killed_early += code == -signal.SIGKILL
        if code == -signal.SIGKILL and self._killed_early <= MOST_KILLED_EARLY:
            self._say(f"{why}; another one is started")
            self._loop.call_later(RESPAWN_SECONDS, again)
        else:
            self.ready.set_exception(LoomNotFound(why))

    def _respawn(self, *, shared: bool) -> None:
        if not self.draining:
            self._spawn(shared=shared)

    def _spawn(self, *, shared: bool = False) -> Child:
        child = Child(
            self._options.load,
            self._guardian,
            until=self._until,
            places=self._io if shared else None,
            template=self._template if self._forks else None,
            on_message=self._on_message,
            on_ends=self._on_ends,
            on_line=self._on_line,
            on_death=self._on_death,
            on_broken=self._on_broken,
        )
        self._children.append(child)
        return child

    def _reap(self) -> None:
        if self._guardian.reap():
            self._say("its guardian was killed; another one is there")
        for child in (*self._children, *self._templates):
            child.reap()
        if self._options.fork:
            own = {self._guardian.pid, *(one.pid for one in (*self._children, *self._templates))}
            reap_orphans(own)

    def _on_message(self, child: Child, message: Message) -> None:
        attempt = message.get("attempt")
        match message["kind"]:
            case "loaded":
                child.tasks, self.folders = message["tasks"], message["folders"]
            case "ready":
                self._on_ready(child)
            case "unusable":
                self._on_unusable(child, message["message"])
            case "around_failed":
                self._on_around_failed(child, message)
            case "begun" if attempt in child.attempts:  # of a shared process
                child.begun[attempt] = time.monotonic()
                self._tell_begun(child, attempt)
            case "saved" if attempt in child.attempts:
                self._save(child, attempt, message["saved"])
            case "ask" if attempt in child.attempts:
                self._ask(child, attempt, message)
            case "line":
                del message["kind"], message["attempt"]
                self._on_line(child, message, attempt)
            case "ended" if attempt in child.attempts:
                self._on_ended(child, attempt, message)
            case "ended" if attempt in child.abandoned:
                child.abandoned.discard(attempt)
                self._teller.freed(attempt)

    def _secrets(self, child: Child, attempt: int | None) -> list[str]:
        """What an attempt knows and nobody is to see."""
        work = child.attempts.get(attempt, {}) if attempt is not None else {}
        return worth_masking(work.get("secrets", ()))

    def _masked(self, child: Child, attempt: int, item: Message) -> Message:
        """What is told of an attempt, without the secrets that it was given."""
        secrets = self._secrets(child, attempt)
        if not secrets:
            return item
        if (output := item.get("output")) is not None and masked_in(output, secrets) != output:
            error = {"type": "ValueRefused", "message": "what it returned holds a secret param"}
            item = {**item, "outcome": "failed", "output": None, "error": error}
        return {
            name: masked_in(value, secrets) if name in ("error", "saved") else value
            for name, value in item.items()
        }

    def _save(self, child: Child, attempt: int, changed: Message) -> None:
        """Keep what an attempt saved, so that it is not lost with its process."""
        record = self._saved.get(attempt)
        if record is None:
            record = self._saved[attempt] = dict(child.attempts[attempt].get("saved") or {})
        secrets = self._secrets(child, attempt)
        record.update(masked_in(changed, secrets) if secrets else changed)
        self._teller.saved(attempt, record)

    def _saved_of(self, attempt: int) -> Message:
        """What goes with the report of an attempt's end."""
        record = self._saved.pop(attempt, None)
        return {"saved": record} if record else {}

    def _ask(self, child: Child, attempt: int, message: Message) -> None:
        """Pass a question of an attempt on, and the answer back."""
        question = message["question"]
        if question["kind"] == "save":
            self._save(child, attempt, question["saved"])

        def reply(answer: Message) -> None:
            to = {"kind": "reply", "attempt": attempt, "call": message["call"]}
            child.send({**to, **answer})

        self._teller.ask(attempt, question, reply)

    def _on_ready(self, child: Child) -> None:
        child.ready = True
        if child.closing:
            child.end()
            return
        probe = child.serial in self._probes
        self._probes.discard(child.serial)
        self._failures[child.shared] = 0
        self._troubles.pop(child.shared, None)
        if not self.tasks:
            self.tasks, self._newest = child.tasks, child.serial
            self._spawn_shared()
        elif _hashes(child.tasks) != _hashes(self.tasks) or probe:
            if child.serial > self._newest:
                self._switch(child)
            else:
                self._replace(child)
        if not self.ready.done():
            self.ready.set_result(None)
        self._teller.wake()  # there is a place more
        self._feed()

    def _on_unusable(self, child: Child, why: str) -> None:
        if child.serial in self._probes:
            self._say(f"the changed code cannot be loaded; what was loaded goes on: {why}")
        elif self.ready.done():
            self._say(f"a new process cannot load {self._load}: {why}")
        else:
            self.ready.set_exception(LoomNotFound(why))

    def _on_around_failed(self, child: Child, fault: Message) -> None:
        """What the loom wraps around processes failed: it is tried again, and said meanwhile."""
        self._say(f"process {child.pid}: {fault['message']}\n{fault.get('traceback', '')}".rstrip())
        kind = child.shared
        if child.ready or child.serial in self._probes:
            return
        if not any(one.ready and one.shared == kind for one in self._children):
            self._troubles[kind] = fault["message"]
            self._teller.wake()
        if not self.tasks:
            self.tasks, self._newest = child.tasks, child.serial
            self._spawn_shared()
        if not self.ready.done():
            self.ready.set_result(None)

    def _on_ends(self, child: Child, messages: list[Message]) -> None:
        """Attempts ended, one behind the other, in a process of its own."""
        items = []
        for message in messages:
            attempt = message["attempt"]
            if not self._is_usual_end(child, attempt, message):
                self._on_message(child, message)
                continue
            begun_at, ended_at = message["at"]
            self._note_spent(child, begun_at, ended_at)
            del child.attempts[attempt]
            child.begun.pop(attempt, None)
            items.append(
                {
                    "attempt": attempt,
                    "pid": child.pid,
                    "outcome": "done",
                    "output": message.get("output"),
                    "cpu": message["cpu"],
                    "memory": message["memory"],
                    "begun_at": begun_at,
                    "ended_at": ended_at,
                }
            )
        if not items:
            return
        self._teller.report_all(items)
        self._replace_if_used_up(child)
        if child.closing and not child.attempts:
            child.end()
        if self._queues[False]:
            self._feed()
        self._note_idle()

    def _is_usual_end(self, child: Child, attempt: int, message: Message) -> bool:
        """Whether an attempt is simply done: it saved nothing, and nobody told it to stop."""
        work = child.attempts.get(attempt)
        return (
            work is not None
            and message["outcome"] == "done"
            and not message.get("saved")
            and message["at"][0] is not None
            and attempt not in self._saved
            and attempt not in self._stops
            and attempt not in self._timers
            and not work.get("secrets")
        )

    def _note_spent(self, child: Child, begun_at: float, ended_at: float) -> None:
        """Learn how long attempts take, with what lies between two that follow each other."""
        between = begun_at - child.last_end
        spent = ended_at - (child.last_end if 0 <= between < BETWEEN_SECONDS else begun_at)
        child.last_end = ended_at
        self._spent = spent if self._spent is None else 0.9 * self._spent + 0.1 * spent

    def _on_ended(self, child: Child, attempt: int, message: Message) -> None:
        begun_at, ended_at = message["at"] or (None, time.monotonic())
        if begun_at is not None and not child.shared:
            self._note_spent(child, begun_at, ended_at)
        told = {name: message[name] for name in OF_AN_END if message.get(name) is not None}
        if not told.get("saved"):
            told.pop("saved", None)
        self._report(child, attempt, begun_at=begun_at, ended_at=ended_at, **told)
        stopped = self._stops and self._stops.get(attempt, "pause") not in MILD
        if stopped and not child.shared and children_of(child.pid):
            # What an attempt started must not go on when the attempt itself was stopped.
            self._replace(child)
            self._finish(child, attempt, used=True)
            child.kill()
            return
        self._finish(child, attempt, used=True)

    def _on_broken(self, child: Child, why: str) -> None:
        """A process said what cannot be read: its attempts fail, and it is replaced."""
        self._say(f"process {child.pid} said what cannot be read, and is replaced: {why}")
        self._replace(child)
        for attempt in list(child.attempts):
            message = f"its process said what cannot be read, and was ended: {why}"
            error = {"type": "ProcessBroken", "message": message, "kinds": ["ProcessBroken"]}
            self._report(child, attempt, outcome="failed", error=error, ended_at=time.monotonic())
            self._finish(child, attempt)

    def _on_death(self, child: Child, code: int, unbegun: list[Message]) -> None:
        self._queue_first(unbegun)
        self._children.remove(child)
        self._died.set()
        self._teller.wake()
        for attempt in child.abandoned:
            self._teller.freed(attempt)
        for attempt in list(child.attempts):
            outcome, what = "lost", f"ended by itself with exit code {code}"
            if self._stops.get(attempt, "pause") not in MILD and not child.shared:
                outcome, what = "cancelled", "was told to stop and killed after its grace"
            elif code < 0:
                what = f"died by {signal.Signals(-code).name}"
            error = {"type": "ProcessDied", "message": f"its process {child.pid} {what}"}
            self._report(child, attempt, outcome=outcome, error=error, ended_at=time.monotonic())
            self._finish(child, attempt)
        probe = child.serial in self._probes
        self._probes.discard(child.serial)
        if child.ready or child.closing or probe:
            if not child.closing and not probe:
                self._respawn(shared=child.shared)
        elif not self.ready.done():
            self._on_early_death(code, lambda: self._respawn(shared=child.shared))
        else:
            failures = self._failures[child.shared]
            self._failures[child.shared] += 1
            pause = min(LONGEST_RESPAWN, RESPAWN_SECONDS * 2**failures)
            self._loop.call_later(pause, lambda: self._respawn(shared=child.shared))

    def _feed(self) -> None:
        """Give processes what waits: those first that have the least."""
        for shared, queue in self._queues.items():
            if queue:
                self._give_out(shared, queue)
        if self._stale and not self._introducing:
            self.introduced()

    def _give_out(self, shared: bool, queue: deque[Message]) -> None:
        ahead = self._ahead_in_one()
        children = [child for child in self._children if child.shared == shared]
        rooms = {child: min(child.room(ahead), self._left_in(child)) for child in children}
        given: dict[Child, list[Message]] = {child: [] for child, room in rooms.items() if room > 0}
        # A process whose attempt takes long, or that begins none, has nobody wait behind it.
        for child in [one for one in given if not shared and self._keeps_waiting(one)]:
            del given[child]
        while queue and given:
            child = max(given, key=lambda one: rooms[one] - len(given[one]))
            if rooms[child] <= len(given[child]):
                break
            works = self._take_first(queue, self._left_in(child) - len(given[child]))
            if all(map(child.has_code_of, works)):
                given[child] += works
            else:
                self._stale += works
        for child, works in given.items():
            if works:
                self.idle.clear()
                child.give(works)
                if any(work.get("memory") for work in works):
                    self._keep_watching()
                if not shared:
                    self._look_later()

    def _left_in(self, child: Child) -> int:
        """How many attempts a process may still run before it is replaced."""
        after = self._options.replace_after
        return REMEMBERED if after is None else after - child.given

    def _take_first(self, queue: deque[Message], most: int) -> list[Message]:
        """The first of what waits, with all that is to be run right behind it, up to so many."""
        works: list[Message] = []
        while queue and len(works) < most and (not works or _is_behind(queue[0], works[-1])):
            works.append(queue.popleft())
        if "behind" not in works[0]:
            return works
        for work in works:  # the attempt before it is elsewhere, so this process has no input
            self._hand_back(work["attempt"], _NOT_BEHIND)
        return []

    def _keeps_waiting(self, child: Child) -> bool:
        """Return whether nobody may wait behind a process: it is stalled or runs long."""
        since = time.monotonic() - AHEAD_SECONDS
        return any(at < since for at in child.begun.values()) or child.is_stalled(BEHIND_SECONDS)

    # Attempts that have begun

    def _look_later(self) -> None:
        if self._look is None:
            self._look = self._loop.call_later(LOOK_SECONDS, self._look_at_begun)

    def _look_at_begun(self) -> None:
        """Report begins; take attempts back that wait behind a long one."""
        self._look = None
        again = False
        for child in [one for one in self._children if not one.shared and one.attempts]:
            running = child.running
            if running is None:
                again = True
                if child.is_stalled(BEHIND_SECONDS) and len(child.attempts) > 1:
                    # The first stays: where it is not begun, the process is replaced after all.
                    _, *behind = child.attempts
                    self._queue_first(child.take_back(set(behind)))
                    self._teller.wake()
                continue
            attempt, at = running
            spent = time.monotonic() - at
            if attempt not in child.begun and spent >= LOOK_SECONDS:
                child.begun[attempt] = at
                self._tell_begun(child, attempt)
            if spent < AHEAD_SECONDS:
                again = again or attempt not in child.begun or len(child.attempts) > 1
            elif len(child.attempts) > 1:
                self._take_behind(child)
                self._teller.wake()  # less is to be handed ahead from now on
        waits = bool(self._queues[False])
        if waits:
            self._feed()
            if self._all_take_long(BEHIND_SECONDS):
                self._give_back_queue()
        if again or self._queues[False]:
            self._look_later()

    def _give_back_queue(self) -> None:
        """Nothing here gets to what waits soon: another worker may."""
        queue = self._queues[False]
        for work in queue:
            self._hand_back(work["attempt"], "no process was free to begin it")
        queue.clear()

    def _take_behind(self, child: Child) -> None:
        """Take back what waits behind an attempt in a process."""
        self._queue_first(child.take_back())

    def _queue_first(self, works: list[Message]) -> None:
        """Queue attempts again that a process had and did not begin.

        An attempt stays behind the one before it, or goes back to the service.
        """
        kept: list[Message] = []
        for work in works:
            if "behind" not in work or (kept and _is_behind(work, kept[-1])):
                kept.append(work)
            else:
                self._hand_back(work["attempt"], _NOT_BEHIND)
        self._queues[False].extendleft(reversed(kept))

    def _finish(self, child: Child, attempt: int, *, used: bool = False) -> None:
        """An attempt is in nobody's hand any more."""
        child.attempts.pop(attempt, None)
        child.begun.pop(attempt, None)
        self._stops.pop(attempt, None)
        self._saved.pop(attempt, None)
        if timer := self._timers.pop(attempt, None):
            timer.cancel()
        if used:
            self._replace_if_used_up(child)
        if child.closing and not child.attempts:
            child.end()
        if self._queues[child.shared]:
            self._feed()
        self._note_idle()

    def _note_idle(self) -> None:
        if not any(child.attempts for child in self._children):
            self.idle.set()

    def _report(self, child: Child, attempt: int, **item: Any) -> None:
        if attempt in self._saved:
            item = {**self._saved_of(attempt), **item}
        if child.attempts[attempt].get("secrets"):
            item = self._masked(child, attempt, item)
        self._teller.report({"attempt": attempt, "pid": child.pid, **item})

    def _on_line(self, child: Child, line: Message, attempt: int | None) -> None:
        """A printed line, of an attempt or of none."""
        if attempt is not None and (work := child.attempts.get(attempt)) is not None:
            if work.get("secrets"):
                line = masked_in(line, self._secrets(child, attempt))
            if line["stream"] == "published":
                line = {**line, "address": work["address"]}
            self._teller.line(attempt, line)
        elif not child.ready:
            self._say(f"{self._load}: {line['text']}")
        elif child.shared:
            self._say(f"a shared process, by whichever attempt: {line['text']}")
        else:
            self._say(f"a process between attempts: {line['text']}")

    def _child_with(self, attempt: int) -> Child | None:
        return next((child for child in self._children if attempt in child.attempts), None)

    def _unqueue(self, attempt: int) -> bool:
        """Take an attempt out of what waits, here or in a process; whether it had not begun."""
        for queue in (*self._queues.values(), self._stale):
            for work in queue:
                if work["attempt"] == attempt:
                    queue.remove(work)
                    return True
        child = self._child_with(attempt)
        return child is not None and bool(child.take_back({attempt}))


def _is_behind(work: Message, other: Message) -> bool:
    """Whether an attempt is to be run right behind another."""
    return "behind" in work and bool(work["behind"] == other["attempt"])


def _hashes(tasks: dict[str, Message]) -> dict[str, str]:
    """The code of each task."""
    return {name: facts["code_hash"] for name, facts in tasks.items()}
