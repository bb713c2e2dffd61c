"""Fixtures that several rooms use."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import settings

from tests import held_answers, looms, statements
from tests.fractions import broken_fractions
from tests.helpers import LOOM, THOROUGH, ServiceProgram, service
from yarnloom.store import audit, create_tables
from yarnloom.testing import InlineService, inline_service

# Machines are noisy: how long an example takes says nothing. The same examples each time, so that
# a failure is of the change at hand; `make thorough` tries others.
settings.register_profile("yarnloom", deadline=None, derandomize=not THOROUGH)
settings.load_profile("yarnloom")


LONG = (
    *("test_surroundings", "test_demo", "test_data", "test_outbox", "test_freeze", "test_template"),
    *("test_simulator", "test_requests", "test_reading", "test_begun", "test_kill", "test_values"),
)
"""Files that take longest: they go first, so that none is left for the end alone."""

LONG_FOLDERS = ("end_to_end", "boundaries", "simulator", "cli", "console")


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Processes of tests take whole files, in this order."""

    def place(item: pytest.Item) -> tuple[int, bool]:
        name = item.path.stem
        first = LONG.index(name) if name in LONG else len(LONG)
        return first, item.path.parent.name not in LONG_FOLDERS

    items.sort(key=place)


@pytest.fixture(scope="session")
def tables(tmp_path_factory: pytest.TempPathFactory) -> Iterator[sqlite3.Connection]:
    """Empty tables, with which statements are explained; notes statements from now on."""
    connection = sqlite3.connect(":memory:", isolation_level=None)
    create_tables(connection)
    os.environ[statements.FILE_VARIABLE] = str(tmp_path_factory.mktemp("statements") / "new")
    os.environ[held_answers.FILE_VARIABLE] = str(tmp_path_factory.mktemp("answers") / "faults")
    os.environ["PYTHONPATH"] = os.pathsep.join(
        filter(None, [str(Path(__file__).parent / "site"), os.environ.get("PYTHONPATH")])
    )
    statements.install()
    yield connection
    connection.close()


@pytest.fixture(autouse=True)
def no_statement_scans(tables: sqlite3.Connection) -> Iterator[None]:
    """No statement that a test is the first to run scans a table that grows."""
    yield
    for sql in statements.new_statements():
        assert statements.scans(tables, sql) == [], sql


@pytest.fixture(autouse=True)
def answers_fit_their_models(tables: sqlite3.Connection) -> Iterator[None]:
    """No service answers otherwise than its description says."""
    yield
    assert held_answers.new_faults() == []


@pytest.fixture
def inline(tmp_path: Path) -> Iterator[InlineService]:
    """An engine with the tests' loom published, audited at the end."""
    with inline_service(tmp_path / "data") as service:
        service.publish(looms.loom)
        yield service
        assert audit(service.database.writer) == []
        assert broken_fractions(service.database.writer) == []


@pytest.fixture(scope="session")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A real service with one worker, shared by tests that do no harm."""
    with service(tmp_path_factory.mktemp("served"), "--load", LOOM) as program:
        yield program


@pytest.fixture(scope="session")
def served_threaded(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """Another, which commits on its writer thread, as on a slow disk."""
    data = tmp_path_factory.mktemp("threaded")
    with service(data, "--load", LOOM, "--commit", "thread") as program:
        yield program
