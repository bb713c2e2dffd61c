"""Files: up and down as streams, what is kept, and a first look at what is in them."""

from __future__ import annotations

import pathlib
import re
from itertools import islice
from typing import Annotated

from fastapi import Header, Path, Query, Request
from fastapi.responses import FileResponse, Response
from starlette.requests import ClientDisconnect

from yarnloom.engine.commands import KeepFile, RowsOfParam
from yarnloom.engine.records.unreadable import readable
from yarnloom.errors import Gone, InvalidInput, NotFound, Problem
from yarnloom.media_types import HASH, JSON_LINES, media_type_of
from yarnloom.protocol.bodies import RowsPreviewBody
from yarnloom.protocol.workflow_answers import (
    FileFacts,
    FileList,
    FileReference,
    KeptFile,
    Preview,
    RowsPreview,
)
from yarnloom.service.core import Core
from yarnloom.service.http.api_router import api_router, takes
from yarnloom.service.processes.uploads import digest_of
from yarnloom.service.route_helpers import Asker, TheCore, answer, problems
from yarnloom.store import Record, Row
from yarnloom.store.files import file_records
from yarnloom.tabular.read_rows import CSV, LINES, Dialect, Reader, UnreadableFile, dialect_of
from yarnloom.units import whole_number
from yarnloom.values import JsonObject

router = api_router("files", "/files", changes=("operate", "work"))

MEDIA_TYPE = re.compile(r"[A-Za-z0-9][\w.+-]*/[\w.+-]+(; ?charset=[\w-]+)?\Z")
# What a browser may show where it was asked for; anything else could run scripts of ours.
SHOWN = frozenset({"image/png", "image/jpeg", "image/gif", "image/webp", "text/plain"})
PICTURES = SHOWN - {"text/plain"} | {"image/svg+xml"}
SAFE = {
    "X-Content-Type-Options": "nosniff",
    "Content-Security-Policy": "default-src 'none'; style-src 'unsafe-inline'; sandbox",
    "Cache-Control": "private, max-age=31536000, immutable",
}
LONGEST_NAME = 200
PREVIEW_ROWS = 100
PREVIEW_TEXT = 64 * 1024

Hash = Annotated[str, Path(pattern=HASH, description="SHA-256, 64 hexadecimal digits")]
FileName = Annotated[str, Query(min_length=1, max_length=200)]


@router.post("", status_code=201, response_model=FileReference, responses=problems(422, 503))
async def upload(
    core: TheCore,
    who: Asker,
    request: Request,
    name: FileName,
    media_type: Annotated[str, Query(max_length=200)] = "",
    attempt: Annotated[int | None, Query(ge=1, le=2**53)] = None,
    content_digest: Annotated[str, Header(max_length=500)] = "",
) -> Response:
    """Keep the body as a file: 201 when it is durable; one that is cut off leaves nothing.

    The media type is that of the query, else of the name's ending. With `Content-Digest`
    (RFC 9530, sha-256) the bytes are compared. `attempt` is given by workers.
    """
    kind = media_type or media_type_of(name)
    if not MEDIA_TYPE.match(kind):
        raise InvalidInput(
            f"found the media type {kind!r:.60}; expected one such as text/csv",
            problems=[Problem("/media_type", "not a media type")],
        )
    if not _is_file_name(name):
        text = "a name has no slashes, can be printed, and is at most 200 bytes long"
        raise InvalidInput(
            f"found the name {name!r:.60}; {text}", problems=[Problem("/name", text)]
        )
    digest = digest_of(content_digest)
    try:
        found = await core.uploads.take(
            request.stream(), digest, lambda kept: KeepFile(kept, name, kind, who, attempt)
        )
    except ClientDisconnect:
        return Response(status_code=400)  # nobody is there to read it
    return answer(FileReference, found, 201)


@router.get("", response_model=FileList, responses=problems(422))
async def list_files(
    core: TheCore,
    cursor: Annotated[str | None, Query(max_length=100)] = None,
    limit: Annotated[int, Query(ge=1, le=500)] = 50,
) -> Response:
    """The files that are kept, newest first, each with how many runs use it."""
    at, _, sha256 = (cursor or "").partition("-")
    kept_at = whole_number(at)
    before = None if kept_at is None else (kept_at, sha256)
    rows = await core.read(file_records.files, before, limit)
    last = f"{rows[-1]['kept_at']}-{rows[-1]['sha256']}" if len(rows) == limit else None
    found = readable(rows, _facts, "sha256", "name")
    return answer(FileList, {"files": found, "next": last})


@router.head("/{sha256}", include_in_schema=False)
@router.get("/{sha256}", responses=problems(404, 410, 422))
@takes("view", "operate", "work")
async def download(
    core: TheCore, sha256: Hash, name: Annotated[str, Query(max_length=200)] = ""
) -> Response:
    """The bytes of a file, or with `Range` some of them; they never change."""
    row = await _row(core, sha256)
    kind, shown = row["media_type"], row["media_type"] in SHOWN
    return FileResponse(
        core.database.files.path(sha256),
        media_type=f"{kind}; charset=utf-8" if kind == "text/plain" else kind,
        filename=name or row["name"],
        content_disposition_type="inline" if shown else "attachment",
        headers={**SAFE, "ETag": f'"{sha256}"'},
    )


@router.get("/{sha256}/facts", response_model=FileFacts, responses=problems(404, 410, 422))
async def facts(core: TheCore, sha256: Hash) -> Response:
    """What a file is called, how large it is, and which runs use it, the newest first."""
    row = await _row(core, sha256)
    used_by = await core.read(file_records.file_users, sha256, 20)
    return answer(FileFacts, {**row, "used_by": used_by})


@router.post("/preview-rows", response_model=RowsPreview, responses=problems(404, 422, 503))
@takes("operate")
async def preview_rows(core: TheCore, body: RowsPreviewBody) -> Response:
    """The first rows of a file as a run would get them, and the first mistakes in them.

    It looks at the first 2,000 rows, and nothing is started.
    """
    if core.looms.pending:
        await core.looms.ready()
    rows = await core.submit(RowsOfParam(body.target, body.param, body.value))
    return answer(RowsPreview, await core.beside.preview(rows))


@router.get("/{sha256}/preview", response_model=Preview, responses=problems(404, 410, 422))
async def preview(core: TheCore, sha256: Hash) -> Response:
    """What is in a file, at a glance: `picture`, `table`, `text`, or `none`."""
    row = await _row(core, sha256)
    kind = row["media_type"]
    if kind in PICTURES:
        return answer(Preview, {"kind": "picture"})
    path = core.database.files.path(sha256)
    tables = (
        kind in ("text/csv", "text/tab-separated-values", JSON_LINES) or row["count"] is not None
    )
    if tables and (table := await core.in_thread(_table, path, row)):
        return answer(Preview, table)
    if kind.startswith("text/") or kind in ("application/json", "application/xml", JSON_LINES):
        return answer(Preview, await core.in_thread(_text, path))
    return answer(Preview, {"kind": "none"})


def _is_file_name(name: str) -> bool:
    """Whether a file can be called so on any machine that it is downloaded to."""
    return (
        not {"/", "\\"} & set(name)
        and name.isprintable()
        and name not in (".", "..")
        and len(name.encode()) <= LONGEST_NAME
    )


async def _row(core: Core, sha256: str) -> Record:
    row = await core.read(file_records.file, sha256)
    if row is None:
        raise NotFound(f"no file {sha256[:12]}… is kept", hint="`yarnloom files` lists what is")
    if not core.database.files.path(sha256).exists():
        raise Gone(f"the bytes of file {sha256[:12]}… are missing in the data folder")
    return row


def _facts(row: Row) -> KeptFile:
    return KeptFile.model_validate(dict(row))


def _table(path: pathlib.Path, row: Record) -> JsonObject | None:
    """The first rows of a file; None if it cannot be read as rows."""
    lines = row["count"] is not None or row["media_type"] == JSON_LINES
    dialect = Dialect(LINES) if lines else dialect_of(row["name"], row["media_type"])
    # A preview guesses the delimiter, since nobody was asked for one; an import never does.
    if dialect.kind == CSV and dialect.delimiter == ",":
        head = path.open("rb").read(4096).partition(b"\n")[0]
        mark = next((one for one in (b",", b";", b"\t", b"|") if one in head), b",")
        dialect = Dialect(CSV, mark.decode())
    try:
        records = [one.value for one in islice(Reader(path, dialect).records(), PREVIEW_ROWS + 2)]
    except UnreadableFile:
        return None
    if dialect.kind == CSV:
        columns, records = (records[0] or [], records[1:]) if records else ([], [])
    elif all(isinstance(record, dict) for record in records):
        columns = list(dict.fromkeys(name for record in records for name in record))
        records = [[record.get(name) for name in columns] for record in records]
    else:
        columns, records = ["value"], [[record] for record in records]
    shown = records[:PREVIEW_ROWS]
    more = len(records) > PREVIEW_ROWS
    return {"kind": "table", "columns": columns, "rows": shown, "more": more}


def _text(path: pathlib.Path) -> JsonObject:
    with path.open("rb") as file:
        head = file.read(PREVIEW_TEXT + 1)
    text = head[:PREVIEW_TEXT].decode("utf-8", "replace")
    return {"kind": "text", "text": text, "more": len(head) > PREVIEW_TEXT}
