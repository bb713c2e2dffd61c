"""Which service a client talks to, over which socket, and what it shows there."""

from __future__ import annotations

import os
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import urlsplit

from yarnloom import local_socket
from yarnloom.data_folder import default_data_folder
from yarnloom.errors import InvalidInput, NotReachable
from yarnloom.masking import TOKEN_FILE_VARIABLE, TOKEN_VARIABLE

DEFAULT_URL = "http://127.0.0.1:8471"
SOCKET_URL = "unix:"
"""Begins an address that is the path of a Unix socket."""


@dataclass(frozen=True, slots=True)
class Target:
    """Which service is meant, and how that was decided.

    Attributes:
        url: the base address, without a slash at its end.
        setting: where the address comes from, for messages.
        token: shown to the service; empty for none.
        socket: the path of its Unix socket, where that was given; else it is looked for.
        data: the data folder whose service is meant; empty where an address was given.
        token_file: the file that the token is from; empty for none.
    """

    url: str
    setting: str
    token: str = field(default="", repr=False)
    socket: str = ""
    data: str = ""
    token_file: str = ""

    @classmethod
    def find(
        cls,
        url: str | None = None,
        token: str | None = None,
        given_by: str = "",
        token_file: str | None = None,
    ) -> Target:
        """Find the service that is meant.

        Without an address it is that of `YARNLOOM_URL`, else the service of the user's data folder,
        else the default one. A service of the same user on this machine is reached by its Unix
        socket, and needs no token; with a token it is reached as the token's owner.

        Args:
            url: its address; `unix:PATH` for a Unix socket.
            token: its token; else that of `token_file`, of `YARNLOOM_TOKEN_FILE`, or in
                `YARNLOOM_TOKEN`.
            given_by: how the address was given, for messages.
            token_file: a file with the token.

        Raises:
            InvalidInput: the address has a password in it, or the file has no token.
        """
        setting = given_by or "given as url"
        if not url:
            url, setting = os.environ.get("YARNLOOM_URL"), "from YARNLOOM_URL"
        file = "" if token is not None else token_file or os.environ.get(TOKEN_FILE_VARIABLE, "")
        if token is None:
            token = _read_token(file) if file else os.environ.get(TOKEN_VARIABLE, "")
        if url and url.startswith(SOCKET_URL):
            path = url.removeprefix(SOCKET_URL)
            return cls(local_socket.url_of(path), setting, token, path, token_file=file)
        if url:
            _refuse_password(url)
            return cls(url.rstrip("/"), setting, token, token_file=file)
        folder = default_data_folder()
        record = local_socket.read_record(folder)
        if record is not None and local_socket.answers(record.socket):
            of_folder = f"the service of {folder}"
            return cls(record.url, of_folder, token, data=str(folder), token_file=file)
        return cls(DEFAULT_URL, "the default", token, data=str(folder), token_file=file)

    def socket_path(self) -> str:
        """Return the path of the Unix socket by which the service is reached now; "" for TCP."""
        if self.socket:
            return self.socket
        if self.data:
            record = local_socket.read_record(Path(self.data))
            if record is not None and local_socket.answers(record.socket):
                return record.socket
        if self.token or self.secure or not self.local:
            return ""
        return local_socket.socket_of(self.url)

    @property
    def local(self) -> bool:
        """Whether the service is on this machine, where no proxy stands between."""
        if self.socket:
            return True
        return urlsplit(self.url).hostname in ("127.0.0.1", "localhost", "::1")

    @property
    def secure(self) -> bool:
        """Whether TLS is spoken; loading certificates for nothing takes its time."""
        return self.url.startswith("https:")

    def headers(self, who: str) -> dict[str, str]:
        """Return the headers of every request."""
        found = {"Yarnloom-Who": who.encode("ascii", "replace").decode()}
        if self.token:
            found["Authorization"] = f"Bearer {self.token}"
        return found

    def environment(self) -> dict[str, str]:
        """Return the variables by which a program that is started reaches the same service."""
        path = self.socket_path()
        found = {"YARNLOOM_URL": f"{SOCKET_URL}{path}" if path else self.url}
        return found | ({TOKEN_FILE_VARIABLE: self.token_file} if self.token_file else {})

    def not_reachable(self, why: object) -> NotReachable:
        """Return the error when nothing answers."""
        return NotReachable(
            f"no service answers at {self.url} ({self.setting}): {why or 'connection failed'}.",
            hint="Start one with `yarnloom serve`, or give its address with --url or YARNLOOM_URL.",
        )


def _read_token(path: str) -> str:
    """Return the token in a file.

    Raises:
        InvalidInput: there is none.
    """
    try:
        token = Path(path).read_text(encoding="ascii").strip()
    except (OSError, UnicodeDecodeError) as error:
        why = getattr(error, "strerror", None) or "it is no text"
        raise InvalidInput(f"the token cannot be read from {path}: {why}") from error
    if not token or len(token) > 200 or any(letter.isspace() for letter in token):
        raise InvalidInput(
            f"{path} holds no token; expected one line, as `yarnloom token add` prints it"
        )
    return token


def _refuse_password(url: str) -> None:
    """Refuse an address with a password: other users see the arguments of a program."""
    if "@" in url.partition("://")[2].partition("/")[0]:
        raise InvalidInput(
            f"the address of the service has a name or password before {url.rpartition('@')[2]!r}",
            hint="Give a token in a file, with --token-file or YARNLOOM_TOKEN_FILE.",
        )
