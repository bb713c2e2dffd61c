"""Starts that happen only if, and as soon as, the caller's own transaction commits.

The start is a row in the caller's database, written by the caller's transaction. A relay reads
such rows and delivers each to the service by its start key: however often it is delivered, and
whoever is killed meanwhile, there is one run. Works over any DB-API 2.0 connection; the table is
described in `docs/outbox.md`.
"""

from __future__ import annotations

import contextlib
import re
import sqlite3
import time
import uuid
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, ParamSpec, Unpack, overload

from yarnloom.client.start_request import StartOptions, start_of
from yarnloom.errors import (
    Busy,
    Gone,
    NotAllowed,
    NotFound,
    NotReachable,
    Refused,
    ServiceError,
    ValueRefused,
)
from yarnloom.outbox_connections import OutboxConnection, Rows, through
from yarnloom.start_keys import OF_OUTBOX
from yarnloom.units import Duration
from yarnloom.values import JsonObject, decode, encode

if TYPE_CHECKING:
    from yarnloom.client import Client
    from yarnloom.sdk.calls import Call, Task, Workflow

P = ParamSpec("P")
TABLE = "yarnloom_outbox"
AT_ONCE = 100
FIRST_PAUSE, LONGEST_PAUSE = 0.1, 10.0
REFUSED_MOST = 2_000
_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*(\.[A-Za-z_][A-Za-z0-9_]*)?\Z")
_STYLES = ("qmark", "format", "pyformat", "numeric", "named")


class Outbox:
    """Where the caller's transactions leave starts.

    Args:
        table: the table's name, with a schema before it where there is one.
        paramstyle: how the driver marks values, a DB-API `paramstyle`; found unless given.
        bind: the engine to write with, for a Session of SQLAlchemy that has several.
    """

    def __init__(
        self, table: str = TABLE, *, paramstyle: str | None = None, bind: object = None
    ) -> None:
        if not _NAME.match(table):
            raise ValueRefused(f"found the table name {table!r:.100}; letters, digits and '_'")
        if paramstyle is not None and paramstyle not in _STYLES:
            expected = ", ".join(_STYLES)
            raise ValueRefused(f"found paramstyle={paramstyle!r:.60}; expected {expected}")
        self.table_name = table
        self._paramstyle = paramstyle
        self._bind = bind

    @property
    def schema(self) -> str:
        """The SQL statement that makes the table, for the caller's migrations."""
        return (
            f"CREATE TABLE IF NOT EXISTS {self.table_name} (\n"
            "  start_key VARCHAR(200) NOT NULL PRIMARY KEY,\n"
            "  body      TEXT NOT NULL,\n"
            "  left_at   DOUBLE PRECISION NOT NULL,\n"
            "  refused   TEXT\n"
            ")"
        )

    def table(self, metadata: Any) -> Any:
        """Return the table as SQLAlchemy knows it, so that migration tools make and keep it.

        Args:
            metadata: the caller's `MetaData`, which knows the table from then on.
        """
        from sqlalchemy import Column, Double, String, Table, Text

        schema, _, name = self.table_name.rpartition(".")
        return Table(
            name,
            metadata,
            Column("start_key", String(200), primary_key=True),
            Column("body", Text, nullable=False),
            Column("left_at", Double, nullable=False),
            Column("refused", Text),
            schema=schema or None,
        )

    def create_table(self, connection: object) -> None:
        """Make the table where it is not there yet, in the connection's transaction."""
        self._execute(connection, self.schema)

    @overload
    def start(
        self, connection: object, target: Call[Any], /, **options: Unpack[StartOptions]
    ) -> str: ...
    @overload
    def start(
        self,
        connection: object,
        target: str,
        params: Mapping[str, Any],
        /,
        **options: Unpack[StartOptions],
    ) -> str: ...
    @overload
    def start(
        self,
        connection: object,
        target: str,
        /,
        *,
        key: str | None = None,
        priority: int = 0,
        share: str = "",
        tags: Sequence[str] = (),
        at: datetime | None = None,
        after: Duration | None = None,
        start_by: datetime | None = None,
        **named: Any,
    ) -> str: ...
    @overload
    def start(
        self,
        connection: object,
        target: Task[P, Any] | Workflow[P, Any],
        /,
        *inputs: P.args,
        **named: P.kwargs,
    ) -> str: ...
    def start(self, connection: object, target: Any, /, *given: Any, **named: Any) -> str:
        """Leave a start in the caller's transaction: it is made when, and if, that commits.

        Args:
            connection: with the transaction, which is neither committed nor rolled back here: a
                DB-API connection; a Session, Connection or pooled connection of SQLAlchemy; or a
                connection of Django.
            target: what is started, in any form that `Client.start` takes.
            given: as of `Client.start`.
            named: as of `Client.start`; `after` counts from delivery.

        Returns:
            The start key, by which the run can be found: `client.runs(key=key)`.

        Raises:
            ValueRefused: the params are not JSON, or a time makes no sense.
            NotInTransaction: the connection commits each statement by itself.
        """
        start, _ = start_of(target, given, named)
        if start.key is None:
            start = replace(start, key=OF_OUTBOX + uuid.uuid4().hex)
        body = start.to_json()
        through(connection, self._paramstyle, self._bind).refuse_outside()
        self._execute(
            connection,
            f"INSERT INTO {self.table_name} (start_key, body, left_at) VALUES (?, ?, ?)",
            body["key"],
            encode(body, "the start"),
            time.time(),
        )
        found: str = body["key"]
        return found

    async def astart(self, session: Any, target: Any, /, *given: object, **named: object) -> str:
        """Leave a start in the transaction of an AsyncSession or AsyncConnection of SQLAlchemy.

        Takes, returns and raises what `start` does.
        """
        key: str = await session.run_sync(
            lambda connection: self.start(connection, target, *given, **named)
        )
        return key

    # For the relay

    def waiting(self, connection: object, limit: int) -> list[tuple[str, JsonObject]]:
        """Starts that were not delivered, in the order in which they were left; key and body."""
        rows = self._execute(
            connection,
            f"SELECT start_key, body FROM {self.table_name} WHERE refused IS NULL"
            " ORDER BY left_at, start_key",
            most=limit,
        )
        return [(key, decode(body)) for key, body in rows]

    def refused(self, connection: object, limit: int = 50) -> list[tuple[str, str]]:
        """Starts that the service refused, and why; they stay until someone removes them."""
        sql = f"SELECT start_key, refused FROM {self.table_name} WHERE refused IS NOT NULL"
        return [tuple(row) for row in self._execute(connection, sql, most=limit)]

    def delivered(self, connection: object, key: str) -> None:
        """A start was made: its row is not needed any more."""
        self._execute(connection, f"DELETE FROM {self.table_name} WHERE start_key = ?", key)

    def refuse(self, connection: object, key: str, why: str) -> None:
        """The service refused a start, and would each time."""
        sql = f"UPDATE {self.table_name} SET refused = ? WHERE start_key = ?"
        self._execute(connection, sql, why[:REFUSED_MOST], key)

    def postpone(self, connection: object, key: str) -> None:
        """A start cannot be made yet: those that were left after it come first now."""
        sql = f"UPDATE {self.table_name} SET left_at = ? WHERE start_key = ?"
        self._execute(connection, sql, time.time(), key)

    def retry(self, connection: object) -> None:
        """Let everything that was refused be delivered once more."""
        self._execute(connection, f"UPDATE {self.table_name} SET refused = NULL")

    def _execute(self, connection: object, sql: str, *values: Any, most: int = 0) -> Rows:
        return through(connection, self._paramstyle, self._bind).execute(sql, values, most)


def sqlite_file(path: Path) -> OutboxConnection:
    """A connection to the caller's SQLite file, which waits for other writers."""
    return sqlite3.connect(path, timeout=30.0)


@dataclass(slots=True)
class Relayed:
    """What one look of a relay came to.

    Attributes:
        delivered: how many starts were made, or had been before.
        refused: what the service refused: the start key and why, of each.
        later: why one is to be tried again later, though the service answers; empty for none.
        more: whether there may be more.
        broken: why it could not go on; empty if it could.
    """

    delivered: int = 0
    refused: list[str] = field(default_factory=list)
    later: str = ""
    more: bool = False
    broken: str = ""


class Relay:
    """Delivers what is left in an outbox.

    Several may run beside each other: a start that two of them deliver is one run.

    Args:
        outbox: where the starts are.
        connect: makes a connection to the caller's database.
        client: talks to the service.
    """

    def __init__(
        self, outbox: Outbox, connect: Callable[[], OutboxConnection], client: Client
    ) -> None:
        self._outbox = outbox
        self._connect = connect
        self._client = client
        self._connection: OutboxConnection | None = None

    def deliver(self) -> Relayed:
        """Deliver what is there, up to `AT_ONCE` starts, in order."""
        found = Relayed()
        try:
            if self._connection is None:
                self._connection = self._connect()
            connection = self._connection
            waiting = self._outbox.waiting(connection, AT_ONCE)
            connection.rollback()  # nothing is held while the service is asked
        except Exception as error:
            self.forget()
            found.broken = f"the database: {type(error).__name__}: {error}"
            return found
        found.more = len(waiting) == AT_ONCE
        for key, body in waiting:
            why: str | None
            try:
                why = self._deliver(body)
            except ServiceError as error:
                found.broken = error.text
                return found
            except NotFound as error:
                # Its loom may be published in a moment; others are not to wait for it.
                found.later, why = error.text, None
            try:
                if why is None:
                    self._outbox.postpone(connection, key)
                elif why:
                    self._outbox.refuse(connection, key, why)
                    found.refused.append(f"{key}: {why}")
                else:
                    self._outbox.delivered(connection, key)
                    found.delivered += 1
                connection.commit()
            except Exception as error:
                # It is delivered again, by the same key, which makes no second run.
                self.forget()
                found.broken = f"the database: {type(error).__name__}: {error}"
                return found
        return found

    def run(self, wait: Callable[[float], bool], say: Callable[[str], None], every: float) -> None:
        """Deliver again and again.

        Args:
            wait: waits for news, at most so many seconds; False to end.
            say: told what is in the way, once.
            every: seconds after which it looks again where nothing tells it to.
        """
        said, pause = "", FIRST_PAUSE
        while True:
            found = self.deliver()
            trouble = found.broken or found.later
            if trouble != said:
                say(f"waits: {trouble}" if trouble else "delivers again")
                said = trouble
            for refusal in found.refused:
                say(f"refused: {refusal}")
            if found.more and not trouble:
                continue
            pause = min(LONGEST_PAUSE, pause * 2) if trouble else FIRST_PAUSE
            if not wait(pause if trouble else every):
                return

    def forget(self) -> None:
        """Let go of the connection; the next look makes another."""
        connection, self._connection = self._connection, None
        with contextlib.suppress(Exception):
            connection.close()  # type: ignore[union-attr]

    def _deliver(self, body: JsonObject) -> str:
        """Start a run; why the service refuses it, empty if it does not.

        Raises:
            ServiceError: it cannot be reached, or is busy.
        """
        from yarnloom.client import Request

        try:
            while "checking" in self._client.call(Request("POST", "/runs", body)):
                pass
        except Gone:
            return ""  # it was made, and the run removed since
        except NotFound:
            raise
        except (Busy, NotAllowed) as error:
            raise NotReachable(error.text) from error
        except Refused as error:
            return str(error)
        return ""
