"""What was made beside the service is recorded only where it still is."""

from __future__ import annotations

import asyncio
from pathlib import Path

import pytest

from tests.files_loom import loom
from yarnloom.engine import Engine, KeepRows, RowsToCheck, StartRun, Unchecked, Writer, system_clock
from yarnloom.service.beside import Beside
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
        beside = Beside(database, writer, asyncio.Lock())
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
