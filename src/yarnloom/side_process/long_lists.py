"""List jobs: what takes too long for the service's own process, done in a process beside it.

`python -m yarnloom.side_process.long_lists` reads jobs from its standard input, one JSON object a
line. For each it writes its progress, the result and then `end`, also one object a line. Lists are
durable by then, and in use only when the service has recorded them.

A job's `do` is `check` (the rows of a file), `preview` (the first of them), `read` (a long list),
or `gather` (what an each gave).
"""

from __future__ import annotations

import base64
import json
import sys
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from yarnloom.engine.part_contents.lists import ALL, DONE, FAILURES, failed_item, look_through
from yarnloom.media_types import BLOCK, JSON_LINES
from yarnloom.row_options import BadLimit, bad_limit
from yarnloom.store import FileFolder, Kept, open_reader
from yarnloom.store.runs import item_records
from yarnloom.tabular import Dialect, RowCheck, RowProblem, dialect_of
from yarnloom.tabular.bad_rows import BadRows
from yarnloom.values import JsonObject, JsonValue

Job = JsonObject
Say = Callable[[JsonObject], None]

PAGE = 2_000


@dataclass(frozen=True, slots=True)
class CheckedRows:
    """What came of a file whose rows were checked.

    Attributes:
        kept: the list of its rows.
        facts: what is kept beside it: `first_line` or `lines`, `bad_rows`, `bad_count`, `remark`.
        others: files besides: each with its name and media type.
    """

    kept: Kept
    facts: JsonObject
    others: list[tuple[Kept, str, str]]


@dataclass(frozen=True, slots=True)
class RefusedRows:
    """Why a file's rows cannot be used: the first errors, and how many there are."""

    problems: list[RowProblem]
    errors: int


def reading_of(files: FileFolder, source: Job) -> tuple[Path, Dialect]:
    """Where a source of rows is, and how it is read."""
    if "sha256" not in source:
        return files.path(source["list"]), Dialect("json-lines")
    named = source.get("name", ""), source.get("media_type", "")
    options = {name: source[name] for name in _OF_CELLS if source.get(name) is not None}
    return files.path(source["sha256"]), dialect_of(*named, source.get("delimiter"), **options)


_OF_CELLS = ("encoding", "decimal", "thousands")


def check_rows(files: FileFolder, source: Job, schema: Job, say: Say) -> CheckedRows | RefusedRows:
    """Check the rows of a file; the list that comes of them, or the first errors.

    Args:
        files: where the file is, and the list will be.
        source: a file as a run's params name it, with how it is read; or `list`.
        schema: of one row.
        say: told how many rows and bytes were read, and of how many.
    """
    path, dialect = reading_of(files, source)
    size = path.stat().st_size

    def tell(rows: int, read: int) -> None:
        say({"rows": rows, "read": read, "size": size})

    if source.get("bad") != "collect":
        check = RowCheck(path, dialect, schema, tell)
        try:
            kept = files.write_list(_whole(check, None))
        except _Wrong:
            return RefusedRows(check.problems, check.errors)
        return _checked(files, source, check, kept, None)
    limit = None if source.get("at_most_bad") is None else bad_limit(source["at_most_bad"])
    with tempfile.NamedTemporaryFile(prefix="yarnloom-") as spooled:
        bad_path = Path(spooled.name)
        with BadRows(bad_path, dialect) as aside:
            check = RowCheck(path, dialect, schema, tell, aside)
            try:
                kept = files.write_list(_whole(check, limit))
            except _Wrong:
                return RefusedRows(check.problems, check.errors)
        return _checked(files, source, check, kept, bad_path if check.bad else None)


class _Wrong(Exception):
    """A file has too many errors, so no list is kept."""


def _whole(check: RowCheck, limit: BadLimit | None) -> Iterator[str]:
    yield from check.texts()
    if limit is not None and not limit.allows(check.bad, check.bad + check.count):
        most = f"{limit.most:g}%" if limit.percent else f"{limit.most:g}"
        text = f"{check.bad:,} of {check.bad + check.count:,} rows are bad; at most {most} may be"
        check.problems.insert(0, RowProblem(0, None, text))
        raise _Wrong
    if check.fatal or (check.problems and not check.sets_aside):
        raise _Wrong
    if check.bad and not check.count:
        check.problems.insert(0, RowProblem(0, None, "no row of it is good"))
        raise _Wrong


def _checked(
    files: FileFolder, source: Job, check: RowCheck, kept: Kept, bad: Path | None
) -> CheckedRows:
    facts: JsonObject = {}
    others: list[tuple[Kept, str, str]] = []
    if len(check.lines) == 1:
        facts["first_line"] = check.lines[0][1]
    elif check.lines:
        lines = files.write_list(json.dumps(pair) for pair in check.lines)
        facts["lines"] = lines.sha256
        others.append((lines, f"lines of {source.get('name', 'a list')}"[:200], JSON_LINES))
    if remark := check.remark:
        facts["remark"] = remark
    if bad is not None:
        with files.incoming() as incoming, bad.open("rb") as file:
            while block := file.read(BLOCK):
                incoming.write(block)
            whole = Kept(*incoming.finish())
        name = f"bad rows of {source.get('name', 'a list')}"[:200]
        media_type = source.get("media_type", "text/csv")
        others.append((whole, name, media_type))
        facts |= {
            "bad_count": check.bad,
            "bad_rows": {
                "sha256": whole.sha256,
                "name": name,
                "media_type": media_type,
                "size": whole.size,
            },
        }
    return CheckedRows(kept, facts, others)


PREVIEW_READ, PREVIEW_SHOWN = 2_000, 10


def preview_rows(files: FileFolder, source: Job, schema: Job) -> JsonObject:
    """Return the first rows of a file as a run would get them, and the first bad ones.

    It looks at the first rows only.
    """
    path, dialect = reading_of(files, source)
    rows: list[JsonValue] = []
    with (
        tempfile.NamedTemporaryFile(prefix="yarnloom-") as spooled,
        BadRows(Path(spooled.name), dialect) as aside,
    ):
        check = RowCheck(path, dialect, schema, aside=aside)
        for text in check.texts():
            if len(rows) < PREVIEW_SHOWN:
                rows.append(json.loads(text))
            if check.count + check.bad >= PREVIEW_READ:
                return _previewed(check, rows, whole=False)
    return _previewed(check, rows, whole=True)


def _previewed(check: RowCheck, rows: list[JsonValue], *, whole: bool) -> JsonObject:
    problems = [
        {"line": problem.line, "column": problem.column, "message": problem.message}
        for problem in check.problems
    ]
    return {
        "rows": rows,
        "good": check.count,
        "bad": check.bad,
        "whole": whole,
        "problems": problems,
        "remark": check.remark or None,
    }


def gather(files: FileFolder, data: Path, job: Job) -> dict[str, Kept]:
    """Put together what an each gave: `all`, those `done`, and `failures`, as far as wanted."""
    texts = {
        ALL: lambda: _outputs(data, job, only_done=False),
        DONE: lambda: _outputs(data, job, only_done=True),
        FAILURES: lambda: _failures(data, job),
    }
    return {kind: files.write_list(texts[kind]()) for kind in job["kinds"]}


def _outputs(data: Path, job: Job, *, only_done: bool) -> Iterator[str]:
    # In pages, each with a connection's short transaction, so that the log can be folded back.
    with open_reader(data) as connection:
        for first in range(0, item_records.item_count(connection, job["part"]), PAGE):
            page = item_records.item_outputs(
                connection,
                job["part"],
                job["node"],
                range(first, first + PAGE),
                only_done=only_done,
            )
            yield from (output or "null" for output in page)


def _failures(data: Path, job: Job) -> Iterator[str]:
    after = -1
    with open_reader(data) as connection:
        while page := item_records.failed_items_behind(connection, job["part"], after, PAGE):
            for item, name, error in page:
                yield failed_item(job["address"], item, name, error)
                after = item


def do_list_job(data: Path, job: Job) -> tuple[dict[str, Kept], str | None]:
    """Do a list job that the engine asked for; what came of it, and why it cannot be used, if so.

    Args:
        data: the data folder.
        job: the facts of the list job, with `do` and `part`.
    """
    files = FileFolder(data)
    if job["do"] == "gather":
        return gather(files, data, job), None
    kept, fault = look_through(files, job["list"], job["name"])
    return {"list": kept}, fault


# As a process


def main() -> int:
    """Do jobs until there are no more."""
    for line in sys.stdin:
        _do(json.loads(line))
        _say({"end": True})
    return 0


def _do(job: Job) -> None:
    data = Path(job["data"])
    if job["do"] == "check":
        found = check_rows(FileFolder(data), job["source"], job["schema"], _say)
        if isinstance(found, CheckedRows):
            others = [[to_json(kept), *named] for kept, *named in found.others]
            _say({"list": to_json(found.kept), "facts": found.facts, "others": others})
        else:
            problems = [
                [problem.line, problem.column, problem.message] for problem in found.problems
            ]
            _say({"problems": problems, "errors": found.errors})
        return
    if job["do"] == "preview":
        _say(preview_rows(FileFolder(data), job["source"], job["schema"]))
        return
    lists, fault = do_list_job(data, job)
    _say({"lists": {kind: to_json(kept) for kind, kept in lists.items()}, "fault": fault})


def _say(message: JsonObject) -> None:
    sys.stdout.write(json.dumps(message) + "\n")
    sys.stdout.flush()


def to_json(kept: Kept) -> JsonObject:
    """What was kept, for the way between processes."""
    marks = base64.b64encode(kept.marks or b"").decode()
    return {"sha256": kept.sha256, "size": kept.size, "count": kept.count, "marks": marks}


def from_json(found: JsonObject) -> Kept:
    """The same on the other side."""
    marks = base64.b64decode(found["marks"])
    return Kept(found["sha256"], found["size"], found["count"], marks)


if __name__ == "__main__":
    sys.exit(main())
