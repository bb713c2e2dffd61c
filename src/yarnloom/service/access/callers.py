"""The caller of a request: its name and its roles."""

from __future__ import annotations

from contextvars import ContextVar
from dataclasses import dataclass

NOBODY = "http"
"""Who gives a command, where a program of the service's own user does not say."""

CONSOLE = "console"


@dataclass(frozen=True, slots=True)
class Caller:
    """Who sends a request.

    Attributes:
        name: of the token; "" for a program of the service's own user, which says itself.
        may: its roles.
        workflows: patterns of what it may operate; empty for all.
        token: the id of its token; None where it has none.
        session: the digest of its session; "" where it has none.
    """

    name: str
    may: frozenset[str]
    workflows: tuple[str, ...] = ()
    token: int | None = None
    session: str = ""

    @property
    def is_admin(self) -> bool:
        """Whether it may do everything."""
        return "admin" in self.may

    @property
    def is_limited(self) -> bool:
        """Whether it may see and operate runs of some workflows only."""
        return bool(self.workflows) and not self.may & {"admin", "view"}

    def who(self, said: str) -> str:
        """Return who gives a command, for the record.

        Args:
            said: the name in the request; with a token, the person it acts for.
        """
        if self.session:
            return f"{CONSOLE}:{self.name}"
        if not self.name:
            return said or NOBODY
        return f"{self.name}, for {said}" if said else self.name


OWN_USER = Caller("", frozenset({"admin"}))
"""A program of the service's own user, or of root, on the same machine."""

UNKNOWN = Caller("", frozenset())
"""Of a request that the guard has not looked at."""

CALLER: ContextVar[Caller] = ContextVar("CALLER", default=UNKNOWN)
"""Who sent the request at hand."""
