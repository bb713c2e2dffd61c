"""Connections of the HTTP library, over the service's Unix socket where that can be."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import httpcore
import httpx

from yarnloom import local_socket
from yarnloom.client.http_limits import NO_LIMIT
from yarnloom.client.target import Target

SocketOptions = Iterable[Any] | None


class UnixBackend(httpcore.SyncBackend):
    """Opens a Unix socket in place of a TCP connection to a service of this user."""

    def __init__(self, target: Target) -> None:
        super().__init__()
        self._target = target

    def connect_tcp(
        self,
        host: str,
        port: int,
        timeout: float | None = None,
        local_address: str | None = None,
        socket_options: SocketOptions = None,
    ) -> httpcore.NetworkStream:
        """Connect to the service."""
        path = self._target.socket_path()
        if not path:
            return super().connect_tcp(host, port, timeout, local_address, socket_options)
        stream = self.connect_unix_socket(path, timeout)
        if not local_socket.is_trusted(stream.get_extra_info("socket"), path):
            stream.close()
            raise httpcore.ConnectError(local_socket.not_trusted(path))
        return stream


class AsyncUnixBackend(httpcore.AnyIOBackend):
    """The same for asyncio."""

    def __init__(self, target: Target) -> None:
        super().__init__()
        self._target = target

    async def connect_tcp(
        self,
        host: str,
        port: int,
        timeout: float | None = None,
        local_address: str | None = None,
        socket_options: SocketOptions = None,
    ) -> httpcore.AsyncNetworkStream:
        """Connect to the service."""
        path = self._target.socket_path()
        if not path:
            return await super().connect_tcp(host, port, timeout, local_address, socket_options)
        stream = await self.connect_unix_socket(path, timeout)
        if not local_socket.is_trusted(stream.get_extra_info("socket"), path):
            await stream.aclose()
            raise httpcore.ConnectError(local_socket.not_trusted(path))
        return stream


class UnixTransport(httpx.HTTPTransport):
    """Sends requests to a service of this machine."""

    def __init__(self, target: Target) -> None:
        super().__init__(trust_env=False)
        # The library has no argument for what opens its connections.
        self._pool = httpcore.ConnectionPool(
            max_connections=NO_LIMIT.max_connections,
            max_keepalive_connections=NO_LIMIT.max_keepalive_connections,
            network_backend=UnixBackend(target),
        )


class AsyncUnixTransport(httpx.AsyncHTTPTransport):
    """The same for asyncio."""

    def __init__(self, target: Target) -> None:
        super().__init__(trust_env=False)
        self._pool = httpcore.AsyncConnectionPool(
            max_connections=NO_LIMIT.max_connections,
            max_keepalive_connections=NO_LIMIT.max_keepalive_connections,
            network_backend=AsyncUnixBackend(target),
        )
