"""Lists of runs: their filters, and how far a page looks."""

from __future__ import annotations

from typing import Any

import pytest

from yarnloom.store.runs import run_lists
from yarnloom.testing import InlineService


def found(inline: InlineService, **wanted: Any) -> tuple[list[int], int | None]:
    """The numbers of a page, and where the next begins."""
    more = {name: wanted.pop(name) for name in ("states", "below", "limit") if name in wanted}
    wish = run_lists.RunFilter(values=wanted, **more)
    rows, following = inline.database.read(lambda connection: run_lists.runs(connection, wish))
    return [row["number"] for row in rows], following


def test_a_search_looks_at_some_runs_at_a_time(
    inline: InlineService, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A page without a run that fits has a next, as long as there are older ones."""
    for number in (31_337, 1, 2, 3, 4):
        inline.start("sums", {"number": number}, key=f"k{number}")
    monkeypatch.setattr(run_lists, "SEARCHED", 2)
    pages, below = [], None
    while True:
        numbers, below = found(inline, text="31337", below=below)
        pages.append((numbers, below))
        if below is None:
            break

    assert pages == [([], 4), ([], 2), ([1], None)]


def test_a_full_page_goes_on_behind_its_last(inline: InlineService) -> None:
    """Searched or not."""
    for number in range(5):
        inline.start("sums", {"number": 7}, key=f"k{number}")

    assert found(inline, limit=2) == ([5, 4], 4)
    assert found(inline, limit=2, below=4, text="7") == ([3, 2], 2)
    assert found(inline, limit=2, below=2) == ([1], None)


def test_marks_of_a_pattern_are_themselves(inline: InlineService) -> None:
    """A search for what SQL takes for a pattern finds just that."""
    inline.start("sums", {"number": 1}, key="50%_of!")
    inline.start("sums", {"number": 1}, key="50 of all")

    assert found(inline, text="50%_")[0] == [1]
    assert found(inline, text="OF!")[0] == [1]
    assert found(inline, text="50")[0] == [2, 1]


def test_very_many_are_not_counted_to_the_end(
    inline: InlineService, monkeypatch: pytest.MonkeyPatch
) -> None:
    """One more than the limit says that there are more."""
    for number in range(4):
        inline.start("sums", {"number": 1}, key=f"k{number}")
    monkeypatch.setattr(run_lists, "COUNTED", 2)
    ask = inline.database.read(lambda one: run_lists.state_counts(one, ["queued", "done"]))

    assert ask == {"queued": 3, "done": 0}
