"""Reports about attempts: begins, ends, what they saved and printed; without their secrets."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from yarnloom.masking import masked_in, worth_masking
from yarnloom.task_texts import cut_error
from yarnloom.values import JsonObject
from yarnloom.worker.attempt_notices import AttemptNotices
from yarnloom.worker.processes.child_process import Child
from yarnloom.worker.report_queue import ReportQueue

Message = JsonObject


Reply = Callable[[Message], None]
"""Takes `answer` or `error`."""

AskService = Callable[[int, Message, Reply], None]
"""Asks the service something for an attempt."""


class AttemptReports:
    """What the service hears of attempts.

    Args:
        queue: where reports wait for the service.
        ask: asks the service.
        load: the looms, for people.
        say: tells the user.
    """

    def __init__(
        self, queue: ReportQueue, ask: AskService, load: str, say: Callable[[str], None]
    ) -> None:
        self.queue = queue
        self._ask = ask
        self._load = load
        self._say = say
        self.notices: AttemptNotices | None = None
        self._saved: dict[int, Message] = {}

    def has_saved(self, attempt: int) -> bool:
        """Whether an attempt has saved anything."""
        return attempt in self._saved

    def forget(self, attempt: int) -> None:
        """Forget what an attempt saved."""
        self._saved.pop(attempt, None)

    def begun(self, child: Child, attempt: int) -> None:
        """Report that an attempt began."""
        item = {"attempt": attempt, "outcome": None, "pid": child.pid}
        self.queue.report_begun({**item, "begun_at": child.begun[attempt]})

    def hand_back(self, attempt: int, why: str) -> None:
        """Give an attempt back that has not begun."""
        error = {"type": "NotBegun", "message": why}
        self.queue.report({"attempt": attempt, "outcome": "handed_back", "error": error})

    def ended(self, child: Child, attempt: int, **item: Any) -> None:
        """Report that an attempt ended, with what it saved and without its secrets."""
        if attempt in self._saved:
            item = {**self.saved_of(attempt), **item}
        if item.get("error"):
            item["error"] = cut_error(item["error"])
        if child.attempts[attempt].get("secrets"):
            item = self._masked(child, attempt, item)
        if self.notices is not None:
            self.notices.ended(child.attempts[attempt]["address"], item)
        self.queue.report({"attempt": attempt, "pid": child.pid, **item})

    def save(self, child: Child, attempt: int, changed: Message) -> None:
        """Keep what an attempt saved, so that it is not lost with its process."""
        record = self._saved.get(attempt)
        if record is None:
            record = self._saved[attempt] = dict(child.attempts[attempt].get("saved") or {})
        secrets = self._secrets(child, attempt)
        record.update(masked_in(changed, secrets) if secrets else changed)
        self.queue.saved(attempt, record)

    def saved_of(self, attempt: int) -> Message:
        """Return what goes with the report of an attempt's end."""
        record = self._saved.pop(attempt, None)
        return {"saved": record} if record else {}

    def ask(self, child: Child, attempt: int, message: Message) -> None:
        """Pass a question of an attempt on, and the answer back."""
        question = message["question"]
        if question["kind"] == "save":
            self.save(child, attempt, question["saved"])

        def reply(answer: Message) -> None:
            to = {"kind": "reply", "attempt": attempt, "call": message["call"]}
            child.send({**to, **answer})

        self._ask(attempt, question, reply)

    def line(self, child: Child, line: Message, attempt: int | None) -> None:
        """Pass on a printed line, of an attempt or of none."""
        if attempt is not None and (work := child.attempts.get(attempt)) is not None:
            if work.get("secrets"):
                line = masked_in(line, self._secrets(child, attempt))
            if line["stream"] == "published":
                line = {**line, "address": work["address"]}
            if self.notices is not None:
                self.notices.line(work["address"], line)
            self.queue.line(attempt, line)
        elif not child.ready:
            self._say(f"{self._load}: {line['text']}")
        elif child.shared:
            self._say(f"a shared process, by whichever attempt: {line['text']}")
        else:
            self._say(f"a process between attempts: {line['text']}")

    def _secrets(self, child: Child, attempt: int | None) -> tuple[str, ...]:
        """Return the texts that an attempt was given and that nobody may see."""
        work = child.attempts.get(attempt, {}) if attempt is not None else {}
        return worth_masking(work.get("secrets", ()))

    def _masked(self, child: Child, attempt: int, item: Message) -> Message:
        """What is told of an attempt, without the secrets that it was given."""
        secrets = self._secrets(child, attempt)
        if not secrets:
            return item
        if (output := item.get("output")) is not None and masked_in(output, secrets) != output:
            error = {"type": "ValueRefused", "message": "what it returned holds a secret param"}
            item = {**item, "outcome": "failed", "output": None, "error": error}
        return {
            name: masked_in(value, secrets) if name in ("error", "saved") else value
            for name, value in item.items()
        }
