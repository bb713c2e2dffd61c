"""Who may talk to the service: host names, origins, and the token.

A page of another site must not reach a service on the viewer's own machine, so requests are
refused whose `Host` is not ours (a rebound DNS name) or whose `Origin` is not.
"""

from __future__ import annotations

import hmac
from http.cookies import SimpleCookie
from urllib.parse import urlsplit

from starlette.datastructures import Headers
from starlette.types import ASGIApp, Receive, Scope, Send

from yarnloom.errors import NotAllowed
from yarnloom.service.problems import problem_response
from yarnloom.service.settings import ServiceSettings, is_loopback

COOKIE = "yarnloom_token"
_LOOPBACK_NAMES = {"localhost", "127.0.0.1", "::1"}
# What a browser must reach before the viewer has typed the token in.
_LINKS = "/api/v1/links/"
_OPEN_PATHS = ("/api/v1/session", "/health", "/ready")


class Guard:
    """Middleware that lets only allowed requests through."""

    def __init__(self, app: ASGIApp, settings: ServiceSettings) -> None:
        self._app = app
        self._token = settings.token
        names = {settings.host.lower(), *(name.lower() for name in settings.names)}
        self._names = names | _LOOPBACK_NAMES if is_loopback(settings.host) else names
        self._any_name = settings.host in ("0.0.0.0", "::") and not settings.names

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Let a request through, or answer it here."""
        if scope["type"] == "http":
            refusal = self._refusal(scope["path"], Headers(scope=scope))
            if refusal:
                await problem_response(NotAllowed(refusal))(scope, receive, send)
                return
        await self._app(scope, receive, send)

    def _refusal(self, path: str, headers: Headers) -> str | None:
        host = headers.get("host", "")
        if not self._any_name and _name(host) not in self._names:
            return (
                f"this service does not go by the name {host!r}; it is {sorted(self._names)}. "
                "Start it with --name if it is reached by another."
            )
        if path.startswith(_LINKS):
            return None  # its token is in the path, and any page may hold it
        origin = headers.get("origin")
        if origin is not None and urlsplit(origin).netloc.lower() != host.lower():
            return f"a page from {origin} may not use this service"
        if self._token and path.startswith("/api/") and not path.startswith(_OPEN_PATHS):
            given = self._given(headers)
            if given is None:
                return "a token is needed: give it with --token or in YARNLOOM_TOKEN"
            if not hmac.compare_digest(given.encode(), self._token.encode()):
                return "that is not this service's token"
        return None

    @staticmethod
    def _given(headers: Headers) -> str | None:
        kind, _, value = headers.get("authorization", "").partition(" ")
        if kind.lower() == "bearer":
            return value.strip()
        morsel = SimpleCookie(headers.get("cookie", "")).get(COOKIE)
        return morsel.value if morsel else None


def _name(host: str) -> str:
    """A Host header without its port, in lower case."""
    return (urlsplit(f"//{host}").hostname or "").lower()
