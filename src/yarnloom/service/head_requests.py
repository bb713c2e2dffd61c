"""HEAD: the headers of the answer to a GET, without its body (RFC 9110, 9.3.2)."""

from __future__ import annotations

from starlette.types import ASGIApp, Message, Receive, Scope, Send


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
