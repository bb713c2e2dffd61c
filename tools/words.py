"""How often docstrings, comments and pages use turns that plain English does without.

`python -m tools.words` prints the rates per 10,000 words, and how often three locals that say
little are assigned.
"""

from __future__ import annotations

import contextlib
import io
import json
import re
import tokenize
from collections.abc import Iterator
from pathlib import Path

FOLDERS = ("src/yarnloom", "tests", "docs")
TURNS = {
    "what is": r"\bwhat (?:is|was|are|were|it|they|has|have|comes?|came|became|can|may|must)\b",
    "what X does": r"\bwhat (?:an?|the|its|one|each|this|that|some)?\s*\w+ \w+s\b",
    "nothing": r"\bnothing\b",
    "told": r"\btold\b",
    "stands": r"\bst(?:an|oo)ds?\b",
    "whom": r"\bwho(?:m|se|ever)\b",
    "any more": r"\b(?:one behind the other|any more|no more than)\b",
}
LOCALS = ("found", "one", "wanted")


def rates() -> dict[str, float]:
    """Return the rate of each turn in each folder, and the counts of the locals."""
    measured: dict[str, float] = {}
    for folder in FOLDERS:
        text = "\n".join(_texts(Path(folder))).lower()
        words = len(re.findall(r"[a-z']+", text)) or 1
        for name, pattern in TURNS.items():
            measured[f"{folder}: {name}"] = round(1e4 * len(re.findall(pattern, text)) / words, 1)
    for name in LOCALS:
        pattern = re.compile(rf"^\s*{name}\s*(?::[^=]+)?=[^=]|\bfor {name} in\b", re.MULTILINE)
        files = (path for folder in FOLDERS for path in Path(folder).rglob("*.py"))
        measured[f"assignments to {name}"] = sum(
            len(pattern.findall(path.read_text())) for path in files
        )
    return measured


def _texts(folder: Path) -> Iterator[str]:
    for path in folder.rglob("*.py"):
        with contextlib.suppress(tokenize.TokenError, IndentationError):
            for token in tokenize.generate_tokens(io.StringIO(path.read_text()).readline):
                if token.type == tokenize.COMMENT or (
                    token.type == tokenize.STRING and token.string.lstrip("rRbB").startswith('"""')
                ):
                    yield token.string
    for path in folder.rglob("*.md"):
        yield re.sub(r"```.*?```|`[^`]*`", " ", path.read_text(), flags=re.DOTALL)


if __name__ == "__main__":
    print(json.dumps(rates(), indent=1))
