"""Which worker gets which step: names, types, pinned code, earlier names."""

from __future__ import annotations

from typing import Any

import pytest
from pydantic import BaseModel

from yarnloom import Loom, param, step
from yarnloom.engine.commands import Poll, Publish, Register, Report, ReportItem, StartRun
from yarnloom.errors import InvalidInput, NotFound
from yarnloom.store.workers import workflow_records
from yarnloom.testing import InlineService, inline_service


class Params(BaseModel):
    """A number."""

    number: int


def loom_with(function: Any, *, release: str = "", **options: Any) -> Loom:
    """A loom whose one task is called `add`, unless told otherwise."""
    loom = Loom("l", release=release)
    loom.task(**{"name": "add", **options})(function)
    loom.workflow("w", params=Params, plan=step("add", function, number=param("number")))
    return loom


def add(number: int) -> int:
    """One more."""
    return number + 1


def add_more(number: int, more: int = 1) -> int:
    """A newer one with another input."""
    return number + more


def add_text(number: str) -> int:
    """One that wants text."""
    return len(number)


def add_into_text(number: int) -> str:
    """One that gives text."""
    return str(number)


def register(inline: InlineService, loom: Loom, worker: str = "w") -> list[dict[str, Any]]:
    """A worker with a loom; what it is given."""
    facts = {name: task.facts() for name, task in loom.served.items()}
    hashes = {name: one["code_hash"] for name, one in facts.items()}
    sources = {name: one["source"] for name, one in facts.items()}
    inline.do(Register(worker, worker, {}, 1, hashes, offers=facts, sources=sources))
    return inline.batch(Poll(worker)).messages.get(worker, [])


@pytest.mark.parametrize(
    ("function", "runs"), [(add, True), (add_more, True), (add_text, False), (add_into_text, False)]
)
def test_a_step_goes_to_a_worker_with_fitting_types(function: Any, runs: bool) -> None:
    """The same name is not enough; other code with fitting types is."""
    with inline_service() as inline:
        inline.publish(loom_with(add))
        inline.start("w", {"number": 1})
        inline.restart()
        messages = register(inline, loom_with(function))
        ready = inline.step(1, "add")["state"]

    assert len(messages) == runs
    assert ready == "ready"


def test_pinned_code_goes_only_to_workers_that_have_it() -> None:
    """And the code is part of the plan's version."""
    old, new = loom_with(add, pin_code=True), loom_with(add, release="2", pin_code=True)
    with inline_service() as inline:
        inline.publish(old)
        inline.start("w", {"number": 1})
        newer = register(inline, new, "new")
        older = register(inline, old, "old")

    assert (len(newer), len(older)) == (0, 1)
    assert old.check()[0].version != new.check()[0].version
    assert loom_with(add).check()[0].version == loom_with(add, release="2").check()[0].version


def test_a_renamed_task_serves_plans_with_its_old_name() -> None:
    """A worker with `was=` runs their steps, under the name that the plan has."""
    renamed = loom_with(add, name="plus", was=["add"])
    with inline_service() as inline:
        inline.publish(loom_with(add))
        number = inline.start("w", {"number": 1})
        inline.work(renamed)

        assert inline.run(number)["output"] == 2
        assert inline.step(number, "add")["task"] == "l/add"


def test_a_taken_name_is_no_earlier_name() -> None:
    """Two tasks cannot serve one name."""
    loom = loom_with(add)
    loom.task(name="plus", was=["add"])(add_more)

    assert [str(one) for one in loom.examine()[1]] == ["plus: was='add' is a name of task add too"]


def test_registering_makes_nothing_current() -> None:
    """A rolling restart does not flip versions; a run keeps the plan that it started with."""
    with inline_service() as inline:
        inline.publish(loom_with(add))
        before = inline.start("w", {"number": 1}, "a")
        register(inline, loom_with(add_more))
        between = inline.start("w", {"number": 1}, "b")
        inline.do(Publish([loom_with(add_more).check()[0].document], [], "test"))
        after = inline.start("w", {"number": 1}, "c")
        versions = [inline.run(number)["version"] for number in (before, between, after)]

    assert versions[0] == versions[1] != versions[2]


def test_each_attempt_shows_the_code_that_ran_it() -> None:
    """Its hash, and the source by that hash, whoever brought it."""
    newer = loom_with(add_more)
    with inline_service() as inline:
        inline.publish(loom_with(add))
        number = inline.start("w", {"number": 1})
        (work,) = register(inline, newer)
        inline.do(Report("w", (ReportItem(work["attempt"], "done", 2, None, 0.0),)))
        (attempt,) = inline.step(number, "add")["attempts"]
        kept = inline.database.read(
            lambda one: workflow_records.code(one, "l/add", attempt["code_hash"])
        )

    assert attempt["code_hash"] == newer.tasks["add"].code_hash
    assert kept is not None
    assert "A newer one with another input" in kept["source"]


def test_a_name_is_of_a_workflow_or_of_a_task() -> None:
    """A publication with both is refused, from whatever language it comes."""
    publication = loom_with(add).publication()
    publication["tasks"].append({**publication["tasks"][0], "name": "l/w"})
    with inline_service() as inline:
        with pytest.raises(InvalidInput, match="l/w names a workflow and a task"):
            inline.do(Publish(who="test", **publication))
        with pytest.raises(NotFound, match="no workflow or task 'w'"):
            inline.do(StartRun("w", {}, "k", "test"))
