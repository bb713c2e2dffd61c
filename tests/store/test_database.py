"""The data folder: one service, known versions, and messages when it cannot be had."""

from __future__ import annotations

import os
import sqlite3
import stat
from pathlib import Path

import pytest

from tests import looms
from tests.helpers import run_command
from yarnloom.errors import Busy, FolderInUse, FolderUnusable
from yarnloom.store import SCHEMA_VERSION, Database, FileFolder, audit
from yarnloom.store import database as database_module
from yarnloom.store.database import LOG_LIMIT, create_tables
from yarnloom.store.runs.due_records import NEXT_READY, NOT_HELD, READY_BY_LANE
from yarnloom.store.runs.item_records import FAILED_UNDER, FAULTY_UNDER, OUTPUTS
from yarnloom.store.runs.run_records import NOT_GONE
from yarnloom.testing import InlineService


def test_one_service_per_folder(tmp_path: Path) -> None:
    """The second is told who has it, and what to do."""
    database = Database(tmp_path, "the service at http://127.0.0.1:1 (process 7)")
    with pytest.raises(FolderInUse, match=r"in use by the service at http.*process 7.*--data"):
        Database(tmp_path)
    database.close()
    Database(tmp_path).close()


def test_a_folder_that_cannot_be_written_is_explained(tmp_path: Path) -> None:
    """A file stands where the folder should be."""
    (tmp_path / "file").write_text("")
    with pytest.raises(FolderUnusable, match=r"cannot be written.*--data"):
        Database(tmp_path / "file" / "data")


@pytest.mark.parametrize(("version", "age"), [(99, "newer"), (17, "older"), (1, "older")])
def test_records_of_another_version_are_refused(tmp_path: Path, version: int, age: str) -> None:
    """Both versions are named, and what to do; the command ends with exit code 5."""
    Database(tmp_path).close()
    with sqlite3.connect(tmp_path / "yarnloom.db") as connection:
        connection.execute(f"PRAGMA user_version = {version}")
    expected = rf"{age} version {version}; this program reads version {SCHEMA_VERSION}\. "
    with pytest.raises(FolderUnusable, match=expected):
        Database(tmp_path)
    with sqlite3.connect(tmp_path / "yarnloom.db") as connection:
        assert connection.execute("PRAGMA user_version").fetchone() == (version,)
    for command in (("serve", "--port", "0"), ("verify",)):
        done = run_command(*command, "--data", str(tmp_path))
        assert done.returncode == 5
        assert f"version {version}" in done.stderr


def test_a_file_that_is_no_database_is_explained(tmp_path: Path) -> None:
    """Not a stack trace."""
    (tmp_path / "yarnloom.db").write_bytes(b"not a database at all" * 100)
    with pytest.raises(FolderUnusable, match="cannot be opened"):
        Database(tmp_path)


def test_the_tables_are_made_whole_or_not_at_all(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A start that is killed in the middle leaves an empty file, which the next one fills."""
    monkeypatch.setattr("yarnloom.store.database.SCHEMA_VERSION", "nonsense here")
    connection = sqlite3.connect(tmp_path / "x.db", isolation_level=None)
    with pytest.raises(sqlite3.OperationalError):
        create_tables(connection)
    connection.rollback()

    assert connection.execute("PRAGMA user_version").fetchone() == (0,)
    assert connection.execute("SELECT name FROM sqlite_schema").fetchall() == []


def test_durability_is_what_is_promised(tmp_path: Path) -> None:
    """The write-ahead log is flushed at each commit, and foreign keys hold."""
    database = Database(tmp_path)
    pragma = {
        name: database.writer.execute(f"PRAGMA {name}").fetchone()[0]
        for name in ("journal_mode", "synchronous", "foreign_keys", "auto_vacuum")
    }
    database.close()

    assert pragma == {"journal_mode": "wal", "synchronous": 2, "foreign_keys": 1, "auto_vacuum": 2}


def test_statements_that_run_per_step_use_an_index(inline: InlineService) -> None:
    """No scan, and no sorting."""
    checks = [
        (NEXT_READY.format(held=""), ("", 0, "", "", 1)),
        (NEXT_READY.format(held=f"AND {NOT_HELD}"), ("", 0, "", "", 1)),
        (READY_BY_LANE, ()),
        ("SELECT * FROM steps WHERE part = ? AND node = ?", (1, 1)),
        ("SELECT * FROM attempts WHERE step = ? ORDER BY number", (1,)),
        ("SELECT * FROM parts WHERE run = ? AND parent IS NULL", (1,)),
        ("SELECT id FROM attempts WHERE worker = ? AND outcome IS NULL ORDER BY id", ("w",)),
        ("SELECT * FROM steps WHERE run = ? AND ended_at IS NULL ORDER BY rank", (1,)),
        ("SELECT * FROM parts WHERE parent = ? AND node = ? AND item = 0", (1, 1)),
        ("SELECT * FROM parts WHERE run = ? AND item_part IS ? AND value IS NULL", (1, None)),
        ("SELECT * FROM parts WHERE parent = ? AND name = ?", (1, "a")),
        ("SELECT * FROM parts WHERE unmade > 0 AND outcome IS NULL", ()),
        (f"{FAILED_UNDER.format(columns='*')} ORDER BY rank", (1, b"", b"")),
        (f"{FAULTY_UNDER.format(columns='*')} ORDER BY rank", (1, b"", b"")),
        (OUTPUTS.format(which=NOT_GONE), (1, 1, 1)),
        ("SELECT * FROM folded WHERE segment BETWEEN ? AND ? AND attempt = ?", (1, 2, 2)),
        ("SELECT * FROM folded WHERE run = ? AND each = ? AND first <= ?", (1, 1, 1)),
    ]
    for sql, values in checks:
        plan = inline.database.writer.execute(f"EXPLAIN QUERY PLAN {sql}", values).fetchall()
        text = "; ".join(row[3] for row in plan)

        assert "INDEX" in text, (sql, text)
        assert "TEMP B-TREE" not in text, (sql, text)
        assert "SCAN s " not in f"{text} ", (sql, text)
        assert "SCAN steps" not in text or "steps_to_start" in text, (sql, text)


def test_the_write_ahead_log_shrinks_again(tmp_path: Path) -> None:
    """After a long reader, for whom it had to grow."""
    database = Database(tmp_path)
    log = database.path.with_name(database.path.name + "-wal")
    database.writer.execute("CREATE TABLE large (text)")

    def write(times: int) -> None:
        for number in range(times):
            database.writer.execute("INSERT INTO large VALUES (?)", (str(number % 10) * 500_000,))

    with database.reader() as reader:
        reader.execute("BEGIN")
        reader.execute("SELECT count(*) FROM large").fetchone()
        write(60)
        assert log.stat().st_size > LOG_LIMIT
        reader.execute("ROLLBACK")
    write(4)
    assert log.stat().st_size <= LOG_LIMIT
    database.close()


def test_readers_cannot_write(tmp_path: Path) -> None:
    """There is one writer."""
    database = Database(tmp_path)
    with database.reader() as reader, pytest.raises(sqlite3.OperationalError, match="readonly"):
        reader.execute("DELETE FROM runs")
    database.close()


def test_a_reader_is_cut_off(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A query without end does not keep the log from being folded back."""
    monkeypatch.setattr("yarnloom.store.database.READ_LIMIT", 0.0)
    database = Database(tmp_path)
    endless = "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT max(i) FROM n"
    with database.reader() as reader, pytest.raises(sqlite3.OperationalError, match="interrupted"):
        reader.execute(endless)
    database.close()


@pytest.mark.parametrize(
    "damage",
    [
        "UPDATE parts SET ready = ready + 1",
        "UPDATE steps SET state = 'running'",
        "UPDATE runs SET ended_at = 1, state = 'done'",
        "UPDATE steps SET open = 5",
        "UPDATE steps SET losses = 1",
        "UPDATE parts SET following = 1",
        "UPDATE parts SET outcome = 'done'",
        "UPDATE parts SET state = 'done'",
        "UPDATE steps SET ended_at = 1",
    ],
)
def test_the_audit_finds_damage(tmp_path: Path, damage: str) -> None:
    """Each rule can be broken, and then says so."""
    database = Database(tmp_path)
    inline = InlineService(database)
    inline.publish(looms.loom)
    inline.start("sums", {"number": 1})
    assert audit(database.writer) == []
    database.writer.execute(damage)

    assert audit(database.writer)
    database.close()


def test_run_numbers_are_never_given_out_twice(tmp_path: Path) -> None:
    """Also not that of the newest run, when it was removed."""
    database = Database(tmp_path)
    inline = InlineService(database)
    inline.publish(looms.loom)
    first = inline.start("sums", {"number": 1}, "a")
    for table in ("steps", "parts", "runs"):
        database.writer.execute(f"DELETE FROM {table}")
    database.close()
    database = Database(tmp_path)
    second = InlineService(database).start("sums", {"number": 1}, "b")

    assert second == first + 1
    database.close()


def test_rows_that_have_ended_are_let_go_also_where_they_were_only_read(tmp_path: Path) -> None:
    """Else a service's memory grows with all that people look at."""
    database = Database(tmp_path)
    inline = InlineService(database)
    inline.publish(looms.loom)
    number = inline.start("sums", {"number": 1})
    inline.work(looms.loom)
    unit = inline.engine._unit
    assert not unit.runs.rows
    assert inline.why(number)["state"] == "done"
    assert not unit.runs.rows
    assert not unit.parts.rows
    database.close()


def test_a_file_is_flushed_before_it_has_its_place(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Its bytes, then its name, then the folder that names it: in this order, before any row."""
    seen: list[str] = []
    flush, move = os.fsync, Path.replace

    def note_flush(descriptor: int) -> None:
        seen.append("folder" if stat.S_ISDIR(os.fstat(descriptor).st_mode) else "bytes")
        flush(descriptor)

    def note_move(path: Path, target: Path) -> Path:
        seen.append("place")
        return move(path, target)

    monkeypatch.setattr(os, "fsync", note_flush)
    monkeypatch.setattr(Path, "replace", note_move)
    folder = FileFolder(tmp_path)
    with folder.incoming() as incoming:
        incoming.write(b"ebb and flow")
        sha256, _ = incoming.finish()

    # The first file in a folder of its own makes that folder durable, too.
    assert seen == ["bytes", "folder", "place", "folder"]
    assert folder.path(sha256).read_bytes() == b"ebb and flow"


def test_a_question_that_takes_too_long_is_no_mistake(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """It is said what to do, and the next question is answered."""
    monkeypatch.setattr(database_module, "READ_LIMIT", 0.0)
    database = Database(tmp_path)
    endless = "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT max(i) FROM n"
    with pytest.raises(Busy, match="ask for less"):
        database.read(lambda connection: connection.execute(endless).fetchone())
    assert database.read(lambda connection: connection.execute("SELECT 7").fetchone()[0]) == 7
    database.close()
