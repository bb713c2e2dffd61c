"""Reading runs: what they are like now, why they wait, what is in them."""

from __future__ import annotations

import contextlib
from collections.abc import Awaitable, Callable, Mapping
from typing import Any, TypeVar

from yarnloom.engine.commands import Command, ListQuiet, Why
from yarnloom.engine.queries import either_form, failures_by_kind, obstacles, run_graph
from yarnloom.engine.queries.runs import Look, Open, run_records, under_way_of
from yarnloom.engine.records.parts import GraphRecord
from yarnloom.engine.records.runs import RunPage, RunRecord
from yarnloom.engine.records.unreadable import Unreadable
from yarnloom.engine.records.waits import WhyRecord
from yarnloom.errors import CannotStore, Gone, NotFound
from yarnloom.plan import Plan, read_plan
from yarnloom.protocol.overview_answers import GlanceAnswer, StuckRun
from yarnloom.service.group_commit import Writer
from yarnloom.service.readers import Readers
from yarnloom.service.render import glance
from yarnloom.service.render.glance import LineFacts
from yarnloom.service.render.reasons import text_of, why_json
from yarnloom.service.runs.log_buffer import Logs
from yarnloom.store import AttemptKey, Connection, Database, Record
from yarnloom.store.runs import run_lists
from yarnloom.store.workers import workflow_records
from yarnloom.values import JsonObject

T = TypeVar("T")

ASKED_WHY = 30
REASONS_SHOWN = 3
STUCK = frozenset(
    ("paused", "pool_paused", "pool_halted", "no_worker", "quiet", "itself", *obstacles.FLAWS)
)
"""Reasons for which a run waits that time alone does not take away."""


class RunReader:
    """Answers questions about runs.

    Args:
        database: the data folder.
        readers: ask the store.
        writer: tells whether the disk is slow.
        submit: gives a command to the engine.
        logs: the lines that attempts printed.
        now: returns the time that runs live by.
        waiters: by attempt the run whose end it waits for.
    """

    def __init__(
        self,
        database: Database,
        readers: Readers,
        writer: Writer,
        submit: Callable[[Command], Awaitable[Any]],
        logs: Logs,
        now: Callable[[], int],
        waiters: Mapping[int, int],
    ) -> None:
        self._database = database
        self._readers = readers
        self._writer = writer
        self._submit = submit
        self._logs = logs
        self._now = now
        self._waiters = waiters
        self._plans: dict[int, Plan] = {}

    async def run(self, number: int) -> RunRecord:
        """Return a run.

        Raises:
            NotFound: there is none.
            Gone: it was removed.
        """
        return await self.show(number)

    async def show(self, number: int, *, plain: bool = False) -> RunRecord:
        """Return a run; `plain` says nothing of the names of its parts."""
        if self._writer.threaded:  # the disk is slow
            found = await self._readers.read(_run_or_trace, number)
        else:
            found = self._database.read_at_once(lambda one: _run_or_trace(one, number))
        row, given_out, under_way = found
        if row is None:
            raise _no_run(number, given_out)
        (run,) = await self._shown([row], under_way, plain=plain)
        if isinstance(run, Unreadable):
            raise CannotStore(f"run {number}: {run.unreadable}")
        return run

    async def list_runs(self, wanted: run_lists.RunFilter) -> RunPage:
        """Return a page of runs, and where the next one begins."""
        rows, following, under_way = await self._readers.read(_page_of_runs, wanted)
        return RunPage(await self._shown(rows, under_way), following)

    async def _shown(
        self, rows: list[Record], under_way: Mapping[int, Open], *, plain: bool = False
    ) -> list[RunRecord | Unreadable]:
        """Return runs from their rows and what is under way in them."""
        plans = {row["plan"]: await self.plan(row["plan"]) for row in rows}
        look = Look(self._now(), plans.__getitem__, plain)
        return run_records(rows, under_way, look)

    async def run_row(self, number: int) -> Record:
        """A run's row; raises as `run` does."""
        row, given_out, _ = await self._readers.read(_run_or_trace, number)
        if row is None:
            raise _no_run(number, given_out)
        return row

    async def plan(self, plan_id: int) -> Plan:
        """A plan by id."""
        if plan_id not in self._plans:
            self._plans[plan_id] = read_plan(
                await self._readers.read(workflow_records.plan_document, plan_id)
            )
        return self._plans[plan_id]

    async def graph(self, number: int, address: str = "") -> GraphRecord:
        """Return a run's parts with their present states, or those of an item of an each."""
        return await self.look_into(number, run_graph.graph, address)

    async def look_into(self, number: int, ask: Callable[..., T], *args: Any) -> T:
        """Answer one of the questions of `engine.queries` about a run."""
        row = await self.run_row(number)
        plan = await self.plan(row["plan"])

        return await self._readers.read(ask, plan, number, *args)

    async def why(self, number: int, address: str) -> JsonObject:
        """Return why a run, or a part of it, waits, and when the steps that run printed last."""
        place = await self.look_into(number, run_graph.place_of, address)
        ask = Why(number, place.rank, place.item, dict(self._waiters))
        why: WhyRecord = await self._submit(ask)
        running = [wait.attempt for wait in why.waits if wait.attempt is not None]
        return why_json(why, {attempt: await self._last_line_at(attempt) for attempt in running})

    async def glance(self, number: int) -> GlanceAnswer:
        """Return a run on one line, and its pieces."""
        run, graph = await self.run(number), await self.graph(number)
        return glance.glance(run, graph.part, *await self.line_facts(run))

    async def line_facts(self, run: RunRecord) -> LineFacts:
        """Return what the line of a run says beside its graph."""
        failures = await self.look_into(run.number, failures_by_kind.failures)
        why = None if run.ended_at else await self.why(run.number, "")
        return LineFacts(why, failures)

    async def _last_line_at(self, attempt: int) -> int | None:
        key = await self.log_key(attempt)
        with contextlib.suppress(CannotStore):
            return await self._logs.written_at(key) if key else None
        return None

    async def log_key(self, attempt: int) -> AttemptKey | None:
        """Return the key of an attempt's lines; None where there is no such attempt."""
        keys: dict[int, AttemptKey] = await self._readers.read(either_form.log_keys, [attempt])
        return keys.get(attempt)

    async def stuck(self) -> tuple[list[StuckRun], int]:
        """Return runs that do not go on by themselves, each with why, and how many were asked."""
        found = []
        numbers = await self._readers.read(run_lists.idle_runs, ASKED_WHY)
        numbers += [one for one in await self._submit(ListQuiet()) if one not in numbers]
        for number in numbers[: 2 * ASKED_WHY]:
            ask = Why(number, waiters=dict(self._waiters), order=False)
            why: WhyRecord = await self._submit(ask)
            said = [*why.reasons, *(one for wait in why.waits for one in wait.reasons)]
            reasons = [text_of(one) for one in said if one.kind in STUCK]
            if reasons:
                row = await self.run_row(number)
                found.append(
                    StuckRun(
                        run=number,
                        workflow=why.workflow,
                        state=why.state,
                        since=row["created_at"],
                        reasons=list(dict.fromkeys(reasons))[:REASONS_SHOWN],
                    )
                )
        return found, len(numbers)


def _run_or_trace(
    connection: Connection, number: int
) -> tuple[Record | None, bool, Mapping[int, Open]]:
    """A run's row, whether there ever was one, and what is under way in it."""
    row = run_lists.run(connection, number)
    if row is None:
        return None, run_lists.was_given_out(connection, number), {}
    return row, True, under_way_of(connection.execute, [row])


def _no_run(number: int, given_out: bool) -> Gone | NotFound:
    if given_out:
        return Gone(f"run {number} was removed")
    return NotFound(f"there is no run {number}", hint="`yarnloom runs` lists what there is")


def _page_of_runs(
    connection: Connection, wanted: run_lists.RunFilter
) -> tuple[list[Record], int | None, Mapping[int, Open]]:
    rows, following = run_lists.runs(connection, wanted)
    return rows, following, under_way_of(connection.execute, rows)
