"""Files: keeping them, letting go of what no run uses, and rows that were checked.

Decision: `docs/decisions/08-files-and-lists.md`.
"""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.commands import KeepFile, KeepRows, RowsToCheck, handles
from yarnloom.engine.records.workflows import KeptFile
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.engine.state.due_times import FILES_DUE, DueTimes
from yarnloom.engine.state.settings import EngineSettings, Folder
from yarnloom.engine.state.transaction_notes import Changes
from yarnloom.errors import Problem
from yarnloom.media_types import JSON_LINES, named_in
from yarnloom.plan.marked_values import files_in, rows_in
from yarnloom.plan.validators import Schema
from yarnloom.row_options import OPTIONS, option_problems
from yarnloom.store import Kept, Unit
from yarnloom.store.files import file_records
from yarnloom.values import JsonObject, JsonValue, fingerprint, pointer

DROPPED_AT_ONCE = 200
KEEPER = "yarnloom"
"""Who keeps what the service made itself."""
_READING = ("sha256", "list", "name", "media_type", *OPTIONS)


@dataclass(slots=True)
class KeptFiles:
    """Keeps files, and drops those that nothing names."""

    unit: Unit
    time: RunTime
    due_times: DueTimes
    changes: Changes
    settings: EngineSettings
    folder: Folder

    @handles(KeepFile)
    def keep_file(self, command: KeepFile) -> KeptFile:
        """Keep a file; return how params name it."""
        self.keep(command.kept, command.name, command.media_type, command.who)
        if command.attempt is not None:
            attempt = self.unit.attempts.get(command.attempt)
            if attempt is not None:
                file_records.use_files(self.unit, attempt.run, {command.kept.sha256})
        return KeptFile(command.kept.sha256, command.name, command.media_type, command.kept.size)

    def keep(self, kept: Kept, name: str, media_type: str, who: str) -> None:
        """Keep a file; one that no run uses for some time is let go of."""
        file_records.keep_file(self.unit, kept, name, media_type, who, self.time.now)
        self.due_times.set(FILES_DUE, self.time.now + round(self.settings.keep_files * 1_000_000))

    @handles(KeepRows)
    def keep_rows(self, command: KeepRows) -> None:
        """Keep what came of a file whose rows were checked."""
        source = command.rows.source
        name = f"rows of {source.get('name', 'a list')}"
        self.keep(command.kept, name[:200], JSON_LINES, KEEPER)
        for kept, other, media_type in command.others:
            self.keep(kept, other, media_type, KEEPER)
        sha256 = source.get("sha256") or source["list"]
        if file_records.file_facts(self.unit, sha256) is not None:
            facts = (command.kept.sha256, command.facts)
            file_records.keep_check(self.unit, sha256, command.rows.kind, *facts)

    def mark_list(self, sha256: str) -> None:
        """See to it that it is known where the values of a list begin."""
        if file_records.marks_of(self.unit, sha256) is None:
            file_records.keep_marks(self.unit, self.folder.files.index_list(sha256))

    def next_drop(self) -> int | None:
        """When the next file may be let go of."""
        since = file_records.next_idle(self.unit)
        return None if since is None else since + round(self.settings.keep_files * 1_000_000)

    def drop_idle_files(self) -> None:
        """Let go of files that no run has used for some time."""
        before = self.time.now - round(self.settings.keep_files * 1_000_000)
        self.changes.dropped += file_records.drop_idle(self.unit, before, DROPPED_AT_ONCE)
        if (following := self.next_drop()) is not None:
            self.due_times.set(FILES_DUE, following)


def unknown_files(unit: Unit, value: JsonValue, schema: Schema, at: str = "") -> list[Problem]:
    """What is wrong with the files in a value: those that are not kept here."""
    found = []
    for where, one, _ in files_in(value, schema):
        known = file_records.file_facts(unit, one["sha256"])
        if known is None:
            found.append(Problem(at + where, "no file with this sha256 is kept; upload it first"))
        elif known["size"] != one["size"]:
            message = f"found the size {one['size']:,}; the file has {known['size']:,} bytes"
            found.append(Problem(at + where + pointer("size"), message))
    for where, one, _ in rows_in(value, schema):
        sha256 = one.get("sha256") or one.get("list")
        if sha256 is None:
            text = "expected a list, or the sha256 of a file that was uploaded"
            found.append(Problem(at + where, text))
        elif file_records.file_facts(unit, sha256) is None:
            found.append(Problem(at + where, "no file with this sha256 is kept; upload it first"))
        for problem in option_problems(one):
            found.append(problem._replace(where=at + where + problem.where))
    return found


def rows_to_check(unit: Unit, value: JsonValue, schema: Schema) -> list[RowsToCheck]:
    """Everything in params whose rows were not checked yet."""
    return [
        rows
        for rows in (rows_of(at, one, marked) for at, one, marked in rows_in(value, schema))
        if checked_rows(unit, rows) is None
    ]


def rows_of(at: str, value: JsonObject, marked: Schema) -> RowsToCheck:
    """A file of rows, as it is to be checked."""
    source = {name: value[name] for name in _READING if value.get(name) is not None}
    if "sha256" in source:
        source.pop("list", None)
    row = {**marked.get("items", {}), "$defs": marked.get("$defs", {})}
    reading = {name: one for name, one in source.items() if name not in ("sha256", "list", "name")}
    ending = source.get("name", "").rpartition(".")[2].lower()
    return RowsToCheck(at, source, fingerprint([row, reading, ending])[:16], row)


def checked_rows(unit: Unit, rows: RowsToCheck) -> JsonObject | None:
    """The list that came of rows that were checked; None if they were not."""
    sha256 = rows.source.get("sha256") or rows.source["list"]
    return file_records.checked(unit, sha256, rows.kind)


def use_named(unit: Unit, run: int, text: str | None) -> set[str]:
    """Note that a run uses every file that a JSON text names; the hashes that are not kept."""
    named = named_in(text)
    return file_records.use_files(unit, run, named) if named else set()
