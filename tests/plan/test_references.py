"""References and their types: what may be read from where, and what that does to null."""

from __future__ import annotations

from typing import Any

import pytest
from pydantic import BaseModel

from yarnloom import (
    FailedItem,
    Failure,
    Loom,
    each,
    failure,
    failures,
    item,
    output,
    parallel,
    param,
    previous,
    sequence,
    step,
)
from yarnloom.plan import examine


class Harbour(BaseModel):
    """An item."""

    code: str
    depth: float


class Params(BaseModel):
    """Params of the test's workflows."""

    year: int
    open: bool = True
    harbours: list[Harbour] = []


def listed(year: int) -> list[Harbour]:
    """A list."""
    raise NotImplementedError


def levels(harbour: str, year: int = 2026) -> list[float]:
    """Levels."""
    raise NotImplementedError


def total(levels: list[float]) -> float:
    """A number."""
    raise NotImplementedError


def maybe(level: float | None) -> float:
    """Takes null."""
    raise NotImplementedError


def bind(pages: list[float]) -> str:
    """Takes no null."""
    raise NotImplementedError


def bind_some(pages: list[float | None], missing: list[FailedItem] = []) -> str:  # noqa: B006
    """Takes null."""
    raise NotImplementedError


def join(left: float, right: float) -> float:
    """Two at once."""
    raise NotImplementedError


def tell(failure: Failure, level: float | None = None) -> str:
    """A follow-up."""
    raise NotImplementedError


TASKS = (listed, levels, total, maybe, bind, bind_some, join, tell)


def problems(plan: Any, **options: Any) -> list[str]:
    """What is wrong with a plan, as it is printed."""
    loom = Loom("l")
    for task in TASKS:
        loom.task(task)
    loom.workflow("w", params=Params, plan=plan, **options)
    return [str(problem) for problem in loom.examine()[1]]


LISTED = step("list", listed, year=param("year"))
LEVELS = step("levels", levels, harbour=item("code"))


def over_harbours(do: Any = LEVELS, **options: Any) -> Any:
    """An each over what is listed."""
    return each("harbours", over=output("list"), do=do, **options)


TOTALS = sequence(LEVELS, step("total", total, levels=previous))

RIGHT = {
    "an item's field": sequence(LISTED, over_harbours()),
    "an item of an outer each": sequence(
        LISTED,
        over_harbours(
            each(
                "months",
                over=[1, 2],
                name=item(),
                do=step("f", levels, harbour=item("code", of="harbours"), year=item()),
            ),
            name=item("code"),
        ),
    ),
    "a gathered list": sequence(LISTED, over_harbours(TOTALS), step("b", bind, pages=previous)),
    "only what is done": sequence(
        LISTED,
        over_harbours(TOTALS, may_fail="5%"),
        step("b", bind, pages=output("harbours", only="done")),
    ),
    "a list with holes for who takes null": sequence(
        LISTED,
        over_harbours(TOTALS, may_fail=2),
        step("b", bind_some, pages=output("harbours"), missing=failures("harbours")),
    ),
    "branches that read each other in one direction": parallel(
        "p",
        step("c", join, left=output("a"), right=output("b")),
        step("b", maybe, level=output("a")),
        step("a", maybe, level=1.0),
    ),
    "into a parallel": sequence(
        parallel("p", step("a", maybe, level=1.0), step("b", maybe, level=2.0)),
        step("j", join, left=output("p.a"), right=output("p.b")),
    ),
    "a default for what may be skipped": sequence(
        step("a", maybe, level=1.0, only_if=param("open")),
        step("j", join, left=output("a", default=0.5), right=1.0),
    ),
    "previous across a parallel": sequence(
        step("a", maybe, level=1.0), parallel("p", step("b", maybe, level=previous))
    ),
    "a list that may be null": each(
        "e", over=param("harbours"), do=step("f", levels, harbour=item("code"))
    ),
    "a follow-up that reads what failed and what is there": sequence(
        step("a", maybe, level=1.0),
        on_failure=step("t", tell, failure=failure(), level=output("a")),
    ),
    "a condition on a reference": step("a", maybe, level=1.0, only_if=param("open")),
    "batches": sequence(
        LISTED, each("e", over=previous, batch=10, do=step("b", bind_some, pages=[]))
    ),
}


@pytest.mark.parametrize("what", RIGHT)
def test_what_is_right_is_not_complained_about(what: str) -> None:
    """Never noisy."""
    assert problems(RIGHT[what]) == []


WRONG = {
    "a cycle": (
        parallel(
            "p",
            step("a", maybe, level=output("b")),
            step("b", maybe, level=output("c")),
            step("c", maybe, level=output("a")),
        ),
        "w/p: its branches wait for each other: 'a' reads 'b', 'b' reads 'c', 'c' reads 'a'; take "
        "one out",
    ),
    "itself": (parallel("p", step("a", maybe, level=output("a"))), "is itself; read an earlier"),
    "into an each": (
        sequence(LISTED, over_harbours(TOTALS), step("m", maybe, level=output("harbours.total"))),
        "output('harbours.total'): 'harbours' is an each; read it whole",
    ),
    "previous into an each": (
        sequence(LISTED, over_harbours(step("f", levels, harbour=previous))),
        "`previous` does not cross into an each",
    ),
    "an item outside": (step("f", levels, harbour=item()), "item() stands only in what an each"),
    "a misspelled field": (
        sequence(LISTED, over_harbours(step("f", levels, harbour=item("cod")))),
        "item('cod'): there is no 'cod'; did you mean 'code'?",
    ),
    "a misspelled each": (
        sequence(LISTED, over_harbours(step("f", levels, harbour=item("code", of="harbour")))),
        "no each around it is 'harbour'; did you mean 'harbours'?",
    ),
    "an item's type": (
        sequence(LISTED, over_harbours(step("f", levels, harbour=item("depth")))),
        "item('depth') is a number; expected text",
    ),
    "a name that is none": (
        sequence(LISTED, over_harbours(name=item("depth"))),
        "w/harbours.name: a name is text or a whole number; item('depth') is a number",
    ),
    "names in batches": (
        sequence(LISTED, each("e", over=previous, batch=2, name=item("code"), do=LISTED)),
        "items that come in batches have no names",
    ),
    "no list": (each("e", over=param("year"), do=LISTED), "param('year') is an integer; expected"),
    "a hole": (
        sequence(LISTED, over_harbours(TOTALS, may_fail=1), step("b", bind, pages=previous)),
        "the output of 'harbours' may hold null at /…, which is not expected. Let the task "
        'accept null there, or read output(..., only="done").',
    ),
    "what may be skipped": (
        sequence(
            step("a", maybe, level=1.0, only_if=param("open")),
            step("j", join, left=previous, right=1.0),
        ),
        "the output of 'a' may be null; expected a number. Let the task accept null, or give "
        "output(..., default=...).",
    ),
    "a default of another type": (
        sequence(
            step("a", maybe, level=1.0, only_if=param("open")),
            step("j", join, left=output("a", default="none"), right=1.0),
        ),
        "w/j.left: the default of output(...): found 'none'; expected a number",
    ),
    "no condition": (step("a", maybe, level=1.0, only_if=param("year")), "expected true or false"),
    "failure outside": (
        step("t", tell, failure=failure()),
        "stands only in on_failure=, on_end= or instead=",
    ),
    "failures of no each": (
        sequence(LISTED, step("b", bind_some, pages=[], missing=failures("list"))),
        "failures('list'): 'list' is a step, no each",
    ),
    "only, of no each": (
        sequence(LISTED, step("m", maybe, level=output("list", only="done"))),
        "only an each has items",
    ),
    "a rule that is none": (
        parallel("p", step("a", maybe, level=1.0), if_one_fails="go on"),
        "w/p.if_one_fails: found 'go on'; expected 'stop' or 'cancel' or 'finish'",
    ),
    "a share that is none": (
        sequence(LISTED, over_harbours(may_fail="some")),
        "w/harbours.may_fail: found 'some'; expected a count, or a share as \"5%\"",
    ),
    "none at once": (sequence(LISTED, over_harbours(at_once=0)), "expected a whole number from 1"),
    "a branch without a label": (
        parallel("p", sequence(LISTED)),
        "a branch of a parallel needs a label",
    ),
    "a reserved label": (step("on_end", listed, year=1), "is reserved; choose another"),
    "what may not be reached, in a follow-up": (
        sequence(step("a", maybe, level=1.0), on_end=step("j", join, left=output("a"), right=1.0)),
        "w/on_end/j.left: the output of 'a' may be null",
    ),
    "previous in a follow-up": (
        sequence(step("a", maybe, level=1.0), on_end=step("m", maybe, level=previous)),
        "nothing stands before it; use failure() or output(...)",
    ),
}


@pytest.mark.parametrize("what", WRONG)
def test_what_is_wrong_is_said_once(what: str) -> None:
    """With its address and what to do."""
    plan, words = WRONG[what]
    (problem,) = problems(plan)

    assert words in problem


def test_ten_mistakes_get_ten_messages() -> None:
    """All in one go, each where it stands."""
    plan = sequence(
        step("list", listed, yaer=param("year")),  # 1: unknown input, 2: missing input
        each(
            "harbours",
            over=output("lst"),  # 3
            at_once=-1,  # 4
            may_fail="half",  # 5
            do=step("f", levels, harbour=item("code", of="harbors")),  # 6
        ),
        parallel(
            "p",
            step("a", maybe, level=output("b")),
            step("b", maybe, level=output("a")),  # 7: a cycle
            if_one_fails="panic",  # 8
        ),
        step("on_end", maybe, level=param("yeer")),  # 9, 10
    )
    found = problems(plan)

    assert len(found) == 10, "\n".join(found)
    assert [line.partition(":")[0] for line in found] == [
        "w/list.yaer",
        "w/list.year",
        "w/harbours.may_fail",
        "w/harbours.at_once",
        "w/harbours.over",
        "w/harbours/f.harbour",
        "w/p.if_one_fails",
        "w/p",
        "w/on_end",
        "w/on_end.level",
    ]


def test_follow_ups_given_twice_are_a_mistake() -> None:
    """To the workflow, and to the plan that it has."""
    tells = step("t", tell, failure=failure())
    found = problems(sequence(LISTED, on_failure=tells), on_failure=tells)

    assert found == ["w: on_failure is given twice, to the workflow and to its plan; give it once"]


def test_a_plan_from_elsewhere_is_held_to_the_same_rules() -> None:
    """JSON that no Python wrote: unknown keys and kinds, parts that are none."""
    document = {
        "format": 1,
        "loom": "l",
        "workflow": "w",
        "params": {},
        "tasks": {"l/t": {"input": {"type": "object"}, "output": {}}},
        "plan": {
            "kind": "sequence",
            "parts": [
                {"kind": "step", "label": "a", "task": "l/t", "only_fi": {"constant": True}},
                {"kind": "each", "label": "b", "over": {"constant": []}, "do": {"kind": "step"}},
                {"kind": "parallel", "label": "c", "parts": []},
                {"kind": "loop", "label": "d"},
                {"kind": "step", "label": "e", "task": "l/t", "on_end": {"kind": "step"}},
                {"kind": "each", "label": "f", "do": {"kind": "sequence", "parts": []}},
            ],
        },
    }
    found = {problem.where: problem.message for problem in examine(document)[1]}

    assert found["w/a.only_fi"] == "not expected here; did you mean 'only_if'?"
    assert found["w/b.do"] == "expected a sequence without a label"
    assert found["w/c"].startswith("this parallel has no parts")
    assert found["w"].startswith("found a part of kind 'loop'")
    assert found["w/e.on_end"] == "expected a sequence"
    assert "w/f.over" in found


@pytest.mark.slow
def test_a_large_plan_is_read_in_time() -> None:
    """9,000 branches that all read one step, and one that reads them all."""
    branches = [step(f"b{i}", maybe, level=output("first")) for i in range(9_000)]
    last = step("last", bind_some, pages=[])
    plan = sequence(step("first", maybe, level=1.0), parallel("p", *branches, last))

    assert problems(plan) == []
