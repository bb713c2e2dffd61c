"""A workflow as it was written, and the spots of a run of it: for the naive interpreter."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from typing import Any
from urllib.parse import quote

from yarnloom.plan.model import branch_label
from yarnloom.plan.references import value_json
from yarnloom.plan.workflow_parts import Choose, Each, Parallel, Part, Sequence, Step, _Common

ENDED = ("done", "failed", "cancelled", "skipped")


@dataclass(frozen=True, slots=True)
class Fallback(_Common):
    """A part with `instead`, around both."""


def as_sequence(part: Part) -> Sequence:
    """What is to be a sequence: itself, or one of it alone."""
    if isinstance(part, Sequence) and part.label is None and part.instead is None:
        return part
    return Sequence(None, (part,))


@dataclass(eq=False)
class Written:
    """A part where it is written."""

    part: Part
    label: str
    around: Written | None
    index: int = 0
    role: str = ""  # on_failure, on_end, item
    inner: list[Written] = field(default_factory=list)
    follow: dict[str, Written] = field(default_factory=dict)

    @classmethod
    def read(
        cls, part: Part, label: str, around: Written | None, index: int = 0, role: str = ""
    ) -> Written:
        """A part and all in it."""
        if part.instead is not None:
            both = Fallback(only_if=part.only_if, on_failure=part.on_failure, on_end=part.on_end)
            found = cls(both, label, around, index, role)
            itself = replace(part, only_if=None, instead=None, on_failure=None, on_end=None)
            instead = as_sequence(part.instead)
            found.inner = [
                cls.read(itself, "first", found, 0),
                cls.read(instead, "instead", found, 1, "instead"),
            ]
            found.read_follow_ups()
            return found
        found = cls(part, label, around, index, role)
        if isinstance(part, Choose):
            for place, (value, one) in enumerate(part.when):
                found.inner.append(cls.read(as_sequence(one), branch_label(value), found, place))
            if part.otherwise is not None:
                last = as_sequence(part.otherwise)
                found.inner.append(cls.read(last, "otherwise", found, len(part.when)))
        if isinstance(part, Sequence | Parallel):
            for place, one in enumerate(part.parts):
                found.inner.append(cls.read(one, one.label or str(place), found, place))
        if isinstance(part, Each):
            found.inner.append(cls.read(as_sequence(part.do), "", found, 0, "item"))
        found.read_follow_ups()
        return found

    def read_follow_ups(self) -> None:
        for name in ("on_failure", "on_end"):
            if (after := getattr(self.part, name)) is not None:
                self.follow[name] = Written.read(as_sequence(after), name, self, 0, name)

    def all(self) -> Iterator[Written]:
        """This and everything in it, follow-ups included."""
        yield self
        for one in (*self.inner, *self.follow.values()):
            yield from one.all()

    def references(self) -> list[dict[str, Any]]:
        """The references in it itself, in the form of a plan."""
        part = self.part
        found = [part.only_if, *(part.inputs.values() if isinstance(part, Step) else ())]
        if isinstance(part, Each):
            found.append(part.over)
        if isinstance(part, Choose):
            found.append(part.by)
        return [one for value in found for one in _leaves(value_json(value))]

    @property
    def own_label(self) -> str:
        """The label that it was given."""
        around = self.around
        return around.label if around and isinstance(around.part, Fallback) else self.label

    @property
    def is_follow_up(self) -> bool:
        return self.role in ("on_failure", "on_end")

    def find(self, path: str) -> tuple[Written, Written, Written] | None:
        """The part that a label means from here, and at that level who is read and who reads."""
        here, around = self, self.around
        while around is not None:
            near = list(around.inner) if isinstance(around.part, Sequence | Parallel) else []
            if here.is_follow_up:
                near.append(around)
                if isinstance(around.part, Fallback) and isinstance(
                    around.inner[0].part, Sequence | Parallel
                ):
                    near += around.inner[0].inner
            for one in near:
                names = path.split(".")
                if one.label == names[0]:
                    target = one
                    for name in names[1:]:
                        target = next(inner for inner in target.inner if inner.label == name)
                    return target, one, here
            here, around = around, around.around
        return None

    def before(self) -> tuple[Written, Written, Written] | None:
        """What `previous` means from here."""
        here = self
        while here.around is not None:
            if isinstance(here.around.part, Sequence) and here.index:
                target = here.around.inner[here.index - 1]
                return target, target, here
            here = here.around
        return None

    def seen(self, reference: dict[str, Any]) -> tuple[Written, Written, Written] | None:
        """What a reference to a part means."""
        if "previous" in reference:
            return self.before()
        label = reference.get("output", reference.get("failures"))
        return None if label is None else self.find(label)

    def reads(self) -> list[tuple[Written, Written]]:
        """Of a branch: which siblings are read in it, and what in them."""
        found = []
        for one in self.all():
            for reference in one.references():
                seen = one.seen(reference)
                if seen and seen[2] is self and seen[1] is not self:
                    found.append((seen[1], seen[0]))
        return found


def _leaves(written: Any) -> Iterator[dict[str, Any]]:
    """The references in a value in the form of a plan."""
    if isinstance(written, list):
        for inner in written:
            yield from _leaves(inner)
    elif isinstance(written, dict) and "constant" not in written:
        inner = [written.get(name, ()) for name in ("compare", "all", "any", "list")]
        inner += [written[name] for name in ("not", "is_null") if name in written]
        inner += [list(written.get(name, {}).values()) for name in ("object", "names")]
        if any(inner):
            yield from _leaves(inner)
        else:
            yield written


@dataclass(eq=False)
class Spot:
    """A part where it is run."""

    written: Written
    around: Spot | None
    value: Any = None
    key: str = ""
    state: str = "waiting"
    reason: str | None = None
    output: Any = None
    settled: bool = False
    closed: str = ""
    asked: bool = False
    causes: frozenset[str] = frozenset()  # what failed first in it: several at one event
    failed_at: int = 0
    tries: int = 0
    inner: list[Spot] = field(default_factory=list)
    follow: dict[str, Spot] = field(default_factory=dict)

    @property
    def address(self) -> str:
        if self.around is None:
            return ""
        if self.written.role == "item":
            return f"{self.around.address}[{quote(self.key, safe='')}]"
        return f"{self.around.address}/{self.written.label}".lstrip("/")

    @property
    def gave(self) -> bool:
        return self.state == "done" or (
            self.state == "skipped" and self.reason in ("only_if", "not_chosen")
        )

    @property
    def over(self) -> bool:
        return self.state in ENDED

    def all(self) -> Iterator[Spot]:
        yield self
        for one in (*self.inner, *self.follow.values()):
            yield from one.all()

    def of_plan(self) -> Iterator[Spot]:
        """This and everything in it without follow-ups."""
        yield self
        for one in self.inner:
            yield from one.of_plan()
