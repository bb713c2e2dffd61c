"""What a service is told when it starts."""

from __future__ import annotations

import ipaddress
import os
from dataclasses import dataclass
from pathlib import Path

from platformdirs import user_data_path

from yarnloom.engine.state.settings import KEEP_FILES, LEASE
from yarnloom.errors import StartError
from yarnloom.secrets import key_problem

DEFAULT_HOST = "127.0.0.1"
DEFAULT_PORT = 8471


@dataclass(frozen=True, slots=True)
class ServiceSettings:
    """How a service runs.

    Attributes:
        data: the data folder.
        host: the address to listen at; anything but loopback needs a token.
        port: the port; 0 takes any free one.
        token: what clients and workers must show; none is needed where it is empty.
        names: host names by which this service is reached, beside its address.
        lease: seconds a worker is thought to live after its last request.
        commit: "loop", "thread", or "auto" (by how fast the disk is).
        keep_files: seconds that a file is kept that no run uses.
    """

    data: Path
    host: str = DEFAULT_HOST
    port: int = DEFAULT_PORT
    token: str = ""
    names: tuple[str, ...] = ()
    lease: float = LEASE
    commit: str = "auto"
    keep_files: float = KEEP_FILES

    def check(self) -> None:
        """Refuse to be open to a network without a token, or to seal with a key that is none.

        Raises:
            StartError: it would be.
        """
        if problem := key_problem():
            raise StartError(
                f"{problem} A key is made with: python -c 'from cryptography.fernet import "
                "Fernet; print(Fernet.generate_key().decode())'"
            )
        if not self.token and not is_loopback(self.host):
            raise StartError(
                f"{self.host} can be reached from other machines, so a token is needed.",
                hint="Give one with --token or YARNLOOM_TOKEN, or listen at 127.0.0.1.",
            )


def default_data_folder() -> Path:
    """The data folder unless another is given: `YARNLOOM_DATA`, or the user's own."""
    given = os.environ.get("YARNLOOM_DATA")
    return Path(given) if given else user_data_path("yarnloom", appauthor=False)


def is_loopback(host: str) -> bool:
    """Whether only this machine reaches that address."""
    if host == "localhost":
        return True
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False
