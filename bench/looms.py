"""A loom whose steps do nothing."""

from pydantic import BaseModel

from yarnloom import Loom, param, previous, sequence, step

loom = Loom("bench")
CHAIN = 50


@loom.task
def noop(number: int) -> int:
    """Nothing."""
    return number


class Number(BaseModel):
    """A number."""

    number: int


loom.workflow("one", params=Number, plan=step("only", noop, number=param("number")))
loom.workflow(
    "chain",
    params=Number,
    plan=sequence(
        step("s0", noop, number=param("number")),
        *(step(f"s{i}", noop, number=previous) for i in range(1, CHAIN)),
    ),
)
