"""Tokens, and sessions of browsers."""

from __future__ import annotations

from dataclasses import dataclass

from yarnloom.engine.commands.command import Command


@dataclass(frozen=True, slots=True)
class AddToken(Command):
    """Let the owner of a token use the service; the answer is the token's record.

    Attributes:
        digest: of the token, which nobody keeps.
        may: its roles.
        workflows: patterns of what it may operate; empty for all.
        seconds: how long it can be used.
    """

    name: str
    digest: str
    may: tuple[str, ...]
    workflows: tuple[str, ...]
    seconds: float
    who: str


@dataclass(frozen=True, slots=True)
class RevokeToken(Command):
    """End a token before its time; the answer is its record."""

    name: str
    who: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class BeginSession(Command):
    """Sign a browser in; the answer is the session's record.

    Attributes:
        digest: of the session's two secrets, which nobody keeps.
        token: the token that it was begun with; None for the service's own user.
        name: of its owner.
        seconds: how long it can last.
    """

    digest: str
    token: int | None
    name: str
    seconds: float


@dataclass(frozen=True, slots=True)
class UseSession(Command):
    """Note that a session is used."""

    digest: str


@dataclass(frozen=True, slots=True)
class EndSession(Command):
    """Sign a browser out."""

    digest: str
