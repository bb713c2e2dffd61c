"""The worker's side of its processes: start, talk, read what they print, notice their death."""

from __future__ import annotations

import asyncio
import contextlib
import itertools
import os
import signal
import socket
import time
from collections.abc import Callable, Container, Sequence
from datetime import UTC, datetime
from typing import Any

from yarnloom.sdk.interrupts import SIGNAL
from yarnloom.task_texts import LINE_LIMIT, cut_text, text_of, type_name
from yarnloom.values import dump
from yarnloom.worker.channel.frames import (
    UNREADABLE,
    ChannelClosed,
    Message,
    PatientChannel,
    Tickets,
    frames_of,
)
from yarnloom.worker.channel.messages import TRIES, HeldReader
from yarnloom.worker.processes.start_guardian import Guardian
from yarnloom.worker.processes.start_process import (
    Forked,
    ForkFailed,
    Process,
    ProcessEnds,
    start_python,
)

_CHUNK = 1 << 16
_AT_ONCE = 1 << 18
_BREATH = 0.1
_SERIALS = itertools.count()
TEAR_DOWN_SECONDS = 5.0
FORK_SECONDS = 2.0

OnEnds = Callable[["Child", list[Message]], None]
OnMessage = Callable[["Child", Message], None]
OnLine = Callable[["Child", Message, int | None], None]
OnDeath = Callable[["Child", int, list[Message]], None]
OnBroken = Callable[["Child", str], None]


class Child:
    """One process that runs attempts: one at a time, or several where it is shared.

    Attributes:
        attempts: the work messages that it has, by attempt.
        begun: when those of them began of which that was told.
        ready: whether it has loaded the loom.
        shared: whether it runs tasks that share a process.
        closing: whether it takes nothing new, and is to end when its last attempt has.
        given: how many attempts it was ever given.
        serial: ascending, in the order in which processes were started.
        tasks: what it loaded: the facts of each task by name.
        last_end: when an attempt ended last.
        unbegun: the attempt that it is to begin next, and since when that has been so.
        abandoned: attempts that have ended for the service, and may go on in it.
    """

    def __init__(
        self,
        specs: Sequence[str],
        guardian: Guardian,
        *,
        until: float,
        owner: str,
        places: int | None,
        template: Template | None = None,
        on_message: OnMessage,
        on_ends: OnEnds,
        on_line: OnLine,
        on_death: OnDeath,
        on_broken: OnBroken,
    ) -> None:
        self.attempts: dict[int, Message] = {}
        self.begun: dict[int, float] = {}
        self.ready = False
        self.shared = places is not None
        self.closing = False
        self.given = 0
        self.serial = next(_SERIALS)
        self.tasks: dict[str, Message] = {}
        self.abandoned: set[int] = set()
        self.last_end = 0.0
        self.unbegun: tuple[int, float] | None = None
        self._places = places or 1
        self._on_message = on_message
        self._on_ends = on_ends
        self._on_line = on_line
        self._on_death = on_death
        self._on_broken = on_broken
        self._guardian = guardian
        self._loop = asyncio.get_running_loop()
        try:
            ends = ProcessEnds(until, owner)
            self._process: Process = self._start(specs, ends, places, template)
        except ForkFailed:
            ends.close()
            ends = ProcessEnds(until, owner)
            self._process = self._start(specs, ends, places, None)
        guardian.watch(self.pid)
        ends.close_theirs()
        self._page = ends.page
        self._held = HeldReader(ends.page)
        self._tickets = Tickets(*ends.tickets)
        self._channel = PatientChannel(ends.ours, self._loop)
        self._pipes = {ends.out[0]: "stdout", ends.err[0]: "stderr"}
        self._partial = {pipe: bytearray() for pipe in self._pipes}
        self._printing: dict[int, int | None] = dict.fromkeys(self._pipes)  # whose that is
        self._dead = self._over = False
        self._loop.add_reader(ends.ours, self._read_channel)
        for pipe in self._pipes:
            os.set_blocking(pipe, False)
            self._loop.add_reader(pipe, self._read_pipe, pipe)

    def _start(
        self, specs: Sequence[str], ends: ProcessEnds, places: int | None, template: Template | None
    ) -> Process:
        if template is not None:
            return template.fork(ends, places)
        more = [] if places is None else [str(places)]
        return start_python("yarnloom.worker.child.main", specs, ends, more)

    @property
    def pid(self) -> int:
        """The process, which is also its process group."""
        return self._process.pid

    def room(self, ahead: int) -> int:
        """How many attempts it can take.

        Args:
            ahead: how many may wait in one that runs one at a time.
        """
        if not self.ready or self.closing or self._dead:
            return 0
        return self._places + (0 if self.shared else ahead) - len(self.attempts)

    @property
    def running(self) -> tuple[int, float] | None:
        """The attempt that it runs alone, and since when; None for none, or if it just ended."""
        if self._over:
            return None
        attempt, at = self._page.begun()
        return (attempt, at) if attempt in self.attempts else None

    def is_stalled(self, seconds: float) -> bool:
        """Return whether it has run nothing for so long although an attempt is next."""
        first = next(iter(self.attempts), None)
        if first is None or self.running is not None:
            self.unbegun = None
        elif self.unbegun is None or self.unbegun[0] != first:
            self.unbegun = first, time.monotonic()
        return self.unbegun is not None and time.monotonic() - self.unbegun[1] >= seconds

    @property
    def counts(self) -> bool:
        """Whether it is a place: it has loaded the loom, and takes attempts or still has one."""
        return self.ready and not self._dead and (not self.closing or bool(self.attempts))

    def has_code_of(self, work: Message) -> bool:
        """Whether it loaded the code that the service thinks it has."""
        return work.get("code_hash", "") in ("", self.tasks[work["task"]]["code_hash"])

    def give(self, works: Sequence[Message]) -> None:
        """Let it run attempts, one after another where it is not shared."""
        for work in works:
            self.attempts[work["attempt"]] = work
        self.given += len(works)
        with contextlib.suppress(ChannelClosed):
            self._channel.send_frames(frames_of([dump(work) for work in works]))
        if not self.shared and not self._over:
            self._tickets.put([work["attempt"] for work in works])

    def take_back(self, wanted: Container[int] | None = None) -> list[Message]:
        """Take back attempts that have not begun, in their order; they never will in it.

        Args:
            wanted: which of them; None for all.
        """
        if self.shared or self._over:
            return []
        waiting = self._tickets.take_back()
        taken = [one for one in waiting if wanted is None or one in wanted]
        if left := [one for one in waiting if one not in taken]:
            self._tickets.put(left)
        self.given -= len(taken)
        with contextlib.suppress(ChannelClosed):
            self._channel.send_frames(
                frames_of([dump({"kind": "taken_back", "attempt": one}) for one in taken])
            )
        return [self.attempts.pop(one) for one in taken if one in self.attempts]

    def send(self, message: Message) -> None:
        """Send it a message; if it is dead, that is noticed elsewhere."""
        with contextlib.suppress(ChannelClosed):
            self._channel.send(message)

    def interrupt(self, attempt: int, why: str) -> None:
        """Raise a stop in the function of an attempt that runs alone in it.

        Where the function has not begun, or something else runs, nothing happens: say it again.
        """
        self._page.name(attempt, why)
        if not self._dead:
            with contextlib.suppress(ProcessLookupError, PermissionError):
                os.kill(self.pid, SIGNAL)

    def allow_until(self, at: float) -> None:
        """Say until when what must not overlap may go on in it."""
        if not self._over:
            self._page.allow_until(at)

    def end(self) -> None:
        """Let it tear down what it keeps, and end; it is killed where that takes long."""
        if self.ready and not self._dead:
            self.send({"kind": "end"})
            self._loop.call_later(TEAR_DOWN_SECONDS, self.kill)
        else:
            self.kill()

    def kill(self) -> None:
        """Kill the process and all that it started."""
        if self._over:
            return  # its number may be another's by now
        with contextlib.suppress(ProcessLookupError, PermissionError):
            os.killpg(self.pid, signal.SIGKILL)

    def reap(self) -> None:
        """Notice the process's death, if it has died."""
        code = self._process.poll()
        if code is None or self._dead:
            return
        # What it sent before it died still counts.
        with contextlib.suppress(Exception):  # whatever it sent at last, it is dead
            while self._take_messages():
                pass
        with contextlib.suppress(Exception):
            self._handle(self._held.take() or [])
        self._dead = True
        for pipe in self._pipes:
            self._take_printed(pipe)
        self._drain()
        self.kill()  # what it started must not outlive it
        self._guardian.forget(self.pid)
        self._loop.remove_reader(self._channel.fileno())
        self._channel.close()
        for pipe in self._pipes:
            self._loop.remove_reader(pipe)
            os.close(pipe)
        unbegun = self.take_back()
        self._over = True
        self._page.close()
        self._tickets.close()
        self._on_death(self, code, unbegun)

    def _read_channel(self) -> None:
        self._read(self._take_messages)

    def _read(self, take: Callable[[], object]) -> None:
        """Take messages; if that fails, end the process."""
        try:
            take()
        except ChannelClosed:
            # The process is dying, or closed its end.
            self._loop.remove_reader(self._channel.fileno())
            self.kill()
        except Exception as error:
            # Whatever it sent, it must not stop this worker: the process makes place for another.
            self._loop.remove_reader(self._channel.fileno())
            self._on_broken(self, cut_text(f"{type_name(error)}: {text_of(error)}", 500))
            self.kill()

    def _take_messages(self) -> int:
        arrived = self._channel.pending()
        self._handle(self._held.unread(arrived))
        return len(arrived)

    def _take_all(self) -> None:
        """Take all messages of the process, also those that it has not sent yet."""
        self._take_messages()
        for _ in range(TRIES):
            if (messages := self._held.take()) is not None:
                return self._handle(messages)
            self._take_messages()  # the process sent them meanwhile
        raise ValueError("its unsent messages cannot be read")

    def _handle(self, messages: list[Message]) -> None:
        ends: list[Message] = []  # one behind the other
        for message in messages:
            if message["kind"] == "ended" and not self.shared:
                if any(self._printing.values()):
                    self._drain(message["attempt"])
                ends.append(message)
                continue
            if message["kind"] != "line":  # which is of an attempt that has not ended
                ends = self._tell_ends(ends)
            if message["kind"] == UNREADABLE:
                raise ValueError(message["message"])
            if message["kind"] == "ended" and any(self._printing.values()):
                self._drain(message["attempt"])
            self._on_message(self, message)
        self._tell_ends(ends)

    def _tell_ends(self, ends: list[Message]) -> list[Message]:
        if ends:
            self._on_ends(self, ends)
        return []

    def _drain(self, attempt: int | None = None) -> None:
        """Pass on unfinished lines, of one attempt or of all."""
        for pipe, rest in self._partial.items():
            if rest and attempt in (None, self._printing[pipe]):
                self._line(pipe, bytes(rest))
                rest.clear()
                self._printing[pipe] = None

    def _read_pipe(self, pipe: int) -> None:
        """Read what was printed; a process that prints without end waits on its full pipe."""
        self._read(self._take_all)  # what Python printed before it
        if self._over:
            return
        if self._take_printed(pipe) >= _AT_ONCE and not self._dead:
            self._loop.remove_reader(pipe)
            self._loop.call_later(_BREATH, self._read_on, pipe)

    def _read_on(self, pipe: int) -> None:
        if not self._dead:
            self._loop.add_reader(pipe, self._read_pipe, pipe)

    def _take_printed(self, pipe: int) -> int:
        """Take what is in a pipe, up to `_AT_ONCE` bytes and a chunk; how many it was."""
        partial, taken = self._partial[pipe], 0
        while taken < _AT_ONCE:
            self._page.reading = True  # until it is known whose it is, that attempt does not end
            try:
                data = os.read(pipe, _CHUNK)
                whose = None if self.shared else self._page.begun()[0]
            except BlockingIOError:
                break
            finally:
                self._page.reading = False
            if not data:
                self._loop.remove_reader(pipe)
                break
            if partial and whose != self._printing[pipe]:
                self._line(pipe, bytes(partial))
                partial.clear()
            self._printing[pipe] = whose
            taken += len(data)
            partial += data
            *lines, rest = partial.split(b"\n")
            for line in lines:
                self._line(pipe, line)
            partial[:] = rest
            while len(partial) > LINE_LIMIT:
                self._line(pipe, partial[:LINE_LIMIT])
                del partial[:LINE_LIMIT]
        return taken

    def _line(self, pipe: int, line: Any) -> None:
        at = datetime.now(UTC).isoformat()
        text = bytes(line).decode("utf-8", "backslashreplace")
        line = {"at": at, "stream": self._pipes[pipe], "text": text}
        self._on_line(self, line, self._printing[pipe])


class Template(Child):
    """The process of which the others are forks: it loads the looms, and runs no attempt."""

    def _start(
        self, specs: Sequence[str], ends: ProcessEnds, places: int | None, template: Template | None
    ) -> Process:
        self._control, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        self._control.settimeout(FORK_SECONDS)
        with theirs:
            descriptor = theirs.fileno()
            module = "yarnloom.worker.processes.warm_process"
            return start_python(module, specs, ends, [str(descriptor)], descriptor)

    def fork(self, ends: ProcessEnds, places: int | None) -> Process:
        """Fork a process that has these ends.

        Raises:
            ForkFailed: it did not in time; it is killed, since it may be late with it.
        """
        descriptors = [*ends.of_process, ends.out[1], ends.err[1]]
        try:
            socket.send_fds(self._control, [str(places or 0).encode()], descriptors)
            answer = self._control.recv(20)
        except OSError as error:  # a timeout, too
            self.kill()
            raise ForkFailed from error
        if not answer:
            raise ForkFailed
        return Forked(int(answer))

    def reap(self) -> None:
        """Notice its death, if it has died."""
        super().reap()
        if self._over:
            self._control.close()
