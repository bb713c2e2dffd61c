"""Lists of eaches: their names and faults, and the jobs about long ones that others do.

Decision: `docs/decisions/08-files-and-lists.md`.
"""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import dataclass

from yarnloom.engine.commands import ListJob
from yarnloom.engine.part_contents.faults import ItemFault
from yarnloom.engine.records.errors import StepError, TaskFault
from yarnloom.engine.rules.states import StepState
from yarnloom.engine.state.each_memory import Jobs
from yarnloom.engine.state.plans import Plans
from yarnloom.engine.state.settings import EngineSettings
from yarnloom.errors import ValueRefused
from yarnloom.plan import EachFacts, Node
from yarnloom.plan.model import item_key
from yarnloom.store import PartRow, RunRow, Unit
from yarnloom.store.files import file_records
from yarnloom.store.files.file_folder import FileFolder, Kept
from yarnloom.values import JsonObject, JsonValue, decode

ALL, DONE, FAILURES = "all", "done", "failures"
"""What can be gathered of an each: every item's output, those of items done, those that failed."""


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


READ, GATHER = "read", "gather"


@dataclass(slots=True)
class ListJobs:
    """Asks others to read or gather long lists."""

    unit: Unit
    plans: Plans
    settings: EngineSettings
    jobs: Jobs

    def ask_to_read(self, part: PartRow, facts: EachFacts, text: str) -> None:
        """Ask for the names in a list that is a file, and where its values begin."""
        found = decode(text)
        about = {"list": found["list"], "name": facts.name, "text": text, "count": found["count"]}
        self._ask(part, READ, about)

    def ask_to_gather(self, run: RunRow, part: PartRow, node: Node) -> None:
        """Let what an each gives be put together in files."""
        about = {
            "kinds": list(kinds_to_gather(self.settings, part, node)),
            "node": node.children[0],
            "address": self.plans.part_address(run, part),
        }
        self._ask(part, GATHER, about)

    def must_gather(self, part: PartRow, node: Node, outcome: StepState) -> bool:
        """Whether something has to be gathered, and was not yet, before an each is decided."""
        if node.each is None:
            return False
        wanted = kinds_to_gather(self.settings, part, node)
        if outcome is not StepState.DONE:
            wanted = tuple(kind for kind in wanted if kind == FAILURES)
        return any(file_records.gathered_list(self.unit, part.id, kind) is None for kind in wanted)

    def forget_gathered(self, part: PartRow) -> None:
        """What an each gave is void, since something in it runs again."""
        file_records.drop_lists(self.unit, part.id)
        self.jobs.open.pop(part.id, None)
        part.awaits = None

    def _ask(self, part: PartRow, kind: str, facts: JsonObject) -> None:
        self.jobs.serial += 1
        list_job = ListJob(part.id, kind, self.jobs.serial, facts)
        self.jobs.open[part.id] = list_job
        self.jobs.new.append(list_job)
        part.awaits = kind
        self.unit.parts.touch(part)


def kinds_to_gather(settings: EngineSettings, part: PartRow, node: Node) -> tuple[str, ...]:
    """What is read of an each and too long for a value."""
    kinds = []
    failed = part.failed > 0
    if part.size > settings.list_above:
        kinds += [ALL] if node.wanted else []
        kinds += [DONE] if node.done_wanted else []
    if failed and node.failures_wanted and part.failed > settings.failures_above:
        kinds.append(FAILURES)
    return tuple(kinds)
