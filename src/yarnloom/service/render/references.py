"""References and conditions of a plan as JSON, with outputs by address."""

from __future__ import annotations

from yarnloom.plan import (
    NOT_GIVEN,
    Combination,
    Comparison,
    Constant,
    FieldOf,
    FromBadRows,
    FromFailure,
    FromFailures,
    FromItem,
    FromOutput,
    FromParam,
    FromPlannedAt,
    IsNull,
    ListOf,
    ObjectOf,
    Plan,
    Source,
    TextOf,
)
from yarnloom.values import JsonObject


def source_json(plan: Plan, source: Source) -> JsonObject:  # noqa: PLR0912
    """Return a reference, resolved: outputs by address."""
    # One case a kind of source, each a line or two.
    match source:
        case Constant(value):
            return {"constant": value}
        case FromParam(path):
            return {"param": ".".join(path)}
        case FromItem(node, path):
            return {"item": ".".join(path) or True, "of": plan.address(plan.nodes[node])}
        case FromFailures(node):
            return {"failures": plan.address(plan.nodes[node])}
        case FromFailure():
            return {"failure": True}
        case FromPlannedAt():
            return {"planned_at": True}
        case FromBadRows(path):
            return {"bad_rows": ".".join(path)}
        case FieldOf(of, fields):
            return {**source_json(plan, of), "fields": list(fields)}
        case Comparison(left, operator, right):
            return {"compare": [source_json(plan, left), operator, source_json(plan, right)]}
        case IsNull(of):
            return {"is_null": source_json(plan, of)}
        case Combination(how, parts):
            inner = [source_json(plan, part) for part in parts]
            return {how: inner[0] if how == "not" else inner}
        case ListOf(parts):
            return {"list": [source_json(plan, part) for part in parts]}
        case ObjectOf(names, parts):
            return {"object": _by_name(plan, names, parts)}
        case TextOf(template, names, parts):
            return {"text": template, "names": _by_name(plan, names, parts)}
        case FromOutput(node, default, only_done):
            shown: JsonObject = {"output": plan.address(plan.nodes[node])}
            shown |= {} if default is NOT_GIVEN else {"default": default}
            return {**shown, "only": "done"} if only_done else shown


def _by_name(plan: Plan, names: tuple[str, ...], parts: tuple[Source, ...]) -> JsonObject:
    return {name: source_json(plan, part) for name, part in zip(names, parts, strict=True)}
