"""Takes the port, or says which process has it, and the Unix socket of the service."""

from __future__ import annotations

import os
import socket
from dataclasses import dataclass
from pathlib import Path

from yarnloom import local_socket
from yarnloom.errors import AddressInUse, StartError


@dataclass(frozen=True, slots=True)
class Door:
    """Where a service listens.

    Attributes:
        url: the address of its port.
        port: the socket of that.
        own: the Unix socket for programs of its own user.
        path: that of the Unix socket.
    """

    url: str
    port: socket.socket
    own: socket.socket
    path: Path

    @property
    def url_of_own(self) -> str:
        """The address of the Unix socket, for programs that the service starts."""
        return f"unix:{self.path}"

    def close(self) -> None:
        """Listen no more."""
        self.port.close()
        self.own.close()


def open_door(host: str, port: int, *, any_if_taken: bool = False) -> Door:
    """Listen at an address, and at the Unix socket of its name.

    Args:
        host: the address.
        port: its port.
        any_if_taken: take any free port where another process has that one.

    Raises:
        AddressInUse: another process has the port; the message says which.
        StartError: the address is not one of this machine's, or no folder can have the socket.
    """
    try:
        return _open(host, port)
    except AddressInUse:
        if not any_if_taken:
            raise
        return _open(host, 0)


def _open(host: str, port: int) -> Door:
    sock = bound(host, port)
    own = None
    try:
        # First the Unix socket: a client that finds the port answering must find that, too.
        own, path = local_socket.listen(*sock.getsockname()[:2])
        sock.listen(1024)
    except BaseException as error:
        sock.close()
        if own is not None:
            own.close()
        if _is_taken(error):
            raise _taken(host, port) from error
        raise
    return Door(url_of(host, sock), sock, own, path)


def bound(host: str, port: int) -> socket.socket:
    """Return a socket that has an address.

    Raises:
        AddressInUse: another process has the port; the message says which.
        StartError: the address is not one of this machine's.
    """
    try:
        family = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)[0][0]
        # With the protocol named, event loops turn Nagle's delay off for its connections.
        sock = socket.socket(family, socket.SOCK_STREAM, socket.IPPROTO_TCP)
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        sock.bind((host, port))
    except OSError as error:
        if _is_taken(error):
            raise _taken(host, port) from error
        raise StartError(
            f"cannot listen at {host}:{port}: {error.strerror or error}.",
            hint="Give an address of this machine with --host, and a port with --port.",
        ) from error
    sock.setblocking(False)
    return sock


def _is_taken(error: BaseException) -> bool:
    return isinstance(error, OSError) and error.errno in (98, 48)  # EADDRINUSE: Linux, macOS


def _taken(host: str, port: int) -> AddressInUse:
    return AddressInUse(
        f"{host}:{port} is in use by {_holder(port)}.",
        hint="Stop that one, or give another port with --port (0 takes any free one).",
    )


def url_of(host: str, sock: socket.socket) -> str:
    """The address of a service that listens at a socket."""
    port = sock.getsockname()[1]
    name = {"0.0.0.0": "127.0.0.1", "::": "[::1]"}.get(host, host)
    return f"http://[{name}]:{port}" if ":" in name and "[" not in name else f"http://{name}:{port}"


def _holder(port: int) -> str:
    """The process that listens at a port, as far as the system tells."""
    inodes = _listening_inodes(port)
    for process in Path("/proc").glob("[0-9]*"):
        try:
            for descriptor in (process / "fd").iterdir():
                if os.readlink(descriptor) in inodes:
                    command = (process / "cmdline").read_bytes().replace(b"\0", b" ").decode()
                    return f"process {process.name} ({command.strip()[:120]})"
        except OSError:
            continue  # ended meanwhile, or another user's
    return "another process"


def _listening_inodes(port: int) -> set[str]:
    found = set()
    for table in ("/proc/net/tcp", "/proc/net/tcp6"):
        try:
            lines = Path(table).read_text(encoding="ascii").splitlines()[1:]
        except OSError:
            continue
        for line in lines:
            fields = line.split()
            # Field 1 is the local address, 3 the state (0A is listening), 9 the inode.
            if fields[3] == "0A" and int(fields[1].rpartition(":")[2], 16) == port:
                found.add(f"socket:[{fields[9]}]")
    return found
