"""List jobs: what takes too long for the service's own process, done in a process beside it.

`python -m yarnloom.side_process.long_lists` reads jobs from its standard input, one JSON object a
line. For each it writes its progress, the result and then `end`, also one object a line. Lists are
durable by then, and in use only when the service has recorded them.

A job's `do` is `check` (the rows of a file), `read` (a long list), or `gather` (what an each gave).
"""

from __future__ import annotations

import base64
import json
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

from yarnloom.engine.part_contents.lists import ALL, DONE, FAILURES, failed_item, look_through
from yarnloom.store import FileFolder, Kept, open_reader
from yarnloom.store.runs import item_records
from yarnloom.tabular import Dialect, RowCheck, RowProblem, dialect_of
from yarnloom.values import JsonObject

Job = JsonObject
Say = Callable[[JsonObject], None]

PAGE = 2_000


def check_rows(files: FileFolder, source: Job, schema: Job, say: Say) -> Kept | list[RowProblem]:
    """Check the rows of a file; the list that comes of them, or the first errors.

    Args:
        files: where the file is, and the list will be.
        source: `sha256`, `name`, `media_type` and `delimiter` of a file; or `list`.
        schema: of one row.
        say: told how many rows and bytes were read, and of how many.
    """
    if "sha256" in source:
        path = files.path(source["sha256"])
        named = source.get("name", ""), source.get("media_type", "")
        dialect = dialect_of(*named, source.get("delimiter"))
    else:
        path, dialect = files.path(source["list"]), Dialect("json-lines")
    size = path.stat().st_size
    check = RowCheck(
        path, dialect, schema, lambda rows, read: say({"rows": rows, "read": read, "size": size})
    )
    try:
        return files.write_list(_whole(check))
    except _Wrong:
        return check.problems


class _Wrong(Exception):
    """A file has errors, so no list is kept."""


def _whole(check: RowCheck) -> Iterator[str]:
    yield from check.texts()
    if check.problems:
        raise _Wrong


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
        if isinstance(found, Kept):
            _say({"list": to_json(found)})
        else:
            _say({"problems": [[one.line, one.column, one.message] for one in found]})
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
