"""Steps as JSON text, for the record of a run: most are items of batches, which differ little."""

from __future__ import annotations

import json
import re
from json.encoder import encode_basestring
from typing import Any

from yarnloom.engine.queries import either_form, export_pages
from yarnloom.engine.queries.export_pages import RecordedStep
from yarnloom.plan import Plan
from yarnloom.secrets import has_sealed, mask
from yarnloom.service.render.parts import recorded_attempt_json, recorded_step_json
from yarnloom.store import Connection, Row
from yarnloom.units import iso_time
from yarnloom.values import JsonObject


def step_texts(
    connection: Connection, plan: Plan, number: int, after: int, limit: int
) -> tuple[list[str], int | None]:
    """Return a page of steps as JSON texts, and where the next page begins.

    The arguments are those of `export_pages.steps`.
    """
    page, following = export_pages.steps(connection, plan, number, after, limit)
    batches = StepTexts(number)
    texts = [_whole(one) if isinstance(one, RecordedStep) else batches.text(one) for one in page]
    return texts, following


def _whole(step: RecordedStep) -> str:
    attempts = [recorded_attempt_json(row) for row in step.attempts]
    return _step_text(step.address, step.task, step.row, attempts)


def _step_text(address: str, task: str, row: Row, attempts: list[JsonObject]) -> str:
    values = {
        "input": mask(json.loads(row["input"])),
        "output": None if row["output"] is None else json.loads(row["output"]),
    }
    return _text({**recorded_step_json(address, task, row, attempts), **values})


def _text(shown: JsonObject) -> str:
    return json.dumps(shown, ensure_ascii=False, separators=(",", ":"))


def _number(value: float | None) -> str:
    return "null" if value is None else repr(value)


class StepTexts:
    """Writes steps of batches as JSON text: one field by field, the others as that one.

    Args:
        run: the run's number.
    """

    # What differs, as numbers and texts that nothing else has.
    _READY, _BEGUN, _ENDED = (at * 10**15 for at in (31, 32, 33))
    _ID, _PID, _CPU, _MEMORY = (7_000_000_000_000_001 + at for at in range(4))
    _INPUT, _OUTPUT, _ADDRESS = "\x01input", "\x01output", "\x01address"

    def __init__(self, run: int) -> None:
        self._run = run
        self._shapes: dict[tuple[Any, ...], tuple[list[str], list[str]]] = {}

    def text(self, unread: either_form.Unread) -> str:
        """Return the step of an item as JSON text."""
        index, batch, (behind, began, took, pid, cpu, memory, output) = unread.place
        alike = (batch.each, batch.worker, batch.code_hash, batch.pool, batch.round)
        if alike not in self._shapes:
            self._shapes[alike] = self._shape_of(unread)
        literals, names = self._shapes[alike]
        given, address = unread.of.input_and_address(index)
        begun_at = batch.handed_at + began
        own = {
            "id": str(batch.attempt + behind),
            "pid": _number(pid),
            "cpu": _number(None if cpu is None else cpu / 1_000_000),
            "memory": _number(memory),
            "ready": f'"{iso_time(batch.handed_at)}"',
            "begun": f'"{iso_time(begun_at)}"',
            "ended": f'"{iso_time(begun_at + took)}"',
            "input": _text(mask(json.loads(given))) if has_sealed(given) else given,
            "output": str(output) if type(output) is int else _text(output),
            "address": encode_basestring(f"{self._run}/{address}"),
        }
        pieces = [literals[0]]
        for name, literal in zip(names, literals[1:], strict=True):
            pieces += (own[name], literal)
        return "".join(pieces)

    def _shape_of(self, unread: either_form.Unread) -> tuple[list[str], list[str]]:
        """The text of a step of a batch in pieces, and the name of what comes between them."""
        item = unread.expand()
        times = {"begun_at": self._BEGUN, "ended_at": self._ENDED}
        times |= {"ready_at": self._READY, "handed_at": self._READY}
        facts = {"id": self._ID, "pid": self._PID, "cpu": self._CPU, "memory": self._MEMORY}
        attempt = recorded_attempt_json({**item.attempt, **facts, **times})
        values = {"input": json.dumps(self._INPUT), "output": json.dumps(self._OUTPUT)}
        step = {**item.step, **values, **times, "started_at": self._BEGUN}
        text = _step_text(self._ADDRESS, unread.of.node.task, step, [attempt])
        marks = {
            str(self._ID): "id",
            str(self._PID): "pid",
            json.dumps(self._CPU / 1_000_000): "cpu",
            str(self._MEMORY): "memory",
            json.dumps(iso_time(self._READY)): "ready",
            json.dumps(iso_time(self._BEGUN)): "begun",
            json.dumps(iso_time(self._ENDED)): "ended",
            json.dumps(self._INPUT): "input",
            json.dumps(self._OUTPUT): "output",
            json.dumps(self._ADDRESS): "address",
        }
        pieces = re.split(f"({'|'.join(map(re.escape, marks))})", text)
        return pieces[::2], [marks[piece] for piece in pieces[1::2]]
