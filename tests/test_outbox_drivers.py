"""The outbox through everything that people write with, over SQLite and PostgreSQL."""

from __future__ import annotations

import asyncio
import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import django
import psycopg
import pytest
import sqlalchemy as sa
from django.conf import settings as django_settings
from sqlalchemy.ext.asyncio import AsyncSession, create_async_engine
from sqlalchemy.orm import Session

from tests.postgres import postgres
from yarnloom import Loom, Outbox
from yarnloom.errors import NotInTransaction, ValueRefused

loom = Loom("shop")


@loom.task
def pack(order: int) -> int:
    """Pack an order."""
    return order


@pytest.fixture(scope="session")
def server() -> Iterator[str]:
    """A PostgreSQL server."""
    with postgres() as url:
        yield url


@pytest.fixture(params=["sqlite", "postgresql"])
def engine(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[sa.Engine]:
    """An engine over an empty database that has the outbox's table, made from metadata."""
    if request.param == "sqlite":
        made = sa.create_engine(f"sqlite:///{tmp_path / 'app.db'}")
    else:
        server = request.getfixturevalue("server")
        made = sa.create_engine(server.replace("postgresql:", "postgresql+psycopg:"))
    metadata = sa.MetaData()
    table = Outbox().table(metadata)
    metadata.drop_all(made)
    metadata.create_all(made)
    assert {column.name for column in table.columns} == {"start_key", "body", "left_at", "refused"}
    yield made
    made.dispose()


def keys(engine: sa.Engine) -> list[str]:
    """The starts that are there, as another connection sees them."""
    with engine.connect() as connection:
        return sorted(
            connection.execute(sa.text("SELECT start_key FROM yarnloom_outbox")).scalars()
        )


def test_through_a_session(engine: sa.Engine) -> None:
    """With commit and rollback; calls and tasks are taken as by a client."""
    outbox = Outbox()
    with Session(engine) as session:
        outbox.start(session, pack.of(order=1), key="a")
        session.commit()
        outbox.start(session, "shop/pack", order=2, key="lost")
        session.rollback()
        outbox.start(session, "pack", {"order": 3}, key="b")
        assert keys(engine) == ["a"]
        session.commit()
        with pytest.raises(TypeError):
            outbox.start(session, pack, ordr=1)

    assert keys(engine) == ["a", "b"]


def test_through_a_connection_and_a_pooled_one(engine: sa.Engine) -> None:
    """That of SQLAlchemy is told of the statement, so that its own commit commits it."""
    outbox = Outbox()
    with engine.connect() as connection:
        outbox.start(connection, pack.of(order=1), key="a")
        connection.commit()
        outbox.start(connection, pack.of(order=1), key="lost")
        connection.rollback()
    with engine.begin() as connection:
        outbox.start(connection, pack.of(order=1), key="b")
    raw = engine.raw_connection()
    outbox.start(raw, pack.of(order=1), key="c")
    raw.commit()
    outbox.start(raw, pack.of(order=1), key="lost")
    raw.rollback()
    raw.close()

    assert keys(engine) == ["a", "b", "c"]


def test_outside_a_transaction_it_is_refused(engine: sa.Engine) -> None:
    """Where each statement commits by itself, a start would not belong to anything."""
    outbox = Outbox()
    with (
        engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection,
        pytest.raises(NotInTransaction, match="Begin one first"),
    ):
        outbox.start(connection, pack.of(order=1))
    if engine.dialect.name == "sqlite":
        plain: Any = sqlite3.connect(str(engine.url.database), isolation_level=None)
    else:
        plain = psycopg.connect(
            engine.url.set(drivername="postgresql").render_as_string(), autocommit=True
        )
    with pytest.raises(NotInTransaction):
        outbox.start(plain, pack.of(order=1))
    plain.execute("BEGIN")
    outbox.start(plain, pack.of(order=1), key="in one")
    plain.execute("COMMIT")
    plain.close()

    assert keys(engine) == ["in one"]


def test_with_several_engines_the_bind_says_which(engine: sa.Engine, tmp_path: Path) -> None:
    """Of a session that has a transaction with each."""
    other = sa.create_engine(f"sqlite:///{tmp_path / 'other.db'}")
    metadata = sa.MetaData()
    orders = sa.Table("orders", metadata, sa.Column("number", sa.Integer, primary_key=True))
    metadata.create_all(other)
    with Session(binds={orders: other}) as session:
        session.execute(orders.insert().values(number=1))
        Outbox(bind=engine).start(session, pack.of(order=1), key="bound")
        session.commit()

    assert keys(engine) == ["bound"]


def test_through_an_async_session(server: str) -> None:
    """With `astart`; `start` says so."""
    url = server.replace("postgresql:", "postgresql+psycopg:")
    plain = sa.create_engine(url)
    metadata = sa.MetaData()
    Outbox().table(metadata)
    metadata.drop_all(plain)
    metadata.create_all(plain)

    async def main() -> None:
        engine = create_async_engine(url)
        async with AsyncSession(engine) as session:
            with pytest.raises(ValueRefused, match="astart"):
                Outbox().start(session, pack.of(order=1))
            await Outbox().astart(session, pack.of(order=1), key="a")
            await session.commit()
            await Outbox().astart(session, pack, order=2)
            await session.rollback()
        async with engine.begin() as connection:
            await Outbox().astart(connection, "pack", order=3, key="b")
        await engine.dispose()

    asyncio.run(main())
    assert keys(plain) == ["a", "b"]
    plain.dispose()


def test_through_a_connection_of_django(tmp_path: Path) -> None:
    """Inside `atomic`; outside it is refused."""
    database = {"ENGINE": "django.db.backends.sqlite3", "NAME": str(tmp_path / "app.db")}
    django_settings.configure(DATABASES={"default": database}, USE_TZ=True)
    django.setup()
    from django.db import connection, transaction

    outbox = Outbox()
    with transaction.atomic():
        outbox.create_table(connection)
    with pytest.raises(NotInTransaction, match="Django"):
        outbox.start(connection, pack.of(order=1))
    with transaction.atomic():
        outbox.start(connection, pack.of(order=1), key="a")
    with pytest.raises(RuntimeError), transaction.atomic():
        outbox.start(connection, pack.of(order=1), key="lost")
        raise RuntimeError("the order is not paid")
    with connection.cursor() as cursor:
        cursor.execute("SELECT start_key FROM yarnloom_outbox")
        assert cursor.fetchall() == [("a",)]
    connection.close()


@pytest.mark.parametrize("given", [object(), sa.create_engine("sqlite://"), sa.MetaData()])
def test_anything_else_is_refused_with_what_is_possible(given: object) -> None:
    """By name."""
    with pytest.raises(ValueRefused, match=r"expected .*Connection"):
        Outbox().start(given, pack.of(order=1))
