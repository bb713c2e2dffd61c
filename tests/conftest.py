"""Fixtures that several rooms use."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from tests import looms
from yarnloom.store import audit
from yarnloom.testing import InlineService, inline_service


@pytest.fixture
def inline(tmp_path: Path) -> Iterator[InlineService]:
    """An engine with the tests' loom published, audited at the end."""
    with inline_service(tmp_path / "data") as service:
        service.publish(looms.loom)
        yield service
        assert audit(service.database.writer) == []
