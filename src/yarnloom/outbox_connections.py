"""What an outbox can write through: DB-API connections, and those of SQLAlchemy and Django.

Neither of the two is needed here, so none is imported: an object says by its class's module what it
is. A statement has `?` for each value.
"""

from __future__ import annotations

import sqlite3
import sys
from collections.abc import Callable
from typing import Any, Protocol

from yarnloom.errors import NotInTransaction, ValueRefused

Rows = list[tuple[Any, ...]]
Values = tuple[object, ...]


class OutboxConnection(Protocol):
    """What is used of a DB-API connection."""

    def cursor(self) -> Any:
        """A new cursor."""

    def commit(self) -> Any:
        """Commit the transaction."""

    def rollback(self) -> Any:
        """Undo the transaction."""


class Through(Protocol):
    """Does the statements of an outbox in somebody's transaction."""

    def execute(self, sql: str, values: Values, most: int) -> Rows:
        """Do a statement; return up to so many rows."""

    def refuse_outside(self) -> None:
        """Refuse to write where each statement commits by itself.

        Raises:
            NotInTransaction: it would.
        """


def through(connection: Any, paramstyle: str | None, bind: Any = None) -> Through:
    """Return what does the statements of an outbox through a connection or session.

    Args:
        connection: a DB-API connection; a Session, Connection or pooled connection of SQLAlchemy;
            or a connection of Django.
        paramstyle: how the driver marks values; found unless given.
        bind: the engine to write with, for a Session of SQLAlchemy that has several.

    Raises:
        ValueRefused: it is something else.
    """
    modules = {kind.__module__.partition(".")[0] for kind in type(connection).__mro__}
    if "sqlalchemy" in modules:
        return _through_sqlalchemy(connection, paramstyle, bind)
    if "django" in modules and hasattr(connection, "in_atomic_block"):
        return _Django(connection)
    if not hasattr(connection, "cursor"):
        raise ValueRefused(
            f"found a {type(connection).__name__}; expected a DB-API connection, a Session or "
            "Connection of SQLAlchemy, or a connection of Django"
        )
    return _DbApi(connection, paramstyle or paramstyle_of(connection))


def _through_sqlalchemy(connection: Any, paramstyle: str | None, bind: Any) -> Through:
    if hasattr(connection, "run_sync"):
        raise ValueRefused(
            f"found a {type(connection).__name__}, which is for asyncio",
            hint="Leave the start with `await outbox.astart(session, ...)`.",
        )
    if hasattr(connection, "dbapi_connection"):  # of a pool: a DB-API connection in a coat
        driver = connection.dbapi_connection
        return _DbApi(connection, paramstyle or paramstyle_of(driver), driver)
    if hasattr(connection, "exec_driver_sql"):
        return _SqlAlchemy(lambda: connection)
    if hasattr(connection, "get_bind"):
        arguments = {"bind_arguments": {"bind": bind}} if bind is not None else {}
        return _SqlAlchemy(lambda: connection.connection(**arguments))
    raise ValueRefused(
        f"found a {type(connection).__name__} of SQLAlchemy; expected a Session or a Connection, "
        "with the transaction that the start belongs to"
    )


class _DbApi:
    """A connection as PEP 249 has it."""

    def __init__(self, connection: OutboxConnection, style: str, driver: object = None) -> None:
        self._connection = connection
        self._driver = connection if driver is None else driver
        self._style = style

    def execute(self, sql: str, values: Values, most: int) -> Rows:
        text, given = marked(sql, self._style, values)
        cursor = self._connection.cursor()
        try:
            if values:
                cursor.execute(text, given)
            else:
                cursor.execute(text)
            return list(cursor.fetchmany(most)) if most else []
        finally:
            cursor.close()

    def refuse_outside(self) -> None:
        if _commits_itself(self._driver):
            raise outside(type(self._driver).__name__)


def _commits_itself(driver: Any) -> bool:
    """Whether a connection commits each statement, as no transaction has begun."""
    if isinstance(driver, sqlite3.Connection):
        by_itself = driver.isolation_level is None or getattr(driver, "autocommit", False) is True
        return by_itself and not driver.in_transaction
    if getattr(driver, "autocommit", False) is not True:
        return False
    status = getattr(getattr(driver, "info", None), "transaction_status", 0)
    return int(status) == 0  # idle, in the words of libpq


class _SqlAlchemy:
    """A connection of SQLAlchemy, which is told of each statement, so that it commits them too."""

    def __init__(self, connect: Callable[[], Any]) -> None:
        self._connection = connect()
        self._style = self._connection.dialect.paramstyle

    def execute(self, sql: str, values: Values, most: int) -> Rows:
        style = "numeric_dollar" if self._style.startswith("numeric") else self._style
        text, given = marked(sql, style, values)
        result = self._connection.exec_driver_sql(text, given if values else None)
        return [tuple(row) for row in result.fetchmany(most)] if most else []

    def refuse_outside(self) -> None:
        level = self._connection.get_execution_options().get("isolation_level")
        if "AUTOCOMMIT" in (level, self._connection.default_isolation_level):
            raise outside("Connection")


class _Django:
    """A connection of Django: its cursors take `%s` over every driver."""

    def __init__(self, connection: Any) -> None:
        self._connection = connection

    def execute(self, sql: str, values: Values, most: int) -> Rows:
        with self._connection.cursor() as cursor:
            text, given = marked(sql, "format", values)
            cursor.execute(text, given if values else None)
            return list(cursor.fetchmany(most)) if most else []

    def refuse_outside(self) -> None:
        if self._connection.get_autocommit() and not self._connection.in_atomic_block:
            raise outside("connection of Django")


def outside(what: str) -> NotInTransaction:
    """Return the error for a start that would be left outside a transaction."""
    return NotInTransaction(
        f"this {what} commits each statement by itself, so the start would not belong to your "
        "transaction.",
        hint="Begin one first, and leave the start in it.",
    )


def marked(sql: str, style: str, values: Values) -> tuple[str, object]:
    """A statement with `?` for each value, as a driver of some `paramstyle` wants it."""
    first, *rest = sql.split("?")
    names = [f"v{place}" for place in range(1, len(rest) + 1)]
    match style:
        case "named":
            return first + "".join(f":{n}{r}" for n, r in zip(names, rest, strict=True)), dict(
                zip(names, values, strict=True)
            )
        case "numeric" | "numeric_dollar":
            sign = "$" if style == "numeric_dollar" else ":"
            pieces = (f"{sign}{n[1:]}{r}" for n, r in zip(names, rest, strict=True))
            return first + "".join(pieces), values
        case "qmark":
            return sql, values
    return "%s".join([first, *rest]), values


def paramstyle_of(connection: Any) -> str:
    """How a connection's driver marks values: the `paramstyle` of the package that it is from."""
    for kind in type(connection).__mro__:
        module = kind.__module__
        while module:
            style = getattr(sys.modules.get(module), "paramstyle", None)
            if isinstance(style, str):
                return style
            module = module.rpartition(".")[0]
    raise ValueRefused(
        f"the driver of {type(connection).__name__} does not say how it marks values",
        hint='Say it, as Outbox(paramstyle="qmark").',
    )
