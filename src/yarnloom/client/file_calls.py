"""Made from `async_file_calls.py` by `make generate`: change that file instead."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yarnloom.client import http_requests
from yarnloom.client.connection import Connection
from yarnloom.client.file_transfer import Given, Incoming, OnProgress, Outgoing, list_of, named
from yarnloom.client.http_limits import TRIES
from yarnloom.client.http_messages import ConnectionLost
from yarnloom.client.http_requests import Request
from yarnloom.client.run_facts import read
from yarnloom.values import JsonObject, decode

if TYPE_CHECKING:
    from yarnloom.protocol.workflow_answers import FileFacts, KeptFile, Preview, RowsPreview
    from yarnloom.sdk.file_values import File, Rows


class FileCalls(Connection):
    """Keep files with the service, and fetch them."""

    def files(self, *, limit: int | None = None) -> Iterator[KeptFile]:
        """Go through the files that are kept, newest first."""
        from yarnloom.protocol.workflow_answers import KeptFile

        for data in self.pages("/files", "files", {}, limit):
            yield read(KeptFile, data)

    def file(self, sha256: str) -> FileFacts:
        """Facts about a file, and the runs that use it.

        Raises:
            NotFound: no such file is kept.
        """
        from yarnloom.protocol.workflow_answers import FileFacts

        return read(FileFacts, self._get(f"/files/{sha256}/facts"))

    def preview_rows(self, target: str, param: str, rows: Rows[Any]) -> RowsPreview:
        """The first rows of a file as a run would get them, and the first mistakes in them.

        Args:
            target: the workflow or task.
            param: its param.
            rows: of a file, as `Rows.of(file, decimal=",")` gives them.

        Raises:
            InvalidInput: the param takes no rows, or the file is not kept by the service.
        """
        from yarnloom.protocol.workflow_answers import RowsPreview

        body = {"target": target, "param": param, "value": rows.reference}
        return read(RowsPreview, self.call(Request("POST", "/files/preview-rows", body)))

    def preview(self, sha256: str) -> Preview:
        """The first rows or lines of a file.

        Raises:
            NotFound: no such file is kept.
        """
        from yarnloom.protocol.workflow_answers import Preview

        return read(Preview, self._get(f"/files/{sha256}/preview"))

    def upload(
        self,
        given: Given,
        name: str = "",
        media_type: str = "",
        *,
        on_progress: OnProgress | None = None,
    ) -> File:
        """Keep a file with the service; return its reference for params.

        Args:
            given: where it is, or its bytes.
            name: its name; of a path its own unless given.
            media_type: e.g. `"text/csv"`; as the name's ending suggests unless given.
            on_progress: told how many bytes have gone, and of how many.

        Raises:
            ValueRefused: there is no such file here.
        """
        from yarnloom.sdk.file_values import File

        return File(**self.send(Outgoing(given, name, media_type, on_progress)))

    def send(self, outgoing: Outgoing, attempt: int | None = None) -> JsonObject:
        """Send a file; for an attempt, whose run uses it then."""
        query = outgoing.query if attempt is None else {**outgoing.query, "attempt": attempt}
        for tries_left in reversed(range(TRIES)):
            try:
                response = self._transport.request(
                    self._request(
                        "POST", "/files", query, headers=outgoing.headers, content=outgoing.blocks()
                    )
                )
                found: JsonObject = http_requests.read_answer(
                    self.target, response.status, response.body
                )
                return found
            except ConnectionLost as error:
                if not tries_left or not error.connected:
                    raise self.target.not_reachable(error) from error
        raise AssertionError("the loop returns or raises")

    def download(
        self,
        file: File | Rows[Any] | JsonObject | str,
        target: Path | str = ".",
        *,
        on_progress: OnProgress | None = None,
    ) -> Path:
        """Fetch a file, to a path or into a folder; where it is then.

        It has its name only when it is whole. After a broken connection it fetches the rest.

        Args:
            file: a file, a reference to one as values have them, or its SHA-256.
            target: a path, or a folder that there is; the folder one is in unless given.
            on_progress: told how many bytes have come, and of how many.

        Raises:
            NotFound: no such file is kept.
        """
        sha256, size, name = named(file)
        path = Path(target)
        path = path / Path(name).name if path.is_dir() else path
        with Incoming(sha256, size, path, on_progress) as incoming:
            self.fetch(incoming)
            return incoming.finish()

    def fetch(self, incoming: Incoming) -> None:
        """Fetch a file; where a connection breaks the rest is asked for."""
        for tries_left in reversed(range(TRIES)):
            before = incoming.have
            try:
                request = self._request(
                    "GET", f"/files/{incoming.sha256}", headers=incoming.headers
                )
                with self._transport.stream(request) as source:
                    self._refuse(source)
                    incoming.begin(source.status)
                    for block in source.blocks:
                        incoming.take(block)
                    return
            except ConnectionLost as error:
                if not tries_left and incoming.have == before:
                    raise self.target.not_reachable(error) from error

    def rows(self, value: Rows[Any] | JsonObject) -> Iterator[Any]:
        """Go through a list that is kept as a file, such as a large output; one row in memory.

        Raises:
            NotFound: it is not kept.
        """
        rest = b""
        for block in self.blocks(f"/files/{list_of(value)}"):
            *lines, rest = (rest + block).split(b"\n")
            for line in lines:
                yield decode(line)
        if rest:
            yield decode(rest)
