"""The report queue: what the service has to hear of attempts, in order, until it has heard it."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from pydantic_core import to_json

from yarnloom.task_texts import cut_text, error_record
from yarnloom.values import JsonObject, JsonValue
from yarnloom.worker.clock import Clock, Timer

Message = JsonObject

SAVE_SECONDS = 0.5

REPORT_BYTES = 4 * 1024 * 1024
"""Of a report, and of the lines in it: what is over it comes with the next."""

REPORT_ITEMS = 1_000

FEWEST_DONE = 4
"""Items that are simply done, from which on they are told as columns."""

OF_DONE = frozenset(
    ("attempt", "pid", "outcome", "output", "cpu", "memory", "begun_at", "ended_at")
)
"""The fields of such an item."""

LOG_BYTES_AN_ATTEMPT = 4 * 1024 * 1024

REFUSAL_BYTES = 1_000

REFUSED_AGAIN_SECONDS = 60.0

NOT_TOLD = "ReportRefused"
"""Type of the error of an attempt whose end the service did not take."""


@dataclass(frozen=True, slots=True)
class ReportBatch:
    """What one report tells.

    Attributes:
        items: begins and ends of attempts.
        logs: lines that attempts printed, in batches.
        freed: abandoned attempts whose process has ended.
        saved: what running attempts saved, by attempt.
        acks: done when the service has the report.
    """

    items: list[Message]
    logs: list[Message]
    freed: list[int]
    saved: dict[int, Message]
    acks: list[asyncio.Future[None]]

    @property
    def halves(self) -> list[ReportBatch]:
        """The same in two reports, in their order, or none where it cannot be divided.

        Lines come before ends, since a reader who sees an end expects the whole log.
        """
        kinds = [
            ReportBatch([], self.logs, [], {}, []),
            ReportBatch([], [], [], self.saved, []),
            ReportBatch(self.items, [], [], {}, []),
            ReportBatch([], [], self.freed, {}, []),
        ]
        kinds = [batch for batch in kinds if batch.count]
        if len(kinds) > 1:
            parts = kinds
        elif self.count > 1:
            parts = self._halves_of_one_kind()
        else:
            return []
        parts[-1] = replace(parts[-1], acks=self.acks)
        return parts

    @property
    def count(self) -> int:
        """How many lines, ends, records and freed attempts it tells."""
        lines = sum(len(batch["lines"]) for batch in self.logs)
        return lines + len(self.items) + len(self.freed) + len(self.saved)

    def _halves_of_one_kind(self) -> list[ReportBatch]:
        empty = ReportBatch([], [], [], {}, [])
        logs, saved = self.logs, list(self.saved.items())
        if len(logs) == 1:
            lines, first = logs[0]["lines"], logs[0]["first"]
            half = len(lines) // 2
            return [
                replace(empty, logs=[{**logs[0], "lines": lines[:half]}]),
                replace(empty, logs=[{**logs[0], "lines": lines[half:], "first": first + half}]),
            ]
        pairs = (("logs", logs), ("saved", saved), ("items", self.items), ("freed", self.freed))
        name, entries = next((name, entries) for name, entries in pairs if entries)
        half = len(entries) // 2
        cut: list[Any] = [entries[:half], entries[half:]]
        if name == "saved":
            cut = [dict(part) for part in cut]
        return [replace(empty, **{name: part}) for part in cut]

    def body(self, now: float) -> Message:
        """Return the body of the request; times are seconds before now."""
        ended = {item["attempt"] for item in self.items if item.get("outcome")}
        return {
            **_items_and_done(self.items, now),
            "logs": self.logs,
            "freed": self.freed,
            # The end of an attempt carries what it saved itself.
            "saved": {str(one): record for one, record in self.saved.items() if one not in ended},
        }


class ReportQueue:
    """Reports about attempts that wait for the service.

    Args:
        clock: the clock.
        on_end: called when an attempt is over.

    Attributes:
        news: set when there is something to send.
    """

    def __init__(self, clock: Clock, on_end: Callable[[int], None]) -> None:
        self._clock = clock
        self._on_end = on_end
        self.news = asyncio.Event()
        self._items: list[Message] = []
        self._begun: dict[int, Message] = {}
        self._lines: dict[int, list[Message]] = {}
        self._sent_lines: dict[int, int] = {}
        self._printed: dict[int, int] = {}  # bytes, by attempt
        self._freed: list[int] = []
        self._saved: dict[int, Message] = {}
        self._save_timer: Timer | None = None
        self._acks: list[asyncio.Future[None]] = []

    def report(self, item: Message) -> None:
        """Tell the service how an attempt ended, now or as soon as it can be reached."""
        if self._begun:
            self._begun.pop(item["attempt"], None)  # the end says when it began, too
        self._on_end(item["attempt"])
        self._items.append(item)
        self.news.set()

    def report_all(self, items: list[Message]) -> None:
        """The same of many attempts."""
        for item in items:
            if self._begun:
                self._begun.pop(item["attempt"], None)
            self._on_end(item["attempt"])
        self._items += items
        self.news.set()

    def report_begun(self, item: Message) -> None:
        """Tell the service that an attempt began; where it has ended until then, only that."""
        self._begun[item["attempt"]] = item
        self.news.set()

    def freed(self, attempt: int) -> None:
        """Tell the service that the process of an abandoned attempt has ended."""
        self._freed.append(attempt)
        self.news.set()

    def line(self, attempt: int, line: Message) -> None:
        """Pass on a line that an attempt printed; what is too much is dropped, and said so."""
        before = self._printed.get(attempt, 0)
        if before > LOG_BYTES_AN_ATTEMPT:
            return
        after = self._printed[attempt] = before + _size(line)
        if after > LOG_BYTES_AN_ATTEMPT:
            note = f"more than {LOG_BYTES_AN_ATTEMPT:,} bytes printed; what follows was dropped"
            line = {"at": line["at"], "stream": "yarnloom", "text": note}
        self._lines.setdefault(attempt, []).append(line)
        self.news.set()

    def forget(self, attempt: int) -> None:
        """An attempt is fenced off: nothing of it is reported any more."""
        self._items = [item for item in self._items if item["attempt"] != attempt]
        self._begun.pop(attempt, None)
        self._on_end(attempt)
        for kept in (self._lines, self._sent_lines, self._printed, self._saved):
            kept.pop(attempt, None)

    def saved(self, attempt: int, record: Message) -> None:
        """Tell the service what a running attempt saved, a little later and the newest only."""
        self._saved[attempt] = record
        if self._save_timer is None:
            self._save_timer = self._clock.later(SAVE_SECONDS, self._tell_saved)

    def _tell_saved(self) -> None:
        self._save_timer = None
        if self._saved:
            self.news.set()

    def wake(self) -> None:
        """Something changed that the service should hear of at once, such as the places."""
        self.news.set()

    def acknowledge_saved(self) -> asyncio.Future[None]:
        """Return a future that is done when the service has all that was saved until now."""
        ack: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self._acks.append(ack)
        self.news.set()
        return ack

    @property
    def settled(self) -> bool:
        """Whether the service has everything."""
        return not self._items and not self._begun and not self._lines and not self._freed

    def attempts_to_report(self) -> set[int]:
        """Attempts whose end the service has not heard of."""
        return {item["attempt"] for item in self._items}

    def clear(self) -> None:
        """Forget everything."""
        self._items.clear()
        self._begun.clear()
        self._freed.clear()
        for kept in (self._lines, self._sent_lines, self._printed, self._saved):
            kept.clear()

    def close(self) -> None:
        """Stop the timer."""
        if self._save_timer:
            self._save_timer.cancel()

    # Sending

    def take(self) -> ReportBatch:
        """Take out what one report holds."""
        self.news.clear()
        logs = self._take_lines()
        items = self._take_items()
        freed, self._freed = self._freed, []
        saved = self._take_saved()
        acks: list[asyncio.Future[None]] = []
        if not self._saved:  # else what they wait for comes with the next
            acks, self._acks = self._acks, []
        return ReportBatch(items, logs, freed, saved, acks)

    def delivered(self, report: ReportBatch) -> None:
        """Take note that the service has a report."""
        self._forget_lines(report.items)
        for ack in report.acks:
            if not ack.done():
                ack.set_result(None)
        if self._lines or self._items or self._saved:
            self.news.set()

    def refused(self, report: ReportBatch, why: str) -> str:
        """Take out of a refused report what can never be told; return what that means, for people.

        The report tells one thing. The end of an attempt becomes a failure that says why it could
        not be told; of other things nothing is told any more.
        """
        why = cut_text(why, REFUSAL_BYTES)
        if not report.items:
            self.delivered(report)
            for attempt in [*(batch["attempt"] for batch in report.logs), *report.saved]:
                lost = "a line" if report.logs else "a saved record"
                return f"attempt {attempt}: the service refused {lost}, which is lost: {why}"
            return f"the service refused a report: {why}"
        item = report.items[0]
        attempt = item["attempt"]
        if item["outcome"] is None:
            self.delivered(report)
            return f"attempt {attempt}: the service refused the report of its begin: {why}"
        if (item.get("error") or {}).get("type") == NOT_TOLD:
            self.delivered(replace(report, items=[]))
            self._clock.later(REFUSED_AGAIN_SECONDS, self._add_again, item)
            return f"attempt {attempt}: the service takes no end of it, and is asked again: {why}"
        error = error_record(NOT_TOLD, f"the service refused the report of its end: {why}")
        kept: Message = {name: item[name] for name in ("begun_at", "ended_at") if name in item}
        self.delivered(replace(report, items=[]))
        self._items.insert(0, {"attempt": attempt, "outcome": "failed", "error": error, **kept})
        self.news.set()
        return f"attempt {attempt} failed, since the service refused the report of its end: {why}"

    def _add_again(self, item: Message) -> None:
        self._items.append(item)
        self.news.set()

    def put_back(self, report: ReportBatch) -> None:
        """Put a report back that the service did not get, before all else."""
        self._items[:0] = report.items
        self._freed[:0] = report.freed
        self._saved = report.saved | self._saved
        self._acks[:0] = report.acks
        for batch in report.logs:
            self._lines[batch["attempt"]] = batch["lines"] + self._lines.get(batch["attempt"], [])
            self._sent_lines[batch["attempt"]] = batch["first"]

    def _take_lines(self) -> list[Message]:
        """Batches of lines, up to about half of `REPORT_BYTES`."""
        batches, room = [], REPORT_BYTES // 2
        for attempt in list(self._lines):
            waiting, count = self._lines[attempt], 0
            while count < len(waiting) and room > 0:
                room -= _size(waiting[count])
                count += 1
            if count:
                first = self._sent_lines.get(attempt, 0)
                batches.append({"attempt": attempt, "first": first, "lines": waiting[:count]})
                self._sent_lines[attempt] = first + count
                del waiting[:count]
            if not waiting:
                del self._lines[attempt]
        return batches

    def _take_items(self) -> list[Message]:
        """What can be told now: the end of an attempt waits until all its lines are sent."""
        items = list(self._begun.values())
        self._begun.clear()
        left: list[Message] = []
        room = REPORT_BYTES // 2
        lines, held = self._lines, set()
        for item in self._items:
            # Report the attempts of a process in their order: one can be behind another.
            if lines and (item["attempt"] in lines or item.get("pid") in held):
                if "pid" in item:
                    held.add(item["pid"])
                left.append(item)
                continue
            if room <= 0 or len(items) >= REPORT_ITEMS:
                left.append(item)
                continue
            items.append(item)
            room -= _weight_of_end(item)
        self._items = left
        return items

    def _take_saved(self) -> dict[int, Message]:
        """What running attempts saved, as much as a report holds."""
        taken: dict[int, Message] = {}
        room = REPORT_BYTES // 2
        while self._saved and room > 0:
            attempt, record = self._saved.popitem()
            taken[attempt] = record
            room -= _weight(record)
        return taken

    def _forget_lines(self, items: list[Message]) -> None:
        """The service has taken the end of these attempts: no line of them comes any more."""
        if not self._sent_lines and not self._printed:
            return
        for item in items:
            if item["outcome"]:
                self._sent_lines.pop(item["attempt"], None)
                self._printed.pop(item["attempt"], None)


def _items_and_done(items: list[Message], now: float) -> Message:
    """Items as a report tells them, those that are simply done as columns.

    Times are seconds ago: the two clocks need not agree.
    """
    # Columns halve the bytes and the time to check; the few others keep their shape.
    done = [item for item in items if item.keys() == OF_DONE and item["outcome"] == "done"]
    if len(done) < FEWEST_DONE:
        return {"items": [_aged(item, now) for item in items]}
    others = [item for item in items if item.keys() != OF_DONE or item["outcome"] != "done"]
    return {
        "items": [_aged(item, now) for item in others],
        "done": {
            "attempts": [item["attempt"] for item in done],
            "outputs": [item["output"] for item in done],
            "begun_ago": [max(0.0, now - item["begun_at"]) for item in done],
            "ended_ago": [max(0.0, now - item["ended_at"]) for item in done],
            "pids": [item["pid"] for item in done],
            "cpu": [item["cpu"] for item in done],
            "memory": [item["memory"] for item in done],
        },
    }


def _aged(item: Message, now: float) -> Message:
    """An item with its times as seconds ago."""
    aged = dict(item)
    if (begun_at := aged.pop("begun_at", None)) is not None:
        aged["begun_ago"] = max(0.0, now - begun_at)
    if (ended_at := aged.pop("ended_at", None)) is not None:
        aged["ended_ago"] = max(0.0, now - ended_at)
    return aged


_SMALL = frozenset((int, float, bool, type(None)))


def _weight_of_end(item: Message) -> int:
    """About how many bytes an item of a report takes."""
    if item.keys() == OF_DONE and type(item["output"]) in _SMALL:
        return 200
    return 200 + sum(_weight(item[name]) for name in ("output", "error", "saved") if name in item)


def _weight(value: JsonValue) -> int:
    """About how many bytes a value takes; only large ones are looked at closely."""
    if isinstance(value, str):
        return len(value)
    if isinstance(value, dict):
        return sum(_weight(one) + 20 for one in value.values())
    if isinstance(value, list):
        return sum(_weight(one) + 2 for one in value)
    return 10


def _size(line: Message) -> int:
    """About how many bytes a line takes, where it is sent and kept."""
    text = line.get("text")
    return 80 + (len(text) if text is not None else len(to_json(line["value"])))
