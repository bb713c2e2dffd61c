"""Which service a client talks to, over which socket, and what it shows there."""

from __future__ import annotations

import os
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import urlsplit

from yarnloom import local_socket
from yarnloom.data_folder import own_data_folder
from yarnloom.errors import InvalidInput, NotReachable
from yarnloom.masking import TOKEN_FILE_VARIABLE, TOKEN_VARIABLE
from yarnloom.settings.project import find_project

DEFAULT_URL = "http://127.0.0.1:8471"
NOWHERE = "http://127.0.0.1:0"
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
        data: the data folder of the service that is meant; empty where an address was given.
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

        Without an address it is that of `YARNLOOM_URL`, else the service of the project that the
        working folder is in, else that of the user's data folder, else the default one. A service
        of the same user on this machine is reached by its Unix socket, and needs no token; with a
        token it is reached as the token's owner.

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
        data = ""
        if not url and (url := os.environ.get("YARNLOOM_URL")):
            setting = "from YARNLOOM_URL"
        if not url:
            data, project = os.environ.get("YARNLOOM_DATA", ""), find_project()
            if not data and project is not None and (url := project.text("url")):
                setting = f"from {project.file}"
                # Its token is for its address, and for no other.
                token_file = token_file or project.text("token_file")
            elif not data and project is not None:
                data = str(project.data)
        file = "" if token is not None else token_file or os.environ.get(TOKEN_FILE_VARIABLE, "")
        if token is None:
            token = _read_token(file) if file else os.environ.get(TOKEN_VARIABLE, "")
        if url and url.startswith(SOCKET_URL):
            path = url.removeprefix(SOCKET_URL)
            return cls(local_socket.url_of(path), setting, token, path, token_file=file)
        if url:
            _refuse_password(url)
            return cls(url.rstrip("/"), setting, token, token_file=file)
        return cls._of_folder(Path(data or own_data_folder()), not data, token, file)

    @classmethod
    def _of_folder(cls, folder: Path, may_be_default: bool, token: str, file: str) -> Target:
        """Return the service of a data folder; of the user's own, else the one at the usual port.

        A project never finds the service of another.
        """
        record = local_socket.read_record(folder)
        lives = record is not None and local_socket.answers(record.socket)
        if record is not None and (lives or not may_be_default):
            return cls(record.url, f"the service of {folder}", token, "", str(folder), file)
        if may_be_default:
            return cls(DEFAULT_URL, "the default", token, "", str(folder), file)
        return cls(NOWHERE, f"the service of {folder}", token, "", str(folder), file)

    def socket_path(self) -> str:
        """Return the path of the Unix socket by which the service is reached now; "" for TCP."""
        if self.socket:
            return self.socket
        if self.data:
            record = local_socket.read_record(Path(self.data))
            if record is not None and Path(record.socket).exists():
                return record.socket
        if self.token or self.secure or not self.local or self.url == NOWHERE:
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
        headers = {"Yarnloom-Who": who.encode("ascii", "replace").decode()}
        if self.token:
            headers["Authorization"] = f"Bearer {self.token}"
        return headers

    def environment(self) -> dict[str, str]:
        """Return the variables by which a program that is started reaches the same service."""
        path = self.socket_path()
        variables = {"YARNLOOM_URL": f"{SOCKET_URL}{path}" if path else self.url}
        return variables | ({TOKEN_FILE_VARIABLE: self.token_file} if self.token_file else {})

    def not_reachable(self, why: object) -> NotReachable:
        """Return the error when nothing answers."""
        if self.url == NOWHERE:
            return NotReachable(
                f"no service runs for {self.data}.", hint="Start one with `yarnloom serve`"
            )
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
