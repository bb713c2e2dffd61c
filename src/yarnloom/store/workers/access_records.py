"""Tokens, and sessions of browsers."""

from __future__ import annotations

import sqlite3

from yarnloom.store.select import Record
from yarnloom.store.unit_of_work import Unit

_TOKEN = "id, name, digest, may, workflows, made_at, made_by, ends_at, revoked_at, revoked_by"
_SESSION = "digest, token, name, made_at, used_at, ends_at"


def add_token(unit: Unit, row: Record) -> int:
    """Keep a new token; return its id."""
    names = [name for name in _TOKEN.split(", ") if name in row]
    unit.change(
        f"INSERT INTO tokens ({', '.join(names)}) VALUES ({', '.join('?' * len(names))})",
        tuple(row[name] for name in names),
    )
    ((newest,),) = unit.execute("SELECT max(id) FROM tokens")
    return int(newest)


def revoke_token(unit: Unit, token: int, now: int, who: str) -> None:
    """End a token, and the sessions that were begun with it."""
    unit.change("UPDATE tokens SET revoked_at = ?, revoked_by = ? WHERE id = ?", (now, who, token))
    unit.change("DELETE FROM sessions WHERE token = ?", (token,))


def live_token(unit: Unit, name: str, now: int) -> Record | None:
    """Return the token of a name that can be used, as the writer sees it."""
    rows = unit.execute(
        f"SELECT {_TOKEN} FROM tokens WHERE name = ? AND revoked_at IS NULL AND ends_at > ?",
        (name, now),
    )
    return dict(zip(_TOKEN.split(", "), rows[0], strict=True)) if rows else None


def live_names(unit: Unit, now: int) -> list[str]:
    """Return the names of the tokens that can be used."""
    sql = "SELECT name FROM tokens WHERE ends_at > ? AND revoked_at IS NULL ORDER BY name"
    return [name for (name,) in unit.execute(sql, (now,))]


def forget_tokens(unit: Unit, before: int) -> None:
    """Forget tokens that ended before a time."""
    unit.change("DELETE FROM tokens WHERE ends_at < ?", (before,))


def tokens(connection: sqlite3.Connection, ending_after: int) -> list[Record]:
    """Return tokens that end after a time, newest first, those that were revoked too."""
    sql = f"SELECT {_TOKEN} FROM tokens WHERE ends_at > ? ORDER BY id DESC"
    return _records(connection, sql, _TOKEN, ending_after)


def add_session(
    unit: Unit, digest: str, token: int | None, name: str, now: int, ends_at: int
) -> None:
    """Keep a new session."""
    unit.change(
        f"INSERT INTO sessions ({_SESSION}) VALUES (?, ?, ?, ?, ?, ?)",
        (digest, token, name, now, now, ends_at),
    )


def use_session(unit: Unit, digest: str, now: int) -> None:
    """Note that a session is used."""
    unit.change("UPDATE sessions SET used_at = ? WHERE digest = ?", (now, digest))


def end_session(unit: Unit, digest: str) -> None:
    """Forget a session."""
    unit.change("DELETE FROM sessions WHERE digest = ?", (digest,))


def forget_sessions(unit: Unit, before: int) -> None:
    """Forget sessions that ended before a time."""
    unit.change("DELETE FROM sessions WHERE ends_at < ?", (before,))


def sessions(connection: sqlite3.Connection, ending_after: int) -> list[Record]:
    """Return the sessions that end after a time."""
    sql = f"SELECT {_SESSION} FROM sessions WHERE ends_at > ?"
    return _records(connection, sql, _SESSION, ending_after)


def _records(connection: sqlite3.Connection, sql: str, names: str, *values: int) -> list[Record]:
    """Return the records of a statement; the writer's connection names no columns itself."""
    rows = connection.execute(sql, values)
    return [dict(zip(names.split(", "), row, strict=True)) for row in rows]
