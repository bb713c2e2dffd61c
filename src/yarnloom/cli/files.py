"""Commands about files: files, upload, download, and export of what a run did."""

from __future__ import annotations

import shutil
import sys
import tempfile
from argparse import Namespace
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn
from rich.text import Text

from yarnloom.cli import output
from yarnloom.cli.options import Add, Parser, positive
from yarnloom.cli.output import out
from yarnloom.cli.part_address import split_address
from yarnloom.client import Client, Request
from yarnloom.client.http_requests import OnCheck, files_request
from yarnloom.errors import InvalidInput
from yarnloom.units import size_text
from yarnloom.values import JsonObject

SHOWN_ROWS = 10
SHORT = 12


def files(client: Client, options: Namespace) -> int:
    """List files, or show one with what is in it."""
    if options.file:
        return _show(client, options)
    found = client.call(files_request(options.limit))["files"]
    if options.json:
        output.print_json({"files": found})
    elif found:
        table = output.table(
            "file", "name", "type", "size", "rows", "runs", "kept", numbers=("size", "rows", "runs")
        )
        for one in output.readable(found):
            rows = f"{one['count']:,}" if one["count"] is not None else ""
            table.add_row(
                one["sha256"][:SHORT],
                one["name"],
                one["media_type"],
                size_text(one["size"]),
                rows,
                str(one["runs"] or ""),
                output.ago(one["kept_at"]),
            )
        out.print(table)
    else:
        output.say("no files; keep one with `yarnloom upload PATH`")
    return 0


def _show(client: Client, options: Namespace) -> int:
    sha256 = whole_hash(client, options.file)
    facts = client.call(Request("GET", f"/files/{sha256}/facts"))
    preview = client.call(Request("GET", f"/files/{sha256}/preview"))
    if options.json:
        output.print_json({**facts, "preview": preview})
        return 0
    out.print(Text.assemble((facts["name"], "bold"), "  ", facts["media_type"]))
    rows = f", {facts['count']:,} rows" if facts["count"] is not None else ""
    out.print(f"  {size_text(facts['size'])}{rows}, kept {output.ago(facts['kept_at'])}")
    out.print(Text(f"  sha256 {sha256}", style="dim"))
    runs = ", ".join(map(str, facts["used_by"]))
    used = f"used by run {runs}" if runs else "used by no run; it is removed after a while"
    out.print(Text(f"  {used}"))
    if preview["kind"] == "table":
        table = output.table(*map(str, preview["columns"]))
        for row in preview["rows"][:SHOWN_ROWS]:
            table.add_row(*(Text(output.short_value(cell, 40)) for cell in row))
        out.print()
        out.print(table)
    elif preview["kind"] == "text":
        out.print()
        out.print("\n".join(preview["text"].splitlines()[: 2 * SHOWN_ROWS]))
    return 0


def upload(client: Client, options: Namespace) -> int:
    """Keep a file with the service."""
    if options.path == "-":
        if not options.name:
            raise InvalidInput("what comes on the input has no name; give --name")
        with tempfile.NamedTemporaryFile(prefix="yarnloom-") as spooled:
            shutil.copyfileobj(sys.stdin.buffer, spooled)
            spooled.flush()
            kept = client.upload(Path(spooled.name), options.name, options.type)
    else:
        with bar(options.path) as on_progress:
            kept = client.upload(
                Path(options.path), options.name, options.type, on_progress=on_progress
            )
    if options.json:
        output.print_json(kept.model_dump())
    else:
        out.print(f"{kept.name}: {size_text(kept.size)}, {kept.media_type}")
        out.print(f"sha256 {kept.sha256}")
    return 0


def download(client: Client, options: Namespace) -> int:
    """Fetch a file."""
    sha256 = whole_hash(client, options.file)
    facts = client.call(Request("GET", f"/files/{sha256}/facts"))
    target = Path(options.output or ".")
    target = target / Path(facts["name"]).name if target.is_dir() else target
    with writing(target), bar(facts["name"]) as on_progress:
        path = client.download({**facts}, target, on_progress=on_progress)
    output.say(f"{path}: {size_text(facts['size'])}")
    return 0


def whole_hash(client: Client, given: str) -> str:
    """The hash of the one file whose hash begins so, or of the newest that is called so.

    Raises:
        InvalidInput: there is none, or several hashes begin so.
    """
    if len(given) == 64:
        return given
    known = client.call(files_request(500))["files"]
    fits = {one["sha256"] for one in known if one["sha256"].startswith(given.lower())}
    if not fits and (named := [one["sha256"] for one in known if one["name"] == given]):
        if len(named) > 1:
            output.say(f"{len(named)} files are called {given}; this is the newest")
        return str(named[0])
    if len(fits) == 1:
        return str(fits.pop())
    what = "no file" if not fits else f"{len(fits)} files"
    raise InvalidInput(f"{what} called {given!r}; `yarnloom files` lists what there is, by hash")


def export(client: Client, options: Namespace) -> int:
    """Take out the items of an each with their outcomes, or a run's whole record."""
    number, label = split_address(options.address)
    form = options.form or ("csv" if label else "json")
    if (form == "json") == bool(label):
        what = "an each's items are taken out as csv or json-lines, a whole run as json"
        raise InvalidInput(f"{options.address} as {form}: {what}")
    path, query = f"/runs/{number}/record", JsonObject()
    if label:
        path = f"/runs/{number}/export"
        query = {"address": label, "as": form, "state": options.state}
        query |= {"safe": True} if options.safe else {}
    if options.output in (None, "-"):
        for block in client.blocks(path, query):
            output.write_bytes(block)
        return 0
    target = Path(options.output)
    part = target.with_name(f".{target.name}.part")
    with writing(target):
        try:
            with part.open("wb") as file:
                for block in client.blocks(path, query):
                    file.write(block)
            part.replace(target)
        finally:
            part.unlink(missing_ok=True)
    output.say(f"{target}: {size_text(target.stat().st_size)}")
    return 0


@contextmanager
def writing(target: Path) -> Iterator[None]:
    """Say in words why something cannot be written here.

    Raises:
        InvalidInput: it cannot.
    """
    try:
        yield
    except OSError as error:
        raise InvalidInput(f"{target} cannot be written: {error.strerror}") from error


# Files among params


def file_params(client: Client, given: list[str], options: JsonObject) -> dict[str, JsonObject]:
    """`--file NAME=PATH` values: each is uploaded.

    Args:
        client: for the service.
        given: as they are typed.
        options: how rows of files are read.
    """
    found: dict[str, JsonObject] = {}
    for one in given:
        name, equals, path = one.partition("=")
        if not equals or not name or not path:
            raise InvalidInput(f"found --file {one!r}; expected --file NAME=PATH")
        with bar(path) as on_progress:
            found[name] = client.upload(Path(path), on_progress=on_progress).model_dump()
        found[name] |= options
    return found


def say_set_aside(params: JsonObject) -> None:
    """Say of each param with rows how many were bad, and where they are."""
    for name, value in params.items():
        if not isinstance(value, dict):
            continue
        if value.get("remark"):
            output.say(f"{name}: {value['remark']}")
        if value.get("bad_count"):
            bad, good = value["bad_count"], value["count"]
            rows = "1 bad row was" if bad == 1 else f"{bad:,} bad rows were"
            output.say(f"{name}: {rows} set aside, the run has the other {good:,}; fetch them:")
            output.say(f"yarnloom download {value['bad_rows']['sha256'][:SHORT]}")


@contextmanager
def bar(what: str) -> Iterator[Any]:
    """A bar for bytes on their way, on standard error; only where a person looks."""
    with _progress() as progress:
        task = progress.add_task(Path(what).name, total=None)
        yield lambda gone, whole: progress.update(task, completed=gone, total=whole)


@contextmanager
def check_bar() -> Iterator[OnCheck]:
    """A bar for rows that are checked."""
    with _progress() as progress:
        tasks: JsonObject = {}

        def show(checks: list[JsonObject]) -> None:
            for check in checks:
                name = check["file"].get("name", "rows")
                if name not in tasks:
                    tasks[name] = progress.add_task(name, total=None)
                told = f"checking {name}: {check['rows']:,} rows"
                size = check["size"] or None
                progress.update(tasks[name], description=told, completed=check["read"], total=size)

        yield show


def _progress() -> Progress:
    columns = TextColumn("{task.description}", markup=False), BarColumn(), DownloadColumn()
    # A program that reads what is said gets no bars.
    quiet = not output.err.is_terminal
    return Progress(*columns, console=output.err, transient=True, disable=quiet)


# What can be typed


def add_parsers(add: Add, service: Parser, reading: Parser) -> None:
    """Add what can be typed."""
    files_parser = add("files", service, reading)
    files_parser.add_argument(
        "file", nargs="?", default="", metavar="FILE", help="its hash, or name"
    )
    files_parser.add_argument("--limit", type=positive, default=20, help="how many (default 20)")
    files_parser.set_defaults(talk=files)

    upload_parser = add("upload", service, reading)
    upload_parser.add_argument("path", metavar="PATH", help="the file; - reads the input")
    upload_parser.add_argument(
        "--name", default="", help="what it is called (default: as it is here)"
    )
    upload_parser.add_argument("--type", default="", help="its media type (default: by its name)")
    upload_parser.set_defaults(talk=upload)

    download_parser = add("download", service)
    download_parser.add_argument("file", metavar="FILE", help="its hash, or the beginning of it")
    download_parser.add_argument("-o", "--output", metavar="PATH", help="where to (default: here)")
    download_parser.set_defaults(talk=download)

    export_parser = add("export", service)
    export_parser.add_argument(
        "address", metavar="RUN[/EACH]", help="1042/letters for its items, 1042 for the whole run"
    )
    export_parser.add_argument(
        "--as",
        dest="form",
        choices=["csv", "json-lines", "json"],
        help="of items csv, of a run json",
    )
    export_parser.add_argument(
        "--state", action="append", default=[], help="only items in this state"
    )
    export_parser.add_argument(
        "--safe", action="store_true", help="of csv: keep spreadsheets from running cells"
    )
    export_parser.add_argument(
        "-o", "--output", metavar="PATH", help="where to (default: the output)"
    )
    export_parser.set_defaults(talk=export)
