"""What one process of a worker serves: the tasks of its looms, each with what its loom keeps."""

from __future__ import annotations

import contextlib
from collections.abc import AsyncIterator, Iterable, Iterator
from dataclasses import dataclass, replace

from yarnloom.errors import LoomError
from yarnloom.sdk.find_loom import load_loom
from yarnloom.sdk.hooks import Around
from yarnloom.sdk.loom import Loom
from yarnloom.sdk.task import Task
from yarnloom.values import JsonValue


@dataclass(frozen=True, slots=True)
class Served:
    """One task.

    Attributes:
        task: the task.
        around: what its loom wraps around attempts.
        kept: what its loom's `around_process` yielded.
    """

    task: Task
    around: Around
    kept: JsonValue = None

    @property
    def plain(self) -> bool:
        """Whether nothing but its inputs is needed to call it."""
        return self.task.context_input is None and not self.task.is_async and not self.around.wraps


def is_plain(task: Task, around: Around) -> bool:
    """Whether a task can be run right behind another, alone in a process, without the service."""
    plain = Served(task, around).plain and not task.io
    return plain and task.overlap != "never"


def load_looms(specs: Iterable[str]) -> list[Loom]:
    """Load looms, and check them.

    Raises:
        LoomError: one cannot be loaded, has mistakes, or has a task of another.
    """
    looms = [load_loom(spec) for spec in specs]
    owners: dict[str, Loom] = {}
    for loom in looms:
        loom.check()
        for name in loom.served:
            if name in owners:
                raise LoomError(f"two looms have a task {name!r}; give one of them another name")
            owners[name] = loom
    return looms


@contextlib.contextmanager
def serving(looms: list[Loom]) -> Iterator[dict[str, Served]]:
    """Set up what the looms keep in a process, and tear it down at the end.

    Raises:
        AroundFailed: one of them failed.
    """
    with contextlib.ExitStack() as stack:
        served: dict[str, Served] = {}
        for loom in looms:
            kept = stack.enter_context(loom.around.process())
            for name, task in loom.served.items():
                served[name] = Served(task, loom.around, kept)
        yield served


@contextlib.asynccontextmanager
async def serving_coroutines(
    looms: list[Loom], served: dict[str, Served]
) -> AsyncIterator[dict[str, Served]]:
    """The same for what is kept on the event loop, for `async def` tasks; others stay as they are.

    Raises:
        AroundFailed: one of them failed.
    """
    async with contextlib.AsyncExitStack() as stack:
        found = dict(served)
        for loom in looms:
            plain = next((found[name].kept for name in loom.served), None)
            kept = await stack.enter_async_context(loom.around.process_later(plain))
            for name, task in loom.served.items():
                if task.is_async:
                    found[name] = replace(found[name], kept=kept)
        yield found
