"""The loom for what is seen at a glance: sacks that are weighed, of which some are torn."""

from __future__ import annotations

import time

from pydantic import BaseModel

from yarnloom import Loom, each, item, parallel, param, previous, sequence, step

loom = Loom("granary")
loom.pool("scale", limit=1)


class Sacks(BaseModel):
    """What is wrong with the first sacks."""

    torn: int = 0
    heavy: int = 0
    slow: float = 0.0


@loom.task
def weigh(sack: int, torn: int, heavy: int) -> int:
    """Weigh a sack."""
    if sack < torn:
        raise ValueError(f"torn sack {sack}")
    if sack < torn + heavy:
        raise OSError("too heavy")
    return sack


@loom.task
def label(weight: int, slow: float) -> str:
    """Write a label."""
    time.sleep(slow)
    return str(weight)


loom.workflow(
    "stock",
    params=Sacks,
    plan=sequence(
        each(
            "sacks",
            over=list(range(40)),
            if_one_fails="finish",
            do=sequence(
                step("weigh", weigh, sack=item(), torn=param("torn"), heavy=param("heavy")),
                step("label", label, pool="scale", weight=previous, slow=param("slow")),
            ),
        )
    ),
)


@loom.task
def count(shelf: int) -> int:
    """Count what is on a shelf."""
    if shelf == 5:
        raise ValueError("the shelf is bare")
    return shelf


shelves = [step(f"shelf-{number}", count, shelf=number) for number in range(14)]
loom.workflow("shelves", plan=parallel("all", *shelves, if_one_fails="finish"))
row = [step(f"part-{number}", label, weight=number, slow=0.0) for number in range(40)]
loom.workflow("row", plan=sequence(*row))
