"""Files and rows as a task's unit test has them: no service, no worker."""

from __future__ import annotations

from pathlib import Path

import pytest
from pydantic import BaseModel, TypeAdapter, ValidationError

from tests.files_loom import Contact, add_up, bind, copy_file, loom, make_numbers, write
from yarnloom import File, Loom, Rows, Secret, StepContext, each, item, param, sequence, step
from yarnloom.errors import PlanError, ValueRefused
from yarnloom.media_types import named_in
from yarnloom.plan.marked_values import as_given, files_in, rows_in, with_loaded
from yarnloom.plan.schemas import Fit, describe, fit, items_schema
from yarnloom.plan.value_problems import problems_of
from yarnloom.testing import run_workflow
from yarnloom.worker.child.call_task import call_task

LIST = {"list": "cd" * 32, "count": 3, "size": 9}
FILE = {"sha256": "ab" * 32, "name": "x.csv", "media_type": "text/csv", "size": 9}


def test_a_task_with_rows_is_called_with_a_list() -> None:
    """Or with `Rows`; what it keeps can be read in the same test."""
    letters = [write(Contact(harbour=name, address="a@b")) for name in ("brackwater", "saltmere")]
    kept = bind(StepContext(), Rows(letters), None)
    assert kept.read_text() == "no head\nto brackwater\nto saltmere"
    assert (kept.name, kept.media_type, kept.size) == ("letters.txt", "text/plain", 33)
    assert bind(StepContext(), letters, kept).read_text().startswith("no head\nto brackwater")  # type: ignore[arg-type]


def test_runs_in_the_same_process_change_nothing_for_plain_calls() -> None:
    """A test may call a task after it ran a workflow, also one that failed."""
    assert run_workflow(loom, "numbers", count=3).state == "done"
    assert run_workflow(loom, "invents").state == "failed"
    kept = StepContext().save_file(b"ebb", "ebb.txt")
    assert kept.read_bytes() == b"ebb"


def test_rows_are_kept_and_gone_through(tmp_path: Path) -> None:
    """From the beginning, from a place, by index and slice."""
    rows = make_numbers(StepContext(), 1_000, repeat=False)
    assert (len(rows), list(rows)[::333], rows[5], rows[-1]) == (1_000, [0, 333, 666, 999], 5, 999)
    assert list(rows[10:13]) == [10, 11, 12]
    assert list(rows.starting_at(997)) == [997, 998, 999]
    assert add_up(rows) == 499_500
    with pytest.raises(IndexError, match="row 1000 of 1,000"):
        rows[1_000]
    with pytest.raises(ValueRefused, match="row 1 is not JSON"):
        StepContext().save_rows([1, float("nan")])


def test_a_path_or_bytes_become_a_file(tmp_path: Path) -> None:
    """With the type that the name's ending suggests, or a given one."""
    path = tmp_path / "tides.csv"
    path.write_text("a\n1\n")
    ctx = StepContext()
    by_path, by_bytes = ctx.save_file(path), ctx.save_file(b"a\n1\n", "same.csv", "text/plain")
    assert (by_path.name, by_path.media_type) == ("tides.csv", "text/csv")
    assert by_bytes.media_type == "text/plain"
    assert by_path.sha256 == by_bytes.sha256
    assert copy_file(ctx, by_path).read_bytes() == by_path.open().read() == b"a\n1\n"
    with by_path.open("r") as text:
        assert text.readlines() == ["a\n", "1\n"]
    with pytest.raises(ValueError, match="'rb' or 'r'"):
        by_path.open("w")  # type: ignore[call-overload]


def test_track_goes_on_in_rows_by_position() -> None:
    """Without looking at what stands before."""
    rows = make_numbers(StepContext(), 10, repeat=False)
    saved = {"places": {"": {"at": 7}}}
    assert list(StepContext(saved=saved).track(rows)) == [7, 8, 9]


def test_the_types_of_files_and_rows() -> None:
    """As JSON Schema says them, so that connected steps are compared."""
    rows = TypeAdapter(Rows[Contact]).json_schema()
    numbers = TypeAdapter(Rows[int]).json_schema()
    file = TypeAdapter(File).json_schema()
    ints = {"type": "array", "items": {"type": "integer"}}

    assert fit(numbers, ints) is fit(ints, numbers) is Fit.FITS
    assert fit(numbers, {"type": "string"}) is Fit.CANNOT
    assert fit(file, file) is Fit.FITS
    assert fit(file, numbers) is Fit.CANNOT
    assert items_schema(rows)["required"] == ["harbour", "address"]
    assert describe(file) == "a file"
    assert problems_of(FILE, file) == problems_of(FILE, rows) == problems_of(LIST, rows) == []
    assert problems_of([1], numbers) == []
    assert problems_of(["a"], numbers) != []
    with pytest.raises(ValidationError, match="have not been checked"):
        TypeAdapter(Rows[int]).validate_python(FILE)


def test_what_a_schema_marks_is_found_wherever_it_stands() -> None:
    """Nested, in lists, and where it may be null."""
    schema = {
        "type": "object",
        "properties": {
            "pages": {"type": "array", "items": {"$ref": "#/$defs/File"}},
            "rows": {"anyOf": [TypeAdapter(Rows[int]).json_schema(), {"type": "null"}]},
            "plain": {"type": "array"},
        },
        "$defs": {"File": TypeAdapter(File).json_schema()},
    }
    value = {"pages": [FILE, FILE], "rows": {**FILE, "list": "cd" * 32, "count": 3}, "plain": LIST}

    assert [at for at, _, _ in files_in(value, schema)] == ["/pages/0", "/pages/1"]
    assert [at for at, _, _ in rows_in(value, schema)] == ["/rows"]
    assert list(rows_in({"rows": None}, schema)) == []
    loaded = with_loaded(value, schema, lambda one: [1] if "list" in one else one)
    assert (loaded["plain"], loaded["rows"]) == ([1], value["rows"])
    assert as_given(value, schema)["rows"] == {"sha256": FILE["sha256"]}
    assert named_in('{"sha256":"' + "ab" * 32 + '","x":{"list":"' + "cd" * 32 + '"}}') == {
        "ab" * 32,
        "cd" * 32,
    }


def test_rows_hold_no_secrets() -> None:
    """Nothing would seal them; found when the loom is checked."""
    loom = Loom("secretive")

    @loom.task
    def send(tokens: list[dict[str, str]]) -> int:
        return len(tokens)

    class Key(BaseModel):
        token: Secret[str]

    class Keys(BaseModel):
        keys: Rows[Key]

    loom.workflow("send", params=Keys, plan=step("send", send, tokens=param("keys")))
    _, problems = loom.examine()
    assert str(problems[0]) == ("send.params: rows cannot hold a Secret: they are kept as they are")


def test_a_loom_is_checked_with_its_files() -> None:
    """Wrong connections are found before anything runs."""
    loom = Loom("checked")

    @loom.task
    def read(file: File) -> int:
        return file.size

    @loom.task
    def add(number: int) -> int:
        return number

    class Params(BaseModel):
        rows: Rows[Contact]

    loom.workflow(
        "wrong",
        params=Params,
        plan=sequence(
            each("all", over=param("rows"), do=step("add", add, number=item("harbour"))),
            step("read", read, file=3),
            each("none", over=param("rows"), do=step("add", add, number=item("copise"))),
        ),
    )
    with pytest.raises(PlanError) as found:
        loom.check()
    texts = [str(problem) for problem in found.value.problems]
    assert texts[0] == "wrong/all/add.number: item('harbour') is text; expected an integer"
    assert texts[1] == "wrong/read.file: found 3; expected a file"
    assert "did you mean 'copies'?" in texts[2]


def test_an_input_without_a_list_is_not_gone_through(monkeypatch: pytest.MonkeyPatch) -> None:
    """Walking a large one by its schema would cost each attempt far more than checking it."""
    monkeypatch.setattr("yarnloom.worker.child.call_task.with_loaded", lambda *_: 1 / 0)
    task = loom.tasks["count_contacts"]
    rows = [{"harbour": "saltmere", "address": "a@b", "copies": 1}] * 100

    assert call_task(task, {"contacts": rows}, StepContext()).output == 100
    with pytest.raises(ZeroDivisionError):
        call_task(task, {"contacts": LIST}, StepContext())
