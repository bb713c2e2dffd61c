"""Files of real offices: bad rows set aside, encodings, decimal commas, forgiving headers."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import BaseModel

from yarnloom.row_options import bad_limit, option_problems
from yarnloom.side_process.long_lists import CheckedRows, RefusedRows, check_rows, preview_rows
from yarnloom.store import FileFolder, Kept


class Reading(BaseModel):
    """One row."""

    harbour: str
    level: float
    count: int = 1
    note: str | None = None


SCHEMA = Reading.model_json_schema()


class Folder:
    """A folder of files."""

    def __init__(self, path: Path) -> None:
        self.files = FileFolder(path)

    def keep(self, data: bytes, name: str = "levels.csv", **options: Any) -> dict[str, Any]:
        with self.files.incoming() as incoming:
            incoming.write(data)
            kept = Kept(*incoming.finish())
        return {"sha256": kept.sha256, "name": name, "media_type": "", **options}

    def check(self, data: bytes, name: str = "levels.csv", **options: Any) -> Any:
        source = self.keep(data, name, **options)
        return check_rows(self.files, source, SCHEMA, lambda _: None)

    def rows(self, found: CheckedRows) -> list[dict[str, Any]]:
        return [json.loads(line) for line in self.files.lines(found.kept.sha256)]

    def bad(self, found: CheckedRows) -> bytes:
        return self.files.path(found.facts["bad_rows"]["sha256"]).read_bytes()


@pytest.fixture
def folder(tmp_path: Path) -> Folder:
    """An empty one."""
    return Folder(tmp_path)


OFFICE = (
    "Harbour ;LEVEL;count;note\r\n"
    "Köge;1.234,5;3;\r\n"
    "Brackwater;viel;2;=SUM(A1)\r\n"
    "Saltmere;-0,25;1.000;ja\r\n"
).encode("cp1252")
READ = {"encoding": "cp1252", "decimal": ",", "thousands": ".", "delimiter": ";"}


def test_an_office_s_file_is_read_as_it_is_written(folder: Folder) -> None:
    """Its letters, its decimal comma and its thousands; headers in any case, with spaces."""
    checked = folder.check(OFFICE, bad="collect", **READ)

    assert folder.rows(checked) == [
        {"harbour": "Köge", "level": 1234.5, "count": 3, "note": None},
        {"harbour": "Saltmere", "level": -0.25, "count": 1000, "note": "ja"},
    ]
    assert checked.facts["bad_count"] == 1
    assert folder.bad(checked).decode("cp1252").splitlines() == [
        "Harbour ;LEVEL;count;note;yarnloom.line;yarnloom.reason",
        "Brackwater;viel;2;'=SUM(A1);3;level: found 'viel'; expected a number",
    ] or '"' in folder.bad(checked).decode("cp1252")


def test_the_bad_file_corrected_by_hand_goes_in_with_the_same_options(folder: Folder) -> None:
    """Added marks are taken out, and a cell's own apostrophe stays."""
    checked = folder.check(OFFICE, bad="collect", **READ)
    corrected = folder.bad(checked).replace(b"viel", b"2,5")
    again = folder.check(corrected, bad="collect", **READ)

    assert folder.rows(again) == [
        {"harbour": "Brackwater", "level": 2.5, "count": 2, "note": "=SUM(A1)"}
    ]
    assert "bad_count" not in again.facts


@settings(max_examples=60, deadline=None)
@given(st.lists(st.tuples(st.text("=+-@' \taä;\"\n", max_size=4), st.booleans()), max_size=12))
def test_nothing_is_lost_between_both_files(
    tmp_path_factory: pytest.TempPathFactory, given_rows: list[tuple[str, bool]]
) -> None:
    """Good and bad rows together are the source's, in every cell."""
    import csv
    import io

    folder = Folder(tmp_path_factory.mktemp("f"))
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(["harbour", "level", "note"])
    writer.writerows(
        [f"h{i}", "1" if good else "x", note] for i, (note, good) in enumerate(given_rows)
    )
    checked = folder.check(text.getvalue().encode(), bad="collect")
    if not any(good for _, good in given_rows) and given_rows:
        assert isinstance(checked, RefusedRows)
        return
    rows = folder.rows(checked)
    if any(not good for _, good in given_rows):
        again = folder.check(folder.bad(checked).replace(b",x,", b",1,"), bad="collect")
        rows += folder.rows(again)

    notes = {row["harbour"]: row["note"] or "" for row in rows}
    assert notes == {f"h{i}": note for i, (note, _) in enumerate(given_rows)}


def test_lines_that_are_not_json_come_back_as_they_were(folder: Folder) -> None:
    """Of JSON Lines objects keep their fields; anything else its text."""
    data = b'{"harbour": "a", "level": 1}\n{"harbour": "b"}\nnonsense\n[1]\n'
    checked = folder.check(data, "levels.jsonl", bad="collect")
    lines = [json.loads(line) for line in folder.bad(checked).splitlines()]
    assert lines[0]["harbour"] == "b"
    assert [one.get("yarnloom.value") for one in lines[1:]] == ["nonsense", "[1]"]
    assert [one["yarnloom.line"] for one in lines] == [2, 3, 4]

    mended = folder.bad(checked).replace(b'"harbour": "b"', b'"harbour": "b", "level": 2')
    again = folder.check(mended, "levels.jsonl", bad="collect")
    assert [row["harbour"] for row in folder.rows(again)] == ["b"]
    assert again.facts["bad_count"] == 2


@pytest.mark.parametrize(
    ("limit", "refused"), [("50%", False), ("33.33%", True), (1, False), (0, True), ("1", False)]
)
def test_more_bad_rows_than_may_be_are_refused(folder: Folder, limit: Any, refused: bool) -> None:
    """By count or share of all; the message says how many there are."""
    checked = folder.check(OFFICE, bad="collect", at_most_bad=limit, **READ)

    assert isinstance(checked, RefusedRows) is refused
    if refused:
        assert "1 of 3 rows are bad; at most" in str(checked.problems[0])


def test_every_error_is_counted_and_the_first_are_shown(folder: Folder) -> None:
    """To the end of the file."""
    data = b"harbour,level\n" + b"a,x\n" * 500
    checked = folder.check(data)
    assert (len(checked.problems), checked.errors) == (20, 500)

    none_good = folder.check(data, bad="collect")
    assert "no row of it is good" in str(none_good.problems[0])


def test_where_a_row_begins_is_known(folder: Folder) -> None:
    """Behind a cell of several lines, an empty line and a bad row."""
    plain = folder.check(b"harbour,level\na,1\nb,2\n")
    assert plain.facts == {"first_line": 2}
    data = b'harbour,level\n"a\nb",1\n\nc,2\nd,x\ne,3\nf,4\n'
    checked = folder.check(data, bad="collect")
    pairs = [json.loads(line) for line in folder.files.lines(checked.facts["lines"])]

    assert pairs == [[0, 2], [1, 5], [2, 7]]


@pytest.mark.parametrize(
    ("data", "options", "words"),
    [
        (OFFICE, {}, "give that as the delimiter"),
        (OFFICE, {"delimiter": ";"}, "Give the encoding cp1252"),
        (b'harbour,level\na,"1,5"\n', {}, 'give the decimal mark ","'),
        ("harbour,level\na,1\n".encode("utf-16"), {}, "give the encoding utf-16"),
        (b"harbour,level\na,1.5\n", {"decimal": ",", "delimiter": ","}, "expected a number"),
        (b"harbour;level\na;12.34,5\n", {**READ, "encoding": "utf-8"}, "expected a number"),
        (b"harbour,Level,LEVEL\na,1,2\n", {}, "two columns have this name"),
    ],
)
def test_a_message_names_the_option_to_give(
    folder: Folder, data: bytes, options: dict[str, Any], words: str
) -> None:
    """So that the next try goes."""
    checked = folder.check(data, **options)

    assert isinstance(checked, RefusedRows)
    assert any(words in str(problem) for problem in checked.problems), checked.problems


def test_other_encodings(folder: Folder) -> None:
    """UTF-16 with its mark; a remark where bytes look like another one."""
    data = "harbour,level\nKöge,1\n"
    checked = folder.check(data.encode("utf-16"), encoding="utf-16")
    assert folder.rows(checked)[0]["harbour"] == "Köge"
    wrong = folder.check(data.encode(), encoding="latin-1")
    assert "look like UTF-8" in wrong.facts["remark"]
    assert isinstance(folder.check(b"\xff\xfeh\0x", encoding="utf-16"), RefusedRows)


@pytest.mark.parametrize("encoding", ["utf-8", "utf-16-le", "utf-16-be"])
def test_utf_16_without_its_mark_is_refused_in_words(folder: Folder, encoding: str) -> None:
    """Python's error there has no reason of its own."""
    data = "harbour,level\nsaltmere,1\n".encode(encoding)
    checked = folder.check(data, encoding="utf-16")
    assert isinstance(checked, RefusedRows)
    assert "byte-order mark" in str(checked)


def test_a_preview_shows_the_first_rows_and_the_bad_ones(folder: Folder) -> None:
    """Nothing is kept."""
    checked = preview_rows(folder.files, folder.keep(OFFICE, **READ), SCHEMA)

    assert [row["harbour"] for row in checked["rows"]] == ["Köge", "Saltmere"]
    assert (checked["good"], checked["bad"], checked["whole"]) == (2, 1, True)
    assert checked["problems"][0]["line"] == 3


def test_options_that_contradict_each_other_are_refused() -> None:
    """Each with the value that was found."""
    assert [problem.where for problem in option_problems({"decimal": ",", "thousands": ","})] == [
        "/thousands"
    ]
    assert [problem.where for problem in option_problems({"at_most_bad": "many"})] == [
        "/at_most_bad"
    ] * 2
    assert option_problems({"bad": "collect", "at_most_bad": "5%"}) == []
    with pytest.raises(ValueError, match='share as "5%"'):
        bad_limit("101%")
