"""Names of errors in retry rules: whether Python knows any such error."""

from __future__ import annotations

import difflib
from collections.abc import Iterator

from yarnloom.plan.step_rules import Retry, kind_name

OWN_KINDS = frozenset(
    {"TimedOut", "Quiet", "MemoryExceeded", "ProcessBroken", "CallAgainSwallowed"}
)
"""What an attempt can fail with that its task does not raise."""


def unknown_kinds(rule: Retry | None) -> Iterator[tuple[str, str]]:
    """Each name in a rule that no loaded error has, with the one that it looks like, or ''."""
    names = () if rule is None else (*rule.on, *rule.never_on)
    if not names:
        return
    known = set(OWN_KINDS)
    for kind in _loaded(BaseException, set()):
        known |= {kind.__name__, kind_name(kind)}
    for name in names:
        if name not in known:
            close = difflib.get_close_matches(name, sorted(known), n=1, cutoff=0.85)
            yield name, close[0] if close else ""


def _loaded(kind: type[BaseException], found: set[type[BaseException]]) -> set[type[BaseException]]:
    """A class of errors and all below it."""
    for one in kind.__subclasses__():
        if one not in found:
            found.add(one)
            _loaded(one, found)
    return found | {kind}
