"""The worker: takes attempts from a service, gives them to its processes, and reports.

It runs no user code itself. It outlives a service restart and a broken connection: running
attempts go on, and what they return waits here until the service takes it.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
import socket
import sys
import time
import uuid
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from yarnloom.begun_files import begins_of_gone, remove_files
from yarnloom.client import Target
from yarnloom.errors import NotAllowed, Refused, StartError, YarnloomError
from yarnloom.process_identity import cores, this_process
from yarnloom.values import JsonObject
from yarnloom.version import VERSION
from yarnloom.worker.attempt_notices import AttemptNotices
from yarnloom.worker.attempt_runner import AttemptRunner
from yarnloom.worker.connection import Link
from yarnloom.worker.process_pool import PoolOptions

Message = JsonObject

DEFAULT_IO = 20
ORPHAN_PATIENCE = 600.0
SETTLE_SECONDS = 0.5
LOOK_SECONDS = 2.0

GONE_AT_ONCE = 100
"""Of how many workers that are gone one request tells."""

KEPT_SECONDS = 86_400.0
"""After which nobody asks any more what a worker had begun that is gone."""


@dataclass(frozen=True, slots=True)
class WorkerOptions:
    """How a worker runs.

    Attributes:
        load: MODULE:LOOM of each loom.
        target: the service.
        name: for people.
        id: unique; made up unless given.
        processes: how many attempts run at once, each in a process of its own.
        io: how many attempts of `async def` and `io=True` tasks share one more process.
        drain: seconds that running attempts get to finish when the worker is told to end.
        end_with_stdin: end when standard input ends, because whoever started the worker is gone.
        has: what steps can ask for with `only_on`.
        pools: the only pools to take from; None for any.
        until_idle: end when there is nothing left to do.
        replace_after: replace a process after so many attempts; None for never.
        replace_above: replace a process that has more memory than that, in bytes; None for never.
        reload: replace the processes when code changes.
        publish: publish the looms before any work is taken, and again when code changes.
        fork: whether processes are forked from one that has loaded the looms, where that is safe.
        quiet: says nothing of attempts.
        show_prints: also says lines that tasks print.
    """

    load: tuple[str, ...]
    target: Target
    name: str = ""
    id: str = field(default_factory=lambda: uuid.uuid4().hex[:12])
    processes: int = field(default_factory=cores)
    io: int = DEFAULT_IO
    drain: float = 10.0
    end_with_stdin: bool = False
    has: tuple[str, ...] = ()
    pools: tuple[str, ...] | None = None
    until_idle: bool = False
    replace_after: int | None = None
    replace_above: int | None = None
    reload: bool = False
    publish: bool = False
    fork: bool = True
    quiet: bool = False
    show_prints: bool = False


class Worker:
    """One worker, from start to end.

    Args:
        options: how it runs.
        say: tells the user, one line at a time.
    """

    def __init__(self, options: WorkerOptions, say: Callable[[str], None]) -> None:
        self.options = options
        self.name = options.name or f"{socket.gethostname()}-{os.getpid()}"
        self._tell_user = say
        self._end = asyncio.Event()
        self._hurry = asyncio.Event()
        self._orphaned = False
        self._drained = False
        self._shut_out: NotAllowed | None = None
        self._introducing: set[asyncio.Task[None]] = set()
        self._link = Link(
            options.target,
            options.id,
            introduce=self._introduce,
            places=self._places,
            on_message=self._on_message,
            on_taken=self._on_taken,
            on_refused=self._on_refused,
            on_lease_over=self._on_lease_over,
            on_epoch=self._on_epoch,
            on_shut_out=self._on_shut_out,
            on_heard=self._on_heard,
            say=self._say,
        )
        options_of_pool = PoolOptions(
            options.load,
            options.processes,
            options.io,
            options.replace_after,
            options.replace_above,
            fork=options.fork and not options.reload,
        )
        self._notices = (
            None if options.quiet else AttemptNotices(self._say, show_prints=options.show_prints)
        )
        self._began = time.time_ns()
        if options.reload:
            # Compiled code is known by its source's second and size: of two changes within one
            # second that are of one size, the second would not be loaded.
            os.environ["PYTHONDONTWRITEBYTECODE"] = "1"
        self._runner = AttemptRunner(
            options_of_pool,
            self._link.queue,
            self._link.ask,
            self._on_new_code,
            self._say,
            worker=options.id,
            notices=self._notices,
        )

    async def run(self) -> None:
        """Work until told to end.

        Raises:
            LoomNotFound: the loom cannot be loaded.
            NotAllowed: the service does not accept the token.
        """
        loop = asyncio.get_running_loop()
        for number in (signal.SIGINT, signal.SIGTERM):
            loop.add_signal_handler(number, self._told_to_end, signal.Signals(number).name)
        if self.options.end_with_stdin:
            loop.add_reader(sys.stdin.fileno(), self._orphan)
        try:
            self._runner.start()
            await self._runner.pool.ready
            await self._tell_who_is_gone()
            await self._serve()
        finally:
            await self._runner.pool.end()
            await self._link.close()
            if self._notices is not None:
                self._notices.close()
            self._runner.close()

    async def _tell_who_is_gone(self) -> None:
        """Tell the service which attempts workers began that ended here without a word."""
        begins = await asyncio.to_thread(begins_of_gone)
        now, known, gone = time.time_ns() // 1_000, set[str](), list(begins)
        for first in range(0, len(gone), GONE_AT_ONCE):
            ago = {
                worker: {
                    str(attempt): max(0.0, (now - at) / 1_000_000)
                    for attempt, at in begins[worker].items()
                }
                for worker in gone[first : first + GONE_AT_ONCE]
            }
            with contextlib.suppress(YarnloomError):  # the service finds out by itself
                known |= await self._link.tell_gone(ago)
        if begins:
            await asyncio.to_thread(remove_files, known)
            # Others are of another service, or were.
            await asyncio.to_thread(remove_files, begins, KEPT_SECONDS)

    async def _publish_and_register(self) -> None:
        """Make the looms' workflows current, if they are to be, and come to the service.

        Raises:
            StartError: they were not published.
        """
        if self.options.publish:
            try:
                await self._publish_first()
            except Refused as error:
                raise StartError(str(error)) from error
        await self._link.register()

    async def _publish_first(self) -> None:
        publications = await self._runner.pool.publications
        if publications is None:
            if await self._publish():
                raise StartError(f"{', '.join(self.options.load)} was not published; see above")
            return
        answers = [await self._link.publish(publication) for publication in publications]
        for one in (one for answer in answers for one in answer["workflows"]):
            note = "published" if one["current_since_now"] else "unchanged"
            self._tell_user(f"{note} {one['workflow']} at version {one['version']}")

    async def _serve(self) -> None:
        ending = asyncio.create_task(self._end.wait())
        registering = asyncio.create_task(self._publish_and_register())
        done, _ = await asyncio.wait([ending, registering], return_when=asyncio.FIRST_COMPLETED)
        if registering not in done:
            registering.cancel()
            return
        await registering
        count = self.options.processes
        if self._runner.pool.tasks:
            self._say(
                f"takes work from {self.options.target.url}: {count} "
                f"process{'es' if count > 1 else ''}, {len(self._runner.pool.tasks)} tasks of "
                f"{', '.join(self.options.load)}"
            )
        loops = [
            asyncio.create_task(self._link.keep_asking()),
            asyncio.create_task(self._link.keep_reporting()),
        ]
        if self.options.reload:
            loops.append(asyncio.create_task(self._watch_code()))
        try:
            await asyncio.wait([ending, *loops], return_when=asyncio.FIRST_COMPLETED)
            for task in loops:
                if task.done():
                    task.result()
            await self._drain()
        finally:
            for task in loops:
                task.cancel()
            await asyncio.gather(*loops, return_exceptions=True)
        await self._say_goodbye()
        if self._shut_out is not None:
            raise self._shut_out

    def _say(self, text: str) -> None:
        self._tell_user(f"worker {self.name}: {text}")

    # The end

    def _told_to_end(self, name: str) -> None:
        if self._drained:
            # It waited without limit; from now on it does as if this had been the first word.
            self._drained = False
            self._say(f"{name}, ending within {self.options.drain:g} s")
            asyncio.get_running_loop().call_later(self.options.drain, self._hurry.set)
            return
        if self._end.is_set():
            self._hurry.set()
            return
        self._say(f"{name}, ending")
        self._begin_to_end()

    def _told_by_service(self, why: str) -> None:
        """End, but let what runs finish, however long it takes."""
        if not self._end.is_set():
            self._drained = True
            self._say(f"{why}, ending")
            self._begin_to_end()

    def _on_shut_out(self, error: NotAllowed) -> None:
        """End without new work; what runs may finish, and be reported, for a while."""
        self._shut_out = error
        self._told_by_service(error.detail.rstrip("."))

    def _orphan(self) -> None:
        if os.read(sys.stdin.fileno(), 4096):
            return
        asyncio.get_running_loop().remove_reader(sys.stdin.fileno())
        self._orphaned = True
        self._say("the service that started it is gone, ending")
        self._begin_to_end()

    def _begin_to_end(self) -> None:
        self._runner.pool.draining = True
        self._end.set()
        self._runner.routing.hand_back_queue()
        self._runner.stops.stop_for_drain()
        self._link.queue.wake()

    async def _drain(self) -> None:
        """Let running attempts finish for a while; what is left then is handed back.

        An orphan, whose service may be back in a moment, waits longer: nobody is there to hurry
        it, and its results are worth keeping.
        """
        patience = ORPHAN_PATIENCE if self._orphaned else self.options.drain
        if running := self._runner.pool.running:
            if self._drained:
                self._say(f"waits for {len(running)} running attempt(s)")
            else:
                self._say(
                    f"waits up to {patience:g} s for {len(running)} running attempt(s); "
                    "a second Ctrl-C hands them back at once"
                )
        waits = [
            asyncio.create_task(one.wait()) for one in (self._runner.routing.idle, self._hurry)
        ]
        timeout = None if self._drained else patience
        await asyncio.wait(waits, timeout=timeout, return_when=asyncio.FIRST_COMPLETED)
        for wait in waits:
            wait.cancel()
        self._runner.hand_back_running(f"worker {self.name} ended")

    async def _say_goodbye(self) -> None:
        patience = ORPHAN_PATIENCE if self._orphaned and not self._link.queue.settled else 1.0
        try:
            async with asyncio.timeout(patience):
                while not self._link.queue.settled:
                    await self._link.send_report()
                await self._link.leave()
        except (TimeoutError, YarnloomError):
            if not self._link.queue.settled:
                self._say("its last reports could not be delivered")
        self._say("has ended")

    # What the service tells, and is told

    def _on_message(self, message: Message) -> None:
        match message["kind"]:
            case "work":
                self._runner.take(message)
            case "stop":
                self._runner.stops.stop(
                    message["attempt"],
                    message["why"],
                    raise_in=message.get("raise_in"),
                    now=message.get("now", False),
                )
            case "go_on":
                self._runner.stops.go_on(message["attempt"])
            case "give_back":
                self._runner.give_back(message["attempt"])
            case "drop":
                self._runner.drop(message["attempt"])
            case "drain":
                self._told_by_service("it is drained")
            case "idle":
                self._told_by_service("nothing is left to do")

    def _on_taken(self) -> None:
        self._runner.routing.feed()

    def _on_refused(self, refusal: Message) -> None:
        self._say(f"a report was refused: {refusal['why']}")
        self._runner.drop(refusal["attempt"])

    def _on_lease_over(self) -> None:
        self._runner.stops.end_what_must_not_overlap()

    async def _on_epoch(self) -> None:
        self._say("the service's records went back in time; what runs is of before, and ended")
        await self._runner.drop_all()

    def _on_heard(self, until: float) -> None:
        self._runner.pool.allow_until(until)

    def _on_new_code(self) -> None:
        introducing = asyncio.create_task(self._introduce_again())
        self._introducing.add(introducing)
        introducing.add_done_callback(self._introducing.discard)

    async def _introduce_again(self) -> None:
        await self._link.introduce_again()
        self._runner.routing.introduced()

    async def _watch_code(self) -> None:
        """Replace the processes whenever code has changed."""
        from watchfiles import PythonFilter, awatch

        folders = {str(Path.cwd()), *self._runner.pool.folders}
        roots = {Path(folder) for folder in folders}
        known = _state_of(roots)
        self._say(f"watches the code in {', '.join(sorted(folders))}")  # from now on: see `known`
        if any(at > self._began for at in known.values()):
            await self._load_again(roots)  # it may have changed since the processes loaded it
        touched: set[Path] = set()
        stirred = asyncio.Event()

        async def follow() -> None:
            async for changes in awatch(*folders, watch_filter=PythonFilter()):
                touched.update(Path(path).parent for _, path in changes)
                stirred.set()

        following = asyncio.create_task(follow())
        try:
            while not following.done():
                with contextlib.suppress(TimeoutError):
                    async with asyncio.timeout(LOOK_SECONDS):
                        await stirred.wait()
                stirred.clear()
                # The watch misses changes made before it has begun. It may never come to rest to
                # say so: other files, such as the records, can change all the time.
                if known != (known := _state_of(roots)):
                    touched |= roots
                if touched:
                    now, touched = touched, set()
                    await self._load_again(now)
        finally:
            following.cancel()
        following.result()

    async def _load_again(self, folders: set[Path]) -> None:
        """Load the changed code in some folders, until nothing has changed meanwhile."""
        seen = None
        # The watch can miss a file that is written right after another, so look once more.
        while seen != (seen := _state_of(folders)):
            if self.options.publish:
                await self._publish()
            self._runner.pool.reload()
            await asyncio.sleep(SETTLE_SECONDS)

    async def _publish(self) -> int:
        """Publish the looms as they are now, from a process of its own, which says what is wrong.

        Returns:
            Its exit code.
        """
        target = self.options.target
        process = await asyncio.create_subprocess_exec(
            *(sys.executable, "-m", "yarnloom", "publish", *self.options.load),
            env={**os.environ, **target.environment()},
        )
        return await process.wait()

    def _places(self) -> Message:
        pool = self._runner.pool
        places = {"places": pool.places, "io_places": pool.io_places, "ahead": self._runner.ahead}
        return {**places, "trouble": pool.trouble}

    def _introduce(self) -> Message:
        return {
            "name": self.name,
            **self._places(),
            "tasks": {
                name: {
                    key: facts[key] for key in ("code_hash", "input", "output", "source", "grace")
                }
                for name, facts in self._runner.pool.tasks.items()
            },
            "io_tasks": [name for name in self._runner.pool.tasks if self._runner.pool.is_io(name)],
            "plain_tasks": [
                name for name, one in self._runner.pool.tasks.items() if one.get("plain")
            ],
            "has": list(self.options.has),
            "pools": None if self.options.pools is None else list(self.options.pools),
            "draining": self._end.is_set(),
            "until_idle": self.options.until_idle,
            "abandoned": self._runner.pool.abandoned,
            "in_hand": sorted(self._runner.in_hand | self._link.queue.attempts_to_report()),
            "facts": {
                "host": socket.gethostname(),
                "pid": os.getpid(),
                "processes": self.options.processes,
                "io": self.options.io,
                "loom": ", ".join(self.options.load),
                "version": VERSION,
                "process": this_process(),
            },
        }


def _state_of(folders: set[Path]) -> dict[Path, int]:
    """When each Python file in some folders was written last."""
    found = {}
    for folder in folders:
        for path in folder.glob("*.py"):
            with contextlib.suppress(OSError):
                found[path] = path.stat().st_mtime_ns
    return found


async def run_worker(options: WorkerOptions, say: Callable[[str], None]) -> None:
    """Run a worker until it is told to end."""
    with contextlib.suppress(asyncio.CancelledError):
        await Worker(options, say).run()
