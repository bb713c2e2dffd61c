"""Lists: the names of their values, the three lists that an each gives, the form of a failure.

Nothing here needs a transaction, so that a process beside the service can do it
(`side_process/list_jobs`).
"""

from __future__ import annotations

import json
from collections.abc import Iterable

from yarnloom.engine.records.errors import StepError, TaskFault
from yarnloom.errors import ValueRefused
from yarnloom.plan.addresses import item_key
from yarnloom.store.file_folder import FileFolder, Kept
from yarnloom.values import JsonValue, decode

ALL, DONE, FAILURES = "all", "done", "failures"
"""What can be gathered of an each: every item's output, those of items done, those that failed."""


class ItemFault(Exception):
    """A part cannot begin: it reads a value that does not fit."""

    def __init__(self, message: str, kind: str = "Unfit") -> None:
        super().__init__(message)
        self.type = kind


def look_through(
    files: FileFolder, sha256: str, name: tuple[str, ...] | None
) -> tuple[Kept, str | None]:
    """A list that is a file, with where its values begin; and why it cannot be used, if so."""
    values = (decode(line, "a line of the list") for line in files.lines(sha256))
    try:
        if name is None:
            for _ in values:
                pass
        else:
            refuse_names(values, tuple(name))
    except (ItemFault, ValueRefused) as found:
        return files.index_list(sha256), str(found)
    return files.index_list(sha256), None


def refuse_names(values: Iterable[JsonValue], path: tuple[str, ...]) -> None:
    """Refuse a list of which two values have one name, or one has none.

    Raises:
        ItemFault: so it is; both positions are told.
    """
    seen: dict[str, int] = {}
    for index, value in enumerate(values):
        name = name_of(value, path)
        if name is None:
            raise ItemFault(
                f"item {index} has no name at {'.'.join(path) or 'item()'}; expected text or a "
                f"whole number: {json.dumps(value, ensure_ascii=False):.60}"
            )
        if name in seen:
            raise ItemFault(f"items {seen[name]} and {index} have the same name, {name!r:.80}")
        seen[name] = index


def name_of(value: JsonValue, path: tuple[str, ...]) -> str | None:
    """The name of an item: text or a whole number at a path in its value; None for none."""
    for key in path:
        value = value.get(key) if isinstance(value, dict) else None
    if isinstance(value, str):
        return value if 0 < len(value) <= 200 else None
    return str(value) if isinstance(value, int) and not isinstance(value, bool) else None


def failed_item(each: str, item: int, name: str | None, error: str | None) -> str:
    """A failed item as `failures()` lists it, as JSON text; `each` is the each's address."""
    shown = name if name is not None else str(item)
    row = {"name": shown, "address": f"{each}[{item_key(name, item)}]"}
    return dump_text({**row, "error": fault_of(json.loads(error or "{}"))})


def fault_of(error: StepError) -> TaskFault:
    """Return the fields of an error that tasks get."""
    return {"type": error.get("type", "Error"), "message": error.get("message", "")}


def dump_text(value: JsonValue) -> str:
    """A value as compact JSON text."""
    return json.dumps(value, ensure_ascii=False, separators=(",", ":"))
