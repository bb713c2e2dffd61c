"""Damaged, foreign and incomplete files: one line each, and nothing is changed."""

from __future__ import annotations

import random
import shutil
import sqlite3
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.helpers import run_command, service
from yarnloom.errors import FolderUnusable
from yarnloom.store import Database, verify
from yarnloom.store import integrity as store_integrity
from yarnloom.testing import inline_service

PAGE = 4096


@pytest.fixture(scope="module")
def sound(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with records in it, closed."""
    from tests import looms

    folder = tmp_path_factory.mktemp("sound")
    with inline_service(folder) as inline:
        inline.publish(looms.loom)
        for number in range(40):
            inline.start("sums", {"number": number}, f"k-{number}")
        inline.work(looms.loom)
    return folder


def edited(sql: str) -> Callable[[Path], None]:
    """Something that a statement does to the database."""

    def edit(path: Path) -> None:
        with sqlite3.connect(path) as connection:
            connection.executescript(sql)
        connection.close()

    return edit


def overwritten(at: float, size: int) -> Callable[[Path], None]:
    """Random bytes somewhere in the file: at a part of it, or at a byte."""

    def overwrite(path: Path) -> None:
        content = bytearray(path.read_bytes())
        first = int(at * len(content)) if at < 1 else int(at)
        content[first : first + size] = random.Random(7).randbytes(size)
        path.write_bytes(content)

    return overwrite


def cut(path: Path) -> None:
    """Half of it is gone."""
    path.write_bytes(path.read_bytes()[: path.stat().st_size // (2 * PAGE) * PAGE])


def emptied_page(path: Path) -> None:
    """A page in the middle is zeros, as a broken disk gives it."""
    content = bytearray(path.read_bytes())
    first = len(content) // (2 * PAGE) * PAGE
    content[first : first + PAGE] = bytes(PAGE)
    path.write_bytes(content)


KINDS: dict[str, tuple[Callable[[Path], None], str]] = {
    "text": (lambda path: path.write_text("no database" * 1000), "file is not a database"),
    "header": (overwritten(0.0, 40), "file is not a database"),
    "schema": (overwritten(100, 3000), "cannot be opened"),
    "cut": (cut, "cannot be opened"),
    "zeros": (emptied_page, "cannot be opened"),
    "foreign": (
        edited("PRAGMA application_id = 7; CREATE TABLE guests (name TEXT);"),
        "is a database of something else",
    ),
    "newer": (edited("PRAGMA user_version = 99;"), "version 99"),
    "half": (edited("DROP INDEX steps_due;"), "are incomplete: index steps_due is missing"),
    "other columns": (
        edited("ALTER TABLE runs DROP COLUMN paused_micros;"),
        "are incomplete: table runs is not as it is to be",
    ),
}


@pytest.mark.parametrize("kind", KINDS)
def test_a_file_that_cannot_be_used_is_refused_in_one_line(
    sound: Path, tmp_path: Path, kind: str
) -> None:
    """At the start, with exit code 5; and the file stays as it was."""
    damage, said = KINDS[kind]
    shutil.copy(sound / "yarnloom.db", tmp_path / "yarnloom.db")
    damage(tmp_path / "yarnloom.db")
    before = (tmp_path / "yarnloom.db").read_bytes()
    with pytest.raises(FolderUnusable, match=said) as refused:
        Database(tmp_path)
    assert "\n" not in str(refused.value)
    # What SQLite itself counts in its header, as it opens the file, is left out.
    assert (tmp_path / "yarnloom.db").read_bytes()[100:] == before[100:]


def test_a_database_of_something_else_is_not_touched(tmp_path: Path) -> None:
    """Not even made into one with a log beside it."""
    edited("CREATE TABLE guests (name TEXT); INSERT INTO guests VALUES ('a');")(
        tmp_path / "yarnloom.db"
    )
    before = (tmp_path / "yarnloom.db").read_bytes()
    with pytest.raises(FolderUnusable, match="of something else"):
        Database(tmp_path)
    assert (tmp_path / "yarnloom.db").read_bytes() == before
    assert [one.name for one in tmp_path.glob("yarnloom.db-*")] == []


def test_a_log_of_other_records_is_no_harm(sound: Path, tmp_path: Path) -> None:
    """As it is left where a copy is put in its place: SQLite sees that it does not belong to it."""
    for name in ("one", "two"):
        (tmp_path / name).mkdir()
        shutil.copy(sound / "yarnloom.db", tmp_path / name / "yarnloom.db")
    (tmp_path / "one" / "yarnloom.db-wal").write_bytes(random.Random(1).randbytes(50_000))
    Database(tmp_path / "one").close()
    assert verify(tmp_path / "one").faults == []


def test_a_look_that_takes_long_is_cut_off(sound: Path) -> None:
    """A start does not wait for it."""
    with sqlite3.connect(sound / "yarnloom.db") as connection:
        assert store_integrity.look_for_damage(connection, -1.0) is None
        assert store_integrity.look_for_damage(connection, None) == []


def test_verify_finds_what_is_wrong_beside_a_service_and_without(tmp_path: Path) -> None:
    """With exit code 5 and a line for each fault; JSON for programs."""
    data = tmp_path / "data"
    with service(data) as program:
        assert run_command("verify", "--data", str(data)).returncode == 0
        assert list(program.client().runs()) == []
    found = run_command("verify", "--data", str(data))
    assert (found.returncode, found.stdout.strip().endswith("nothing is wrong")) == (0, True)
    edited("INSERT INTO files VALUES ('ab', 3, 'a', 'text/plain', 'me', 0, 0, NULL, NULL);")(
        data / "yarnloom.db"
    )
    found = run_command("verify", "--data", str(data))
    assert (found.returncode, "is not in the folder" in found.stderr) == (5, True)
    assert '"faults": [' in run_command("verify", "--data", str(data), "--json").stdout
    nothing = run_command("verify", "--data", str(tmp_path / "none"))
    assert (nothing.returncode, len(nothing.stderr.strip().splitlines())) == (5, 1)


def test_serve_ends_with_one_line_on_damaged_records(sound: Path, tmp_path: Path) -> None:
    """And with exit code 5."""
    shutil.copy(sound / "yarnloom.db", tmp_path / "yarnloom.db")
    cut(tmp_path / "yarnloom.db")
    done = run_command("serve", "--data", str(tmp_path), "--port", "0")
    assert done.returncode == 5
    assert len(done.stderr.strip().splitlines()) == 1
    found = run_command("verify", "--data", str(tmp_path))
    assert (found.returncode, "Traceback" in found.stderr) == (5, False)
