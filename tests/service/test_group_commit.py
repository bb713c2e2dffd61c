"""Group commit, on the event loop and on a thread."""

from __future__ import annotations

import asyncio
from pathlib import Path

import pytest

from tests import looms
from yarnloom.engine import Engine, Results
from yarnloom.engine.commands import Publish, Started, StartRun
from yarnloom.errors import Busy, NotFound
from yarnloom.service.group_commit import Writer, system_clock
from yarnloom.store import Database, audit


@pytest.mark.parametrize("threaded", [False, True])
def test_many_callers_share_commits(tmp_path: Path, threaded: bool) -> None:
    """A hundred starts at once: each gets its own answer, and far fewer commits are made."""
    database = Database(tmp_path)
    seen: list[Results] = []

    async def main() -> list[Started]:
        engine = Engine(database, system_clock())
        writer = Writer(engine, system_clock, seen.append, threaded=threaded)
        assert writer.threaded is threaded
        await writer.submit(Publish(who="test", **looms.loom.publication()))
        before = len(seen)
        found = await asyncio.gather(
            *(writer.submit(StartRun("sums", {"number": n}, f"k{n}", "test")) for n in range(100))
        )
        with pytest.raises(NotFound):
            await writer.submit(StartRun("nothing", {}, "k", "test"))
        assert len(seen) - before < 10
        writer.close()
        return found

    started = asyncio.run(main())

    assert [one.run.number for one in started] == list(range(1, 101))
    assert audit(database.writer) == []
    database.close()


@pytest.mark.parametrize("threaded", [False, True])
def test_a_batch_that_breaks_holds_up_nobody(
    tmp_path: Path, threaded: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Its callers get the error, and those behind them their answers."""
    database = Database(tmp_path)

    async def main() -> Started:
        engine = Engine(database, system_clock())
        writer = Writer(engine, system_clock, lambda _: None, threaded=threaded)
        await writer.submit(Publish(who="test", **looms.loom.publication()))
        with monkeypatch.context() as broken:
            broken.setattr(Engine, "execute", lambda *_: 1 / 0)
            with pytest.raises(ZeroDivisionError):
                await writer.submit(StartRun("sums", {"number": 1}, "k1", "test"))
        started: Started = await writer.submit(StartRun("sums", {"number": 2}, "k2", "test"))
        writer.close()
        return started

    assert asyncio.run(main()).created
    database.close()


@pytest.mark.parametrize("threaded", [False, True])
def test_what_comes_while_it_ends_is_refused_without_a_word_in_the_log(
    tmp_path: Path, threaded: bool
) -> None:
    """A request that was under way at the end, or comes after it, is told to try again."""
    database = Database(tmp_path)
    broken: list[object] = []

    async def main() -> None:
        asyncio.get_running_loop().set_exception_handler(lambda _, facts: broken.append(facts))
        engine = Engine(database, system_clock())
        writer = Writer(engine, system_clock, lambda _: None, threaded=threaded)
        await writer.submit(Publish(who="test", **looms.loom.publication()))
        last = writer.submit_soon(StartRun("sums", {"number": 1}, "k1", "test"))
        writer.close()
        for late in (last, writer.submit_soon(StartRun("sums", {"number": 2}, "k2", "test"))):
            with pytest.raises(Busy, match="is stopping"):
                await late

    asyncio.run(main())
    assert broken == []
    database.close()
