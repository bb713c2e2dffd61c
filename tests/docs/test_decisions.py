"""Decisions are dated records, and each is named where it acts."""

from __future__ import annotations

import re
from pathlib import Path

from tools import walk

ROOT = Path(__file__).parent.parent.parent
SOURCE = ROOT / "src" / "yarnloom"


def named_in_source() -> dict[str, set[str]]:
    """By decision the source files that name it."""
    named: dict[str, set[str]] = {}
    for file in SOURCE.rglob("*.py"):
        for name in re.findall(r"docs/decisions/([\w-]+\.md)", file.read_text(encoding="utf-8")):
            named.setdefault(name, set()).add(str(file.relative_to(SOURCE)))
    return named


def test_each_decision_is_named_where_it_acts() -> None:
    """And says so itself, with its date."""
    named = named_in_source()
    decisions = sorted((ROOT / "docs" / "decisions").glob("*.md"))
    assert {one.name for one in decisions} == named.keys()
    for decision in decisions:
        text = decision.read_text(encoding="utf-8")
        head = text.split("\n\n")[1]
        assert re.match(r"Decided on 20\d\d-\d\d-\d\d\. Acts in ", head), decision.name
        assert set(re.findall(r"`([\w/]+\.py)`", head)) == named[decision.name], decision.name


def test_paths_in_docs_are_files() -> None:
    """Those of the tour and of "Where does it go?"."""
    for name in ("docs/inside.md", "CONTRIBUTING.md"):
        text = (ROOT / name).read_text(encoding="utf-8")
        for path in re.findall(r"`((?:console/)?[\w/]+\.(?:py|tsx?))`", text):
            found = (SOURCE / path, ROOT / path)
            assert any(one.is_file() for one in found), (name, path)


def test_the_walk_is_what_a_step_passes(tmp_path: Path) -> None:
    """The files that the tour names are those in which something is called, and few enough."""
    text = (ROOT / "docs" / "inside.md").read_text(encoding="utf-8")
    way = text.partition("## One step's way")[2].partition("\n## ")[0]
    named = set(re.findall(r"`([\w/]+\.py)`", way)) - {"tools/walk.py"}
    passed = set(walk.walk(tmp_path / "first"))
    if passed != named:  # what else happened in that moment does not happen each time
        passed &= set(walk.walk(tmp_path / "second"))

    assert named == passed
    assert f"passes these {len(passed)} files" in way
    assert len(passed) <= 90


def test_no_file_is_over_five_hundred_lines() -> None:
    """A file is a room with one subject."""
    files = [*SOURCE.rglob("*.py"), *(ROOT / "tests").rglob("*.py")]
    files += [*(ROOT / "console" / "src").rglob("*.ts"), *(ROOT / "console" / "src").rglob("*.tsx")]
    files.remove(ROOT / "console" / "src" / "api" / "answers.ts")  # made by `make generate`
    long = {str(file) for file in files if file.read_text(encoding="utf-8").count("\n") > 500}

    assert long == set()
