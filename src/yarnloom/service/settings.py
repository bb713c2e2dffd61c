"""What a service is told when it starts."""

from __future__ import annotations

import ipaddress
from dataclasses import dataclass
from pathlib import Path

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
        host: the address to listen at.
        port: the port; 0 takes any free one.
        public_url: the address by which people reach it; empty for the one it listens at.
        embed: sites that may show the page of a link inside theirs.
        names: host names by which this service is reached, beside its address.
        lease: seconds a worker is thought to live after its last request.
        commit: "loop", "thread", or "auto" (by how fast the disk is).
        keep_files: seconds that a file is kept that no run uses.
    """

    data: Path
    host: str = DEFAULT_HOST
    port: int = DEFAULT_PORT
    public_url: str = ""
    embed: tuple[str, ...] = ()
    names: tuple[str, ...] = ()
    lease: float = LEASE
    commit: str = "auto"
    keep_files: float = KEEP_FILES

    def check(self) -> None:
        """Refuse to seal with a key that is none.

        Raises:
            StartError: it would be.
        """
        if problem := key_problem():
            raise StartError(
                f"{problem} A key is made with: python -c 'from cryptography.fernet import "
                "Fernet; print(Fernet.generate_key().decode())'"
            )


def is_loopback(host: str) -> bool:
    """Whether only this machine reaches that address."""
    if host == "localhost":
        return True
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False
