"""Checking plans: every mistake at once, each with its address."""

from __future__ import annotations

from typing import Any

import pytest
from pydantic import BaseModel

from yarnloom import Loom, param, previous, sequence, step
from yarnloom import output as output_of
from yarnloom.errors import PlanError
from yarnloom.plan import examine, read_plan


class Params(BaseModel):
    """Params of the test's workflows."""

    year: int
    region: str = "north"


loom = Loom("almanac")


@loom.task
def fetch(harbour: str, year: int) -> list[float]:
    """Levels."""
    return [float(year)]


@loom.task
def fit(levels: list[float], rounds: int = 3) -> dict[str, float]:
    """A fit."""
    return {"M2": levels[0] * rounds}


def problems_with(plan: Any) -> dict[str, str]:
    """What is wrong with a plan, by address."""
    made = Loom("almanac")
    for task in (fetch, fit):
        made.task(task)
    made.workflow("w", params=Params, plan=plan)
    return {problem.where: problem.message for problem in made.examine()[1]}


FETCH = step("fetch", fetch, harbour="brackwater", year=param("year"))


def test_a_right_plan_has_no_problems() -> None:
    """What is right is not complained about."""
    assert problems_with(sequence(FETCH, step("fit", fit, levels=previous))) == {}


@pytest.mark.parametrize(
    ("part", "where", "words"),
    [
        (step("fit", fit, levels=[1.0], round=2), "w/fit.round", "did you mean 'rounds'?"),
        (step("fit", fit), "w/fit.levels", "missing input; expected a list"),
        (step("fit", fit, levels=param("yaer")), "w/fit.levels", "did you mean 'year'?"),
        (step("fit", fit, levels=previous), "w/fit.levels", "nothing stands before it"),
        (step("fit", fit, levels=output_of("fetched")), "w/fit.levels", "no part has that label"),
        (step("fit", fit, levels=output_of("fit")), "w/fit.levels", "itself"),
        (step("fit", fit, levels=param("year")), "w/fit.levels", "is an integer; expected a list"),
        (step("fit", fit, levels="high"), "w/fit.levels", "found 'high'; expected a list"),
        (step("fit", fit, levels=[1.0], rounds="x"), "w/fit.rounds", "expected an integer"),
        (step("fit", fit, levels=[param("year"), "x"]), "w/fit.levels/1", "expected a number"),
        (step("fit", fit, levels=[float("nan")]), "w/fit.levels", "finite"),
        (step("fit", fit, levels=object()), "w/fit.levels", "no JSON form"),
        (step("two words", fit, levels=[]), "w/two words", "a label has"),
        (step("on_end", fit, levels=[]), "w/on_end", "reserved"),
        (step("fit", len, levels=[]), "w/fit", "len is not a task of this loom"),
        (sequence("empty"), "w/empty", "no parts"),
        (3, "w/0", "expected a part"),
    ],
)
def test_each_mistake_is_named_where_it_stands(part: Any, where: str, words: str) -> None:
    """The address leads to the mistake, the message says what would be right."""
    found = problems_with(sequence(part))

    assert words in found.get(where, ""), found


def test_all_mistakes_are_found_at_once() -> None:
    """A plan with many mistakes gets all messages in one go."""
    found = problems_with(
        sequence(
            step("a", fetch, harbour=3, yaer=2027),
            step("a", fit, levels=output_of("b")),
            step("b", fit, levels=output_of("c"), rounds=param("region")),
        )
    )

    assert found.keys() == {
        "w/a.harbour",
        "w/a.yaer",
        "w/a.year",
        "w/a",
        "w/a.levels",
        "w/b.levels",
        "w/b.rounds",
    }


def test_a_part_cannot_read_a_later_one() -> None:
    """A reference forwards in a sequence would wait for itself."""
    found = problems_with(sequence(step("fit", fit, levels=output_of("fetch")), FETCH))

    assert "comes later" in found["w/fit.levels"]


def test_references_look_outwards() -> None:
    """A step in a nested sequence reads what stands before the sequence."""
    inner = sequence(
        "inner", step("one", fit, levels=previous), step("two", fit, levels=output_of("fetch"))
    )

    assert problems_with(sequence(FETCH, inner)) == {}


@pytest.mark.parametrize(
    ("change", "pointer"),
    [
        ({"format": 2}, "/format"),
        ({"loom": "a b"}, "/loom"),
        ({"params": None}, "/params"),
        ({"params": {"type": "nonsense"}}, "/params/type"),
        ({"tasks": {"almanac/fit": {}}}, "/tasks/almanac/fit/input"),
        ({"plan": {"kind": "loop"}}, "w"),
        ({"plan": {"kind": "sequence", "parts": "all"}}, "w"),
        ({"plan": {"kind": "sequence", "parts": [{"kind": "step", "label": "x"}]}}, None),
    ],
)
def test_a_plan_written_by_anything_is_held_to_the_same_rules(
    change: dict[str, Any], pointer: str | None
) -> None:
    """The service reads JSON that may come from any program."""
    document = {
        "format": 1,
        "loom": "almanac",
        "workflow": "w",
        "params": {"type": "object"},
        "tasks": {},
        "plan": {"kind": "sequence", "parts": [{"kind": "step", "label": "x", "task": "a/b"}]},
        **change,
    }
    _, problems = examine(document)

    if pointer is None:
        assert not problems  # a step without a task: check cannot know what is wrong with it
    else:
        assert pointer in [problem.where for problem in problems], problems


def test_a_plan_nested_too_deep_is_refused() -> None:
    """Depth is bounded, so that reading a hostile plan cannot exhaust the stack."""
    body: Any = {"kind": "step", "label": "x", "task": "a/b", "inputs": {}}
    for _ in range(200):
        body = {"kind": "sequence", "label": "s", "parts": [body]}
    document = {
        "format": 1,
        "loom": "l",
        "workflow": "w",
        "params": {},
        "tasks": {"a/b": {"input": {}, "output": {}}},
        "plan": body,
    }

    with pytest.raises(PlanError, match="nested at most 50 deep"):
        read_plan(document)


def test_the_version_depends_on_content_alone() -> None:
    """The same plan has the same version, whoever compiles it; another has another."""

    def version(rounds: int) -> str:
        made = Loom("almanac")
        made.task(fit)
        made.workflow("w", plan=step("fit", fit, levels=[1.0], rounds=rounds))
        return made.check()[0].version

    assert version(3) == version(3)
    assert version(3) != version(4)
