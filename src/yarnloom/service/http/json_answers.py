"""JSON answers to GET on their way: an ETag for each, and compressed where the client takes that.

Large answers go as they are: compressing them would hold up the event loop.
"""

from __future__ import annotations

import gzip
import hashlib

from starlette.datastructures import Headers, MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

SMALLEST, LARGEST = 1_000, 256 * 1024
"""Bytes of an answer that is compressed."""

_JSON = ("application/json", "application/problem+json")
_LEVEL = 4


class JsonAnswers:
    """Middleware that marks JSON answers with an ETag, and compresses them."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer a request."""
        if scope["type"] != "http" or scope["method"] != "GET":
            await self._app(scope, receive, send)
            return
        asked = Headers(scope=scope)
        start: Message | None = None

        async def send_marked(message: Message) -> None:
            nonlocal start
            if message["type"] == "http.response.start":
                form = Headers(raw=message["headers"]).get("content-type", "")
                if form.partition(";")[0] not in _JSON:
                    await send(message)
                    return
                start = message
                return
            if start is None:
                await send(message)
                return
            begin, start = start, None
            body = message.get("body", b"")
            if not message.get("more_body"):
                begin, body = _marked(begin, body, asked)
            await send(begin)
            await send({**message, "body": body})

        await self._app(scope, receive, send_marked)


def _marked(start: Message, body: bytes, asked: Headers) -> tuple[Message, bytes]:
    """Return the beginning and the body of an answer that comes in one piece."""
    headers = MutableHeaders(raw=list(start["headers"]))
    headers.add_vary_header("Accept-Encoding")
    status = start["status"]
    if status == 200:
        # Weak: compressed or not, it is the same answer.
        tag = f'W/"{hashlib.blake2b(body, digest_size=12).hexdigest()}"'
        headers["ETag"] = tag
        headers.setdefault("Cache-Control", "no-cache")
        if tag in [known.strip() for known in asked.get("if-none-match", "").split(",")]:
            for name in ("content-length", "content-type"):
                del headers[name]
            return {**start, "status": 304, "headers": headers.raw}, b""
    if SMALLEST <= len(body) <= LARGEST and "gzip" in asked.get("accept-encoding", ""):
        body = gzip.compress(body, _LEVEL, mtime=0)
        headers["Content-Encoding"] = "gzip"
        headers["Content-Length"] = str(len(body))
    return {**start, "headers": headers.raw}, body
