"""The Unix socket by which programs of the same user reach a service on their machine.

It is in a folder that only its user can enter: the user's runtime folder, else a folder in the
system's folder for temporary files. The socket's name is the address at which the service listens,
and the data folder keeps a record of it. Either side asks the system for the user at the other end
before it says anything.

Decision: `docs/decisions/17-who-gets-in.md`.
"""

from __future__ import annotations

import contextlib
import json
import os
import socket
import stat
import struct
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from yarnloom.errors import StartError

LONGEST_PATH = 104
"""Bytes that the path of a socket may have on every system, its end included."""

BACKLOG = 4_096
"""Connections that may wait to be taken; a Unix socket refuses more at once."""

RECORD = "service.json"
"""The file in a data folder that names the socket of its service."""

_ANY = ("0.0.0.0", "::")
_NAMES = {"localhost": ("127.0.0.1", "::1")}
_PEER = struct.Struct("3i")
_MACOS_LOCAL_PEERCRED = 1


@dataclass(frozen=True, slots=True)
class ServiceRecord:
    """Where a data folder's service is reached.

    Attributes:
        socket: the path of its Unix socket.
        url: its address.
        pid: its process.
    """

    socket: str
    url: str
    pid: int


def folders() -> Iterator[Path]:
    """Yield the folders in which a socket of this user can be, the best first.

    A program without the variables of a login, such as one that cron starts, looks in all of them.
    """
    user = os.getuid()
    if given := os.environ.get("XDG_RUNTIME_DIR"):
        yield Path(given) / "yarnloom"
    yield Path(f"/run/user/{user}/yarnloom")
    with contextlib.suppress(FileNotFoundError):  # where no folder can be written
        yield Path(tempfile.gettempdir()) / f"yarnloom-{user}"
    yield Path(f"/tmp/yarnloom-{user}")


def is_private(folder: Path) -> bool:
    """Whether a folder is this user's own and nobody else can enter it; links are not followed."""
    try:
        facts = folder.lstat()
    except OSError:
        return False
    mine = facts.st_uid == os.getuid() and stat.S_ISDIR(facts.st_mode)
    return mine and stat.S_IMODE(facts.st_mode) & 0o077 == 0


def listen(address: str, port: int) -> tuple[socket.socket, Path]:
    """Return a listening socket for the service at an address, and its path.

    The service at the address owns the name, so it replaces what an earlier one left there.

    Raises:
        StartError: no folder can be used.
    """
    name = f"{address}-{port}.sock"
    reasons = []
    for folder in dict.fromkeys(folders()):
        path = folder / name
        if len(os.fsencode(path)) >= LONGEST_PATH:
            reasons.append(f"{path} is too long for the path of a socket")
            continue
        with contextlib.suppress(OSError):
            folder.mkdir(mode=0o700)
        if not is_private(folder):
            if folder.exists():
                reasons.append(f"{folder} is another user's, or others can enter it")
            continue
        try:
            return _listen(folder, name), path
        except OSError as error:
            reasons.append(f"{path}: {error.strerror}")
    raise StartError(
        "no folder can be used for the service's Unix socket: "
        f"{'; '.join(reasons) or 'none can be made'}.",
        hint="Give one that only this user can enter, in XDG_RUNTIME_DIR.",
    )


def _listen(folder: Path, name: str) -> socket.socket:
    _remove_unused(folder)
    sock = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    # Under another name until it listens, so that nobody takes it for one that is not used.
    made = folder / f".{os.getpid()}"
    with contextlib.suppress(FileNotFoundError):
        made.unlink()
    try:
        sock.bind(str(made))
        made.chmod(0o600)
        sock.listen(BACKLOG)
        made.rename(folder / name)
    except OSError:
        sock.close()
        raise
    sock.setblocking(False)
    return sock


def _remove_unused(folder: Path) -> None:
    """Remove sockets that killed services left behind."""
    for path in folder.glob("*.sock"):
        if not answers(str(path)):
            with contextlib.suppress(OSError):
                path.unlink()


def answers(path: str) -> bool:
    """Whether a service of this user, or of root, listens at a path."""
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as probe:
        probe.settimeout(1)
        try:
            probe.connect(path)
        except OSError:
            return False
        return is_trusted(probe, path)


def socket_of(url: str) -> str:
    """Return the path of the Unix socket of this user's service at an address; "" for none.

    Whether the service still lives shows itself at the connection: to try it here would take a
    place among those that wait for one.
    """
    parts = urlsplit(url)
    host, port = parts.hostname or "", parts.port or 80
    paths = [
        str(path)
        for folder in dict.fromkeys(folders())
        if is_private(folder)
        for address in (*_NAMES.get(host, (host,)), *_ANY)
        if (path := folder / f"{address}-{port}.sock").exists()
    ]
    if len(paths) > 1:
        return next((path for path in paths if answers(path)), paths[0])
    return paths[0] if paths else ""


def url_of(path: str) -> str:
    """Return the address that the name of a socket says, for messages and the header `Host`."""
    address, _, port = Path(path).stem.rpartition("-")
    if not port.isdecimal():
        return "http://localhost"
    return f"http://[{address}]:{port}" if ":" in address else f"http://{address}:{port}"


def user_at_other_end(sock: Any) -> int | None:
    """Return the id of the user at the other end of a Unix socket; None where none is known.

    Args:
        sock: the socket, or what an event loop gives out in its place.
    """
    try:
        with socket.socket(fileno=os.dup(sock.fileno())) as own:
            return _user_at_other_end(own)
    except OSError:
        return None


def _user_at_other_end(sock: socket.socket) -> int:
    if sys.platform == "darwin":
        credentials = sock.getsockopt(0, _MACOS_LOCAL_PEERCRED, 76)
        return int(struct.unpack_from("II", credentials)[1])
    credentials = sock.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, _PEER.size)
    return int(_PEER.unpack(credentials)[1])


def is_trusted(sock: Any, path: str) -> bool:
    """Whether the user at the other end of a Unix socket is this one, or root.

    Root trusts the owner of the path, too.
    """
    user, own = user_at_other_end(sock), os.getuid()
    if user is None or user in (own, 0):
        return user is not None
    try:
        return own == 0 and user == Path(path).lstat().st_uid
    except OSError:
        return False


def not_trusted(path: str) -> str:
    """Return the words for a socket of another user."""
    return f"another user listens at {path}, so nothing was sent"


# The record in the data folder


def write_record(data: Path, record: ServiceRecord) -> None:
    """Name the socket of the service that has a data folder."""
    path = data / RECORD
    made = path.with_suffix(".new")
    descriptor = os.open(made, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(descriptor, "w") as file:
        json.dump(asdict(record), file)
    made.replace(path)


def read_record(data: Path) -> ServiceRecord | None:
    """Return where a data folder's service was last reached; None where it has no record.

    Only root reads that of another user: it could lead anywhere.
    """
    try:
        with (data / RECORD).open(encoding="utf-8") as file:
            if os.getuid() not in (0, os.fstat(file.fileno()).st_uid):
                return None
            said = json.load(file)
        return ServiceRecord(str(said["socket"]), str(said["url"]), int(said["pid"]))
    except (OSError, ValueError, KeyError, TypeError):
        return None


def remove_record(data: Path, path: Path) -> None:
    """Remove the record of a service that has ended, and its socket, unless they are another's."""
    record = read_record(data)
    if record is not None and record.pid == os.getpid():
        with contextlib.suppress(OSError):
            (data / RECORD).unlink()
    if not answers(str(path)):
        with contextlib.suppress(OSError):
            path.unlink()
