"""The types of a plan: what each part gives, and whether it fits where it is read.

The output of a part that may be skipped, and the place of an item that may fail, can be null. Such
a null is a *hole*: readers must be able to take it, which is held more strictly than other types.
"""

from __future__ import annotations

from yarnloom.errors import nearest
from yarnloom.plan.comparisons import CONDITION, IN_TEXT, TEXT, Side, why_incomparable, without_null
from yarnloom.plan.marked_values import has_secrets
from yarnloom.plan.model import ChoiceFacts, Kind, Node, Plan
from yarnloom.plan.references import NOT_GIVEN
from yarnloom.plan.schemas import (
    HOLE,
    Fit,
    as_list,
    combine,
    describe,
    each_of,
    field_schema,
    fit,
    holes,
    items_schema,
    of_constants,
    resolve,
    show,
)
from yarnloom.plan.scopes import Findings
from yarnloom.plan.sources import (
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
from yarnloom.plan.type_schemas import (
    FAILURE,
    FAILURES,
    FILE,
    _is_among,
    _is_of,
    closed_values,
    of_default,
)
from yarnloom.plan.validators import Schema
from yarnloom.plan.value_problems import problems_of
from yarnloom.values import JsonObject

_NAMES: Schema = {"anyOf": [TEXT, {"type": "integer"}]}
_PLAIN: Schema = {"anyOf": [TEXT, {"type": "integer"}, {"type": "boolean"}, {"type": "null"}]}
_LIST: Schema = {"anyOf": [{"type": "array"}, {"type": "null"}]}


def source_schema(plan: Plan, source: Source) -> Schema:
    """Return the JSON Schema of what a reference of a plan gives; empty where that is not known."""
    return Types(plan, Findings(plan)).schema_of(source)


def secret_inputs(plan: Plan) -> dict[str, set[str]]:
    """Return by task the inputs that the plan feeds with a secret, whatever type they have."""
    found: dict[str, set[str]] = {}
    if has_secrets(plan.params_schema):
        for node in plan.steps():
            for name, source in node.inputs.items():
                if source_schema(plan, source).get("writeOnly") is True:
                    found.setdefault(node.task, set()).add(name)
    return found


class Types:
    """The types of one plan whose references are resolved."""

    def __init__(self, plan: Plan, findings: Findings) -> None:
        self.plan = plan
        self.say = findings.say
        self._outputs: dict[int, Schema] = {}
        self._skips: dict[int, bool] = {}
        self._under_way: set[int] = set()

    def check(self, node: Node, raw: JsonObject) -> None:
        """Find what does not fit in a part."""
        if node.only_if is not None:
            self._fits(node, "only_if", node.only_if, CONDITION)
        if node.each:
            self._check_each(node, raw)
        if node.choice:
            self._check_choose(node, node.choice, raw)
        for use in node.rules.pools:
            if use.per is not None:
                option = f"pools.{use.pool}.per" if "pools" in raw else "per"
                self._fits(node, option, use.per, _PLAIN)
        if node.kind is Kind.STEP and node.task:
            self._check_inputs(node, raw.get("inputs", {}))

    def check_of_runs(self, name: str, source: Source) -> None:
        """Find what does not fit as a text that a workflow says of each run."""
        self._fits(self.plan.nodes[0], name, source, _PLAIN)

    def _check_inputs(self, node: Node, raw: JsonObject) -> None:
        schema = self.plan.tasks[node.task]["input"]
        known = schema.get("properties", {})
        for name in raw:
            if name not in known:
                self.say(node, f"{node.task} has no input {name!r}{nearest(name, known)}", name)
            elif name in node.inputs:
                self._fits(node, name, node.inputs[name], field_schema(schema, (name,))[0] or {})
        for name in schema.get("required", ()):
            if name not in raw:
                wanted = field_schema(schema, (name,))[0] or {}
                self.say(node, f"missing input; expected {describe(wanted)}", name)

    def _check_each(self, node: Node, raw: JsonObject) -> None:
        facts = node.each
        assert facts is not None
        if "over" not in raw:
            self.say(node, "missing; expected a reference to a list", "over")
            return
        self._fits(node, "over", facts.over, _LIST)
        if facts.name is None:
            return
        if facts.batch:
            self.say(node, "items that come in batches have no names; take out name=", "name")
            return
        item = items_schema(self.schema_of(facts.over))
        schema, wrong = field_schema(item, facts.name)
        shown = ".".join(facts.name)
        if schema is None:
            self.say(node, f"item({shown!r}): {wrong}", "name")
        elif fit(schema, _NAMES) is Fit.CANNOT or schema.get("type") == "number":
            found = describe(schema)
            self.say(node, f"a name is text or a whole number; item({shown!r}) is {found}", "name")

    def _check_choose(self, node: Node, choice: ChoiceFacts, raw: JsonObject) -> None:
        """Find values that never come, and values of a closed set for which no branch is there."""
        if "by" not in raw:
            self.say(node, "missing; expected a reference", "by")
            return
        if not (self.has_fields(node, "by", choice.by) and self._compares(node, "by", choice.by)):
            return
        schema, words = self.schema_of(choice.by), self._spell(choice.by)
        if fit(schema, _PLAIN) is Fit.CANNOT:
            expected = "text, a whole number, true, false or null"
            self.say(node, f"{words} is {describe(schema)}; expected {expected}", "by")
            return
        for value in choice.values:
            if value is not None and fit(of_constants([value]), without_null(schema)) is Fit.CANNOT:
                self.say(node, f"{words} is {describe(schema)}, never {show(value)}", "when")
        # More children than values: there is an `otherwise`, which takes all others.
        if len(node.children) > len(choice.values):
            return
        closed = closed_values(schema, schema)
        may_be_null = [None] if holes(schema, TEXT) is not None else []
        missing = [one for one in closed or may_be_null if not _is_among(one, choice.values)]
        if missing:
            shown = " or ".join(map(show, missing))
            self.say(node, f"no branch for {shown}; add one to when=, or give otherwise=", "when")

    def _fits(self, node: Node, name: str, source: Source, wanted: Schema) -> None:
        """Find what is wrong with a value where it is read."""
        match source:
            case Constant(value):
                for problem in problems_of(value, wanted):
                    self.say(node, problem.message, name + problem.where)
                return
            case ListOf() | ObjectOf() if self._parts_fit(node, name, source, wanted):
                return
            case FromOutput(default=default) if default is not NOT_GIVEN:
                for problem in problems_of(default, wanted):
                    self.say(node, f"the default of output(...): {problem.message}", name)
        if not self.has_fields(node, name, source) or not self._compares(node, name, source):
            return
        # Types that may fit pass: the value itself is checked when it is there.
        given, what = self.schema_of(source), self._spell(source)
        if fit(given, wanted) is Fit.CANNOT:
            self.say(node, f"{what} is {describe(given)}; expected {describe(wanted)}", name)
            return
        where = holes(given, wanted)
        if where is not None:
            null = f"may hold null at {where}" if where else "may be null"
            expected = f"; expected {describe(wanted)}" if not where else ", which is not expected"
            self.say(node, f"{what} {null}{expected}. {self._advice(source, where)}", name)

    def has_fields(self, node: Node, name: str, source: Source) -> bool:
        """Check that the fields that a source reads are there, as far as types tell."""
        match source:
            case FromItem(each, path) if path:
                schema, wrong = field_schema(self._item_schema(each), path)
                if schema is None:
                    self.say(node, f"item({'.'.join(path)!r}): {wrong}", name)
                return schema is not None
            case FieldOf(of, path):
                if not self.has_fields(node, name, of):
                    return False
                schema, wrong = field_schema(self.schema_of(of), path)
                if schema is None:
                    self.say(node, f"{self._spell(source)}: {wrong}", name)
                return schema is not None
        return True

    def _parts_fit(self, node: Node, name: str, source: ListOf | ObjectOf, wanted: Schema) -> bool:
        """Check a list or object part by part; False if the wanted type says too little."""
        kind = "array" if isinstance(source, ListOf) else "object"
        options = [
            as_list(resolve(one, wanted)) for one in resolve(wanted, wanted).get("anyOf", [wanted])
        ]
        fitting = [one for one in options if _is_of(one, kind)]
        if len(fitting) != 1:
            return False
        option = {**fitting[0], "$defs": wanted.get("$defs", {})}
        places: tuple[str | int, ...] = tuple(range(len(source.of)))
        if isinstance(source, ObjectOf):
            places = source.names
            known = option.get("properties", {})
            for missing in sorted(set(option.get("required", ())) - set(places)):
                self.say(
                    node,
                    f"missing field; expected {describe(known.get(missing, {}))}",
                    f"{name}/{missing}",
                )
        for place, part in zip(places, source.of, strict=True):
            inner, wrong = field_schema(option, (place,))
            if inner is None:
                self.say(node, wrong, f"{name}/{place}")
            else:
                self._fits(node, f"{name}/{place}", part, inner)
        return True

    # Conditions and texts

    def _compares(self, node: Node, name: str, source: Source) -> bool:
        """Whether what a condition or text is made of goes together; else a problem."""
        match source:
            case TextOf(_, names, of):
                for one, part in zip(names, of, strict=True):
                    self._fits(node, f"{name}/{one}", part, IN_TEXT)
            case ListOf() | ObjectOf():
                # Types inside are compared where the whole is read; here only what it is made of.
                return all(
                    self.has_fields(node, name, part) and self._compares(node, name, part)
                    for part in source.of
                )
            case Combination(_, of):
                for part in of:
                    self._fits(node, name, part, CONDITION)
            case IsNull(of):
                return self.has_fields(node, name, of) and self._compares(node, name, of)
            case Comparison(left, operator, right):
                for side in (left, right):
                    if not (self.has_fields(node, name, side) and self._compares(node, name, side)):
                        return False
                if wrong := why_incomparable(self._side(left), operator, self._side(right)):
                    self.say(node, wrong, name)
                    return False
        return True

    def _side(self, source: Source) -> Side:
        return Side(source, self.schema_of(source), self._spell(source))

    def _advice(self, source: Source, where: str) -> str:
        """What to do about a null."""
        if isinstance(source, FromOutput) and not where:
            return "Let the task accept null, or give output(..., default=...)."
        if isinstance(source, FromOutput) and self.plan.nodes[source.node].kind is Kind.EACH:
            return 'Let the task accept null there, or read output(..., only="done").'
        return "Let the task accept null."

    def _spell(self, source: Source) -> str:
        """A reference in words."""
        # As authors write it, since the message is about their code.
        match source:
            case FromParam(path):
                return f"param({'.'.join(path)!r})"
            case FromOutput(node):
                return f"the output of {self.plan.address(self.plan.nodes[node])!r}"
            case FromItem(node, path):
                return f"item({'.'.join(path)!r})" if path else "item()"
            case FromFailures(node):
                return f"failures({self.plan.nodes[node].label!r})"
            case FromPlannedAt():
                return "planned_at()"
            case FromBadRows(path):
                return f"bad_rows({'.'.join(path)!r})"
            case FromFailure():
                return "failure()"
            case FieldOf(of, path):
                return self._spell(of) + "".join(f"[{name!r}]" for name in path)
            case TextOf():
                return "text(...)"
            case ListOf():
                return "the list"
            case ObjectOf():
                return "the object"
        return "the condition"

    # What references and parts give

    def schema_of(self, source: Source) -> Schema:
        """The type of what a reference gives."""
        match source:
            case Constant(value):
                return of_constants([value])
            case FromParam(path):
                return field_schema(self.plan.params_schema, path)[0] or {}
            case FromItem(each, path):
                return field_schema(self._item_schema(each), path)[0] or {}
            case FromFailures():
                return FAILURES
            case FromFailure():
                return combine("anyOf", [FAILURE, {"type": "null"}])
            case FromPlannedAt():
                return {"type": "string", "format": "date-time"}
            case FromBadRows():
                return combine("anyOf", [FILE, {"type": "null"}])
            case FieldOf(of, fields):
                return field_schema(self.schema_of(of), fields)[0] or {}
            case Comparison() | IsNull() | Combination():
                return CONDITION
            case TextOf() | ListOf() | ObjectOf():
                return self._of_composed(source)
            # A part that may be skipped gives its default, so that both types may come.
            case FromOutput(index, default, only_done, maybe):
                node = self.plan.nodes[index]
                found = self._items_done(node) if only_done else self.gives(node)
                if not maybe and not self._skippable(node):
                    return found
                return combine("anyOf", [found, of_default(default)])

    def _of_composed(self, source: TextOf | ListOf | ObjectOf) -> Schema:
        inner = [self.schema_of(part) for part in source.of]
        match source:
            case TextOf():
                return {**TEXT, "writeOnly": True} if any(map(has_secrets, inner)) else TEXT
            case ListOf():
                return combine("items", [each_of(inner) if inner else {}])
            case ObjectOf(names):
                return combine("properties", inner, list(names))

    def _item_schema(self, each: int) -> Schema:
        """The type of an item."""
        facts = self.plan.nodes[each].each
        assert facts is not None
        if isinstance(facts.over, Constant) and isinstance(facts.over.value, list):
            item = of_constants(facts.over.value)
        else:
            item = items_schema(self.schema_of(facts.over))
        return combine("items", [item]) if facts.batch else item

    def gives(self, node: Node) -> Schema:
        """The type of what a part gives when it is done."""
        found = self._outputs.get(node.index)
        if found is None:
            if node.index in self._under_way:
                return {}  # reads itself, which was said already
            self._under_way.add(node.index)
            found = self._outputs[node.index] = self._output(node)
            self._under_way.discard(node.index)
        return found

    def _output(self, node: Node) -> Schema:
        children = [self.plan.nodes[one] for one in node.children]
        match node.kind:
            case Kind.STEP:
                facts = self.plan.tasks.get(node.task)
                return facts["output"] if facts else {}
            case Kind.SEQUENCE:
                return self._seen(children[-1]) if children else {}
            case Kind.PARALLEL:
                fields = [self._seen(child) for child in children]
                return combine("properties", fields, [child.label for child in children])
            # Every branch may be the one; readers are held to all.
            case Kind.CHOOSE | Kind.FALLBACK:
                return each_of([self.gives(child) for child in children] or [{}])
            # Where items may fail, a list has holes for them.
            case Kind.EACH:
                allowed = node.each is not None and node.each.may_fail > 0
                item = self._seen(children[0]) if children else {}
                if allowed and children and not self._skippable(children[0]):
                    item = combine("anyOf", [item, HOLE])
                return combine("items", [item])

    def _seen(self, node: Node) -> Schema:
        """What a part gives, null included where it may be skipped."""
        found = self.gives(node)
        return combine("anyOf", [found, HOLE]) if self._skippable(node) else found

    def _items_done(self, node: Node) -> Schema:
        """What an each gives when items that are not done are left out."""
        return combine(
            "items", [self.gives(self.plan.nodes[node.children[0]])] if node.children else [{}]
        )

    def _skippable(self, node: Node) -> bool:
        """Whether a part can end skipped without anything having failed."""
        found = self._skips.get(node.index)
        if found is None:
            # Until it is known: a part that reads itself was said already.
            self._skips[node.index] = node.only_if is not None
            found = self._skips[node.index] = self._can_be_skipped(node)
        return found

    def _can_be_skipped(self, node: Node) -> bool:
        if node.only_if is not None:
            return True
        if node.each and not isinstance(node.each.over, Constant):
            # An each over null is skipped.
            given = self.schema_of(node.each.over)
            if (
                fit(given, {"type": "array"}) is not Fit.FITS
                and fit({"type": "null"}, given) is Fit.FITS
            ):
                return given != {}
        children = [self.plan.nodes[child] for child in node.children]
        if node.kind is Kind.FALLBACK:  # what was skipped has not failed
            return any(map(self._skippable, children[:1]))
        if node.kind is Kind.CHOOSE:
            return any(map(self._skippable, children))
        return bool(children) and all(map(self._skippable, children))

    # What is read at all

    def mark_wanted(self) -> None:
        """Mark every part whose output is read: only those outputs are put together."""
        pending = [self.plan.nodes[0]] if self.plan.nodes else []
        for node in self.plan.nodes:
            for source in node.sources():
                pending += self._marked(source)
        while pending:
            node = pending.pop()
            if node.wanted:
                continue
            node.wanted = True
            inner = node.children[-1:] if node.kind is Kind.SEQUENCE else node.children
            pending += [self.plan.nodes[one] for one in inner]

    def _marked(self, source: Source) -> list[Node]:
        """The parts whose outputs a reference needs; what it reads of an each is marked there."""
        if isinstance(source, FromFailures):
            self.plan.nodes[source.node].failures_wanted = True
        if not isinstance(source, FromOutput):
            return []
        node = self.plan.nodes[source.node]
        if not source.only_done:
            return [node]
        node.done_wanted = True
        return [self.plan.nodes[child] for child in node.children]


def output_schema(plan: Plan) -> Schema:
    """Return the type of what a run of a plan gives, as far as the tasks tell."""
    return Types(plan, Findings(plan)).gives(plan.nodes[0])
