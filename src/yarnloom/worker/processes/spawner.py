"""Starting real processes, with a guardian that ends them when the worker is gone."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Protocol

from yarnloom.values import JsonObject
from yarnloom.worker.processes.child_process import (
    Child,
    OnBroken,
    OnDeath,
    OnEnds,
    OnLine,
    OnMessage,
    Template,
)
from yarnloom.worker.processes.orphans import adopt_orphans, reap_orphans
from yarnloom.worker.processes.start_guardian import Guardian

Message = JsonObject


@dataclass(frozen=True, slots=True)
class ProcessEvents:
    """What others do when something happens to a process."""

    on_message: OnMessage
    on_ends: OnEnds
    on_line: OnLine
    on_death: OnDeath
    on_broken: OnBroken


class ProcessSpawner:
    """Starts processes of this machine.

    Args:
        load: MODULE:LOOM of each loom.
        io: how many attempts share a process.
        events: what happens to the processes.
        say: tells the user.
        owner: the worker's id.
    """

    def __init__(
        self,
        load: tuple[str, ...],
        io: int,
        events: ProcessEvents,
        say: Callable[[str], None],
        owner: str = "",
    ) -> None:
        self._owner = owner
        self._load = load
        self._io = io
        self._events = events
        self._say = say
        self._guardian = Guardian()
        self._adopts = False

    def can_fork(self, *, wanted: bool) -> bool:
        """Whether processes can be forks of one that has loaded the looms."""
        self._adopts = wanted and adopt_orphans()
        return self._adopts

    def template(self, events: TemplateEvents) -> Template:
        """Start the process of which others are forks."""
        return Template(
            self._load,
            self._guardian,
            until=0.0,
            owner="",
            places=None,
            on_message=events.on_message,
            on_ends=self._events.on_ends,
            on_line=self._events.on_line,
            on_death=events.on_death,
            on_broken=events.on_broken,
        )

    def process(self, *, shared: bool, until: float, template: Template | None) -> Child:
        """Start a process that runs attempts."""
        return Child(
            self._load,
            self._guardian,
            until=until,
            owner=self._owner,
            places=self._io if shared else None,
            template=template,
            on_message=self._events.on_message,
            on_ends=self._events.on_ends,
            on_line=self._events.on_line,
            on_death=self._events.on_death,
            on_broken=self._events.on_broken,
        )

    def reap(self, own: Iterable[Child]) -> None:
        """Notice which processes have ended."""
        processes = list(own)
        if self._guardian.reap():
            self._say("its guardian was killed; another one is there")
        for process in processes:
            process.reap()
        if self._adopts:
            reap_orphans({self._guardian.pid, *(process.pid for process in processes)})

    def close(self) -> None:
        """End the guardian."""
        self._guardian.close()


@dataclass(frozen=True, slots=True)
class TemplateEvents:
    """What happens to the process of which others are forks."""

    on_message: Callable[[Child, Message], None]
    on_death: Callable[[Child, int, list[Message]], None]
    on_broken: Callable[[Child, str], None]


class Spawner(Protocol):
    """Starts processes, and notices their ends."""

    def can_fork(self, *, wanted: bool) -> bool:
        """Whether processes can be forks of one that has loaded the looms."""

    def template(self, events: TemplateEvents) -> Template:
        """Start the process of which others are forks."""

    def process(self, *, shared: bool, until: float, template: Template | None) -> Child:
        """Start a process that runs attempts."""

    def reap(self, own: Iterable[Child]) -> None:
        """Notice which processes have ended."""

    def close(self) -> None:
        """Start nothing more."""
