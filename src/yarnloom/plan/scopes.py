"""What a reference in a plan means where it stands.

`output` looks among the siblings, then outwards; into parallels and sequences by a path of labels,
never into an each. In a follow-up it sees what is in the part that it follows, and that part.
A branch of a parallel that reads a sibling waits for it.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TypeGuard

from yarnloom.errors import Problem, nearest
from yarnloom.media_types import ROWS_FORMAT
from yarnloom.plan.model import Kind, Node, Plan
from yarnloom.plan.references import NAME_IN_TEXT, NOT_GIVEN
from yarnloom.plan.schemas import field_schema
from yarnloom.plan.sources import (
    OPERATORS,
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
    Source,
    TextOf,
)
from yarnloom.values import JsonObject, JsonValue

_KINDS = (
    '{"constant": …}, {"param": …}, {"previous": true}, {"output": …}, {"item": …}, '
    '{"failures": …}, {"failure": true}, {"planned_at": true}, {"bad_rows": …}, {"compare": …}, '
    '{"is_null": …}, '
    '{"all": …}, {"any": …}, {"not": …}, {"list": …}, {"object": …} or {"text": …}'
)
MOST_NESTED = 30
"""How deep values and conditions may be made of others."""


class Findings:
    """What is wrong with a plan, each with the address where it stands."""

    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self._found: list[tuple[int, Problem]] = []

    @property
    def problems(self) -> list[Problem]:
        """What was found, in plan order."""
        return [problem for _, problem in sorted(self._found, key=lambda one: one[0])]

    def say(self, node: Node | None, message: str, field: str = "") -> None:
        """Note a problem of a part, or of an input or option of it."""
        where = self.plan.name
        if node and node.parent is not None:
            where += "/" + self.plan.address(node)
        problem = Problem(f"{where}.{field}" if field else where, message)
        self._found.append((node.index if node else 0, problem))


@dataclass(frozen=True, slots=True)
class _Seen:
    """A part that can be read from somewhere.

    Attributes:
        target: the part.
        through: the sibling that it is, or is in.
        here: who reads, at that level.
        maybe: whether it may not have been reached, as seen from a follow-up.
    """

    target: Node
    through: Node
    here: Node
    maybe: bool


class Scopes:
    """Resolves the references of one plan."""

    def __init__(self, plan: Plan, findings: Findings) -> None:
        self.plan = plan
        self.say = findings.say
        self._known: dict[tuple[int, bool], dict[str, int]] = {}

    def source(self, node: Node, name: str, raw: JsonValue, depth: int = 0) -> Source | None:
        """What a value of a part stands for; None, and a problem, where it is wrong."""
        if depth > MOST_NESTED:
            self.say(node, f"it is made of others more than {MOST_NESTED} deep", name)
            return None
        if isinstance(raw, dict) and "fields" in raw:
            return self._field(node, name, raw, depth)
        # An empty rest: a key too many is a mistake, and falls through to be named.
        match raw:
            case {"compare": [left, str(operator), right], **rest} if not rest:
                return self._comparison(node, name, (left, operator, right), depth)
            case {"all": list() as parts, **rest} if not rest and parts:
                of = self._sources(node, name, parts, depth)
                return None if of is None else Combination("all", of)
            case {"any": list() as parts, **rest} if not rest and parts:
                of = self._sources(node, name, parts, depth)
                return None if of is None else Combination("any", of)
            case {"not": part, **rest} if not rest:
                of = self._sources(node, name, [part], depth)
                return None if of is None else Combination("not", of)
            case {"is_null": part, **rest} if not rest:
                of = self._sources(node, name, [part], depth)
                return None if of is None else IsNull(of[0])
            case {"list": list() as parts, **rest} if not rest:
                of = self._sources(node, name, parts, depth)
                return None if of is None else ListOf(of)
            case {"object": dict() as fields, **rest} if not rest:
                of = self._sources(node, name, list(fields.values()), depth)
                return None if of is None else ObjectOf(tuple(fields), of)
            case {"text": str(template), "names": dict() as names, **rest} if not rest:
                of = self._sources(node, name, list(names.values()), depth)
                return None if of is None else self._text(node, name, template, tuple(names), of)
        return self._reference(node, name, raw)

    def _sources(
        self, node: Node, name: str, parts: list[JsonValue], depth: int
    ) -> tuple[Source, ...] | None:
        """All sources of a list; None, and problems, where any is wrong."""
        sources = [self.source(node, name, part, depth + 1) for part in parts]
        right = tuple(source for source in sources if source is not None)
        return right if len(right) == len(sources) else None

    def _field(self, node: Node, name: str, raw: JsonObject, depth: int) -> Source | None:
        """A field inside the value of a reference."""
        fields = raw["fields"]
        if not (isinstance(fields, list) and fields) or not all(
            isinstance(field, str) or (type(field) is int and field >= 0) for field in fields
        ):
            message = f"fields is {fields!r:.60}; expected names, or positions from 0"
            self.say(node, message, name)
            return None
        rest = {key: value for key, value in raw.items() if key != "fields"}
        source, path = self.source(node, name, rest, depth + 1), tuple(fields)
        match source:
            case None:
                return None
            # A path of names is one with that of the reference, so that items stay plain.
            case FromParam(before) if _are_names(path):
                return self._from_param(node, name, (*before, *path))
            case FromItem(each, before) if _are_names(path):
                return FromItem(each, (*before, *path))
            case FromParam() | FromOutput() | FromItem() | FromFailures() | FromFailure():
                return FieldOf(source, path)
            case FromPlannedAt():
                self.say(node, "planned_at() has no fields", name)
            case _:
                self.say(node, "only a reference has fields", name)
        return None

    def _comparison(
        self, node: Node, name: str, sides: tuple[JsonValue, str, JsonValue], depth: int
    ) -> Source | None:
        left, operator, right = sides
        if operator not in OPERATORS:
            message = f"found {operator!r:.20}; expected one of {', '.join(OPERATORS)}"
            self.say(node, message, name)
            return None
        of = self._sources(node, name, [left, right], depth)
        return None if of is None else Comparison(of[0], operator, of[1])

    def _text(
        self, node: Node, name: str, template: str, names: tuple[str, ...], of: tuple[Source, ...]
    ) -> Source | None:
        used = {match[1] for match in NAME_IN_TEXT.finditer(template) if match[1] is not None}
        lone = any(match[0] in ("{", "}") for match in NAME_IN_TEXT.finditer(template))
        if lone or used != set(names):
            shown = ", ".join(f"{{{one}}}" for one in names) or "no names"
            self.say(node, f"the text {template!r:.60} does not go with its names ({shown})", name)
            return None
        return TextOf(template, names, of)

    def _reference(self, node: Node, name: str, raw: JsonValue) -> Source | None:
        match raw:
            case {"constant": value, **rest} if not rest:
                return Constant(value)
            case {"param": str(path), **rest} if not rest:
                return self._from_param(node, name, tuple(path.split(".")))
            case {"previous": True, **rest} if not rest:
                return self._from_previous(node, name)
            case {"output": str(label), **rest} if rest.keys() <= {"default", "only"}:
                return self._from_output(node, name, label, raw)
            case {"item": True | str(), **rest} if rest.keys() <= {"of"}:
                return self._from_item(node, name, raw)
            case {"failures": str(label), **rest} if not rest:
                return self._from_failures(node, name, label)
            case {"failure": True, **rest} if not rest:
                return self._from_failure(node, name)
            case {"planned_at": True, **rest} if not rest:
                return FromPlannedAt()
            case {"bad_rows": str(path), **rest} if not rest:
                return self._from_bad_rows(node, name, tuple(path.split(".")))
        self.say(node, f"found {raw!r:.60}; expected {_KINDS}", name)
        return None

    def of_runs(self, root: Node, name: str, raw: JsonValue) -> Source | None:
        """Where a text comes from that a workflow says of each run: a param, or a constant."""
        match raw:
            case {"param": str()} | {"constant": str()}:
                return self.source(root, name, raw)
        self.say(root, f"found {raw!r:.60}; expected param(...) or text", name)
        return None

    # Params and items

    def _from_param(self, node: Node, name: str, path: tuple[str, ...]) -> Source | None:
        schema, wrong = field_schema(self.plan.params_schema, path)
        if schema is None:
            self.say(node, f"param({'.'.join(path)!r}): {wrong}", name)
            return None
        return FromParam(path)

    def _from_bad_rows(self, node: Node, name: str, path: tuple[str, ...]) -> Source | None:
        schema, wrong = field_schema(self.plan.params_schema, path)
        if schema is None:
            self.say(node, f"bad_rows({'.'.join(path)!r}): {wrong}", name)
        elif not any(one.get("format") == ROWS_FORMAT for one in schema.get("anyOf", [schema])):
            self.say(node, f"bad_rows({'.'.join(path)!r}): that param takes no rows", name)
        else:
            return FromBadRows(path)
        return None

    def _from_item(self, node: Node, name: str, raw: JsonObject) -> Source | None:
        of, path = raw.get("of"), raw["item"]
        around = self._eaches(node)
        found = next((one for one in around if of in (None, self.plan.own_label(one))), None)
        if found is None and around:
            labels = [self.plan.own_label(one) for one in around]
            self.say(
                node,
                f"item(of={of!r}): no each around it is {of!r}{nearest(str(of), labels)}",
                name,
            )
        elif found is None:
            self.say(node, "item() stands only in what an each repeats", name)
        if found is None:
            return None
        return FromItem(found.index, () if path is True else tuple(path.split(".")))

    def item_name(self, node: Node, raw: JsonValue) -> tuple[str, ...] | None:
        """The path to an item's name."""
        match raw:
            case {"item": True | str() as path, **rest} if not rest:
                return () if path is True else tuple(path.split("."))
        self.say(node, 'expected item() or a field of it, as item("code")', "name")
        return None

    def _eaches(self, node: Node) -> list[Node]:
        """The eaches in whose items a node stands, innermost first."""
        found = []
        here = node
        while here.parent is not None:
            around = self.plan.nodes[here.parent]
            if self.plan.is_item(here):
                found.append(around)
            here = around
        return found

    # Outputs

    def _from_previous(self, node: Node, name: str) -> Source | None:
        here = node
        while here.parent is not None and not here.follows:
            around = self.plan.nodes[here.parent]
            if around.kind is Kind.EACH:
                self.say(
                    node, "`previous` does not cross into an each; use item() or output(...)", name
                )
                return None
            if around.kind is Kind.SEQUENCE and here.position > 0:
                before = self.plan.nodes[around.children[here.position - 1]]
                return self._read(node, _Seen(before, before, here, maybe=False))
            here = around
        what = "use failure() or output(...)" if here.follows else "use param(...) instead"
        self.say(node, f"`previous`: nothing stands before it; {what}", name)
        return None

    def _from_output(self, node: Node, name: str, label: str, options: JsonObject) -> Source | None:
        only = options.get("only")
        if only not in (None, "done"):
            self.say(node, f"output({label!r}, only={only!r}): expected only='done'", name)
            return None
        seen = self._find(node, name, f"output({label!r})", label)
        if seen is None:
            return None
        if only and seen.target.kind is not Kind.EACH:
            self.say(node, f"output({label!r}, only='done'): only an each has items", name)
            return None
        default = options.get("default", NOT_GIVEN)
        return self._read(node, seen, default, only_done=only == "done")

    def _from_failures(self, node: Node, name: str, label: str) -> Source | None:
        seen = self._find(node, name, f"failures({label!r})", label)
        if seen is None:
            return None
        if seen.target.kind is not Kind.EACH:
            found = seen.target.kind.a_kind
            self.say(node, f"failures({label!r}): {label!r} is {found}, no each", name)
            return None
        self._read(node, seen)
        return FromFailures(seen.target.index)

    def _from_failure(self, node: Node, name: str) -> Source | None:
        if not self.plan.stands_in(node):
            self.say(node, "failure() stands only in on_failure=, on_end= or instead=", name)
            return None
        return FromFailure()

    def _read(
        self, node: Node, seen: _Seen, default: JsonValue = NOT_GIVEN, *, only_done: bool = False
    ) -> FromOutput:
        """A reading that is right; a branch of a parallel waits for the sibling that it reads."""
        around = self.plan.nodes[seen.here.parent] if seen.here.parent is not None else None
        branch = around is not None and around.kind is Kind.PARALLEL and not seen.here.follows
        if branch and seen.through is not seen.here:
            if seen.through.index not in seen.here.waits_for:
                seen.here.waits_for.append(seen.through.index)
                seen.through.awaited_by.append(seen.here.index)
            if seen.target.index not in seen.here.reads:
                seen.here.reads.append(seen.target.index)
        return FromOutput(seen.target.index, default, only_done, seen.maybe)

    def _find(self, node: Node, name: str, what: str, label: str) -> _Seen | None:
        """The part that a label means, seen from a node; None, and a problem, if there is none."""
        levels = []
        here = node
        while here.parent is not None:
            around = self.plan.nodes[here.parent]
            for length in _lengths(label):
                index = self._labels(around, bool(here.follows)).get(label[:length])
                if index is not None:
                    through = self.plan.nodes[index]
                    seen = _Seen(through, through, here, maybe=bool(here.follows))
                    return self._inside(node, name, what, seen, label[length + 1 :])
            levels.append((here, around))
            here = around
        known = [one for here, around in levels for one in self._readable(here, around)]
        self.say(node, f"{what}: no part has that label{nearest(label, known)}", name)
        return None

    def _labels(self, around: Node, following: bool) -> dict[str, int]:
        """What can be named among the children of a part; from its follow-ups also itself."""
        found = self._known.get((around.index, following))
        if found is None:
            # What follows a fallback sees what is in the part itself.
            part = around
            if following and around.kind is Kind.FALLBACK:
                part = self.plan.nodes[around.children[0]]
            inside = part.children if part.kind in (Kind.SEQUENCE, Kind.PARALLEL) else []
            found = {around.label: around.index} if following else {}
            found |= {self.plan.nodes[one].label: one for one in reversed(inside)}
            self._known[around.index, following] = found
        return found

    def _readable(self, here: Node, around: Node) -> list[str]:
        """The labels that would have been right."""
        found = self._labels(around, bool(here.follows))
        if here.follows or around.kind is Kind.PARALLEL:
            return [label for label, index in found.items() if index != here.index]
        return [
            label for label, one in found.items() if self.plan.nodes[one].position < here.position
        ]

    def _inside(self, node: Node, name: str, what: str, seen: _Seen, rest: str) -> _Seen | None:
        """The part at a path of labels inside one that was found."""
        if not self._is_earlier(node, name, what, seen):
            return None
        target = seen.target
        while rest:
            if target.kind not in (Kind.PARALLEL, Kind.SEQUENCE):
                found = target.kind.a_kind
                self.say(node, f"{what}: {target.label!r} is {found}; read it whole", name)
                return None
            labels = self._labels(target, following=False)
            cut = next((length for length in _lengths(rest) if rest[:length] in labels), None)
            if cut is None:
                hint = nearest(rest, labels)
                self.say(node, f"{what}: {target.label!r} has no {rest!r}{hint}", name)
                return None
            target, rest = self.plan.nodes[labels[rest[:cut]]], rest[cut + 1 :]
        return _Seen(target, seen.through, seen.here, seen.maybe)

    def _is_earlier(self, node: Node, name: str, what: str, seen: _Seen) -> bool:
        around = self.plan.nodes[seen.here.parent] if seen.here.parent is not None else None
        if seen.maybe:
            return True
        if seen.through is seen.here:
            stands = "itself" if seen.here is node else "a part that it stands in"
            self.say(node, f"{what} is {stands}; read an earlier part", name)
            return False
        if around and around.kind is Kind.SEQUENCE and seen.through.position > seen.here.position:
            self.say(
                node,
                f"{what} comes later in the sequence; read an earlier part, or change the order",
                name,
            )
            return False
        return True

    # Cycles

    def refuse_cycles(self) -> None:
        """Find branches that wait for each other; each cycle is spelled out once."""
        for node in self.plan.nodes:
            if node.kind is not Kind.PARALLEL:
                continue
            if cycle := self._cycle(node):
                pairs = zip(cycle, [*cycle[1:], cycle[0]], strict=True)
                spelled = ", ".join(f"{one.label!r} reads {other.label!r}" for one, other in pairs)
                self.say(node, f"its branches wait for each other: {spelled}; take one out")

    def _cycle(self, parallel: Node) -> list[Node] | None:
        """Branches in a circle, each reading the next."""
        done: set[int] = set()
        for start in parallel.children:
            trail: dict[int, Iterator[int]] = {}
            if start not in done:
                trail[start] = iter(self.plan.nodes[start].waits_for)
            while trail:
                last = next(reversed(trail))
                after = next(trail[last], None)
                if after is None:
                    done.add(last)
                    del trail[last]
                elif after in trail:
                    circle = list(trail)
                    return [self.plan.nodes[one] for one in circle[circle.index(after) :]]
                elif after not in done:
                    trail[after] = iter(self.plan.nodes[after].waits_for)
        return None


def _are_names(path: tuple[str | int, ...]) -> TypeGuard[tuple[str, ...]]:
    return all(isinstance(one, str) for one in path)


def _lengths(label: str) -> list[int]:
    """Where a path of labels can be cut, the longest piece first: labels may have dots."""
    return [len(label), *(i for i in range(len(label) - 1, 0, -1) if label[i] == ".")]
