"""Lines that attempts printed: each kept with its attempt, if the worker has that in hand."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from time import time_ns
from typing import cast

from yarnloom.engine.commands import InHand
from yarnloom.engine.queries import run_graph
from yarnloom.protocol.worker_bodies import LogBody
from yarnloom.service.group_commit import Writer
from yarnloom.service.readers import Readers
from yarnloom.service.runs.log_buffer import Logs
from yarnloom.service.runs.run_reader import RunReader
from yarnloom.store import Printed, Printer
from yarnloom.store.logs.log_records import Line
from yarnloom.store.runs import step_queries

PRINTERS_REMEMBERED = 2_000


class AttemptLines:
    """Takes in lines that workers report.

    Args:
        writer: knows which attempts are a worker's.
        readers: ask the store.
        runs: reads plans.
        logs: where lines go.
    """

    def __init__(self, writer: Writer, readers: Readers, runs: RunReader, logs: Logs) -> None:
        self._writer = writer
        self._readers = readers
        self._runs = runs
        self._logs = logs
        self._printers: OrderedDict[int, Printer] = OrderedDict()
        self._listeners: set[Callable[[list[Printed]], None]] = set()

    async def keep(self, worker: str, logs: list[LogBody]) -> None:
        """Keep lines of attempts that a worker has in hand, and of no others."""
        at = time_ns() // 1_000
        own = await self._writer.in_hand(InHand(worker, tuple([log.attempt for log in logs])))
        with_rows = [one for one, printer in own.items() if printer is None]
        if unknown := [with_row for with_row in with_rows if with_row not in self._printers]:
            while len(self._printers) > PRINTERS_REMEMBERED:
                self._printers.popitem(last=False)
            await self._find_printers(unknown)
        batch = []
        for log in logs:
            attempt = log.attempt
            if attempt in own and (printer := own[attempt] or self._printers.get(attempt)):
                lines = cast(list[Line], log.lines)
                batch.append(Printed(printer, log.first, lines, at))
        for listener in self._listeners:
            listener(batch)
        await self._logs.append(batch)

    def listen(self, listener: Callable[[list[Printed]], None]) -> Callable[[], None]:
        """Tell somebody of lines as they arrive; return what ends that."""
        self._listeners.add(listener)
        return lambda: self._listeners.discard(listener)

    async def _find_printers(self, attempts: list[int]) -> None:
        keys = await self._readers.read(step_queries.log_keys, attempts)
        rows = await self._readers.read(step_queries.in_hand, attempts)
        plans = {plan: await self._runs.plan(plan) for plan in {row["plan"] for row in rows}}
        places = await self._readers.read(run_graph.attempts_in_hand, rows, plans)
        for row, known in zip(rows, places, strict=True):
            address = f"{row['run']}/{known.address.partition('#')[0]}"
            self._printers[row["id"]] = Printer(keys[row["id"]], row["run"], address)
