"""Taking runs out: an each's items with outcomes, and a run's whole record; streamed."""

from __future__ import annotations

import asyncio
import csv
import io
import json
from bisect import bisect_right
from collections.abc import AsyncIterator, Callable
from dataclasses import replace
from typing import Annotated, Any, Literal

from fastapi import Query
from fastapi.responses import StreamingResponse

from yarnloom.engine.queries import export_pages
from yarnloom.engine.records.parts import ExportedItem, ExportPage
from yarnloom.media_types import JSON_LINES
from yarnloom.protocol import part_answers
from yarnloom.protocol.run_answers import LedgerAnswer, RunAnswer, RunCommands
from yarnloom.service.core import Core
from yarnloom.service.http.api_router import api_router
from yarnloom.service.render import item_tables
from yarnloom.service.render.answers import show
from yarnloom.service.render.parts import graph_json
from yarnloom.service.render.step_texts import step_texts
from yarnloom.service.route_helpers import TheCore, problems
from yarnloom.service.routes.runs import Address, ItemState, RunNumber
from yarnloom.store import Row
from yarnloom.tabular.bad_rows import made_safe
from yarnloom.values import JsonObject

router = api_router("runs")

# So few that their making does not hold up the service.
PAGE = 200
RECORD_PAGE = 500
ENDINGS = {"csv": "csv", "json-lines": "jsonl"}
TYPES = {"csv": "text/csv; charset=utf-8", "json-lines": JSON_LINES}


@router.get("/runs/{number}/export", responses=problems(404, 410, 422))
async def export(
    core: TheCore,
    number: RunNumber,
    address: Address,
    form: Annotated[Literal["csv", "json-lines"], Query(alias="as")] = "csv",
    state: Annotated[list[ItemState] | None, Query()] = None,
    safe: Annotated[bool, Query(description="Of CSV: keep spreadsheets from running it")] = False,
) -> StreamingResponse:
    """The items of an each with their outcomes, those that were not made yet too.

    As CSV the fields of what each item stands for come first, under their own names, so that rows
    can be corrected and given to a new run; what the run made of them is in columns that begin
    with `yarnloom.`. With `safe` a cell that a spreadsheet would run as a formula begins with an
    apostrophe.
    """
    states = tuple(state or ())
    first = await core.runs.look_into(number, export_pages.items, address, states, 0, PAGE)
    known = await core.runs.look_into(number, export_pages.lines, address)
    line_of = None if known is None else await asyncio.to_thread(_line_of, core, known)
    pages = _pages(core, number, address, states, first, line_of)
    label = address.strip("/").replace("/", "-")
    return StreamingResponse(
        _as_csv(pages, first, safe=safe) if form == "csv" else _as_lines(pages),
        media_type=TYPES[form],
        headers=_attachment(f"run-{number}-{label}.{ENDINGS[form]}"),
    )


@router.get(
    "/runs/{number}/record",
    response_model=part_answers.RunRecordAnswer,
    responses=problems(404, 410),
)
async def record(core: TheCore, number: RunNumber) -> StreamingResponse:
    """All that is known of a run, as one JSON object: run, plan, graph, commands, ledger, steps."""
    run = await core.runs.run(number)
    head = await core.runs.look_into(number, export_pages.head)
    shown = {
        "run": show(RunAnswer, run),
        "plan": head.plan,
        "graph": graph_json(head.graph),
        "commands": show(RunCommands, {"commands": head.commands})["commands"],
        "ledger": show(LedgerAnswer, {"effects": head.ledger, "unsure": 0})["effects"],
        "files": head.files,
    }
    return StreamingResponse(
        _whole(core, number, shown),
        media_type="application/json",
        headers=_attachment(f"run-{number}.json"),
    )


def _attachment(name: str) -> dict[str, str]:
    kept = "".join(
        one if one.isascii() and (one.isalnum() or one in "._-") else "_" for one in name
    )
    return {"Content-Disposition": f'attachment; filename="{kept}"', "Cache-Control": "no-store"}


def _line_of(core: Core, known: Row) -> Callable[[int], int]:
    """What gives the line on which a row begins, by its place."""
    pairs: list[list[int]] = [[0, known.get("first_line", 0)]]
    if "lines" in known:
        pairs = [json.loads(line) for line in core.database.files.lines(known["lines"])]
    firsts = [first for first, _ in pairs]

    def line_of(item: int) -> int:
        first, line = pairs[bisect_right(firsts, item) - 1]
        return line + item - first

    return line_of


async def _pages(
    core: Core,
    number: int,
    address: str,
    states: tuple[str, ...],
    page: ExportPage,
    line_of: Callable[[int], int] | None,
) -> AsyncIterator[list[ExportedItem]]:
    while True:
        if line_of is None:
            yield page.items
        else:
            yield [replace(item, line=line_of(item.item)) for item in page.items]
        if page.next is None:
            return
        at = int(page.next)
        page = await core.runs.look_into(number, export_pages.items, address, states, at, PAGE)


async def _as_csv(
    pages: AsyncIterator[list[ExportedItem]], first: ExportPage, *, safe: bool
) -> AsyncIterator[str]:
    columns = item_tables.columns_of(one.value for one in first.items)
    text = io.StringIO()
    rows = csv.writer(text)
    kept: Callable[[Any], Any] = made_safe if safe else (lambda cell: cell)
    rows.writerow(map(kept, item_tables.header_of(columns)))
    async for page in pages:
        rows.writerows(map(kept, item_tables.cells_of(one, columns)) for one in page)
        yield text.getvalue()
        text.seek(0)
        text.truncate()


async def _as_lines(pages: AsyncIterator[list[ExportedItem]]) -> AsyncIterator[str]:
    async for page in pages:
        yield "".join(_line(item) for item in page)


async def _whole(core: Core, number: int, head: JsonObject) -> AsyncIterator[str]:
    yield json.dumps(head, ensure_ascii=False)[:-1] + ', "steps": ['
    after: int | None = 0
    before = ""
    while after is not None:
        texts, after = await core.runs.look_into(number, step_texts, after, RECORD_PAGE)
        if texts:
            yield before + ",\n".join(texts)
            before = ",\n"
    yield "]}\n"


def _line(item: ExportedItem) -> str:
    return json.dumps(show(part_answers.ExportedItem, item), ensure_ascii=False) + "\n"
