"""What the contexts of all tasks can do: progress, loops, checkpoints, stops, publishing."""

from __future__ import annotations

import inspect
import itertools
import logging
import operator
import shlex
import time
from collections.abc import Callable, Iterable
from typing import Any, NoReturn, Self, TypeVar

from yarnloom.errors import CallAgain, Leave, TryLater, UnsureEffect
from yarnloom.sdk.attempt_channel import AttemptLine, OwnLine
from yarnloom.sdk.file_values import Rows, Shelf
from yarnloom.sdk.saved_state import Ledge, Loops, stopped
from yarnloom.sdk.tracked_loop import NOT_GIVEN, Loop, Track
from yarnloom.task_texts import progress_figure
from yarnloom.units import Duration, seconds
from yarnloom.values import JsonObject, JsonValue, encode

T = TypeVar("T")

SHOW_SECONDS = 0.1
UNSURE = ("fail", "again")

_LOG = logging.getLogger("yarnloom.step")

IfUnsure = str | Callable[[str], bool]


MOST_IN_NAME = 100
"""Letters in the name of something published."""


class BaseContext:
    """What both contexts can do: `StepContext` of functions, `AsyncStepContext` of `async def`.

    Attributes:
        address: names the step, e.g. `1042/fetch`.
        attempt: the attempt's number within its step, from 1; each hand-out has a new one.
        tries: how many attempts count for the retry rule, this one included, from 1.
        token: text that is the same over all attempts of the step and differs between steps;
            give it to outside services that know idempotency keys.
        log: a logger whose lines are kept with the attempt.
        kept: what the loom's `around_process` yielded in this process.
        opened: what the loom's `around_attempt` yielded for this attempt.
    """

    def __init__(
        self,
        *,
        address: str = "0/step",
        attempt: int = 1,
        tries: int = 1,
        token: str = "test-token",
        saved: JsonObject | None = None,
        line: AttemptLine | None = None,
        kept: JsonValue = None,
        opened: Any = None,
    ) -> None:
        self.address = address
        self.attempt = attempt
        self.tries = tries
        self.token = token
        self.log = _LOG
        self.kept = kept
        self.opened = opened
        self._line: AttemptLine = line or OwnLine()
        self._ledge = Ledge(saved)
        self._loops = Loops(self._ledge)
        self._calls = itertools.count(1)
        self._did: set[tuple[str, str]] = set()  # in this attempt, by `once`
        self._shown_at = 0.0
        self._restored = self._ledge.kept
        self._leaving: Leave | None = None
        self.shelf = Shelf(self._line)

    @classmethod
    def for_work(cls, work: JsonObject, line: AttemptLine, kept: JsonValue = None) -> Self:
        """The context of an attempt, from the message that hands it out."""
        return cls(
            address=work["address"],
            attempt=work["number"],
            tries=work["tries"],
            token=work["token"],
            saved=work.get("saved"),
            line=line,
            kept=kept,
        )

    # Stopping

    @property
    def stop_asked(self) -> str | None:
        """Why the step is told to stop, or None. Cheap enough for a tight loop.

        One of `"pause"`, `"cancel"`, `"timeout"`, `"quiet"`, `"deadline"` and `"drain"`.
        """
        return self._line.stop_asked()

    def check(self) -> None:
        """Leave the task here if it is told to stop.

        Raises:
            Stopped: it is; let it pass through.
        """
        self._raise_again()
        if why := self.stop_asked:
            self._leave(stopped(why, self._ledge))

    def _leave(self, how: Leave) -> NoReturn:
        self._leaving = how
        raise how

    def _raise_again(self) -> None:
        """Raise what a bare `except:` swallowed: whoever is to leave is told until it does."""
        how = self._leaving
        if isinstance(how, CallAgain) or (how is not None and self.stop_asked):
            raise how
        self._leaving = None

    @property
    def left(self) -> Leave | None:
        """With what the task was to be left, if it was; for whoever runs it."""
        return self._leaving

    # How far it is

    def progress(
        self,
        done: float | None = None,
        total: float | None = None,
        note: str | None = None,
        unit: str | None = None,
    ) -> None:
        """Say how far the step is; what is not given stays as it was.

        Args:
            done: how much is done, in any unit.
            total: how much there is in all.
            note: what it is doing, in a few words; more than 1 kB is cut.
            unit: what is counted, as "pages".

        Raises:
            ValueError: `done` or `total` is no number, not finite, or beyond 2^63.
        """
        self._raise_again()
        done, total = progress_figure("done", done), progress_figure("total", total)
        before = (self._ledge.progress or {}).get("done")
        self._ledge.show(before if done is None else done, total, note, unit)
        self._show()

    def count(self, added: int = 1, skipped: int = 0) -> None:
        """Count what came of an item. What an item counted that is repeated is not counted twice.

        Counts belong to the place that is saved with them: in a loop over `track` to the items
        that it has finished, else to the last `checkpoint`.

        Raises:
            ValueError: one is no whole number, or the sum is beyond 2^63.
        """
        self._raise_again()
        added, skipped = _counted("added", added), _counted("skipped", skipped)
        for name, more in (("added", added), ("skipped", skipped)):
            progress_figure(name, self.counted[name] + more)
        self._ledge.pending["added"] += added
        self._ledge.pending["skipped"] += skipped
        self._show()

    @property
    def counted(self) -> dict[str, int]:
        """What was counted so far, attempts before this one included: `added` and `skipped`."""
        return self._ledge.counted()

    def _show(self) -> None:
        now = time.monotonic()
        if now - self._shown_at >= SHOW_SECONDS:
            self._shown_at = now
            self._line.saved(self._ledge.moved())

    # Going on after a stop

    @property
    def restored(self) -> Any:
        """What an attempt before this one gave to `checkpoint` last; None if none did."""
        return self._restored

    @property
    def carried(self) -> Any:
        """What an attempt before this one gave to `call_again`; None at first."""
        return self._ledge.carried

    def checkpoint(self, value: JsonValue) -> None:
        """Save where the step is, as JSON, and leave the task here if it is told to stop.

        Raises:
            Stopped: it is told to; the next attempt finds the value in `restored`.
            ValueRefused: the value is not JSON, or too large.
            ValueError: a tracked loop goes on: its place and the value would not be one record.
        """
        self._raise_again()
        if self._loops.active:
            raise ValueError(
                "checkpoint within track: the loop's place and the value could be saved apart. "
                "Keep what the loop adds up in its carry: loop = ctx.track(items, carry={...}), "
                "then loop.carry[...]"
            )
        encode(value, "what was given to checkpoint")
        self._ledge.kept = value
        self._ledge.commit()
        self._line.saved(self._ledge.record())
        self.check()

    def track(
        self,
        iterable: Iterable[T],
        *,
        carry: JsonObject | None = NOT_GIVEN,
        total: int | None = None,
        every: int | None = None,
        note: str = "",
        name: str = "",
        resume: bool = True,
    ) -> Track[T]:
        """Go through items with progress, leave the loop when told to stop, and resume there.

        An item is finished when the loop asks for the next. The next attempt resumes after the last
        finished item. Nothing is repeated but after the loss of the worker: then what was finished
        in the last half second, or with `every` at most so many items.

        Local variables start anew with each attempt. What the loop adds up belongs into `carry`:

            loop = ctx.track(rows, carry={"total": 0})
            for row in loop:
                loop.carry["total"] += row.amount
            return loop.carry["total"]

        Args:
            iterable: a list or other sequence, or anything that can be gone through again in the
                same order.
            carry: JSON, at most 64 kB, that is saved in one record with the loop's place: what it
                starts with. It is copied when the loop asks for the next item, so that an item that
                is repeated leaves no trace in it. Without it, a loop that resumes in a new attempt
                says so in the attempt's log and in `why`; None says that nothing is to be carried.
            total: how many there are, where that cannot be told from the iterable.
            every: save after so many items, and wait until that is durable.
            note: what the loop does, in a few words.
            name: what is gone through, as "rows"; it is shown, and tells several loops of a task
                apart.
            resume: False begins anew with each attempt.

        Raises:
            TypeError: a set, or with `resume` an iterator that can be gone through once; or `carry`
                is no dict.
            ValueError: it is within another, or has another's name.
            ValueRefused: the items are not those of the attempt before, or `carry` is not JSON or
                too large.
            Stopped: the step is told to stop; let it pass through.
        """
        return Track(self, Loop(iterable, total, every, note, name, resume), carry)

    def call_again(self, after: Duration, carry: JsonValue = None) -> NoReturn:
        """End this attempt, and have the task called again later; meanwhile it holds nothing.

        Tries begin anew then, and a timeout is for each attempt alone.

        Args:
            after: how long to wait: seconds as a number, or text as `"30s"`, `"5m"`.
            carry: JSON that the next attempt finds in `carried`.

        Raises:
            CallAgain: always; let it pass through.
        """
        self._raise_again()
        wait = seconds(after)
        encode(carry, "what was given to call_again")
        self._ledge.carried = carry
        self._ledge.commit()
        self._leave(CallAgain(wait))

    def _rows(self, kept: JsonObject, count: int) -> Rows[Any]:
        return Rows({"list": kept["sha256"], "count": count, "size": kept["size"]})

    # To the outside

    def publish(self, value: JsonValue, *, to: str = "", append: bool = False) -> None:
        """Send text or JSON to whoever watches the run, at once.

        Args:
            value: what is sent.
            to: the name of what it is; a later value of a name replaces the earlier one.
            append: the text is put behind that of the same name, which so grows. A new attempt
                begins it anew.

        Raises:
            ValueRefused: it is not JSON, or too large.
            ValueError: only text with a name can grow; a name has at most 100 letters.
        """
        self._raise_again()
        encode(value, "what was published")
        if len(to) > MOST_IN_NAME:
            raise ValueError(f"found to={to!r:.60}…; expected at most {MOST_IN_NAME} letters")
        if append and not (to and isinstance(value, str)):
            raise ValueError("append=True needs text, and its name in to=")
        self._line.publish(value, to, append=append)

    def _begin_question(
        self, what: str, if_unsure: IfUnsure, scope: str, *, is_used: bool
    ) -> JsonObject:
        self._raise_again()
        if not what or len(what) > 200:
            raise ValueError(f"what is {what!r:.60}; expected 1 to 200 letters")
        if scope not in ("step", "run"):
            raise ValueError(f"scope is {scope!r}; expected 'step' or 'run'")
        if not callable(if_unsure) and if_unsure not in UNSURE:
            raise ValueError(f"if_unsure is {if_unsure!r}; expected 'fail', 'again' or a function")
        if (scope, what) in self._did:
            raise ValueError(
                f"this attempt has done {what!r} already, so it would not be done again: give each "
                "effect a name of its own, as in once(f'mail {name}', ...)"
            )
        call, again = next(self._calls), if_unsure == "again"
        position = self._loops.position if scope == "step" else ""
        question = {"kind": "begin_effect", "what": what, "scope": scope, "position": position}
        return {**question, "call": call, "again": again, "is_used": is_used}

    def _again(self, begin: JsonObject) -> JsonObject:
        """Take over what was unsure, now that the outside was asked."""
        return {**begin, "again": True, "call": next(self._calls)}

    def _known(self, begin: JsonObject, answer: JsonObject) -> Any:
        what, scope = begin["what"], begin["scope"]
        match answer["now"]:
            case "done":
                self._did.add((scope, what))
                return answer["value"]
            case "busy":
                raise TryLater(1.0, f"another step of the run is at {what!r} at this moment")
        where = self.address if scope == "step" else self.address.partition("/")[0]
        said = shlex.join(["yarnloom", "settle", where, what])
        valued = " --value JSON" if begin["is_used"] else ""
        raise UnsureEffect(
            f"whether {what!r} was done is unsure: an attempt ended in the middle of it. Find out, "
            "settle it, then mend or retry",
            hint=f"say so: `{said} --done{valued}` or `{said} --not-done`",
        )

    def record(self, *, done: bool) -> JsonObject:
        """The step's record as it stands at the attempt's end; for whoever runs it."""
        if done:
            self._ledge.commit()
        else:
            self._ledge.pending = {"added": 0, "skipped": 0}
        return self._ledge.record()


def _counted(what: str, value: JsonValue) -> int:
    """Return a count as a plain number."""
    try:
        return operator.index(value)
    except TypeError:
        raise ValueError(f"{what} is {value!r:.60}; expected a whole number") from None


def end_question(begin: JsonObject, *, done: bool, value: JsonValue = None) -> JsonObject:
    """Return the question that ends an effect."""
    question = {"kind": "end_effect", "what": begin["what"], "scope": begin["scope"]}
    if done:
        encode(value, f"what {begin['what']!r} gave")
    return {**question, "done": done, "value": value}


def takes_token(do: Callable[..., Any]) -> bool:
    """Whether a function can be given the token."""
    try:
        inspect.signature(do).bind("token")
    except (TypeError, ValueError):
        return False
    return True


def yes_or_no(done: Any) -> bool:
    """Return what a function for `if_unsure` says, if it says yes or no."""
    if not isinstance(done, bool):
        raise TypeError(f"if_unsure returned {done!r:.60}; expected True (it was done) or False")
    return done
