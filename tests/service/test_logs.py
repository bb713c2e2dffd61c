"""Logs of attempts: kept once, in order, and bounded."""

from __future__ import annotations

from pathlib import Path

import pytest

from yarnloom.service import logs
from yarnloom.service.logs import LogFolder


def lines(*texts: str) -> list[dict[str, str]]:
    """Lines with these texts."""
    return [{"at": "2027-01-01T00:00:00Z", "stream": "stdout", "text": text} for text in texts]


def texts(folder: LogFolder, attempt: int, after: int = 0) -> list[str]:
    """What is kept of an attempt."""
    return [line["text"] for line in folder.read(attempt, after)]


def test_a_batch_sent_twice_is_kept_once(tmp_path: Path) -> None:
    """Also after a restart, and when the second one overlaps."""
    folder = LogFolder(tmp_path)
    folder.append(5, 0, lines("a", "b"))
    folder.append(5, 0, lines("a", "b"))
    again = LogFolder(tmp_path)
    again.append(5, 1, lines("b", "c"))

    assert texts(again, 5) == ["a", "b", "c"]
    assert texts(again, 5, after=2) == ["c"]
    assert texts(again, 6) == []


def test_a_log_is_bounded(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What is too much is dropped, and the log says so."""
    monkeypatch.setattr(logs, "SIZE_LIMIT", 1_000)
    folder = LogFolder(tmp_path)
    for number in range(50):
        folder.append(5, number, lines("x" * 100))
    kept = texts(folder, 5)

    assert len(kept) < 20
    assert "dropped" in kept[-1]
