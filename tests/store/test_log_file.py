"""The log file: lines are kept once, in order, bounded, and in one place."""

from __future__ import annotations

import os
import sqlite3
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yarnloom.errors import CannotStore, FolderUnusable
from yarnloom.store.logs import log_chunks, log_file
from yarnloom.store.logs.log_chunks import Wanted
from yarnloom.store.logs.log_file import LogFile, verify_logs
from yarnloom.store.logs.log_records import AttemptKey, LogPage, Mark, Printed, Printer

KEY = AttemptKey(3, 41, 2, 1, 77)
PRINTER = Printer(KEY, 9, "9/fetch")
PRINTERS = [
    Printer(KEY._replace(item=at, attempt=80 + at), 9, address)
    for at, address in enumerate(("9/list", "9/coast[1]/fetch", "9/coast[12]/fetch", "9/coasts"))
]


def lines(*texts: str) -> list[dict[str, Any]]:
    """Return lines with these texts."""
    return [{"at": "2027-01-01T00:00:00Z", "stream": "stdout", "text": text} for text in texts]


def published(*values: Any) -> list[dict[str, Any]]:
    """Return lines that publish these values."""
    return [
        {"at": "2027-01-01T00:00:00Z", "stream": "published", "value": value} for value in values
    ]


def printed(first: int, *texts: str, printer: Printer = PRINTER) -> Printed:
    """Return lines as a worker reports them."""
    return Printed(printer, first, lines(*texts), 1_000_000 + first)


def texts(file: LogFile, key: AttemptKey = KEY, after: int = 0, limit: int = 1_000) -> list[str]:
    """Return what is kept of an attempt."""
    return [line["text"] for line in file.lines(key, after, limit)]


def test_a_batch_sent_twice_is_kept_once(tmp_path: Path) -> None:
    """Also after a restart, and when the second one overlaps."""
    file = LogFile(tmp_path)
    file.write([printed(0, "a", "b"), printed(0, "a", "b")])
    file.write([printed(0, "a", "b")])
    again = LogFile(tmp_path)
    again.write([printed(1, "b", "c")])

    assert texts(again) == ["a", "b", "c"]
    assert texts(again, after=2) == ["c"]
    assert again.written_at(KEY) == 1_000_001
    assert texts(again, KEY._replace(attempt=78)) == []
    assert again.written_at(KEY._replace(attempt=78)) is None


def test_first_lines_that_come_twice_are_kept_once(tmp_path: Path) -> None:
    """Also among those of other attempts; each run's log keeps the order in which they came."""
    file = LogFile(tmp_path)
    one, two, three, four = PRINTERS
    file.write([printed(0, "a", printer=one), printed(0, "b", printer=two)])
    file = LogFile(tmp_path)
    file.write(
        [
            printed(0, "c", printer=three),
            printed(0, "b", "more", printer=two),
            printed(0, "d", printer=four),
            printed(1, "d2", printer=four),
            printed(0, "a", printer=one),
        ]
    )
    found = file.lines_after(9, Mark(), Wanted(limit=100)).lines
    assert [line["text"] for line in found] == ["a", "b", "c", "more", "d", "d2"]
    assert texts(file, two.key) == ["b", "more"]


@given(
    cuts=st.lists(st.tuples(st.integers(0, 60), st.integers(1, 30), st.booleans()), max_size=12),
    after=st.integers(0, 70),
    limit=st.integers(1, 80),
)
def test_any_pieces_in_any_batches_are_read_as_one_list(
    tmp_path_factory: pytest.TempPathFactory,
    cuts: list[tuple[int, int, bool]],
    after: int,
    limit: int,
) -> None:
    """Pieces that overlap, repeat, or are written after a restart; from any line on."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(log_chunks, "CHUNK_SIZE", 300)
        folder = tmp_path_factory.mktemp("logs")
        file = LogFile(folder)
        have = 0
        for begin, count, is_restarted in cuts:
            first = min(begin, have)  # without a gap
            piece = [f"line {index}" for index in range(first, first + count)]
            file.write([printed(first, *piece)])
            have = max(have, first + count)
            if is_restarted:
                file.close()
                file = LogFile(folder)
        found = file.lines(KEY, after, limit)
        file.close()

    wanted = range(after, min(have, after + limit))
    assert [(line["line"], line["text"]) for line in found] == [
        (index, f"line {index}") for index in wanted
    ]


def pages_after(file: LogFile, wanted: Wanted, after: Mark) -> list[LogPage]:
    """Return all pages of a run's log from a mark on."""
    pages = [file.lines_after(9, after, wanted)]
    while (following := pages[-1].next) is not None:
        pages.append(file.lines_after(9, following, wanted))
    return pages


def pages_before(file: LogFile, wanted: Wanted) -> list[LogPage]:
    """Return all pages of a run's log, the newest last."""
    pages = [file.lines_before(9, None, wanted)]
    while (following := pages[-1].next) is not None:
        pages.append(file.lines_before(9, following, wanted))
    return pages[::-1]


def said(pages: list[LogPage]) -> list[tuple[str, str]]:
    """Return the steps and texts of the lines of some pages."""
    return [(line["address"], line["text"]) for page in pages for line in page.lines]


@given(
    pieces=st.lists(
        st.tuples(st.sampled_from(range(4)), st.lists(st.sampled_from(["Ebb", "flood"]))),
        max_size=15,
    ),
    limit=st.integers(1, 7),
    searched=st.sampled_from([0, 200, 2**20]),
    address=st.sampled_from(["", "list", "coast", "coast[1]", "coast[1]/fetch"]),
    text=st.sampled_from(["", "EBB"]),
)
def test_a_runs_log_is_read_whole_in_both_directions(
    tmp_path_factory: pytest.TempPathFactory,
    pieces: list[tuple[int, list[str]]],
    limit: int,
    searched: int,
    address: str,
    text: str,
) -> None:
    """In pages of any size: each line once, as it arrived, and of no other run."""
    inside = {"": "0123", "list": "0", "coast": "12", "coast[1]": "1", "coast[1]/fetch": "1"}
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(log_chunks, "CHUNK_SIZE", 100)
        patch.setattr(log_file, "SEARCHED", searched)
        file = LogFile(tmp_path_factory.mktemp("logs"))
        file.write([printed(0, "Ebb", printer=Printer(KEY, 8, "8/list"))])
        counts, expected = [0] * 4, list[tuple[str, str]]()
        for who, texts_of in pieces:
            file.write([printed(counts[who], *texts_of, printer=PRINTERS[who])])
            counts[who] += len(texts_of)
            if str(who) in inside[address]:
                place = PRINTERS[who].address.partition("/")[2]
                expected += [(place, one) for one in texts_of if text.lower() in one.lower()]
        wanted = Wanted(limit, address, text)
        forward, backward = pages_after(file, wanted, Mark()), pages_before(file, wanted)
        behind = [file.lines_after(9, pages[-1].end, wanted) for pages in (forward, backward)]
        marks = [line["mark"] for page in forward for line in page.lines]
        middle = marks[len(marks) // 2] if marks else "0-0"
        rest = pages_after(file, wanted, Mark.of(middle) or Mark())
        file.close()

    assert said(forward) == expected
    assert said(backward) == expected
    assert said(behind) == []
    assert said(rest) == (expected[len(marks) // 2 + 1 :] if marks else [])
    assert all(len(page.lines) <= limit for page in (*forward, *backward))


def test_lines_that_a_killed_service_lost_are_told_of(tmp_path: Path) -> None:
    """A line says where and how many; what follows keeps its index, and comes once."""
    file = LogFile(tmp_path)
    file.write([printed(0, "a", "b"), printed(5, "f"), printed(5, "f", "g")])

    assert texts(file) == [
        "a",
        "b",
        "3 lines were lost here, when the service ended suddenly",
        *"fg",
    ]
    assert [line["line"] for line in file.lines(KEY, 0, 9)] == [0, 1, 4, 5, 6]
    assert texts(file, after=5) == ["f", "g"]


def test_a_log_is_bounded(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What is too much is dropped, and the log says so once, also after a restart."""
    monkeypatch.setattr(log_file, "SIZE_LIMIT", 1_000)
    file = LogFile(tmp_path)
    for number in range(50):
        file.write([printed(number, "x" * 100)])
    file.close()
    file = LogFile(tmp_path)
    file.write([printed(50, "x"), Printed(PRINTER, 51, published("told"), 1)])
    file.write([printed(50, "x"), Printed(PRINTER, 51, published("told"), 1)])
    kept = texts(file)

    assert len(kept) < 10
    assert "dropped" in kept[-1]
    assert sum("dropped" in text for text in kept) == 1
    assert len(kept[0]) == 100
    # What is published has a limit of its own, and is kept once.
    assert [entry["value"] for entry in file.published(9, 0, 10)] == ["told"]


def test_what_a_run_publishes_is_bounded(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What is too much is dropped, and the last entry says so once, also after a restart."""
    monkeypatch.setattr(log_file, "PUBLISHED_LIMIT", 1_000)
    file = LogFile(tmp_path)
    file.write([Printed(PRINTER, 0, published(*("x" * 200 for _ in range(9))), 1)])
    file.close()
    file = LogFile(tmp_path)
    file.write([Printed(PRINTER, 9, published("small"), 1)])
    entries = file.published(9, 0, 100)

    assert [entry["line"] for entry in entries] == list(range(len(entries)))
    assert [entry.get("dropped", False) for entry in entries] == [False, False, False, True]


def test_values_of_all_steps_are_published_in_the_order_in_which_they_came(tmp_path: Path) -> None:
    """Each with its address and attempt; from any entry on."""
    other = Printer(KEY._replace(item=42, attempt=78), 9, "9/store")
    file = LogFile(tmp_path)
    file.write([Printed(PRINTER, 0, published(1), 1), Printed(other, 0, published({"a": 2}), 1)])
    file.write([Printed(PRINTER, 0, published(1, 3), 1)])

    assert [one["value"] for one in file.published(9, 0, 10)] == [1, {"a": 2}, 3]
    assert [one["address"] for one in file.published(9, 1, 10)] == ["9/store", "9/fetch"]
    assert [one["line"] for one in file.published(9, 1, 1)] == [1]
    assert texts(file, other.key) == ['{"a": 2}']


def test_many_lines_take_little_room(tmp_path: Path) -> None:
    """Lines that look alike are compressed; the limits count them as they were printed."""
    file = LogFile(tmp_path)
    for first in range(0, 20_000, 1_000):
        file.write([printed(first, *(f"tide {first + n} of the harbour" for n in range(1_000)))])
    file.close()

    size = sum(path.stat().st_size for path in tmp_path.iterdir())
    assert size < 20_000 * 15, size  # as JSON lines each has 100 bytes


def test_nothing_of_a_batch_that_fails_is_kept(tmp_path: Path) -> None:
    """So that the worker can send it again whole."""
    file = LogFile(tmp_path)
    other = sqlite3.connect(tmp_path / "logs.db", isolation_level=None)
    file._connection.execute("PRAGMA busy_timeout = 0")
    other.execute("BEGIN IMMEDIATE")
    with pytest.raises(CannotStore):
        file.write([printed(0, "a"), Printed(PRINTER, 1, published(1), 1)])
    other.execute("ROLLBACK")
    file.write([printed(0, "a"), Printed(PRINTER, 1, published(1), 1)])

    assert texts(file) == ["a", "1"]
    assert len(file.published(9, 0, 9)) == 1


def test_only_its_owner_can_read_it(tmp_path: Path) -> None:
    """Nor what SQLite puts beside it."""
    before = os.umask(0)
    try:
        LogFile(tmp_path).write([printed(0, "a")])
    finally:
        os.umask(before)
    paths = list(tmp_path.iterdir())
    assert len(paths) == 3
    assert all(path.stat().st_mode & 0o077 == 0 for path in paths)


def test_a_removed_file_is_made_anew(tmp_path: Path) -> None:
    """What comes after is kept."""
    file = LogFile(tmp_path)
    file.write([printed(0, "a")])
    assert not file.open_again_if_replaced()
    for path in tmp_path.glob("logs.db*"):
        path.unlink()

    assert file.open_again_if_replaced()
    file.write([printed(1, "b")])
    assert texts(file)[-1] == "b"
    assert not file.open_again_if_replaced()


def test_a_damaged_or_foreign_file_is_refused_and_left_as_it_is(tmp_path: Path) -> None:
    """With what to do; `verify` finds damage as well."""
    path = tmp_path / "logs.db"
    path.write_bytes(b"not a database, but long enough to be taken for one" * 40)
    before = path.read_bytes()
    with pytest.raises(FolderUnusable, match="Move that file away"):
        LogFile(tmp_path)
    assert path.read_bytes() == before
    assert verify_logs(tmp_path) == ["logs.db is damaged: file is not a database"]

    path.unlink()
    sqlite3.connect(path).execute("CREATE TABLE tides (height REAL)").connection.close()
    with pytest.raises(FolderUnusable, match="something else"):
        LogFile(tmp_path)
    path.unlink()
    LogFile(tmp_path).close()
    assert verify_logs(tmp_path) == []
    sqlite3.connect(path).execute("PRAGMA user_version = 99").connection.close()
    with pytest.raises(FolderUnusable, match="newer than this program"):
        LogFile(tmp_path)
