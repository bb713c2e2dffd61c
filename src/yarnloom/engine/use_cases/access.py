"""Tokens are added and revoked, browsers signed in and out."""

from __future__ import annotations

import json
from dataclasses import dataclass, replace

from yarnloom.engine.commands import (
    AddToken,
    BeginSession,
    EndSession,
    RevokeToken,
    UseSession,
    handles,
)
from yarnloom.engine.records.access import SessionRecord, TokenRecord
from yarnloom.engine.rules.run_clock import RunTime
from yarnloom.errors import Conflict, NotFound, nearest
from yarnloom.store import Row, Unit
from yarnloom.store.runs import run_records as store
from yarnloom.store.workers import access_records

MOST_TOKENS = 1_000
REMEMBERED = 90 * 86_400 * 1_000_000
"""Microseconds for which a token that has ended is still listed."""


@dataclass(slots=True)
class Access:
    """Keeps who may use the service."""

    unit: Unit
    time: RunTime

    @handles(AddToken)
    def add_token(self, command: AddToken) -> TokenRecord:
        """Keep a token.

        Raises:
            Conflict: one of the name can be used, or there are as many as may be.
        """
        now = self.time.wall
        if access_records.live_token(self.unit, command.name, now) is not None:
            raise Conflict(
                f"there is a token {command.name!r} already",
                hint=f"Revoke it with `yarnloom token revoke {command.name}`, or take another name",
            )
        if len(access_records.live_names(self.unit, now)) >= MOST_TOKENS:
            raise Conflict(f"there are {MOST_TOKENS} tokens, as many as may be; revoke one first")
        access_records.forget_tokens(self.unit, now - REMEMBERED)
        made = TokenRecord(
            0,
            command.name,
            command.digest,
            command.may,
            command.workflows,
            now,
            command.who,
            now + round(command.seconds * 1_000_000),
        )
        row = {
            "name": made.name,
            "digest": made.digest,
            "may": json.dumps(made.may),
            "workflows": json.dumps(made.workflows),
            "made_at": made.made_at,
            "made_by": made.made_by,
            "ends_at": made.ends_at,
        }
        detail = {"token": made.name, "may": made.may, "workflows": made.workflows}
        store.log_command(self.unit, self.time.now, command.who, "add_token", None, "", **detail)
        return replace(made, id=access_records.add_token(self.unit, row))

    @handles(RevokeToken)
    def revoke_token(self, command: RevokeToken) -> TokenRecord:
        """End a token, and the sessions that were begun with it.

        Raises:
            NotFound: no token of the name can be used.
        """
        now = self.time.wall
        row = access_records.live_token(self.unit, command.name, now)
        if row is None:
            known = access_records.live_names(self.unit, now)
            raise NotFound(
                f"there is no token {command.name!r}{nearest(command.name, known)}",
                hint="`yarnloom tokens` lists them",
            )
        access_records.revoke_token(self.unit, row["id"], now, command.who)
        store.log_command(
            self.unit,
            self.time.now,
            command.who,
            "revoke_token",
            None,
            command.reason,
            token=command.name,
        )
        return replace(token_record(row), revoked_at=now, revoked_by=command.who)

    @handles(BeginSession)
    def begin_session(self, command: BeginSession) -> SessionRecord:
        """Keep a session."""
        now = self.time.wall
        access_records.forget_sessions(self.unit, now)
        ends_at = now + round(command.seconds * 1_000_000)
        access_records.add_session(
            self.unit, command.digest, command.token, command.name, now, ends_at
        )
        return SessionRecord(command.digest, command.token, command.name, now, now, ends_at)

    @handles(UseSession)
    def use_session(self, command: UseSession) -> None:
        """Note that a session is used."""
        access_records.use_session(self.unit, command.digest, self.time.wall)

    @handles(EndSession)
    def end_session(self, command: EndSession) -> None:
        """Forget a session."""
        access_records.end_session(self.unit, command.digest)


def token_record(row: Row) -> TokenRecord:
    """Return a token's record."""
    may, workflows = json.loads(row["may"]), json.loads(row["workflows"])
    return TokenRecord(**{**row, "may": tuple(may), "workflows": tuple(workflows)})
