"""Random plans, and a driver that runs one on the engine and on the naive interpreter at once."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any

from yarnloom import (
    Loom,
    Retry,
    choose,
    each,
    failure,
    failures,
    item,
    output,
    parallel,
    param,
    previous,
    sequence,
    step,
    text,
)
from yarnloom.plan import Part
from yarnloom.values import fingerprint

Choose = Callable[[int], int]
"""Draws a number from 0 up to, not including, another."""

KINDS = ("number", "flag", "things", "number", "number", "fail", "flaky")
CHOICES = ((0, 1), (True, False), (2,), ("north", None, 3))
POOL = {"loom": "random", "name": "narrow", "limit": 1, "rate": None, "note": ""}


def behave(task: str, given: dict[str, Any], tries: int) -> tuple[str, Any]:
    """How a task ends: the same for the same inputs and try, wherever it is run."""
    seed = int(fingerprint(given)[:8], 16)
    match task:
        case "number":
            return "done", seed % 5
        case "flag":
            return "done", seed % 3 > 0
        case "things":
            return "done", [seed % 7, seed % 11 + 10, seed % 2 + 30][: seed % 4]
        case "flaky":
            return ("failed", None) if tries <= seed % 4 else ("done", seed % 5)
    return ("failed", None) if seed % 3 else ("done", None)


def make_loom() -> tuple[Loom, dict[str, Callable[..., Any]]]:
    """A loom whose tasks take anything."""
    loom = Loom("random")
    tasks = {}
    for name in dict.fromkeys(KINDS):

        def function(a: Any = None, b: Any = None) -> Any:
            raise AssertionError("only simulated workers run this")

        tasks[name] = loom.task(name=name)(function)
    return loom, tasks


@dataclass
class Scope:
    """What can be read where a part is written.

    Attributes:
        labels: labels that can be read, each with what kind of part it is.
        eaches: labels of the eaches around, outermost first.
        before: whether `previous` means something.
        follows: whether it is in a follow-up.
    """

    labels: dict[str, str] = field(default_factory=dict)
    eaches: tuple[str, ...] = ()
    before: bool = False
    follows: bool = False
    alternative: bool = False  # it replaces another part


class Maker:
    """Makes one random plan.

    Args:
        choose: decides everything.
        size: about how many steps it may have.
    """

    def __init__(self, choose: Choose, size: int = 9) -> None:
        self.choose = choose
        self.left = size
        self.count = 0
        self.loom, self.tasks = make_loom()
        self.inside: dict[str, dict[str, str]] = {}

    def make(self) -> tuple[Part, Part | None, Part | None]:
        """The plan and its follow-ups."""
        scope = Scope()
        plan = replace(
            self.sequence(scope, 0, label=False), on_failure=None, on_end=None, instead=None
        )
        after = Scope(self.inside[""], follows=True)
        return plan, self.follow_up(after, 5), self.follow_up(after, 5)

    def one_of(self, *options: Any) -> Any:
        return options[self.choose(len(options))]

    def rarely(self, once_in: int) -> bool:
        return self.choose(once_in) == once_in - 1

    def label(self) -> str:
        self.count += 1
        return f"p{self.count}"

    def reference(self, scope: Scope) -> Any:
        """Something to read."""
        options: list[Callable[[], Any]] = [lambda: self.choose(5), lambda: param("value")]
        if scope.labels:
            name = self.one_of(*scope.labels)
            options += [lambda: output(name)] * 3
            options.append(lambda: output(name, default=self.choose(3)))
            if scope.labels[name] == "each":
                options += [lambda: failures(name), lambda: output(name, only="done")]
        if scope.before:
            options += [lambda: previous] * 2
        if scope.eaches:
            options += [item, lambda: item(of=self.one_of(*scope.eaches))]
        if scope.follows:
            options += [failure] * 3
        return self.one_of(*options)()

    def value(self, scope: Scope) -> Any:
        """A reference, or now and then something that is made of some."""
        if not self.rarely(5):
            return self.reference(scope)
        return self.one_of(
            [self.output_of_step(scope), 1],
            {"x": param("value"), "y": [self.output_of_step(scope)]},
            text("n {n}", n=self.output_of_step(scope, default="x")),
            self.comparison(scope),
        )

    def comparison(self, scope: Scope) -> Any:
        """A condition, which may compare what does not go together."""
        left = self.output_of_step(scope) if self.rarely(2) else param("value")
        right = self.choose(4)
        options = [
            lambda: left == right,
            lambda: left != right,
            lambda: left < right,
            lambda: left.is_in([right, self.output_of_step(scope)]),
            left.is_null,
            lambda: ~(left == right),
            lambda: (left == right) & param("yes"),
            lambda: (left == right) | (param("value") == right) | param("no"),
        ]
        return self.one_of(*options)()

    def common(self, scope: Scope, own: dict[str, str], label: str | None) -> dict[str, Any]:
        """What every part can have."""
        found: dict[str, Any] = {}
        if self.rarely(5):
            found["only_if"] = self.condition(scope)
        itself = {} if label is None else {label: "part"}
        after = Scope({**scope.labels, **own, **itself}, scope.eaches, follows=True)
        for name in ("on_failure", "on_end"):
            if follow := self.follow_up(after, 9):
                found[name] = follow
        if self.left > 0 and self.rarely(7) and not scope.alternative:
            inner = replace(scope, follows=True, alternative=True)
            found["instead"] = self.step(inner) if self.rarely(2) else self.sequence(inner, 2)
        return found

    def condition(self, scope: Scope) -> Any:
        """Mostly true or false."""
        read = self.output_of_step(scope, default=self.one_of(True, False))
        plain = (True, False, param("yes"), param("no"))
        return self.one_of(*plain, param("value"), read, read, self.comparison(scope))

    def output_of_step(self, scope: Scope, **options: Any) -> Any:
        """What a step gave: it may be anything."""
        steps = [name for name, kind in scope.labels.items() if kind == "step"]
        return output(self.one_of(*steps), **options) if steps else param("value")

    def follow_up(self, scope: Scope, once_in: int) -> Part | None:
        if not self.rarely(once_in):
            return None
        inner = Scope(scope.labels, scope.eaches, follows=True)
        return self.step(inner) if self.rarely(2) else self.sequence(inner, 2)

    def part(self, scope: Scope, depth: int) -> Part:
        if depth >= 3 or self.left <= 1:
            return self.step(scope)
        kind = self.choose(9)
        if kind == 8:
            return self.choice(scope, depth)
        if kind < 3:
            return self.step(scope)
        if kind < 4:
            return self.sequence(scope, depth)
        return self.parallel(scope, depth) if kind < 6 else self.each(scope, depth)

    def step(self, scope: Scope) -> Part:
        self.left -= 1
        label = self.label()
        task = self.tasks[self.one_of(*KINDS)]
        inputs = {name: self.value(scope) for name in ("a", "b") if not self.rarely(4)}
        self.inside[label] = {}
        return step(label, task, **inputs, **self.rules(scope), **self.common(scope, {}, label))

    def rules(self, scope: Scope) -> dict[str, Any]:
        """How a step is run."""
        found: dict[str, Any] = {}
        if self.rarely(2):
            found["retry"] = Retry(attempts=1 + self.choose(4), wait=1 + self.choose(9), jitter=0)
        if self.rarely(4):
            found["pool"] = "narrow"
            if self.rarely(2):
                found["per"] = param("yes") if self.rarely(2) else self.choose(3)
        if self.rarely(6):
            found["priority"] = self.choose(3)
        return found

    def sequence(self, scope: Scope, depth: int, *, label: bool = True) -> Part:
        own = self.label() if label else None
        seen: dict[str, str] = {}
        before = scope.before
        parts = []
        for _ in range(1 + self.choose(3)):
            inner = Scope({**scope.labels, **seen}, scope.eaches, before, scope.follows)
            parts.append(self.part(inner, depth + 1))
            seen |= self.readable(parts[-1])
            before = True
        self.inside[own or ""] = seen
        names = [own] if own else []
        return sequence(*names, *parts, **self.common(scope, seen, own))

    def parallel(self, scope: Scope, depth: int) -> Part:
        label = self.label()
        seen: dict[str, str] = {}
        made: list[Part] = []
        for _ in range(1 + self.choose(3)):
            inner = Scope({**scope.labels, **seen}, scope.eaches, scope.before, scope.follows)
            branch = self.part(inner, depth + 1)
            seen |= self.readable(branch)
            made.insert(self.choose(len(made) + 1), branch)
        self.inside[label] = seen
        policy = self.one_of("stop", "cancel", "finish")
        return parallel(label, *made, if_one_fails=policy, **self.common(scope, seen, label))

    def choice(self, scope: Scope, depth: int) -> Part:
        label = self.label()
        by = self.output_of_step(scope, default=1)
        values = self.one_of(*CHOICES)
        if self.rarely(3):
            by, values = self.comparison(scope), (True, False)
        pairs = [(value, self.part(scope, depth + 1)) for value in values]
        other = self.part(scope, depth + 1) if not self.rarely(3) else None
        self.inside[label] = {}
        common = self.common(scope, {}, label)
        return choose(label, by=by, when=pairs, otherwise=other, **common)

    def each(self, scope: Scope, depth: int) -> Part:
        label = self.label()
        inner = Scope(scope.labels, (*scope.eaches, label), follows=scope.follows)
        do = self.part(inner, depth + 1)
        lists = [[1, 2, 3], ["a", "b/ [c]"], [4, 4], [5], [], param("list"), param("list")]
        options: dict[str, Any] = {}
        if self.rarely(3):
            options["may_fail"] = self.one_of(1, 2, "50%")
        if self.rarely(3):
            options["at_once"] = 1 + self.choose(2)
        if self.rarely(6):
            options["batch"] = 2
        elif self.rarely(4):
            options["name"] = item()
        self.inside[label] = {}
        return each(
            label,
            over=self.output_of_step(scope) if self.rarely(3) else self.one_of(*lists),
            do=do,
            if_one_fails=self.one_of("stop", "cancel", "finish"),
            **options,
            **self.common(scope, {}, label),
        )

    def readable(self, part: Any) -> dict[str, str]:
        """What a part adds to what can be read behind it."""
        inner = self.inside[part.label] if part.instead is None else {}
        inside = {f"{part.label}.{name}": kind for name, kind in inner.items()}
        kind = "fallback" if part.instead else type(part).__name__.lower()
        return {part.label: kind, **inside}


class ChainMaker(Maker):
    """Makes plans of chains: most of their steps need nothing but what those before them gave."""

    def make(self) -> tuple[Part, Part | None, Part | None]:
        """The plan; a third has two chains beside each other, or a step that follows."""
        if not self.rarely(3):
            plan = sequence(*self.chain(Scope(), 4 + self.choose(9)))
            return plan, None, self.follow_up(Scope(follows=True), 4)
        left, right = (
            sequence(name, *self.chain(Scope(), 3 + self.choose(5))) for name in ("left", "right")
        )
        policy = self.one_of("stop", "cancel", "finish")
        first = self.link(Scope(), "first")
        return sequence(first, parallel("both", left, right, if_one_fails=policy)), None, None

    def chain(self, scope: Scope, count: int) -> list[Part]:
        """Steps that follow each other."""
        made: list[Part] = []
        for _ in range(count):
            label = self.label()
            before = Scope(dict(scope.labels), before=bool(made))
            made.append(self.link(before, label))
            scope.labels[label] = "step"
        return made

    def link(self, scope: Scope, label: str) -> Part:
        """One of them; few have something special."""
        task = self.tasks["number" if not self.rarely(5) else self.one_of(*KINDS)]
        inputs = {name: self.reference(scope) for name in ("a", "b") if not self.rarely(4)}
        special = self.rarely(6)
        rules = self.rules(scope) if special else {}
        if special and self.rarely(2):
            rules["only_if"] = self.condition(scope)
        if not special and self.rarely(3):
            rules["retry"] = Retry(attempts=3, wait=1, jitter=0)
        return step(label, task, **inputs, **rules)


class StraightMaker(Maker):
    """Makes plans whose eaches go straight to workers: of one step, and with many items."""

    def make(self) -> tuple[Part, Part | None, Part | None]:
        """The plan; without follow-ups."""
        first = step("first", self.tasks["number"], a=self.choose(5))
        eaches = [self.straight(f"each{place}") for place in range(1 + self.choose(2))]
        around = parallel("both", *eaches, if_one_fails=self.one_of("stop", "cancel", "finish"))
        middle = around if self.rarely(2) else sequence("chain", *eaches)
        parts = [first, middle, step("last", self.tasks["number"], a=self.choose(5))]
        return sequence(*parts), None, None

    def straight(self, label: str) -> Part:
        """An each of one step."""
        count = 5 + self.choose(12)
        names = [f"n {place}" for place in range(count)]
        numbers = [self.choose(100) for _ in range(count)]
        named = self.rarely(2)
        task = self.tasks[self.one_of("number", "number", "things", "flaky", "fail")]
        options: dict[str, Any] = {}
        if named:
            options["name"] = item()
        if self.rarely(2):
            options["may_fail"] = self.one_of(1, 2, "50%")
        if self.rarely(4):
            options["at_once"] = 1 + self.choose(4)
        given = {"a": item(), "b": self.one_of(param("value"), 3, item())}
        rules = self.rules(Scope())
        rules.pop("per", None)
        if self.rarely(3):
            rules.pop("pool", None)
        return each(
            label,
            over=names if named else numbers,
            do=step("do", task, **given, **rules),
            if_one_fails=self.one_of("stop", "cancel", "finish"),
            **options,
        )
