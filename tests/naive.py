"""A plain reading of the rules of composition, to hold the engine against.

It interprets parts as they were written in Python, shares nothing with the engine, and knows no
counters, windows or agenda: after each event it looks at everything again, until nothing changes.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from tests.naive_values import MISSING, Unfit, Values
from tests.written import Fallback, Spot, Written, as_sequence
from yarnloom.plan.workflow_parts import Choose, Each, Parallel, Part, Sequence, Step


class Naive(Values):
    """One run."""

    def __init__(
        self,
        plan: Part,
        params: dict[str, Any],
        on_failure: Part | None = None,
        on_end: Part | None = None,
    ) -> None:
        root = replace(as_sequence(plan), on_failure=on_failure, on_end=on_end)
        self.params = params
        self.cancels = 0
        self.begun = False
        self.event = 0
        self.root = self.make(Written.read(root, "", None), None)
        self.start(self.root)
        self.settle()

    def make(self, written: Written, around: Spot | None, value: Any = None, key: str = "") -> Spot:
        spot = Spot(written, around, value, key)
        if not isinstance(written.part, Each):
            spot.inner = [self.make(one, spot) for one in written.inner]
        spot.follow = {name: self.make(one, spot) for name, one in written.follow.items()}
        return spot

    # Events

    def begin(self, address: str) -> dict[str, Any]:
        """A ready step is handed out; its input."""
        (spot,) = (
            one for one in self.root.all() if one.address == address and one.state == "ready"
        )
        spot.state = "running"
        self.begun = True
        return self.inputs(spot)

    def finish(self, address: str, state: str, output: Any = None) -> None:
        """A running step ended."""
        (spot,) = (
            one for one in self.root.all() if one.address == address and one.state == "running"
        )
        self.event += 1
        spot.state, spot.output = state, output
        if state == "failed":
            self.fail(spot, frozenset({spot.address}))
        self.settle()

    def fail_try(self, address: str) -> None:
        """An attempt of a running step failed: it backs off, if it may be tried again."""
        (spot,) = (
            one for one in self.root.all() if one.address == address and one.state == "running"
        )
        rule = spot.written.part.rules.get("retry")
        spot.tries += 1
        assert spot.around is not None
        barred = self.bar(spot.around) is not None
        if rule is None or spot.tries >= rule.attempts or barred or spot.asked:
            self.finish(address, "failed")
        else:
            spot.state = "backing_off"

    def wake(self) -> None:
        """Every back-off is over."""
        for spot in self.root.all():
            if spot.state == "backing_off":
                spot.state = "ready"

    def may_have_begun(self, spot: Spot) -> None:
        """A worker was given a step together with one before it, and may have begun it by now."""
        assert spot.around is not None
        assert not spot.around.over
        before = spot.around.inner[spot.around.inner.index(spot) - 1]
        assert before.state in ("running", "done") or before.address == spot.address, before
        spot.state, spot.reason, spot.settled = "running", None, False
        spot.asked = self.bar(spot.around) == ("cancelled", None)

    def again(self, address: str) -> None:
        """An attempt came to nothing: its step is ready again, unless its part was stopped."""
        (spot,) = (one for one in self.root.all() if one.address == address)
        spot.state = "ready"
        assert spot.around is not None
        bar = self.bar(spot.around)
        if bar is not None:
            spot.state, spot.reason = bar
            self.settle()

    def cancel(self) -> None:
        """The run is told to stop."""
        self.cancels += 1
        self.event += 1
        for spot in list(self.root.all()):
            if isinstance(spot.written.part, Step) and (self.cancels > 1 or not self.follows(spot)):
                self.stop(spot, "cancelled", None, ask=True)
        self.settle()

    @staticmethod
    def follows(spot: Spot) -> bool:
        """Whether it stands in a follow-up."""
        here: Spot | None = spot
        while here is not None:
            if here.written.is_follow_up:
                return True
            here = here.around
        return False

    def stop(self, spot: Spot, state: str, reason: str | None, *, ask: bool) -> None:
        if spot.state == "backing_off" and reason == "stopped":
            self.fail(spot, frozenset({spot.address}))
        elif spot.state in ("ready", "backing_off"):
            spot.state, spot.reason = state, reason
        elif spot.state == "running" and ask:
            spot.asked = True

    # Looking at everything again

    def settle(self) -> None:
        while self.look(self.root):
            pass

    def look(self, spot: Spot) -> bool:
        """Let one thing happen, closing first, then the innermost; False if nothing can."""
        if spot.state == "running" and self.close_if_needed(spot):
            return True
        if any(self.look(one) for one in list(spot.inner)):
            return True
        if any(self.look(one) for one in spot.follow.values()):
            return True
        if isinstance(spot.written.part, Step):
            return self.settle_one(spot)
        if spot.state == "running":
            return self.drop(spot) or self.decide(spot) or self.start_next(spot)
        return self.settle_one(spot)

    def bar(self, spot: Spot) -> tuple[str, str | None] | None:
        here: Spot = spot
        while True:
            if here.closed:
                return "skipped", "stopped"
            if here.written.is_follow_up:
                return ("cancelled", None) if self.cancels > 1 else None
            if here.around is None:
                return ("cancelled", None) if self.cancels else None
            here = here.around

    def drop(self, spot: Spot) -> bool:
        """Children that will not begin any more."""
        bar = self.bar(spot)
        if bar is None and isinstance(spot.written.part, Sequence):
            wrong = next((one for one in spot.inner if one.over and not one.gave), None)
            if wrong is not None:
                bar = ("skipped", "stopped" if wrong.reason == "stopped" else "not_reached")
        if isinstance(spot.written.part, Fallback):
            first = spot.inner[0]
            if not first.over:
                bar = None
            elif first.state != "failed":
                bar = ("skipped", "not_chosen")
        waiting = [one for one in spot.inner if one.state == "waiting"]
        if bar is None or not waiting:
            return False
        for one in waiting:
            self.end_unborn(one, *bar)
        return True

    def end_unborn(self, spot: Spot, state: str, reason: str | None) -> None:
        for one in spot.of_plan():
            one.state, one.reason, one.settled = state, reason, True

    def decide(self, spot: Spot) -> bool:
        if not all(one.over for one in spot.inner):
            return False
        states = [one.state for one in spot.inner]
        cut = [one.reason for one in spot.inner if one.state == "skipped" and not one.gave]
        if states.count("failed") > self.allowed(spot):
            failed = [one for one in spot.inner if one.state == "failed"]
            first = min(one.failed_at for one in failed)
            self.fail(
                spot, frozenset().union(*(one.causes for one in failed if one.failed_at == first))
            )
        elif "cancelled" in states:
            spot.state = "cancelled"
        elif cut or (states and set(states) == {"skipped"}):
            spot.state, spot.reason = "skipped", cut[0] if cut else "only_if"
        else:
            spot.state, spot.output = "done", self.gathered(spot)
        return True

    def fail(self, spot: Spot, causes: frozenset[str]) -> None:
        spot.state, spot.causes, spot.failed_at = "failed", causes, self.event

    def gathered(self, spot: Spot) -> Any:
        if isinstance(spot.written.part, Sequence):
            return spot.inner[-1].output if spot.inner[-1].state == "done" else None
        if isinstance(spot.written.part, Parallel):
            return {one.written.label: one.output for one in spot.inner}
        if isinstance(spot.written.part, Choose | Fallback):
            return next(one.output for one in spot.inner if one.state == "done")
        return [one.output if one.state == "done" else None for one in spot.inner]

    def allowed(self, spot: Spot) -> int:
        part = spot.written.part
        if isinstance(part, Fallback):
            return 2 if any(one.state == "done" for one in spot.inner) else 0
        if not isinstance(part, Each) or part.may_fail is None:
            return 0
        if isinstance(part.may_fail, str):
            return int(part.may_fail[:-1]) * len(spot.inner) // 100
        return part.may_fail

    def close_if_needed(self, spot: Spot) -> bool:
        part = spot.written.part
        if not isinstance(part, Parallel | Each) or part.if_one_fails == "finish":
            return False
        failed = [one for one in spot.inner if one.state == "failed"]
        if spot.closed or spot.over or len(failed) <= self.allowed(spot):
            return False
        if self.bar(spot) == ("cancelled", None):
            return False
        spot.closed = part.if_one_fails
        for one in spot.inner:
            if one.state == "waiting":
                self.end_unborn(one, "skipped", "stopped")
        for one in list(spot.of_plan()):
            if isinstance(one.written.part, Step):
                self.stop(one, "skipped", "stopped", ask=spot.closed == "cancel")
        return True

    def settle_one(self, spot: Spot) -> bool:
        """What is decided settles when all in it has, and its follow-ups have ended."""
        if not spot.over or spot.settled:
            return False
        if not all(one.settled for one in spot.inner):
            return False
        for name in self.follow_ups(spot):
            follow = spot.follow[name]
            if follow.state == "waiting":
                follow.state = "running"
                return True
            if not follow.settled:
                return False
        spot.settled = True
        return True

    def follow_ups(self, spot: Spot) -> list[str]:
        """Which follow-ups run, or have run."""
        unborn = spot.state == "skipped" and isinstance(spot.written.part, Step)
        found = []
        for name in ("on_failure", "on_end"):
            follow = spot.follow.get(name)
            if follow is None:
                continue
            cancelled = self.cancels > 0 and not self.follows(spot)
            runs = not unborn and self.cancels < 2
            if name == "on_failure" and (spot.state != "failed" or cancelled):
                runs = False
            if spot.state == "cancelled" and not self.begun:
                runs = False
            if runs or follow.state != "waiting":
                found.append(name)
        return found

    # Beginning

    def start_next(self, spot: Spot) -> bool:
        part = spot.written.part
        for place, one in enumerate(spot.inner):
            if one.state != "waiting":
                continue
            if isinstance(part, Sequence | Fallback):
                before = spot.inner[:place]
                if isinstance(part, Fallback) and place:
                    if before[0].settled and before[0].state == "failed":
                        self.start(one)
                        return True
                    return False
                if all(earlier.settled and earlier.gave for earlier in spot.inner[:place]):
                    self.start(one)
                    return True
                return False
            if isinstance(part, Parallel):
                by = {other.written: other for other in spot.inner}
                if all(by[through].settled for through, _ in one.written.reads()):
                    self.start(one)
                    return True
                continue
            begun = [other for other in spot.inner[:place] if not other.settled]
            if part.at_once is None or len(begun) < part.at_once:
                self.start(one)
                return True
            return False
        return False

    def start(self, spot: Spot) -> None:
        """Begin a part: nothing that it waits for is missing any more."""
        if spot.around is not None and isinstance(spot.around.written.part, Parallel):
            for _, target in spot.written.reads():
                if not self.at(spot, target).gave:
                    self.skip(spot, "not_reached")
                    return
        try:
            if spot.written.part.only_if is not None:
                condition = self.value(spot.written.part.only_if, spot)
                if condition is False:
                    self.skip(spot, "only_if")
                    return
                if condition is not True:
                    raise Unfit
            if isinstance(spot.written.part, Each):
                self.start_each(spot)
            elif isinstance(spot.written.part, Choose):
                self.choose(spot, spot.written.part)
            elif isinstance(spot.written.part, Step):
                self.inputs(spot)
                spot.state = "ready"
            else:
                spot.state = "running"
        except Unfit:
            for one in spot.inner:
                self.end_unborn(one, "skipped", "not_reached")
            self.fail(spot, frozenset({spot.address}))

    def skip(self, spot: Spot, reason: str) -> None:
        self.end_unborn(spot, "skipped", reason)

    def choose(self, spot: Spot, part: Choose) -> None:
        value = self.value(part.by, spot)
        value = None if value is MISSING else value
        same = [type(value) is type(one) and value == one for one, _ in part.when]
        if True not in same and part.otherwise is None:
            raise Unfit
        chosen = spot.inner[same.index(True) if True in same else -1]
        for one in spot.inner:
            if one is not chosen:
                self.end_unborn(one, "skipped", "not_chosen")
        spot.state = "running"
        self.start(chosen)

    def start_each(self, spot: Spot) -> None:
        part = spot.written.part
        assert isinstance(part, Each)
        source = self.value(part.over, spot)
        if source is MISSING or source is None:
            self.skip(spot, "only_if")
            return
        if not isinstance(source, list):
            raise Unfit
        if part.batch:
            source = [source[i : i + part.batch] for i in range(0, len(source), part.batch)]
        keys = [str(index) for index in range(len(source))]
        if part.name is not None:
            keys = [str(one) for one in source]
            named = all(type(one) in (int, str) and one != "" for one in source)
            if not named or len(set(keys)) < len(keys):
                raise Unfit
        do = spot.written.inner[0]
        spot.inner = [self.make(do, spot, one, key) for one, key in zip(source, keys, strict=True)]
        spot.state = "running"

    # Values

    def inputs(self, spot: Spot) -> dict[str, Any]:
        part = spot.written.part
        assert isinstance(part, Step)
        found = {name: self.value(one, spot) for name, one in part.inputs.items()}
        return {name: one for name, one in found.items() if one is not MISSING}
