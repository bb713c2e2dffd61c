"""What was made beside the service is recorded only where it still is."""

from __future__ import annotations

import asyncio
import os
import signal
from collections.abc import AsyncGenerator
from pathlib import Path
from typing import Any, cast

import pytest

from tests.files_loom import loom
from yarnloom.engine import Engine
from yarnloom.engine.commands import KeepRows, RowsToCheck, StartRun, Unchecked
from yarnloom.errors import Busy
from yarnloom.service.group_commit import Writer, system_clock
from yarnloom.service.processes.list_job_processes import ListJobProcesses
from yarnloom.store import Database, Kept
from yarnloom.testing import InlineService

CSV = b"harbour,address\nsaltmere,a@b\n"


@pytest.mark.parametrize("removed", [False, True])
def test_a_list_that_was_removed_meanwhile_is_not_recorded(tmp_path: Path, removed: bool) -> None:
    """It would be a record without bytes; the rows are checked once more instead."""
    database = Database(tmp_path)
    inline = InlineService(database)
    inline.publish(loom)
    params = {"contacts": inline.keep(CSV, "contacts.csv")}

    async def main() -> tuple[bool, object]:
        writer = Writer(Engine(database, system_clock()), system_clock, lambda _: None)
        beside = ListJobProcesses(database, writer, asyncio.Lock())
        unchecked = await writer.submit(StartRun("letters", params, "k", "test"))
        assert isinstance(unchecked, Unchecked)
        (rows,) = unchecked.rows
        assert isinstance(rows, RowsToCheck)
        kept: Kept = database.files.write_list(['{"harbour":"saltmere","address":"a@b"}'])
        if removed:
            database.files.remove(kept.sha256)
        recorded = await beside._record(KeepRows(rows, kept), kept)
        again = await writer.submit(StartRun("letters", params, "k", "test"))
        writer.close()
        return recorded, again

    recorded, again = asyncio.run(main())
    database.close()
    assert recorded is not removed
    assert isinstance(again, Unchecked) is removed


def test_a_process_does_one_job_after_another(tmp_path: Path) -> None:
    """One that broke, or was killed while it waited, does none; no process is left at the end."""
    database = Database(tmp_path)
    kept = database.files.write_list(["1", "2"])
    read = {"do": "read", "list": kept.sha256, "name": None}
    used: list[int] = []

    async def main() -> None:
        beside = ListJobProcesses(database, cast(Writer, None), asyncio.Lock())

        async def work(job: dict[str, Any]) -> list[dict[str, Any]]:
            found = []
            async for message in beside._work(job):
                found.append(message)
                used.extend(one.pid for one in beside._processes)
            return found

        assert await work(read) == await work(read)
        first, second = used
        assert first == second
        with pytest.raises(Busy, match="No such file"):
            await work({**read, "list": "0" * 64})
        await work(read)
        assert used[-1] != first
        os.kill(used[-1], signal.SIGKILL)
        (process,) = beside._processes
        await process.wait()
        await work(read)
        assert len(set(used)) == 3
        given_up = beside._work(read)
        await anext(given_up)
        await cast(AsyncGenerator[Any], given_up).aclose()
        assert not beside._processes, "it may be in the middle of that"
        await work(read)
        (process,) = beside._processes
        beside.close()
        assert await process.wait() < 0

    asyncio.run(main())
    database.close()
