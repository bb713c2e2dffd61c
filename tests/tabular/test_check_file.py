"""Files of rows, well formed and not: read as Python's csv module does, or refused by line."""

from __future__ import annotations

import csv
import io
import json
from datetime import date
from pathlib import Path
from typing import Any, Literal

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import BaseModel, Field

from yarnloom.tabular import Dialect, RowCheck, dialect_of
from yarnloom.tabular.check_file import ERRORS_TOLD


class Letter(BaseModel):
    """One row."""

    harbour: str = Field(min_length=1)
    address: str = Field(pattern=r"^[^@ ]+@[^@ ]+$")
    copies: int = Field(1, ge=1, le=9)
    since: date | None = None
    tongue: Literal["low", "high"] = "low"
    depth: float | None = None
    urgent: bool = False


SCHEMA = Letter.model_json_schema()
HEAD = "harbour,address"


def check(
    tmp_path: Path, data: str | bytes, name: str = "letters.csv", delimiter: str | None = None
) -> tuple[list[Any], list[str]]:
    """The rows, and what is wrong."""
    path = tmp_path / "file"
    path.write_bytes(data.encode() if isinstance(data, str) else data)
    checked = RowCheck(path, dialect_of(name, "", delimiter), SCHEMA)
    rows = [json.loads(text) for text in checked.texts()]
    return rows, [str(problem) for problem in checked.problems]


def harbours(rows: list[Any]) -> list[str]:
    """What stands first in each."""
    return [row["harbour"] for row in rows]


@pytest.mark.parametrize(
    ("data", "expected"),
    [
        ("harbour,address\na,x@y\nb,x@y\n", ["a", "b"]),
        ("harbour,address\na,x@y\nb,x@y", ["a", "b"]),
        ("harbour,address\r\na,x@y\r\nb,x@y\r\n", ["a", "b"]),
        ("harbour,address\ra,x@y\rb,x@y", ["a", "b"]),
        ("\ufeffharbour,address\na,x@y\n", ["a"]),
        ("harbour,address\n\na,x@y\n\n\nb,x@y\n\n", ["a", "b"]),
        ('harbour,address\n"a\nb",x@y\n', ["a\nb"]),
        ('harbour,address\n"a ""b"", c",x@y\n', ['a "b", c']),
        ("address,harbour\nx@y,a\n", ["a"]),
        ("harbour,address\n", []),
        ("harbour,address,never heard of\na,x@y,1\n", ["a"]),
    ],
    ids=[
        *("plain", "no last newline", "CRLF", "CR", "byte-order mark", "empty lines"),
        *("quoted newline", "quotes", "columns in another order", "header only", "unknown column"),
    ],
)
def test_what_practitioners_bring(tmp_path: Path, data: str, expected: list[str]) -> None:
    """As their programs write it."""
    rows, problems = check(tmp_path, data)
    assert problems == []
    assert harbours(rows) == expected


@pytest.mark.parametrize(("mark", "name"), [(";", "x.csv"), ("\t", "x.tsv"), ("|", "x.csv")])
def test_other_delimiters(tmp_path: Path, mark: str, name: str) -> None:
    """By option, and tabs also by the name's ending."""
    given_mark = None if name.endswith("tsv") else mark
    rows, problems = check(tmp_path, f"harbour{mark}address\na,b{mark}x@y\n", name, given_mark)
    assert (harbours(rows), problems) == (["a,b"], [])


def test_cells_become_what_the_model_says(tmp_path: Path) -> None:
    """By its JSON Schema; an empty cell is null, or the default, where there is one."""
    head = "harbour,address,copies,since,tongue,depth,urgent"
    rows, problems = check(
        tmp_path, f"{head}\na,x@y, 3 ,2027-01-31,high,2.50,Yes\nb,x@y,,,,,\nc,x@y,1,,low,7,0\n"
    )
    assert problems == []
    names = head.split(",")
    assert rows == [
        dict(zip(names, ["a", "x@y", 3, "2027-01-31", "high", 2.5, True], strict=True)),
        dict(zip(names, ["b", "x@y", 1, None, "low", None, False], strict=True)),
        dict(zip(names, ["c", "x@y", 1, None, "low", 7, False], strict=True)),
    ]


@pytest.mark.parametrize(
    ("cells", "problem"),
    [
        (",x@y", "line 2, column 'harbour': it is empty; expected text"),
        ("a,xy", "line 2, column 'address': found 'xy'; expected text that matches"),
        ("a,x@y,10", "line 2: found 3 cells; the header has 2"),
        ("a", "line 2: found 1 cell; the header has 2"),
        ('a,"x@y"z', "line 2: text behind a closing quote"),
        ('"a,x@y', "line 2: a quote is opened and never closed"),
    ],
)
def test_what_is_wrong_is_said_with_its_line(tmp_path: Path, cells: str, problem: str) -> None:
    """And its column, where it is in one."""
    rows, (checked,) = check(tmp_path, f"{HEAD}\n{cells}\n")
    assert rows == []
    assert checked.startswith(problem)


@pytest.mark.parametrize(
    ("cell", "problem"),
    [
        ("copies=ten", "found 'ten'; expected an integer"),
        ("copies=10", "found 10; expected at most 9"),
        ("copies=1.0", "found '1.0'; expected an integer"),
        ("since=2027-02-30", "found '2027-02-30'; expected text with the format date or null"),
        ("tongue=middle", "found 'middle'; expected 'low' or 'high'"),
        ("depth=3,5", "found '3,5'; expected a number or null; give the decimal mark \",\""),
        ("depth=1e999", "found '1e999'; expected a number or null"),
        ("urgent=maybe", "found 'maybe'; expected true or false"),
    ],
)
def test_a_cell_that_does_not_fit(tmp_path: Path, cell: str, problem: str) -> None:
    """Found and expected, in words."""
    column, _, text = cell.partition("=")
    _, (checked,) = check(tmp_path, f'{HEAD},{column}\na,x@y,"{text}"\n')
    assert checked == f"line 2, column {column!r}: {problem}"


@pytest.mark.parametrize(
    ("data", "problem"),
    [
        ("", "the file: it is empty; expected a line with columns"),
        ("harbor,address\na,x@y", "line 1, column 'harbor': there is no such column; did you mean"),
        ("harbour\na", "line 1, column 'address': this column is missing; expected text"),
        ("harbour,harbour,address\n", "line 1, column 'harbour': two columns have this name"),
        ("harbour,,address\n", "line 1: column 2 has no name"),
        ("harbour;address\na;x@y", "line 1: the columns look separated by semicolons; give that"),
        (
            b"\xff\xfeh\0",
            "the file: it is encoded in UTF-16 (little endian); give the encoding utf-16",
        ),
        (
            b"\xfe\xff\0h",
            "the file: it is encoded in UTF-16 (big endian); give the encoding utf-16",
        ),
        (b"h\0a\0r\0b\0", "the file: it is no text, or encoded in UTF-16 without a byte-order"),
        (b"harbour,address\nS\xfcd,x@y\n", "line 2: found the byte 0xFC, which is not UTF-8; it"),
        (b"PK\x03\x04...", "the file: it is a ZIP archive, or a spreadsheet (.xlsx, .ods); save"),
        (b"\x89PNG\r\n", "the file: it is a picture (PNG); save it as CSV or JSON Lines, in UTF-8"),
        ("harbour,address\na\0,x@y\n", "line 2: found a zero byte; is it text in UTF-8?"),
    ],
)
def test_a_file_that_cannot_be_used(tmp_path: Path, data: str | bytes, problem: str) -> None:
    """Named for what it is, with what to do."""
    rows, problems = check(tmp_path, data)
    assert rows == []
    assert problems[0].startswith(problem)


@pytest.mark.parametrize("name", ["wide.csv", "wide.jsonl"])
def test_what_has_no_end_fills_no_memory(tmp_path: Path, name: str) -> None:
    """A line of many megabytes, and a header of many columns, are refused for what they are."""
    _, (checked,) = check(tmp_path, "x" * 5_000_000, name)
    assert checked.startswith("line 1: a line is longer than 1,048,576 bytes")
    if name == "wide.csv":
        _, (checked,) = check(tmp_path, ",".join(f"c{n}" for n in range(100_000)), name)
        assert checked == "line 1: found 100,000 columns; at most 1,000 are read"


def test_the_first_twenty_errors_are_told(tmp_path: Path) -> None:
    """With the right lines although cells have line ends; and no row is given behind the first."""
    lines = ["harbour,address", "good,x@y", *('"two\nlines",nowhere' for _ in range(30))]
    rows, problems = check(tmp_path, "\n".join(lines))
    assert harbours(rows) == ["good"]
    assert len(problems) == ERRORS_TOLD
    assert [problem.split(",")[0] for problem in problems] == [
        f"line {3 + 2 * n}" for n in range(20)
    ]


def test_columns_that_are_not_used_are_known(tmp_path: Path) -> None:
    """They are left out; one that is nearly a field's name is refused instead."""
    path = tmp_path / "file"
    path.write_text("harbour,address,remarks\na,x@y,none\n")
    checked = RowCheck(path, Dialect("csv"), SCHEMA)
    (text,) = checked.texts()
    assert json.loads(text).keys() == SCHEMA["properties"].keys()
    assert checked.unused == ["remarks"]


def test_json_lines(tmp_path: Path) -> None:
    """With a mark, empty lines and no last line end; integers stay exact; faults have lines."""
    big = 2**70
    first = f'{{"harbour":"a","address":"x@y","more":{big}}}'
    good = f'\ufeff{first}\n\n{{"harbour":"b","address":"x@y"}}'
    rows, problems = check(tmp_path, good, "letters.jsonl")
    assert problems == []
    assert harbours(rows) == ["a", "b"]
    assert rows[0]["more"] == big
    bad = '{"harbour":"a"}\n{"harbour":1,"address":"x@y"}\n[1]\n{"a": NaN}\n{"harbour"\n'
    _, problems = check(tmp_path, bad, "letters.ndjson")
    assert [problem.partition(": ")[0] for problem in problems] == [
        "line 1, column 'address'",
        "line 2, column 'harbour'",
        "line 3",
        "line 4",
        "line 5",
    ]


def test_rows_need_not_be_objects(tmp_path: Path) -> None:
    """In JSON Lines; a CSV file has columns, and says so."""
    path = tmp_path / "file"
    path.write_text("1\n2\n[3]\n")
    either = {"anyOf": [{"type": "integer"}, {"type": "array"}]}
    checked = RowCheck(path, Dialect("json-lines"), either)
    assert list(checked.texts()) == ["1", "2", "[3]"]
    checked = RowCheck(path, Dialect("csv"), {"type": "integer"})
    assert list(checked.texts()) == []
    assert "a CSV file has rows with columns; expected an integer" in str(checked.problems[0])


def test_what_a_model_says_beside_its_fields(tmp_path: Path) -> None:
    """Nested models in cells as JSON, and keywords that only the schema library knows."""
    schema = {
        "type": "object",
        "properties": {"at": {"$ref": "#/$defs/At"}, "name": {"type": "string"}},
        "required": ["name"],
        "dependentRequired": {"name": ["at"]},
        "$defs": {"At": {"type": "object", "properties": {"x": {"type": "integer"}}}},
    }
    path = tmp_path / "file"
    path.write_text('name,at\na,"{""x"": 1}"\nb,"{""x"": true}"\n')
    checked = RowCheck(path, Dialect("csv"), schema)
    assert list(checked.texts()) == ['{"name":"a","at":{"x":1}}']
    assert str(checked.problems[0]).startswith("line 3, column 'at': ")
    path.write_text('{"name":"a"}\n')
    checked = RowCheck(path, Dialect("json-lines"), schema)
    assert (list(checked.texts()), len(checked.problems)) == ([], 1)


# Any dialect, any damage

TEXT = st.text(
    st.characters(exclude_categories=["Cs"], exclude_characters="\0"), min_size=1, max_size=8
)
ANY_SCHEMA = {
    "type": "object",
    "properties": {"name": {"type": "string"}, "text": {"type": "string"}},
    "required": ["name", "text"],
}


def written(rows: list[dict[str, str]], mark: str, ending: str, quoting: Any) -> str:
    """Rows as Python writes them."""
    text = io.StringIO()
    writer = csv.DictWriter(
        text, ["name", "text"], delimiter=mark, lineterminator=ending, quoting=quoting
    )
    writer.writeheader()
    writer.writerows(rows)
    return text.getvalue()


@settings(max_examples=100, deadline=None)
@given(
    st.lists(st.fixed_dictionaries({"name": TEXT, "text": TEXT}), max_size=6),
    st.sampled_from([",", ";", "\t", "|"]),
    st.sampled_from(["\n", "\r\n"]),
    st.sampled_from([csv.QUOTE_MINIMAL, csv.QUOTE_ALL, csv.QUOTE_NONNUMERIC]),
    st.booleans(),
    st.booleans(),
)
def test_any_dialect_is_read_as_the_csv_module_reads_it(
    tmp_path_factory: pytest.TempPathFactory,
    rows: list[dict[str, str]],
    mark: str,
    ending: str,
    quoting: Any,
    bom: bool,
    cut: bool,
) -> None:
    """Whatever stands in the cells."""
    text = written(rows, mark, ending, quoting)
    text = text.removesuffix(ending) if cut else text
    path = tmp_path_factory.getbasetemp() / "any.csv"
    path.write_bytes((b"\xef\xbb\xbf" if bom else b"") + text.encode())
    checked = RowCheck(path, Dialect("csv", mark), ANY_SCHEMA)
    expected = list(csv.DictReader(io.StringIO(text, newline=""), delimiter=mark))

    given_rows = [json.loads(one) for one in checked.texts()]
    # A lone CR in a cell that Python does not quote is a line's end for whoever reads it.
    torn = next((place for place, row in enumerate(expected) if None in row.values()), None)

    assert given_rows == expected[:torn]
    assert bool(checked.problems) == (torn is not None)


@settings(max_examples=100, deadline=None)
@given(
    st.lists(st.fixed_dictionaries({"name": TEXT, "text": TEXT}), min_size=1, max_size=6),
    st.sampled_from(["surplus", "missing", "quote", "bytes", "cut quote", "zero"]),
    st.integers(0, 5),
)
def test_any_damage_is_refused_with_its_line(
    tmp_path_factory: pytest.TempPathFactory, rows: list[dict[str, str]], damage: str, place: int
) -> None:
    """The first error is the damage, and its line that where the row begins."""
    place %= len(rows)
    pieces = [written(rows[:0], ",", "\n", csv.QUOTE_ALL).encode()]
    head = len(pieces[0])
    pieces += [written([row], ",", "\n", csv.QUOTE_ALL).encode()[head:] for row in rows]
    whole = pieces[place + 1]
    pieces[place + 1] = {
        "surplus": whole[:-1] + b',"more"\n',
        "missing": b'"a"\n',
        "quote": b'"a"b,"c"\n',
        "bytes": b'"a\xff","b"\n',
        "cut quote": b'"a","b\n',
        "zero": b'"a\0","b"\n',
    }[damage]
    if damage == "cut quote":
        del pieces[place + 2 :]
    path = tmp_path_factory.getbasetemp() / "damaged.csv"
    path.write_bytes(b"".join(pieces))
    checked = RowCheck(path, Dialect("csv"), ANY_SCHEMA)
    given_rows = [json.loads(text) for text in checked.texts()]
    # As Python counts lines in text files: all three line ends.
    before = b"".join(pieces[: place + 1]).decode()
    line = 1 + len(io.StringIO(before, newline="").readlines())

    assert checked.problems, damage
    assert checked.problems[0].line == line
    assert given_rows == rows[:place]
