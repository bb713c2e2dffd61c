"""An each of a two-step sequence at 100,000 items, against the same at 1,000.

Inside the measured region: the engine and the store, from the report that gives the list to the
run's end, with commits flushed to disk as in a service. Outside: HTTP and worker processes, whose
cost does not know how many items there are. A worker that answers at once reports 64 attempts
together. The smaller one is run until as many steps are done, in turn with pieces of the larger.
"""

from __future__ import annotations

import resource
import time
from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel

from yarnloom import Loom, each, item, param, previous, sequence, step
from yarnloom.engine.commands import Poll, Register, Report, Reported, ReportItem
from yarnloom.testing import InlineService, inline_service

TOGETHER = 64
FEW, MANY = 1_000, 100_000

loom = Loom("wide")


@loom.task
def count_up(items: int) -> list[int]:
    """A list of so many small numbers."""
    return [number % 10 for number in range(items)]


@loom.task
def grow(number: int) -> int:
    """One more."""
    return number + 1


class Items(BaseModel):
    """How many."""

    items: int


loom.workflow(
    "wide",
    params=Items,
    plan=sequence(
        step("list", count_up, items=param("items")),
        each(
            "numbers",
            over=previous,
            do=sequence(step("one", grow, number=item()), step("two", grow, number=previous)),
        ),
        step("end", grow, number=param("items")),
    ),
)


@dataclass
class Piece:
    """So many steps took so long, while so much memory was in use."""

    steps: int
    seconds: float
    memory: int


def memory_now() -> int:
    """Resident bytes of this process."""
    with open("/proc/self/statm", encoding="ascii") as statm:
        return int(statm.read().split()[1]) * resource.getpagesize()


def answer(work: dict[str, Any]) -> Any:
    """What the tasks do, without a process."""
    task = loom.tasks[work["task"].partition("/")[2]]
    return task.function(**work["input"])


def run(inline: InlineService, items: int, piece: int) -> list[Piece]:
    """Run it to its end; a piece for every so many steps."""
    hashes = {task.full_name: task.code_hash for task in loom.tasks.values()}
    inline.do(Register("w", "w", {}, TOGETHER, hashes))
    number = inline.start("wide", {"items": items}, key=f"{items}-{inline.clock.mono}")
    messages = inline.batch(Poll("w")).messages.get("w", [])
    pieces, done, begun, received = [], 0, time.perf_counter(), ()
    while messages:
        reports = tuple(
            ReportItem(one["attempt"], "done", answer(one), begun_ago=0.0) for one in messages
        )
        received = tuple(one["serial"] for one in messages)
        reported: Reported = inline.do(Report("w", reports, received))
        inline.clock.advance(0.01)
        messages = reported.messages
        done += len(reports)
        if done >= piece:
            pieces.append(Piece(done, time.perf_counter() - begun, memory_now()))
            done, begun = 0, time.perf_counter()
    ended = inline.run(number)
    assert (ended["state"], ended["output"]) == ("done", items + 1), ended
    assert inline.graph(number)["parts"][1]["counts"]["done"] == items
    return pieces


def measure() -> tuple[list[Piece], list[Piece]]:
    """Pieces of 1,000 items, and those of 100,000 items."""
    with inline_service() as inline:
        inline.publish(loom)
        run(inline, FEW, 2 * FEW)
        few = [one for _ in range(5) for one in run(inline, FEW, 2 * FEW)]
        many = run(inline, MANY, 20 * FEW)
        few += [one for _ in range(5) for one in run(inline, FEW, 2 * FEW)]
        return few, many
