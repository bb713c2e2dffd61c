"""Tokens and sessions as they are now."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class TokenRecord:
    """A token, without its secret.

    Attributes:
        may: its roles.
        workflows: patterns of what it may operate; empty for all.
    """

    id: int
    name: str
    digest: str
    may: tuple[str, ...]
    workflows: tuple[str, ...]
    made_at: int
    made_by: str
    ends_at: int
    revoked_at: int | None = None
    revoked_by: str | None = None


@dataclass(frozen=True, slots=True)
class SessionRecord:
    """A browser that is signed in.

    Attributes:
        digest: of its two secrets.
        token: the token with which it ends; None for that of the service's own user.
        name: of its owner.
    """

    digest: str
    token: int | None
    name: str
    made_at: int
    used_at: int
    ends_at: int
