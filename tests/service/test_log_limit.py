"""Warnings about clients are logged once a second."""

from __future__ import annotations

import logging

from yarnloom.service.http.log_limit import OncePerSecond


def test_one_warning_a_second_is_logged_and_the_others_are_counted() -> None:
    """Errors and plain notes always are."""
    now = [100.0]
    limit = OncePerSecond(lambda: now[0])

    def logged(level: int, text: str) -> str | None:
        record = logging.LogRecord("uvicorn.error", level, "", 0, text, None, None)
        return record.getMessage() if limit.filter(record) else None

    first = [logged(logging.WARNING, "Invalid HTTP request received.") for _ in range(5)]
    now[0] += 1
    then = logged(logging.WARNING, "Invalid HTTP request received.")

    assert first == ["Invalid HTTP request received.", None, None, None, None]
    assert then == "Invalid HTTP request received. (4 more like it before)"
    assert logged(logging.ERROR, "broken") == "broken"
    assert logged(logging.INFO, "plain") == "plain"
