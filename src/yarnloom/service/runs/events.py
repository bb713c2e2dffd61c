"""Live: what changed, told to whoever watches.

Each frame is a CloudEvents 1.0 JSON object, encoded once for all watchers. Frames of one run are
spaced: the first comes at once, the next after an interval that grows with the number of those who
are told and with the size of what they get; a run's end is told at once. A bounded ring
lets a watcher go on after a short break; one that fell further behind, or asks for an id that is
not known, gets a snapshot. While nobody watches, nothing is read and nothing is encoded.

Decision: `docs/decisions/15-many-watchers.md`.
"""

from __future__ import annotations

import asyncio
import contextlib
import uuid
from collections import deque
from collections.abc import AsyncIterator, Awaitable, Callable, Collection, Iterator
from dataclasses import dataclass, field

from pydantic_core import to_json

from yarnloom.units import iso_time, whole_number
from yarnloom.values import JsonObject

RING = 1_000
RING_BYTES = 16 * 1024 * 1024
BACKLOG = 200
SHORTEST = 0.05
CHUNKS_A_SECOND = 300
"""What all watchers together are sent: a thousand of one run cost the engine less than 5% so."""

BYTES_A_SECOND = 1_000_000

Subject = tuple[str, int | str]
"""What an event is about: a run by number, a pool or a schedule by name, or all workers."""

WORKERS: Subject = ("workers", "")
KINDS = {
    "run": "yarnloom.run.changed",
    "pool": "yarnloom.pool.changed",
    "schedule": "yarnloom.schedule.changed",
    "workers": "yarnloom.workers.changed",
}


@dataclass(frozen=True, slots=True)
class Frame:
    """One event, ready to be sent.

    Attributes:
        sequence: its place among all frames of this service's life.
        subject: what it is about.
        detail: whether only those who watch that run get it.
        chunk: the event as it is sent, the same bytes for all.
    """

    sequence: int
    subject: Subject
    detail: bool
    kind: str
    chunk: bytes


@dataclass(eq=False, slots=True)
class Watcher:
    """One open event stream.

    Attributes:
        run: the only run it watches; None watches all. All see pools and workers, since what a run
            waits for may be there.
        graphs: the runs whose graphs it watches.
        frames: what it is to be sent, in order; of a subject only the newest of each kind.
        late: whether it missed frames and needs a snapshot.
    """

    run: int | None
    graphs: frozenset[int] = frozenset()
    frames: dict[tuple[Subject, str], Frame] = field(default_factory=dict)
    woken: asyncio.Event = field(default_factory=asyncio.Event)
    late: bool = False

    def wants(self, frame: Frame) -> bool:
        """Whether a frame is for this watcher."""
        kind, name = frame.subject
        if frame.detail:
            return name in self.graphs
        return self.run is None or kind != "run" or name == self.run

    def push(self, frame: Frame) -> None:
        """Queue a frame; one too many, and a snapshot takes their place."""
        self.frames.pop((frame.subject, frame.kind), None)
        if len(self.frames) >= BACKLOG:
            self.frames.clear()
            self.late = True
        self.frames[frame.subject, frame.kind] = frame
        self.woken.set()


def _in_order(subject: Subject) -> tuple[str, int, str]:
    """Of a kind by number, or by name."""
    kind, name = subject
    return (kind, name, "") if isinstance(name, int) else (kind, 0, name)


Look = Callable[[Subject, bool], Awaitable[JsonObject | None]]


class Hub:
    """Spreads changes to watchers.

    Args:
        source: the `source` of every event, which names this service.
        look: gives the present state of a subject, as `{"run": …}`, and of a run its `"graph"`, and
            now and then its `"glance"`, if it is to look closely; None if it is gone.
        now: the present, in microseconds since 1970 UTC.
    """

    def __init__(self, source: str, look: Look, now: Callable[[], int]) -> None:
        self._source = source
        self._look = look
        self._now = now
        self._epoch = uuid.uuid4().hex[:8]
        self._sequence = 0
        self._ring: deque[Frame] = deque()
        self._ring_bytes = 0
        self._watchers: set[Watcher] = set()
        self._listeners: dict[int, set[asyncio.Event]] = {}
        self._dirty: set[Subject] = set()
        self._told: set[object] = set()  # watchers and listeners, in this round
        self._hurry = asyncio.Event()
        self._spreading: asyncio.Task[None] | None = None
        self._closed = asyncio.Event()

    def changed(self, subjects: set[Subject], ended: Collection[int] = ()) -> None:
        """Something looks different now.

        Args:
            subjects: what.
            ended: runs that have ended: who watches one of them is told at once.
        """
        if not subjects:
            return
        if not self._watchers and not self._listeners:
            # Nobody is told, so nobody can go on from here: ids from before are unknown now.
            self._sequence += 1
            self._ring.clear()
            self._ring_bytes = 0
            return
        self._dirty |= subjects
        if any(run in self._listeners for run in ended) or (
            ended and any(watcher.run in ended for watcher in self._watchers)
        ):
            self._hurry.set()
        if self._spreading is None:
            self._spreading = asyncio.create_task(self._spread())

    async def watch(
        self, run: int | None, last_id: str | None, graphs: Collection[int] = ()
    ) -> AsyncIterator[bytes]:
        """The events for one watcher, as long as it stays; several at once where there are.

        Args:
            run: only this run, with its graph; None for all.
            last_id: the id of the last event that it has seen.
            graphs: of these runs the graphs too.
        """
        watcher = Watcher(run, frozenset(graphs) | ({run} if run is not None else set()))
        self._watchers.add(watcher)
        try:
            if not self._catch_up(watcher, last_id):
                yield await self._snapshot(run)
            while not self._closed.is_set():
                if watcher.late:
                    watcher.late = False
                    watcher.frames.clear()
                    yield await self._snapshot(run)
                if watcher.frames and not watcher.late:
                    frames = list(watcher.frames.values())
                    watcher.frames.clear()
                    yield b"".join(frame.chunk for frame in frames)
                if not watcher.frames and not watcher.late:
                    watcher.woken.clear()
                    await watcher.woken.wait()
        finally:
            self._watchers.discard(watcher)

    @contextlib.contextmanager
    def listen(self, run: int) -> Iterator[asyncio.Event]:
        """An event that is set when a run looks different, as often as watchers are told."""
        woken = asyncio.Event()
        listeners = self._listeners.setdefault(run, set())
        listeners.add(woken)
        try:
            yield woken
        finally:
            listeners.discard(woken)
            if not listeners:
                self._listeners.pop(run, None)

    def event(self, kind: str, subject: str, place: str, data: JsonObject) -> bytes:
        """An event of a stream that counts its own places."""
        return _sse(place, kind, self._encode(kind, subject, data, place))

    @property
    def closing(self) -> asyncio.Event:
        """Set when every stream is to end."""
        return self._closed

    def close(self) -> None:
        """End every stream."""
        self._closed.set()
        for listeners in self._listeners.values():
            for woken in listeners:
                woken.set()
        for watcher in self._watchers:
            watcher.woken.set()

    def _catch_up(self, watcher: Watcher, last_id: str | None) -> bool:
        """Queue what a returning watcher missed; False if that is not known any more."""
        epoch, _, text = (last_id or "").rpartition("-")
        last = whole_number(text)
        if epoch != self._epoch or last is None:
            return False
        oldest = self._ring[0].sequence if self._ring else self._sequence + 1
        if not oldest - 1 <= last <= self._sequence:
            return False
        for frame in self._ring:
            if frame.sequence > last and watcher.wants(frame):
                watcher.push(frame)
        return True

    async def _spread(self) -> None:
        try:
            while self._dirty and not self._closed.is_set():
                subjects, self._dirty = self._dirty, set()
                size = 0
                self._told.clear()
                self._hurry.clear()
                for subject in sorted(subjects, key=_in_order):
                    size += await self._tell(subject)
                crowd = len(self._told) / CHUNKS_A_SECOND
                with contextlib.suppress(TimeoutError):
                    async with asyncio.timeout(max(SHORTEST, crowd, size / BYTES_A_SECOND)):
                        await self._hurry.wait()
        finally:
            self._spreading = None

    async def _tell(self, subject: Subject) -> int:
        """Tell everybody of a subject; how many bytes its frames have."""
        if subject[0] == "run":
            for woken in self._listeners.get(int(subject[1]), ()):
                self._told.add(woken)
                woken.set()
        if not self._watchers:
            return 0
        close = subject[0] == "run" and any(
            subject[1] in watcher.graphs for watcher in self._watchers
        )
        view = await self._look(subject, close)
        if view is None:
            return 0
        graph = view.pop("graph", None)
        glance = view.pop("glance", None)
        size = self._push(subject, False, KINDS[subject[0]], view)
        if graph is not None:
            view = {} if glance is None else {"glance": glance}
            size += self._push(subject, True, "yarnloom.graph.changed", {"graph": graph, **view})
        return size

    def _push(self, subject: Subject, detail: bool, kind: str, data: JsonObject) -> int:
        self._sequence += 1
        text = self._encode(kind, str(subject[1]), data)
        chunk = _sse(f"{self._epoch}-{self._sequence}", kind, text)
        frame = Frame(self._sequence, subject, detail, kind, chunk)
        self._ring.append(frame)
        self._ring_bytes += len(chunk)
        while len(self._ring) > RING or (self._ring_bytes > RING_BYTES and len(self._ring) > 1):
            self._ring_bytes -= len(self._ring.popleft().chunk)
        for watcher in self._watchers:
            if watcher.wants(frame):
                self._told.add(watcher)
                watcher.push(frame)
        return len(chunk)

    async def _snapshot(self, run: int | None) -> bytes:
        # The id is taken before looking: what changes meanwhile is sent again, never missed.
        sequence = self._sequence
        data = await self._look(("run", run), True) if run is not None else None
        text = self._encode("yarnloom.snapshot", "" if run is None else str(run), data)
        return _sse(f"{self._epoch}-{sequence}", "yarnloom.snapshot", text)

    def _encode(self, kind: str, subject: str, data: JsonObject | None, place: str = "") -> str:
        event = {
            "specversion": "1.0",
            "id": place or f"{self._epoch}-{self._sequence}",
            "source": self._source,
            "type": kind,
            "subject": subject,
            "time": iso_time(self._now()),
            "datacontenttype": "application/json",
            "data": data,
        }
        return to_json(event).decode()


def _sse(place: str, kind: str, text: str) -> bytes:
    """One event as it is sent; JSON has no line ends, so its data is one line."""
    return f"id: {place}\r\nevent: {kind}\r\ndata: {text}\r\n\r\n".encode()
