"""A workflow as it was written, and the spots of a run of it: for the naive interpreter."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import quote

from yarnloom.plan.references import Failures, Output, Previous, Reference
from yarnloom.plan.workflow_parts import Each, Parallel, Part, Sequence, Step

ENDED = ("done", "failed", "cancelled", "skipped")


def as_sequence(part: Part) -> Sequence:
    """What is to be a sequence: itself, or one of it alone."""
    if isinstance(part, Sequence) and part.label is None:
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
        found = cls(part, label, around, index, role)
        if isinstance(part, Sequence | Parallel):
            for place, one in enumerate(part.parts):
                found.inner.append(cls.read(one, one.label or str(place), found, place))
        if isinstance(part, Each):
            found.inner.append(cls.read(as_sequence(part.do), "", found, 0, "item"))
        for name in ("on_failure", "on_end"):
            if (after := getattr(part, name)) is not None:
                found.follow[name] = cls.read(as_sequence(after), name, found, 0, name)
        return found

    def all(self) -> Iterator[Written]:
        """This and everything in it, follow-ups included."""
        yield self
        for one in (*self.inner, *self.follow.values()):
            yield from one.all()

    def references(self) -> list[Reference]:
        """What stands in it itself."""
        part = self.part
        found = [part.only_if, *(part.inputs.values() if isinstance(part, Step) else ())]
        if isinstance(part, Each):
            found.append(part.over)
        return [one for one in found if isinstance(one, Reference)]

    @property
    def is_follow_up(self) -> bool:
        return self.role in ("on_failure", "on_end")

    def find(self, path: str) -> tuple[Written, Written, Written] | None:
        """The part that a label means from here, and at that level who is read and who reads."""
        here, around = self, self.around
        while around is not None:
            near = [] if isinstance(around.part, Each) else list(around.inner)
            if here.is_follow_up:
                near.append(around)
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

    def seen(self, reference: Reference) -> tuple[Written, Written, Written] | None:
        """What a reference to a part means."""
        if isinstance(reference, Previous):
            return self.before()
        return self.find(reference.label) if isinstance(reference, Output | Failures) else None

    def reads(self) -> list[tuple[Written, Written]]:
        """Of a branch: which siblings are read in it, and what in them."""
        found = []
        for one in self.all():
            for reference in one.references():
                seen = one.seen(reference)
                if seen and seen[2] is self and seen[1] is not self:
                    found.append((seen[1], seen[0]))
        return found


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
        return self.state == "done" or (self.state == "skipped" and self.reason == "only_if")

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
