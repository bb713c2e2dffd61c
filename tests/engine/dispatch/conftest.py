"""A floor for tests of pools."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from tests.floor import Floor, floor
from yarnloom.store import audit


@pytest.fixture
def at() -> Iterator[Floor]:
    """A floor of which the records are right at the end."""
    with floor() as found:
        yield found
        assert audit(found.inline.database.writer) == []
