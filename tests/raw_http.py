"""Plain HTTP, as any program of the service's own user speaks it: over the Unix socket."""

from __future__ import annotations

import socket
from typing import Any

import httpcore
import httpx

from yarnloom import local_socket


def connect(port: int) -> socket.socket:
    """Return a plain connection to a port of this machine: by the Unix socket of its service."""
    path = local_socket.socket_of(f"http://127.0.0.1:{port}")
    if not path:
        return socket.create_connection(("127.0.0.1", port), timeout=60)
    found = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    found.settimeout(60)
    found.connect(path)
    return found


class _Backend(httpcore.SyncBackend):
    """Connects to the Unix socket of a service, and to anything else as its address says."""

    def connect_tcp(self, host: str, port: int, *args: Any, **more: Any) -> httpcore.NetworkStream:
        """Connect to an address."""
        if path := local_socket.socket_of(f"http://{host}:{port}"):
            return self.connect_unix_socket(path)
        return super().connect_tcp(host, port, *args, **more)


class _Transport(httpx.HTTPTransport):
    def __init__(self) -> None:
        super().__init__(trust_env=False)
        self._pool = httpcore.ConnectionPool(max_connections=None, network_backend=_Backend())


class Client(httpx.Client):
    """A client of services."""

    def __init__(self, **more: Any) -> None:
        super().__init__(transport=_Transport(), **{"trust_env": False, **more})


def request(method: str, url: str, **more: Any) -> httpx.Response:
    """Send one request."""
    more.pop("trust_env", None)
    with Client(timeout=more.pop("timeout", 60)) as client:
        return client.request(method, url, **more)


def get(url: str, **more: Any) -> httpx.Response:
    """GET."""
    return request("GET", url, **more)


def post(url: str, **more: Any) -> httpx.Response:
    """POST."""
    return request("POST", url, **more)


def patch(url: str, **more: Any) -> httpx.Response:
    """PATCH."""
    return request("PATCH", url, **more)
