"""Who may talk to the service, and what a browser may do with its answers.

Over the Unix socket come programs of the service's own user, who may do everything. Over TCP each
request of the API needs a token or a session that may do what it asks. A page of another site must
not reach a service on the viewer's own machine, so requests are refused with a foreign `Host` (a
rebound DNS name) or `Origin`, and those that a browser says come from another site. `/health`
and `/ready` answer anybody: they tell nothing else.

HEAD is answered by the route of GET, without its body (RFC 9110, 9.3.2). JSON answers to GET get an
ETag, and are compressed for clients that take that; large ones go as they are, since compressing
them would hold up the event loop.

Decision: `docs/decisions/17-who-gets-in.md`.
"""

from __future__ import annotations

import asyncio
import contextlib
import gzip
import hashlib
from urllib.parse import urlsplit

from starlette.datastructures import Headers, MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from yarnloom.engine.rules.access_patterns import is_within, outside
from yarnloom.errors import NotAllowed, TokenNeeded, YarnloomError
from yarnloom.service.access.callers import CALLER, OWN_USER, Caller
from yarnloom.service.access.gate import CUT_OFF, WORKER_HEADER, Gate
from yarnloom.service.access.route_roles import OPEN, WORK, RouteRoles
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


_LOOPBACK_NAMES = {"localhost", "127.0.0.1", "::1"}
_LINKS = ("/api/v1/links/", "/api/v1/link")
_FOR_ANY_PAGE = (*_LINKS, "/follow.js")
"""What pages of other sites may use: a link's secret says what it shows."""

_WORKERS = "/api/v1/workers/"
_RUNS = "/api/v1/runs/"
_PROBES = ("/health", "/ready")
_FROM_OUR_PAGES = ("", "same-origin", "none")
_CODE = "once="
_HAS_BODY = (b"content-length", b"transfer-encoding")
DROPPED_BYTES, DROPPED_SECONDS = 1 << 20, 2.0
"""Of the body of a request that is refused, and how long it is waited for."""

_SHOWN_TO_ALL = ("/api/v1/workflows", "/api/v1/tasks", "/api/v1/service", "/api/v1/session")
_BEGINS = ("/api/v1/runs", "/api/v1/runs/many", "/api/v1/files", "/api/v1/session/downloads")
"""What a caller may read and send that may operate only some workflows, beside their runs: a start
says itself which workflow it is for, and a file is known by its hash."""

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
    """Middleware that lets only allowed requests through, and guards every answer.

    Args:
        app: what answers.
        settings: of the service.
        roles: of its routes.
    """

    def __init__(self, app: ASGIApp, settings: ServiceSettings, roles: RouteRoles) -> None:
        self._app = app
        self._roles = roles
        names = {settings.host.lower(), *(name.lower() for name in settings.names)}
        self._names = names | _LOOPBACK_NAMES if is_loopback(settings.host) else names
        self._any_name = settings.host in ("0.0.0.0", "::") and not settings.names

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Let a request through, or answer it here."""
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        begun = False

        async def send_guarded(message: Message) -> None:
            nonlocal begun
            if message["type"] == "http.response.start":
                begun = True
                message["headers"] = guarded(list(message.get("headers", ())))
            await send(message)

        async def refuse(error: YarnloomError) -> None:
            await _drop_body(scope, receive)
            await problem_response(error)(scope, receive, send_guarded)

        try:
            caller = await self._caller(scope)
        except YarnloomError as error:
            await refuse(error)
            return
        if caller is None or (caller.token is None and not caller.session):
            await self._app(scope, receive, send_guarded)
            return
        # What only reads, or waits, is ended with its token. What changes something is not: its
        # caller could not know whether it was done.
        task = asyncio.current_task()
        reads = scope["method"] in ("GET", "HEAD") or scope["path"].endswith("/ask")
        if task is None or not reads:
            await self._app(scope, receive, send_guarded)
            return
        forget = _gate(scope).note_open(caller, task)
        try:
            await self._app(scope, receive, send_guarded)
        except asyncio.CancelledError as cancelled:
            if cancelled.args != (CUT_OFF,):
                raise
            task.uncancel()
            if begun:
                await send_guarded({"type": "http.response.body", "body": b""})
            else:
                await refuse(TokenNeeded(f"{CUT_OFF}."))
        finally:
            forget()

    async def _caller(self, scope: Scope) -> Caller | None:
        """Return who sends a request; None where that does not matter.

        Raises:
            NotAllowed: it may not do what it asks; `TokenNeeded` where it is not known.
        """
        path: str = scope["path"]
        own = is_own_user(scope)
        if own and not any(name == b"authorization" for name, _ in scope["headers"]):
            CALLER.set(OWN_USER)  # a browser cannot be it, so no page can mislead it
            return OWN_USER
        headers = Headers(scope=scope)
        if path in _PROBES:
            return None
        # Names first: a page of another site learns nothing of tokens.
        if not own and (refusal := self._foreign(path, headers)):
            raise refusal
        if not path.startswith("/api/") or path.startswith(_LINKS):
            return None  # pages hold nothing; the address of a link has a secret of its own
        method = "GET" if scope["method"] == "HEAD" else scope["method"]
        roles = self._roles.of(method, path)
        if roles is OPEN:
            return None
        gate = _gate(scope)
        worker, _, operation = path.removeprefix(_WORKERS).partition("/")
        of_worker = path.startswith(_WORKERS) and roles == WORK
        reports = of_worker and operation in ("report", "end-effect")
        try:
            caller = _with_code(scope, gate) or gate.caller(
                headers, is_own_user=own, reports=reports
            )
        except TokenNeeded:
            gate.note_failure((scope.get("client") or ("",))[0])
            raise
        if roles is not None and not caller.is_admin:
            if not caller.may & roles:
                raise _lacks(caller, roles)
            if of_worker and (operation or method == "DELETE"):
                gate.check_worker(caller, worker, headers.get(WORKER_HEADER, ""))
            if caller.is_limited:
                await _look_within(scope, caller, path)
        CALLER.set(caller)
        return caller

    def _foreign(self, path: str, headers: Headers) -> NotAllowed | None:
        # A foreign name would let a page of another site pass as ours (DNS rebinding).
        host = headers.get("host", "")
        if not self._any_name and _name(host) not in self._names:
            return NotAllowed(
                f"this service does not go by the name {host!r:.80}; it is {sorted(self._names)}.",
                hint="Start it with --name if it is reached by another.",
            )
        if path.startswith(_FOR_ANY_PAGE):
            return None
        origin = headers.get("origin")
        if origin is not None and _netloc(origin) != host.lower():
            return NotAllowed(f"a page from {origin:.80} may not use this service")
        if path.startswith("/api/") and headers.get("sec-fetch-site", "") not in _FROM_OUR_PAGES:
            return NotAllowed("a page of another site may not use this service")
        return None


async def _drop_body(scope: Scope, receive: Receive) -> None:
    """Read the body of a request that is refused.

    A client that still sends, while the connection is closed, would see a broken line and not the
    answer. An unknown caller gets little patience.
    """
    if not any(name in _HAS_BODY for name, _ in scope["headers"]):
        return
    size = 0
    with contextlib.suppress(TimeoutError):
        async with asyncio.timeout(DROPPED_SECONDS):
            while size < DROPPED_BYTES:
                message = await receive()
                size += len(message.get("body", b""))
                if not message.get("more_body"):
                    return


def _gate(scope: Scope) -> Gate:
    gate: Gate = scope["app"].state.core.gate
    return gate


def is_own_user(scope: Scope) -> bool:
    """Whether a request came over the Unix socket, which only the service's user can open."""
    return scope.get("state", {}).get("own_user") is True


def is_known(scope: Scope) -> bool:
    """Whether a request that needs neither a token nor a session has one all the same."""
    try:
        _gate(scope).caller(Headers(scope=scope), is_own_user=is_own_user(scope), reports=False)
    except TokenNeeded:
        return False
    return True


def _with_code(scope: Scope, gate: Gate) -> Caller | None:
    """Return who asked for a one-time address of a download; its code is taken out of the query."""
    query: str = scope["query_string"].decode("latin-1")
    if scope["method"] != "GET" or _CODE not in query:
        return None
    pieces = query.split("&")
    code = next((piece for piece in pieces if piece.startswith(_CODE)), None)
    if code is None:
        return None
    rest = "&".join(piece for piece in pieces if piece != code)
    asked = scope["raw_path"].decode("latin-1") + (f"?{rest}" if rest else "")
    path, caller = gate.downloads.take(code.removeprefix(_CODE)) or ("", None)
    if caller is None or path != asked or not gate.is_let_in(caller):
        raise TokenNeeded("this address was used before, or is older than 30 seconds.")
    scope["query_string"] = rest.encode("latin-1")
    return caller


def _lacks(caller: Caller, roles: frozenset[str]) -> NotAllowed:
    has = ", ".join(sorted(caller.may))
    takes = " or ".join([*sorted(roles), "admin"])
    return NotAllowed(
        f"{caller.name!r} may {has}; this takes a token that may {takes}.",
        hint="Ask who runs the service for one: `yarnloom token add NAME --may ROLE`.",
    )


def _run_of(path: str, query: str) -> str:
    """Return the only run that a request is about; "" where it is about others too."""
    if path.startswith(_RUNS):
        return path.removeprefix(_RUNS).partition("/")[0]
    pairs = query.split("&")
    if path != "/api/v1/events" or any(pair.startswith("graph=") for pair in pairs):
        return ""
    return next((pair[4:] for pair in pairs if pair.startswith("run=")), "")


async def _look_within(scope: Scope, caller: Caller, path: str) -> None:
    """Let a caller that may operate some workflows use what belongs to them.

    Raises:
        NotAllowed: it belongs to another workflow, or to all.
    """
    run = _run_of(path, scope["query_string"].decode("latin-1"))
    if run.isascii() and run.isdecimal() and len(run) < 16:
        row = await scope["app"].state.core.runs.run_row(int(run))
        if not is_within(row["workflow"], caller.workflows):
            raise outside(row["workflow"], caller.workflows)
    elif path not in _SHOWN_TO_ALL and not (
        path in _BEGINS if scope["method"] == "POST" else path.startswith("/api/v1/files/")
    ):
        raise NotAllowed(
            f"{caller.name!r} may operate {', '.join(caller.workflows)} only; this shows more, and "
            "takes a token that may view."
        )


def guarded(headers: list[tuple[bytes, bytes]]) -> list[tuple[bytes, bytes]]:
    """Headers of an answer, with what keeps other pages from using it."""
    names = {name.lower() for name, _ in headers}
    if _POLICY[0] not in names:
        return [*headers, *[one for one in _ON_EVERY_ANSWER if one[0] not in names], _POLICY]
    own = [
        (name, _with_policy(value) if name.lower() == _POLICY[0] else value)
        for name, value in headers
    ]
    return [*own, *[one for one in _ON_EVERY_ANSWER if one[0] not in names]]


def _with_policy(value: bytes) -> bytes:
    """A policy with ours; a page says itself which sites may show it inside."""
    more = _POLICY[1]
    if b"frame-ancestors" in value:
        more = more.partition(b"; ")[2]
    return value + b"; " + more


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
