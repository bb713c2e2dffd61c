"""Files among params and outputs, rows that are checked, lists that are too long for a value."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from tests.files_loom import loom
from tests.fractions import broken_fractions
from yarnloom.engine.commands import (
    EndListJob,
    KeepFile,
    MendRun,
    StartRun,
    StepAction,
    Tick,
    Unchecked,
)
from yarnloom.errors import InvalidInput, StartKeyTaken
from yarnloom.store import Kept, audit
from yarnloom.testing import InlineService, inline_service, run_workflow

DAY = 86_400


@pytest.fixture
def inline() -> Any:
    """An engine with the loom of files, where lists over 2,000 bytes are files."""
    with inline_service(list_above=2_000, failures_above=3) as service:
        service.publish(loom)
        yield service
        assert audit(service.database.writer) == []
        assert broken_fractions(service.database.writer) == []


def contacts(count: int, bad: tuple[int, ...] = ()) -> bytes:
    """A CSV file; nobody can write to the bad ones."""
    lines = [f"h{n},a{n}@coast,{9 if n in bad else 1}" for n in range(count)]
    return "\n".join(["harbour,address,copies", *lines]).encode()


def hashes(inline: InlineService) -> dict[str, Any]:
    """By hash since when each file is idle."""
    return dict(inline.database.writer.execute("SELECT sha256, idle_from FROM files").fetchall())


def lists(inline: InlineService) -> list[str]:
    """Which lists were gathered."""
    found = inline.database.writer.execute("SELECT kind FROM lists ORDER BY kind").fetchall()
    return [kind for (kind,) in found]


def test_rows_of_a_file_from_the_param_to_the_end(inline: InlineService) -> None:
    """Named items, batches, long outputs as rows and as plain lists, failures, files both ways."""
    bad = (3, 20, 44, 71)
    head = inline.keep(b"The harbour office writes:", "head.txt")
    rows = inline.keep(contacts(100, bad), "contacts.csv")
    number = inline.start("letters", {"contacts": rows, "head": head})
    inline.work(loom)
    run = inline.run(number)

    assert run["state"] == "done", run["error"]
    assert run["failures_allowed"] == 4
    then = run["output"]
    assert then["weigh"] == [100, 4, 4]
    assert then["batches"] == [100]
    assert then["read"] == [then["bind"]["size"], then["bind"]["size"], 100, 100]
    text = inline.database.files.path(then["bind"]["sha256"]).read_text()
    assert text.splitlines() == [
        "The harbour office writes:",
        *(f"to h{n}" for n in range(100) if n not in bad),
    ]
    assert lists(inline) == ["all", "done", "failures"]
    # The run keeps and shows exactly what it was started with.
    shown = run["params"]["contacts"]
    assert {name: shown[name] for name in rows} == rows
    assert shown["count"] == 100
    assert inline.items(number, "write", "failed")[0]["name"] == "h3"
    assert not [sha for sha, idle in hashes(inline).items() if idle is not None]


def test_a_file_with_errors_starts_nothing(inline: InlineService) -> None:
    """Every error with its line; the file itself stays, for a while."""
    rows = inline.keep(b"harbour,address\nh1,coast\n,b@coast", "bad.csv")
    with pytest.raises(InvalidInput) as refused:
        inline.start("letters", {"contacts": rows})

    assert [str(problem) for problem in refused.value.problems] == [
        "/contacts: line 2, column 'address': found 'coast'; expected text that matches "
        "^[^@ ]+@[^@ ]+$",
        "/contacts: line 3, column 'harbour': it is empty; expected text",
    ]
    assert inline.database.writer.execute("SELECT count(*) FROM runs").fetchone() == (0,)


def test_a_file_is_checked_once(inline: InlineService) -> None:
    """And again where it is read in another way, or as other rows."""
    rows = inline.keep(contacts(3), "contacts.csv")
    inline.start("letters", {"contacts": rows})
    again = inline.do(StartRun("letters", {"contacts": rows}, "k2", "test"))
    other = inline.do(StartRun("letters", {"contacts": {**rows, "delimiter": ";"}}, "k3", "test"))

    assert not isinstance(again, Unchecked)
    assert isinstance(other, Unchecked)


def test_a_list_of_small_rows_may_be_given_as_such(inline: InlineService) -> None:
    """No file is needed then."""
    given = [{"harbour": "h1", "address": "a@b", "copies": 1}]
    number = inline.start("letters", {"contacts": given})
    inline.work(loom)
    assert inline.run(number)["output"]["weigh"] == [1, 0, 0]


def test_the_start_key_compares_files_by_their_bytes(inline: InlineService) -> None:
    """Another name is the same file, before and after it was checked; other bytes are not."""
    rows = inline.keep(contacts(3), "contacts.csv")
    number = inline.start("letters", {"contacts": rows}, key="k")
    renamed = {**rows, "name": "same.csv"}
    again = inline.do(StartRun("letters", {"contacts": renamed}, "k", "test"))
    assert (again.created, again.run.number) == (False, number)
    other = inline.keep(contacts(4), "contacts.csv")
    with pytest.raises(StartKeyTaken):
        inline.do(StartRun("letters", {"contacts": other}, "k", "test"))


@pytest.mark.parametrize(
    ("given", "problem"),
    [
        ({"sha256": "ab" * 32, "name": "x", "size": 1}, "no file with this sha256 is kept"),
        ({"sha256": "short", "name": "x", "size": 1}, "found {'sha256': 'short', 'name': 'x', "),
        ("contacts.csv", "found 'contacts.csv'; expected a file or null"),
    ],
)
def test_a_file_that_is_not_kept_is_refused(
    inline: InlineService, given: Any, problem: str
) -> None:
    """At the start, with the param."""
    with pytest.raises(InvalidInput) as refused:
        inline.start("letters", {"contacts": [], "head": given})
    (found,) = refused.value.problems
    assert found.where.startswith("/head")
    assert found.message.startswith(problem)


def test_a_file_has_the_size_that_is_said(inline: InlineService) -> None:
    """A reference that does not fit its file is a mistake."""
    kept = inline.keep(b"123", "x.txt")
    with pytest.raises(InvalidInput, match="the file has 3 bytes"):
        inline.start("copies", {"one": {**kept, "size": 4}})


def test_an_output_must_name_what_is_kept(inline: InlineService) -> None:
    """Else the attempt has failed."""
    number = inline.start("invents", {})
    inline.work(loom)
    error = inline.run(number)["error"]
    assert error["message"].startswith("the output names a file that is not kept, at /")


def test_what_no_run_uses_is_let_go_of(inline: InlineService) -> None:
    """A day later; what a run uses stays, and what was kept again meanwhile."""
    used = inline.keep(b"used", "used.txt")
    idle = inline.keep(b"idle", "idle.txt")
    inline.start("copies", {"one": used})
    inline.clock.advance(DAY * 0.75)
    late = inline.keep(b"late", "late.txt")
    inline.keep(b"idle", "idle again.txt")
    inline.clock.advance(DAY * 0.5)
    inline.do(Tick())
    assert {used["sha256"], late["sha256"], idle["sha256"]} <= hashes(inline).keys()
    inline.clock.advance(DAY)
    inline.do(Tick())

    assert used["sha256"] in hashes(inline)
    assert not {late["sha256"], idle["sha256"]} & hashes(inline).keys()
    assert inline.database.files.path(used["sha256"]).exists()
    assert not inline.database.files.path(idle["sha256"]).exists()


def test_a_checked_list_goes_with_its_file(inline: InlineService) -> None:
    """The next start with it checks anew."""
    rows = inline.keep(contacts(3), "contacts.csv")
    unchecked = inline.do(StartRun("letters", {"contacts": rows}, "k", "test"))
    inline._check(unchecked.rows[0])
    assert len(hashes(inline)) == 2
    inline.clock.advance(DAY * 1.1)
    inline.do(Tick())
    assert hashes(inline) == {}
    rows = inline.keep(contacts(3), "contacts.csv")
    assert isinstance(inline.do(StartRun("letters", {"contacts": rows}, "k", "test")), Unchecked)


# List jobs


def begin_numbers(inline: InlineService, count: int = 500, **more: Any) -> int:
    """A run of which the numbers are made; nothing beside the engine was done yet."""
    number = inline.start("numbers", {"count": count, **more})
    inline.work(loom)
    return number


def test_lists_that_steps_make(inline: InlineService) -> None:
    """Gone through by an each with names, gathered into a file, and added up from there."""
    number = begin_numbers(inline)
    assert inline.run(number)["output"] == 2 * sum(range(500))
    assert lists(inline) == ["all"]
    assert [item["name"] for item in inline.items(number, "all")][::499] == ["0", "499"]


def test_two_items_with_one_name_are_refused(inline: InlineService) -> None:
    """Both positions are told."""
    number = begin_numbers(inline, repeat=True)
    error = inline.run(number)["error"]
    assert error["message"] == "items 499 and 500 have the same name, '499'"
    assert inline.items(number, "all") == []


def test_why_tells_of_list_jobs(inline: InlineService, monkeypatch: pytest.MonkeyPatch) -> None:
    """While they are done, before the items are made, and when all are over."""
    number = inline.start("numbers", {"count": 500})
    seen: list[str] = []
    do_list_jobs = inline.do_list_jobs

    def look_and_do() -> Any:
        seen.extend(
            reason["text"] for wait in inline.why(number)["waits"] for reason in wait["reasons"]
        )
        return do_list_jobs()

    monkeypatch.setattr(inline, "do_list_jobs", look_and_do)
    inline.work(loom)
    assert "its list is looked through" in seen
    assert "the outputs of its 500 items are put together in a file" in seen


def test_list_jobs_survive_the_service(
    inline: InlineService, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What was asked for before a kill is asked for again; what comes late changes nothing."""
    number = inline.start("numbers", {"count": 500})
    do_list_jobs = inline.do_list_jobs
    kinds: list[str] = []

    def crash_before_each() -> Any:
        lost = list(inline.list_jobs)
        kinds.extend(list_job.kind for list_job in lost)
        inline.restart()
        inline.do(Tick())
        assert [list_job.facts for list_job in inline.list_jobs] == [
            list_job.facts for list_job in lost
        ]
        inline.do(EndListJob(lost[0].part, 999, {}, "from another life"))
        return do_list_jobs()

    monkeypatch.setattr(inline, "do_list_jobs", crash_before_each)
    while inline.run(number)["state"] != "done":
        inline.work(loom)
    assert inline.run(number)["output"] == 2 * sum(range(500))
    assert kinds == ["read", "gather"]


def test_a_mended_run_gathers_anew(inline: InlineService) -> None:
    """What the each gave before is void."""
    bad = (3, 20, 44, 71)
    rows = inline.keep(contacts(100, bad), "contacts.csv")
    number = inline.start("letters", {"contacts": rows})
    inline.work(loom)
    write = loom.tasks["write"]
    original = write.function
    try:
        write.function = lambda contact: f"to {contact.harbour}{'.' * 300}"
        inline.do(MendRun(number, "test"))
        inline.work(loom)
    finally:
        write.function = original
    run = inline.run(number)
    assert (run["state"], run["failures_allowed"]) == ("done", 0)
    assert run["output"]["weigh"] == [100, 0, 0]


def test_items_to_come_are_listed_from_the_file(inline: InlineService) -> None:
    """Also far ahead, and by name."""
    rows = inline.keep(contacts(2_000), "contacts.csv")
    number = inline.start("letters", {"contacts": rows})
    inline.do_list_jobs()
    page = inline.items(number, "write")
    assert [one["name"] for one in page] == [f"h{n}" for n in range(2_000)]
    assert page[1_999]["state"] == "waiting"
    assert inline.graph(number, "write[h1999]")["parts"][0]["state"] == "waiting"


def test_keeping_the_same_again_is_one_file(inline: InlineService) -> None:
    """By its bytes; each keeps its own name in what refers to it."""
    first, second = inline.keep(b"x", "one.txt"), inline.keep(b"x", "two.txt")
    assert first["sha256"] == second["sha256"]
    assert (first["name"], second["name"]) == ("one.txt", "two.txt")
    assert len(hashes(inline)) == 1


def test_a_step_that_saves_a_file_uses_it(inline: InlineService) -> None:
    """Even where it does not return it."""
    number = inline.start("copies", {"one": inline.keep(b"x", "x.txt")})
    inline.work(loom)
    (attempt,) = inline.step(number, "copy")["attempts"]
    kept = inline.keep(b"y", "y.txt")
    inline.do(KeepFile(Kept(kept["sha256"], 1), "y.txt", "text/plain", "w", attempt["id"]))
    assert hashes(inline)[kept["sha256"]] is None


def test_files_given_by_hand_are_kept_ones(inline: InlineService) -> None:
    """A supplied output, or an edited input, names what is kept; the run uses it then."""
    one, other = inline.keep(b"one", "one.txt"), inline.keep(b"other", "other.txt")
    number = inline.start("copies", {"one": one})
    place = inline.place(number, "copy")
    missing = {**other, "sha256": "ab" * 32}
    for action, given in (("supply", {"output": missing}), ("edit", {"inputs": {"one": missing}})):
        with pytest.raises(InvalidInput, match="no file with this sha256"):
            inline.do(StepAction(number, **place._asdict(), action=action, who="test", **given))
    inline.do(
        StepAction(number, **place._asdict(), action="edit", who="test", inputs={"one": other})
    )
    inline.work(loom)

    assert inline.run(number)["output"]["sha256"] == other["sha256"]
    walk = inline.start("walks", {"rows": [1], "folder": ""})
    place = inline.place(walk, "walk")
    rows = inline.keep(b"1", "rows.jsonl")
    with pytest.raises(InvalidInput, match="checked at a start only"):
        inline.do(
            StepAction(walk, **place._asdict(), action="edit", who="test", inputs={"rows": rows})
        )


def test_files_in_the_users_own_tests(tmp_path: Path) -> None:
    """`run_workflow` takes paths, and gives the bytes of what was kept."""
    path = tmp_path / "tides.txt"
    path.write_text("high at six")
    run = run_workflow(loom, "copies", one=path)
    assert run.output["name"] == "copy of tides.txt"
    assert run.read(run.output) == b"high at six"
    listed = run_workflow(loom, "numbers", count=10)
    assert listed.output == 90
    assert json.dumps(listed.data["params"]) == '{"count": 10, "repeat": false}'
