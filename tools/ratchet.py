"""Limits that only fall: of the structure and the language (`make check`).

`python -m tools.ratchet` fails where a count is above its limit in `limits.json`. After a change
that made some smaller, `python -m tools.ratchet --lower` writes the new limits.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

from tools.measure import measure
from tools.words import rates

LIMITS = Path(__file__).with_name("limits.json")


def main(arguments: list[str]) -> int:
    """Compare all counts with their limits; return the exit code."""
    counts = {**measure(), **rates()}
    limits = json.loads(LIMITS.read_text()) if LIMITS.exists() else {}
    if "--lower" in arguments:
        lower = {name: min(count, limits.get(name, count)) for name, count in counts.items()}
        LIMITS.write_text(json.dumps(lower, indent=1) + "\n")
    above = [
        f"{name}: {count:g}, at most {limits[name]:g}"
        for name, count in counts.items()
        if count > limits.get(name, count)
    ]
    for line in above:
        print(f"above its limit: {line}; see CONTRIBUTING.md, Habits", file=sys.stderr)
    return 1 if above else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
