"""A short time of trouble for real processes; `make chaos SECONDS=1200` makes more of it."""

from __future__ import annotations

from pathlib import Path

import pytest
from chaos.harness import Chaos

from tests.helpers import much

pytestmark = [pytest.mark.slow, pytest.mark.timeout(2_000)]

SECONDS = much(10, 600)
SEED = 3


def test_no_promise_is_broken_in_chaos(tmp_path: Path) -> None:
    """Nothing is lost, wrong, stuck, over a limit, or runs twice that must not."""
    account = Chaos(tmp_path, SEED, lambda _: None).run(SECONDS)
    assert account.faults == []
    # How much is done depends on the machine: the trouble lasts ten seconds, however slow it is.
    assert sum(n for name, n in account.done.items() if name.endswith("done")) > 0
    assert account.done["lines of tasks"] > 10
