"""Who may talk to the service, and what a browser may do with its answers.

A page of another site must not reach a service on the viewer's own machine, so requests are
refused whose `Host` is not ours (a rebound DNS name), whose `Origin` is not, or that a browser says
come from another site. `/health` and `/ready` answer anybody: they tell nothing else.

HEAD is answered by the route of GET, without its body (RFC 9110, 9.3.2). JSON answers to GET get an
ETag, and are compressed for clients that take that; large ones go as they are, since compressing
them would hold up the event loop.
"""

from __future__ import annotations

import gzip
import hashlib
import hmac
from http.cookies import CookieError, SimpleCookie
from urllib.parse import urlsplit

from starlette.datastructures import Headers, MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from yarnloom.errors import NotAllowed, TokenNeeded
from yarnloom.service.http.problems import problem_response
from yarnloom.service.settings import ServiceSettings, is_loopback


class HeadRequests:
    """Middleware that answers HEAD by the route of GET. The server itself leaves out the body."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer a request."""
        if scope["type"] != "http" or scope["method"] != "HEAD":
            await self._app(scope, receive, send)
            return
        begun = False

        async def send_head(message: Message) -> None:
            nonlocal begun
            if message["type"] == "http.response.start":
                await send(message)
                await send({"type": "http.response.body", "body": b"", "more_body": False})
                begun = True

        async def receive_until_begun() -> Message:
            # A stream would never end, and nobody reads it.
            return {"type": "http.disconnect"} if begun else await receive()

        await self._app({**scope, "method": "GET"}, receive_until_begun, send_head)


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


COOKIE = "yarnloom_token"
_LOOPBACK_NAMES = {"localhost", "127.0.0.1", "::1"}
# What a browser must reach before the viewer has typed the token in.
_LINKS = "/api/v1/links/"
_OPEN_PATHS = ("/api/v1/session",)
_PROBES = ("/health", "/ready")
_FROM_OUR_PAGES = ("", "same-origin", "none")
_POLICY = (
    b"content-security-policy",
    b"frame-ancestors 'none'; base-uri 'none'; form-action 'self'",
)
_ON_EVERY_ANSWER = (
    (b"x-content-type-options", b"nosniff"),
    (b"referrer-policy", b"no-referrer"),
    (b"cross-origin-opener-policy", b"same-origin"),
)


class Guard:
    """Middleware that lets only allowed requests through, and guards every answer."""

    def __init__(self, app: ASGIApp, settings: ServiceSettings) -> None:
        self._app = app
        self._token = settings.token
        names = {settings.host.lower(), *(name.lower() for name in settings.names)}
        self._names = names | _LOOPBACK_NAMES if is_loopback(settings.host) else names
        self._any_name = settings.host in ("0.0.0.0", "::") and not settings.names

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Let a request through, or answer it here."""
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return

        async def send_guarded(message: Message) -> None:
            if message["type"] == "http.response.start":
                message["headers"] = guarded(list(message.get("headers", ())))
            await send(message)

        refusal = None
        if scope["path"] not in _PROBES:
            refusal = self._refusal(scope["path"], Headers(scope=scope))
        if refusal:
            await problem_response(refusal)(scope, receive, send_guarded)
        else:
            await self._app(scope, receive, send_guarded)

    def _refusal(self, path: str, headers: Headers) -> NotAllowed | None:
        # A foreign name would let a page of another site pass as ours (DNS rebinding).
        host = headers.get("host", "")
        if not self._any_name and _name(host) not in self._names:
            return NotAllowed(
                f"this service does not go by the name {host!r:.80}; it is {sorted(self._names)}.",
                hint="Start it with --name if it is reached by another.",
            )
        if path.startswith(_LINKS):
            return None  # its token is in the path, and any page may hold it
        origin = headers.get("origin")
        if origin is not None and _netloc(origin) != host.lower():
            return NotAllowed(f"a page from {origin:.80} may not use this service")
        if path.startswith("/api/") and headers.get("sec-fetch-site", "") not in _FROM_OUR_PAGES:
            return NotAllowed("a page of another site may not use this service")
        if self._token and path.startswith("/api/") and not path.startswith(_OPEN_PATHS):
            given = self._given(headers)
            if given is None:
                return TokenNeeded(
                    "a token is needed", hint="give it with --token or in YARNLOOM_TOKEN"
                )
            if not hmac.compare_digest(given.encode(), self._token.encode()):
                return TokenNeeded("that is not this service's token")
        return None

    @staticmethod
    def _given(headers: Headers) -> str | None:
        kind, _, value = headers.get("authorization", "").partition(" ")
        if kind.lower() == "bearer":
            return value.strip()
        try:
            morsel = SimpleCookie(headers.get("cookie", "")).get(COOKIE)
        except CookieError:
            return None
        return morsel.value if morsel else None


def guarded(headers: list[tuple[bytes, bytes]]) -> list[tuple[bytes, bytes]]:
    """Headers of an answer, with what keeps other pages from using it."""
    names = {name.lower() for name, _ in headers}
    if _POLICY[0] not in names:
        return [*headers, *[one for one in _ON_EVERY_ANSWER if one[0] not in names], _POLICY]
    own = [
        (name, value + b"; " + _POLICY[1] if name.lower() == _POLICY[0] else value)
        for name, value in headers
    ]
    return [*own, *[one for one in _ON_EVERY_ANSWER if one[0] not in names]]


def _name(host: str) -> str:
    """A Host header without its port, in lower case; empty for what is no host."""
    try:
        return (urlsplit(f"//{host}").hostname or "").lower()
    except ValueError:
        return ""


def _netloc(origin: str) -> str:
    try:
        return urlsplit(origin).netloc.lower()
    except ValueError:
        return ""
