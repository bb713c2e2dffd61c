"""Records that went back in time: that is noticed, and no number is given out twice."""

from __future__ import annotations

import itertools
import json
import shutil
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path

import pytest

from tests.floor import Floor
from yarnloom import Loom, step
from yarnloom.engine.commands import Poll, Register, Report, ReportItem
from yarnloom.errors import WorkerUnknown
from yarnloom.store import Database, StoreFailed
from yarnloom.testing import InlineService

KEYS = itertools.count(0, 100)


@contextmanager
def opened(folder: Path) -> Iterator[Floor]:
    """A floor over a folder, with a loom."""
    database = Database(folder)
    found = Floor(InlineService(database))
    found.keys = next(KEYS)
    loom = Loom("small")

    @loom.task
    def work() -> int:
        """Work."""
        return 1

    loom.workflow("one", plan=step("only", work))
    found.publish(loom)
    try:
        yield found
    finally:
        database.close()


def copy_of(folder: Path, to: Path) -> None:
    """A copy of the records alone, as a person makes one who knows of nothing else."""
    to.mkdir()
    for path in folder.glob("yarnloom.db*"):
        shutil.copy(path, to / path.name)


def restore(copy: Path, folder: Path) -> None:
    """Put the copy back."""
    for path in folder.glob("yarnloom.db*"):
        path.unlink()
    for path in copy.iterdir():
        shutil.copy(path, folder / path.name)


def facts(folder: Path) -> dict[str, str]:
    """What the file beside the records says."""
    found: dict[str, str] = json.loads((folder / "numbers.json").read_text())
    return found


def test_a_plain_restart_keeps_the_epoch_and_the_numbers(tmp_path: Path) -> None:
    """Also where the file beside the records was removed, or cannot be read."""
    with opened(tmp_path) as at:
        assert [at.start("one"), at.start("one")] == [1, 2]
        epoch = at.inline.database.past.epoch
    for text in (None, "{", "[]", '{"service": 1}'):
        (tmp_path / "numbers.json").unlink()
        if text:
            (tmp_path / "numbers.json").write_text(text)
        with opened(tmp_path) as at:
            past = at.inline.database.past
            assert (past.epoch, past.missing) == (epoch, None)
            past.note()
    with opened(tmp_path) as at:
        assert at.start("one") == 3


def test_a_restored_copy_is_told_and_numbers_go_on_above(tmp_path: Path) -> None:
    """Runs and attempts; and what workers have in hand is lost and runs again."""
    folder, copy = tmp_path / "data", tmp_path / "copy"
    with opened(folder) as at:
        at.worker()
        first = at.start("one")
        (old,) = at.hands["w"].attempts
        copy_of(folder, copy)
        epoch = at.inline.database.past.epoch
        at.end(f"{first}/only")
        at.start("one")
    restore(copy, folder)
    with opened(folder) as at:
        past = at.inline.database.past
        assert past.missing is not None
        assert past.missing.startswith("records are missing: ")
        assert past.epoch != epoch
        assert at.start("one") == 10_001
        # The worker that had it is told first, and has ended it when it comes again.
        seen = {"service": at.inline.database.id, "epoch": epoch, "commits": 1}
        told = at.do(Register("w", "w", {}, 1, at.looms, (old,), **seen))
        assert told.epoch == past.epoch
        assert at.inline.step(first, "only")["attempts"][0]["outcome"] is None
        at.worker("v", places=2)
        assert len(at.hands["v"].attempts) == 1
        at.worker("w", places=0)
        assert at.inline.step(first, "only")["attempts"][0]["outcome"] == "lost"
        assert len(at.hands["v"].attempts) == 2
        assert min(at.hands["v"].attempts) > 10_000 >= old
    with opened(folder) as at:  # and it is told once
        assert at.inline.database.past.missing is None
        assert at.start("one") == 10_002


def test_a_worker_that_has_seen_more_makes_a_new_epoch(tmp_path: Path) -> None:
    """Also where the file beside the records was restored with them."""
    folder, copy = tmp_path / "data", tmp_path / "copy"
    with opened(folder) as at:
        at.worker()
        run = at.start("one")
        service, epoch = at.inline.database.id, at.inline.database.past.epoch
    shutil.copytree(folder, copy)
    with opened(folder) as at:
        at.start("one")
        seen = at.inline.database.past.commits
    shutil.rmtree(folder)
    shutil.copytree(copy, folder)
    with opened(folder) as at:
        past = at.inline.database.past
        assert (past.missing, past.epoch) == (None, epoch)
        at.worker("other")
        found = at.do(Register("w", "w", {}, 1, {}, service=service, epoch=epoch, commits=seen + 9))
        assert found.epoch == past.epoch != epoch
        assert at.inline.step(run, "only")["attempts"][0]["outcome"] is None
        for command in (Poll("w", epoch=epoch), Report("w", (ReportItem(1, "done"),), epoch=epoch)):
            with pytest.raises(WorkerUnknown, match="register again"):
                at.do(command)
        # One that comes with an epoch of before is behind, not ahead.
        again = at.do(Register("w", "w", {}, 1, {}, service=service, epoch=epoch, commits=seen))
        assert again.epoch == found.epoch
        at.do(Register("w", "w", {}, 1, {}, service=service, epoch=again.epoch))
        assert at.inline.step(run, "only")["attempts"][0]["outcome"] == "lost"


def test_a_worker_of_other_records_says_nothing_of_these(tmp_path: Path) -> None:
    """It served another service before."""
    with opened(tmp_path) as at:
        epoch = at.inline.database.past.epoch
        at.do(Register("w", "w", {}, 1, {}, service="another", epoch="far", commits=10**9))
        assert at.inline.database.past.epoch == epoch


def test_numbers_are_reserved_in_blocks_not_per_commit(tmp_path: Path) -> None:
    """And where they cannot be reserved none is given out."""
    with opened(tmp_path) as at:
        at.start("one")
        written = (tmp_path / "numbers.json").stat().st_mtime_ns
        for _ in range(50):
            at.start("one")
        assert (tmp_path / "numbers.json").stat().st_mtime_ns == written
        assert facts(tmp_path)["runs"] == 10_000
        past = at.inline.database.past
        (tmp_path / "numbers.new").mkdir()  # in the way
        with pytest.raises(OSError):
            past.reserve("runs", 10_001)
        unit = at.inline.engine._unit
        unit._next["runs"] = 10_000
        with pytest.raises(StoreFailed, match="no numbers can be reserved"):
            unit.new_id("runs")
        (tmp_path / "numbers.new").rmdir()
        assert unit.new_id("runs") == 10_001
        assert facts(tmp_path)["runs"] == 20_000


def test_it_is_written_from_two_threads_at_once(tmp_path: Path) -> None:
    """A large start reserves numbers on the writer's thread, while commits are noted."""
    with opened(tmp_path) as at:
        past = at.inline.database.past

        def reserve() -> None:
            """Reserve many blocks."""
            for block in range(300):
                past.reserve("runs", block * 10_000 + 1)

        with ThreadPoolExecutor(1) as threads:
            reserving = threads.submit(reserve)
            while not reserving.done():
                past.committed()
                past.note()
            reserving.result()
        assert facts(tmp_path)["runs"] == 300 * 10_000
