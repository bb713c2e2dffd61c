"""A loom to read about: an each of short items, of which some wait for a file."""

from __future__ import annotations

import time
from pathlib import Path

from pydantic import BaseModel

from yarnloom import Loom, StepContext, each, item, output, param, sequence, step

loom = Loom("shelf")
loom.pool("ladder", limit=8)


class Books(BaseModel):
    """How many there are, and from which number on they are lent."""

    count: int = 400
    lent_from: int = 1_000_000
    back: str = ""


@loom.task
def order(count: int) -> list[int]:
    """List the numbers of the books."""
    return list(range(count))


@loom.task
def dust(ctx: StepContext, number: int, lent_from: int, back: str) -> int:
    """Dust a book, once it is back."""
    while number >= lent_from and not Path(back).exists() and ctx.stop_asked is None:
        time.sleep(0.01)
    return number


loom.workflow(
    "books",
    params=Books,
    plan=sequence(
        step("order", order, count=param("count")),
        each(
            "shelf",
            over=output("order"),
            do=step("dust", dust, number=item(), lent_from=param("lent_from"), back=param("back")),
        ),
    ),
)
