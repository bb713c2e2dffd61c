"""The processes of a worker: how many there are, when one is replaced, and new code in them.

Tasks that run alone have a process each; tasks that share one (`io`) have a process together.
"""

from __future__ import annotations

import asyncio
import contextlib
import signal
from collections.abc import Callable
from dataclasses import dataclass

from yarnloom.errors import LoomNotFound
from yarnloom.values import JsonObject
from yarnloom.worker.clock import Clock
from yarnloom.worker.processes.child_process import TEAR_DOWN_SECONDS, Child, Template
from yarnloom.worker.processes.spawner import Spawner, TemplateEvents

Message = JsonObject

RESPAWN_SECONDS = 1.0

MOST_KILLED_EARLY = 3

LONGEST_RESPAWN = 30.0


@dataclass(frozen=True, slots=True)
class PoolOptions:
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


@dataclass(frozen=True, slots=True)
class PoolEvents:
    """What others do when something happens in the pool.

    Attributes:
        changed: the places, or what is in their way, have changed.
        usable: a process can take attempts.
        closing: a process takes nothing new: what waits in it is taken back.
        new_code: the tasks are others now.
        introducing: attempts of older code have to wait until the service knows.
    """

    changed: Callable[[], None]
    usable: Callable[[], None]
    closing: Callable[[Child], None]
    new_code: Callable[[], None]
    introducing: Callable[[], None]


class ProcessPool:
    """The processes of one worker.

    Args:
        options: how many, and how long each is used.
        spawner: starts them.
        clock: the clock.
        measure: returns the bytes that a process uses; None where nobody knows.
        events: what others do when something happens here.
        say: tells the user.

    Attributes:
        tasks: the facts of each task by name, as the newest process loaded them.
        folders: where its code was loaded from.
        publications: what the looms publish, once they are loaded; None where the template does
            not tell.
        ready: done when the first process has loaded the looms.
    """

    def __init__(
        self,
        options: PoolOptions,
        spawner: Spawner,
        clock: Clock,
        measure: Callable[[int], int | None],
        events: PoolEvents,
        say: Callable[[str], None],
    ) -> None:
        self.options = options
        self._spawner = spawner
        self._clock = clock
        self._measure = measure
        self._events = events
        self._say = say
        self._load = ", ".join(options.load)
        self.children: list[Child] = []
        self.tasks: dict[str, Message] = {}
        self.folders: list[str] = []
        self._newest = -1
        self._killed_early = 0
        self._troubles: dict[bool, str] = {}
        self._failures: dict[bool, int] = {False: 0, True: 0}
        self._probes: set[int] = set()
        self._template: Template | None = None
        self._forks = False
        loop = asyncio.get_running_loop()
        self.publications: asyncio.Future[list[Message] | None] = loop.create_future()
        self.ready: asyncio.Future[None] = loop.create_future()
        self.draining = False
        self._died = asyncio.Event()
        self._until = 0.0

    def start(self) -> None:
        """Start the processes; `ready` is done when the first has loaded the loom."""
        if self._spawner.can_fork(wanted=self.options.fork):
            self._start_template()
        else:
            self.publications.set_result(None)
            self._spawn_all()

    def _spawn_all(self) -> None:
        for _ in range(self.options.processes):
            self._spawn()

    async def end(self) -> None:
        """Let every process tear down what it keeps, for a while."""
        self.draining = True
        for child in self.children:
            child.end()
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(TEAR_DOWN_SECONDS):
                while self.children:
                    self._died.clear()
                    await self._died.wait()

    @property
    def places(self) -> int:
        """How many attempts that run alone may run at once, in processes that are there."""
        if self.draining or False in self._troubles:
            return 0
        there = sum(child.counts for child in self.children if not child.shared)
        return min(self.options.processes, there)

    @property
    def abandoned(self) -> list[int]:
        """Attempts that have ended for the service while their process goes on."""
        return sorted(attempt for child in self.children for attempt in child.abandoned)

    @property
    def io_places(self) -> int:
        """How many attempts that share a process may be in hand."""
        if self.draining or True in self._troubles:
            return 0
        return (
            self.options.io if any(child.shared and child.counts for child in self.children) else 0
        )

    @property
    def trouble(self) -> str | None:
        """Why no process can take attempts, of one kind or of both."""
        return "; ".join(self._troubles.values()) or None

    @property
    def running(self) -> list[int]:
        """Attempts that processes have."""
        return [attempt for child in self.children for attempt in child.attempts]

    def is_io(self, task: str) -> bool:
        """Whether attempts of a task share a process."""
        return bool(self.tasks.get(task, {}).get("io"))

    def allow_until(self, at: float) -> None:
        """Say until when what must not overlap may go on, whatever becomes of this process."""
        self._until = at
        for child in self.children:
            child.allow_until(at)

    def reload(self) -> None:
        """Code has changed: let one process load it, and if it can, replace all others."""
        if not self.draining:
            self._probes.add(self._spawn().serial)

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
        others = [one for one in self.children if one is not child and not one.closing]
        alone = [one for one in others if not one.shared]
        for place, other in enumerate(alone):
            # The first makes place for the process that is there already.
            self.replace(other, spawn=place > 0 or child.shared)
        shared = [one for one in others if one.shared]
        for other in shared:
            self.replace(other, spawn=False)
        if not child.shared:
            self._spawn_shared()
        self._events.introducing()
        self._events.new_code()

    def _spawn_shared(self) -> None:
        io = any(facts["io"] for facts in self.tasks.values())
        if self.options.io and io and not self.draining:
            self._spawn(shared=True)

    def replace_if_used_up(self, child: Child) -> None:
        """Let another take a process's place that ran as many attempts as it may, or grew."""
        after, above = self.options.replace_after, self.options.replace_above
        used_up = after is not None and child.given >= after
        if not used_up and above is not None:
            used_up = (self._measure(child.pid) or 0) > above
        if used_up and not child.closing:
            self.replace(child)

    def replace(self, child: Child, *, spawn: bool = True) -> None:
        """Let a new process take a process's place, which ends when it has no attempt any more."""
        child.closing = True
        self._events.closing(child)
        if spawn and not self.draining:
            self._spawn(shared=child.shared)
        if not child.attempts:
            child.end()
            self._events.changed()

    @property
    def _templates(self) -> list[Template]:
        return [] if self._template is None else [self._template]

    def _start_template(self) -> None:
        events = TemplateEvents(
            self._on_template, self._on_template_death, self._on_broken_template
        )
        self._template = self._spawner.template(events)

    def _on_template(self, template: Child, message: Message) -> None:
        """The template has loaded the looms, or could not."""
        match message["kind"]:
            case "line":
                self._say(f"{self._load}: {message['text']}")
            case "unusable":
                self.on_unusable(template, message["message"])
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
                self._clock.later(LONGEST_RESPAWN, self._start_template_again)
        elif was_used:
            self._say("the process of which others are forks has ended; another one is started")
            self._clock.later(RESPAWN_SECONDS, self._start_template_again)

    def _start_template_again(self) -> None:
        if not self.draining and self._template is None:
            self._start_template()

    def _on_broken_template(self, template: Child, why: str) -> None:
        self._say(f"the process of which others are forks said what cannot be read: {why}")

    def _on_early_death(self, code: int, again: Callable[[], None]) -> None:
        """Start another process: the first one ended, and nobody heard that it loaded the looms.

        After a few of them the worker registers without tasks, so that `why` can say the reason.

        Args:
            code: its exit code, negative for a signal.
            again: starts another.
        """
        if code > 0:
            why = f"a process that loads {self._load} ended with code {code}"
            self.ready.set_exception(LoomNotFound(why))
            return
        self._killed_early += 1
        # With 0 it has loaded them, and cannot be forked: its end was seen before its message.
        how = f"died by {signal.Signals(-code).name}" if code else "ended"
        died = f"a process that loads {self._load} {how}"
        self._say(f"{died}; another one is started")
        if self._killed_early > MOST_KILLED_EARLY:
            self._troubles[False] = (
                f"{died}, the {self._killed_early}th in a row; it is tried again"
            )
            self.ready.set_result(None)
        self._clock.later(RESPAWN_SECONDS, again)

    def _respawn(self, *, shared: bool) -> None:
        if not self.draining:
            self._spawn(shared=shared)

    def _spawn(self, *, shared: bool = False) -> Child:
        template = self._template if self._forks else None
        child = self._spawner.process(shared=shared, until=self._until, template=template)
        self.children.append(child)
        return child

    def reap(self) -> None:
        """Notice which processes have ended."""
        self._spawner.reap((*self.children, *self._templates))

    def on_ready(self, child: Child) -> None:
        """Take a process into use that has loaded the looms."""
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
            if self.ready.done():  # the service has been told of a worker without tasks
                self._events.introducing()
                self._events.new_code()
        elif hashes_of(child.tasks) != hashes_of(self.tasks) or probe:
            if child.serial > self._newest:
                self._switch(child)
            else:
                self.replace(child)
        if not self.ready.done():
            self.ready.set_result(None)
        self._events.changed()  # there is a place more
        self._events.usable()

    def on_unusable(self, child: Child, why: str) -> None:
        """Say that a process cannot load the looms."""
        if child.serial in self._probes:
            self._say(f"the changed code cannot be loaded; what was loaded goes on: {why}")
        elif self.ready.done():
            self._say(f"a new process cannot load {self._load}: {why}")
        else:
            self.ready.set_exception(LoomNotFound(why))

    def on_around_failed(self, child: Child, fault: Message) -> None:
        """What the loom wraps around processes failed: it is tried again, and said meanwhile."""
        self._say(f"process {child.pid}: {fault['message']}\n{fault.get('traceback', '')}".rstrip())
        kind = child.shared
        if child.ready or child.serial in self._probes:
            return
        if not any(one.ready and one.shared == kind for one in self.children):
            self._troubles[kind] = fault["message"]
            self._events.changed()
        if not self.tasks:
            self.tasks, self._newest = child.tasks, child.serial
            self._spawn_shared()
        if not self.ready.done():
            self.ready.set_result(None)

    def process_with(self, attempt: int) -> Child | None:
        """Return the process that has an attempt."""
        return next((child for child in self.children if attempt in child.attempts), None)

    def wait_for_death(self) -> asyncio.Event:
        """Return an event that the next death of a process sets."""
        self._died.clear()
        return self._died

    def died(self, child: Child, code: int) -> None:
        """Take note of the death of a process; another one starts where that makes sense."""
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
            self._clock.later(pause, lambda: self._respawn(shared=child.shared))

    def remove(self, child: Child) -> None:
        """Remove a process that has died."""
        self.children.remove(child)
        self._died.set()
        self._events.changed()

    def kill(self) -> None:
        """Kill every process."""
        for child in (*self.children, *self._templates):
            child.kill()


def hashes_of(tasks: dict[str, Message]) -> dict[str, str]:
    """Return the code hash of each task."""
    return {name: facts["code_hash"] for name, facts in tasks.items()}
