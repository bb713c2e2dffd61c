"""No request that can be made from the description gets an answer that is a mistake of ours."""

from __future__ import annotations

from pathlib import Path

from tests.helpers import LOOM, much, service

CASES = much(200, 1_500)


def test_random_requests_get_described_answers(tmp_path: Path) -> None:
    """Hundreds of them over all operations; `make fuzz` sends as many as it is told to."""
    # What makes the requests takes seconds to load, in each process that collects tests.
    from tests.boundaries.fuzzing import fuzz, operations, prepare

    with service(tmp_path / "data", "--load", LOOM) as program:
        prepare(program)
        known = operations(program.url)
        each = -(-CASES // len(known))
        sent = sum(sum(fuzz(operation, each, 7).values()) for operation in known)
        assert program.process.poll() is None

    assert sent >= 0.8 * CASES  # some operations have fewer different requests
    assert "Traceback" not in program.text, program.text[program.text.find("Traceback") - 500 :]
