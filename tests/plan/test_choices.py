"""Conditions, references inside values, choices and fallbacks: what `check` says of them."""

from __future__ import annotations

import json
from enum import StrEnum
from typing import Any, Literal

import pytest
from pydantic import BaseModel

from yarnloom import (
    Loom,
    Secret,
    choose,
    failure,
    output,
    parallel,
    param,
    planned_at,
    previous,
    sequence,
    step,
    text,
)
from yarnloom.errors import LoomError
from yarnloom.plan import Plan, examine
from yarnloom.plan.part_types import source_schema


class Tide(StrEnum):
    """A closed set."""

    NEAP = "neap"
    SPRING = "spring"


class Fit(BaseModel):
    """What a step gives."""

    error: float
    rounds: int
    worst: str | None = None


class Params(BaseModel):
    """Params of the test's workflows."""

    year: int = 2027
    harbour: str = "brackwater"
    tide: Tide = Tide.NEAP
    mode: Literal["all", "some"] | None = None
    dry: bool = False
    days: list[int] = []
    key: Secret[str] | None = None


def fit(year: int = 1) -> Fit:
    """A model."""
    raise NotImplementedError


def name() -> str:
    """A text."""
    raise NotImplementedError


def count() -> int:
    """A number."""
    raise NotImplementedError


def greet(words: str, levels: list[int] | None = None, fit: Fit | None = None) -> str:
    """Takes all kinds."""
    raise NotImplementedError


def twice(number: int) -> int:
    """Takes a number."""
    raise NotImplementedError


def anything() -> Any:
    """Takes nothing, and may return whatever."""
    raise NotImplementedError


def examined(plan: Any) -> tuple[Plan, dict[str, str]]:
    """A compiled plan, and its mistakes by address."""
    loom = Loom("l")
    for task in (fit, name, count, greet, twice, anything):
        loom.task(task)
    loom.workflow("w", params=Params, plan=plan)
    (compiled,), problems = loom.examine()
    return compiled, {problem.where: problem.message for problem in problems}


ONE = step("n", name)


def behind_fit(**options: Any) -> Any:
    """A step with a condition behind one whose output it can read."""
    return sequence(step("fit", fit), step("greet", greet, words="hello", **options))


RIGHT = {
    "a comparison of a field": behind_fit(only_if=output("fit")["error"] < 0.01),
    "combined": behind_fit(
        only_if=(param("mode") == "all") & ~param("dry") | param("days")[0].is_null()
    ),
    "one of a list": behind_fit(only_if=param("tide").is_in(["neap", "spring"])),
    "values inside": step(
        "g", greet, words=text("{h} {{}} {y}", h=param("harbour"), y=param("year"))
    ),
    "a list": step("g", greet, words="x", levels=[param("year"), 2]),
    "an object": step("g", greet, words="x", fit={"error": 0.5, "rounds": param("year")}),
    "all of a closed set": choose("c", by=param("tide"), when=dict.fromkeys(Tide, ONE)),
    "a condition": choose("c", by=param("year") > 2000, when={True: ONE, False: ONE}),
    "another for the rest": choose("c", by=param("harbour"), when={"a b/c": ONE}, otherwise=ONE),
    "a choice is read": sequence(
        choose("c", by=param("dry"), when={True: ONE, False: step("m", name)}),
        step("g", greet, words=output("c")),
    ),
    "a fallback is read": sequence(
        step("n", name, instead=step("m", name)), step("g", greet, words=output("n"))
    ),
    "failure() in what stands in": step(
        "n", name, instead=step("g", greet, words=failure()["first"]["address"])
    ),
    "what follows a fallback": sequence(
        step(
            "n",
            name,
            instead=step("m", name),
            on_end=step("g", greet, words=output("n", default="x")),
        )
    ),
}
WRONG = {
    "never equal": (behind_fit(only_if=param("year") == "2027"), "w/greet.only_if", "never equal"),
    "not in the set": (
        behind_fit(only_if=param("tide") == "neep"),
        "w/greet.only_if",
        "never equal",
    ),
    "not in the list": (
        behind_fit(only_if=param("tide").is_in(["neap", 1])),
        "w/greet.only_if",
        "never 1",
    ),
    "no order": (
        behind_fit(only_if=output("fit")["error"] < "a"),
        "w/greet.only_if",
        "two numbers, or two texts",
    ),
    "null": (
        behind_fit(only_if=output("fit")["worst"].__eq__(None)),
        "w/greet.only_if",
        "write .is_null()",
    ),
    "no condition": (
        behind_fit(only_if=output("fit")["error"]),
        "w/greet.only_if",
        "expected true or false",
    ),
    "no such field": (
        behind_fit(only_if=output("fit")["eror"] < 1),
        "w/greet.only_if",
        "did you mean 'error'?",
    ),
    "no field in a number": (
        behind_fit(only_if=param("year")["x"] == 1),
        "w/greet.only_if",
        "has no fields",
    ),
    "a wrong type in a list": (
        step("g", greet, words="x", levels=[param("harbour")]),
        "w/g.levels/0",
        "expected an integer",
    ),
    "a wrong type in an object": (
        step("g", greet, words="x", fit={"error": param("tide"), "rounds": 1}),
        "w/g.fit/error",
        "expected a number",
    ),
    "a field too few": (
        step("g", greet, words="x", fit={"error": param("year")}),
        "w/g.fit/rounds",
        "missing field",
    ),
    "a list in a text": (
        step("g", greet, words=text("{d}", d=param("days"))),
        "w/g.words/d",
        "expected text",
    ),
    "a null in a text": (
        sequence(
            step("n", name, only_if=param("dry")),
            step("g", greet, words=text("{n}", n=output("n"))),
        ),
        "w/g.words/n",
        "may be null",
    ),
    "a value that never comes": (
        choose("c", by=param("tide"), when={"neap": ONE, "slack": ONE}, otherwise=ONE),
        "w/c.when",
        "never 'slack'",
    ),
    "a value too few": (
        choose("c", by=param("tide"), when={"neap": ONE}),
        "w/c.when",
        "no branch for 'spring'",
    ),
    "null is a value": (
        choose("c", by=param("mode"), when={"all": ONE, "some": ONE}),
        "w/c.when",
        "no branch for null",
    ),
    "no boolean": (choose("c", by=param("year"), when={True: ONE}), "w/c.when", "never true"),
    "twice": (
        sequence(
            step("any", anything),
            choose("c", by=previous, when=[(True, ONE), (1, ONE)], otherwise=ONE),
        ),
        "w/c.when",
        "1 comes twice, or beside its equal",
    ),
    "by a list": (
        choose("c", by=param("days"), when={1: ONE}),
        "w/c.by",
        "expected text, a whole number",
    ),
    "a branch of another type": (
        sequence(
            choose("c", by=param("dry"), when={True: ONE, False: step("k", count)}),
            step("t", twice, number=output("c")),
        ),
        "w/t.number",
        "expected an integer",
    ),
    "into a branch": (
        sequence(
            choose("c", by=param("dry"), when={True: ONE, False: ONE}),
            step("g", greet, words=output("c.true")),
        ),
        "w/g.words",
        "read it whole",
    ),
    "another type instead": (
        sequence(step("n", name, instead=step("k", count)), step("g", greet, words=output("n"))),
        "w/g.words",
        "expected text",
    ),
    "a reserved label": (step("instead", name), "w/instead", "is reserved"),
    "a branch that reads another": (
        choose("c", by=param("dry"), when={True: ONE, False: step("g", greet, words=output("n"))}),
        "w/c/false/g.words",
        "no part has that label",
    ),
    "no fields in the planned time": (
        step("g", greet, words=planned_at()["year"]),
        "w/g.words",
        "has no fields",
    ),
}


@pytest.mark.parametrize("case", RIGHT)
def test_a_right_plan_is_not_complained_about(case: str) -> None:
    """And reads back as it was written."""
    plan, problems = examined(RIGHT[case])

    assert problems == {}
    assert examine(json.loads(json.dumps(plan.document)))[1] == []


@pytest.mark.parametrize("case", WRONG)
def test_what_is_wrong_is_said_where_it_stands(case: str) -> None:
    """With the value that was found, and the expected type."""
    plan, where, words = WRONG[case]
    problems = examined(plan)[1]

    assert list(problems) == [where]
    assert words in problems[where]


@pytest.mark.parametrize(
    ("use", "words"),
    [
        (lambda: bool(param("x")), "&, | and ~"),
        (lambda: 1 < param("x") < 3, "compare twice"),
        (lambda: param("x") and param("y"), "neither true nor false"),
        (lambda: list(param("x")), "each\\(over=...\\)"),
        (lambda: 3 in param("x"), "is_in"),
        (lambda: param("x").year, r"\['year'\]"),
        (lambda: (param("x") == 1)["y"], "has no fields"),
        (lambda: param("x")[-1], "from 0"),
        (lambda: {param("x")}, "unhashable"),
        (lambda: text("{a} {b}", a=1), "give b="),
        (lambda: text("{a", a=1), "single '{'"),
        (lambda: text("{a.b}", a=1), "plain name"),
        (lambda: text("a", a=1), "a= is not used"),
    ],
)
def test_a_reference_used_like_a_value_gives_advice(use: Any, words: str) -> None:
    """In Python it is neither true nor false, has no attributes and cannot be gone through."""
    with pytest.raises((TypeError, AttributeError, LoomError), match=words):
        use()


def test_branches_are_called_by_their_values() -> None:
    """Text that reads like another value is in quotes."""
    values = ["a b", "1", 1, None, "otherwise", "instead", ""]
    plan, problems = examined(
        sequence(
            step("any", anything),
            choose("c", by=previous, when=[(v, ONE) for v in values], otherwise=ONE),
        )
    )
    (node,) = [node for node in plan.nodes if node.choice]

    assert problems == {}
    labels = [plan.nodes[child].label for child in node.children]
    quoted = [f"%22{one}%22" for one in ("otherwise", "instead", "")]
    assert labels == ["a%20b", "%221%22", "1", "null", *quoted, "otherwise"]


def test_a_text_with_a_secret_in_it_is_secret() -> None:
    """So it is sealed, and masked where a step is shown."""
    plan, _ = examined(step("g", greet, words=text("Bearer {key}", key=param("key"))))
    (node,) = plan.steps()

    assert source_schema(plan, node.inputs["words"])["writeOnly"] is True


def test_a_branch_waits_for_a_sibling_that_it_reads_inside_a_value() -> None:
    """As for one that it reads alone."""
    plan, _ = examined(
        parallel("p", step("n", count), step("g", greet, words=text("{n}", n=output("n"))))
    )
    waits = {node.label: [plan.nodes[one].label for one in node.waits_for] for node in plan.nodes}

    assert waits["g"] == ["n"]
