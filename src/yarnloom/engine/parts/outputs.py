"""What a part gives when it is done, put together from what is in it.

Only outputs that something reads are put together. The long list of an each is a file by then
(`list_jobs`), and a reference to it stands for it. Of what else is over the limit of a value the
size is known, and who reads it says so.
"""

from __future__ import annotations

import json

from yarnloom.engine.parts.list_values import ALL
from yarnloom.engine.parts.references import Resolver
from yarnloom.engine.state.settings import EngineSettings
from yarnloom.plan import Kind, Node
from yarnloom.store import PartRow, Unit, file_records, item_records
from yarnloom.values import VALUE_LIMIT, size_of


def gather(
    unit: Unit, settings: EngineSettings, resolver: Resolver, part: PartRow, node: Node
) -> tuple[str | None, int]:
    """Output and size of a part that is done; no output if nobody reads it, or it is too large."""
    if not node.wanted:
        return None, 0
    children = [resolver.plan.nodes[index] for index in node.children]
    match node.kind:
        case Kind.SEQUENCE:
            last = resolver.child(part, children[-1])
            return last.output, last.size
        case Kind.PARALLEL:
            return _gather_branches(resolver, part, children)
    if part.total == 0:
        return "[]", 2
    if part.size > settings.list_above:
        text = file_records.gathered_list(unit, part.id, ALL)
        assert text is not None, "an each with a long list is decided when that is gathered"
        return text, size_of(text)
    text = item_records.gathered(unit, part.run, part.id, node.children[0], only_done=False)
    return text, size_of(text)


def _gather_branches(
    resolver: Resolver, part: PartRow, branches: list[Node]
) -> tuple[str | None, int]:
    fields, size = [], 2
    for branch in branches:
        ended = resolver.child(part, branch)
        size += ended.size + len(branch.label) + 4
        if size <= VALUE_LIMIT:
            fields.append(f"{json.dumps(branch.label)}:{ended.output or 'null'}")
    return ("{" + ",".join(fields) + "}", size) if size <= VALUE_LIMIT else (None, size)
