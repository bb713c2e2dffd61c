"""Every error that Yarn Loom raises, in one tree.

YarnloomError
├── LoomError               a loom cannot be used as it stands
│   ├── LoomNotFound        MODULE:LOOM names nothing that can be imported
│   └── PlanError           a plan has mistakes; carries all of them
├── ValueRefused            a value is not JSON, or is too large
│   └── NotInTransaction    a start would be left in an outbox outside a transaction
├── Refused                 the service understood, and says no
│   ├── NotFound            nothing has that name or number
│   ├── Gone                it existed and was removed
│   ├── InvalidInput        inputs are missing, mistyped or surplus; carries all problems
│   ├── TooLarge            a request has more bytes than are taken
│   ├── TooSlow             a request took too long to arrive
│   ├── BadRequest          what came is no request that can be read
│   ├── Conflict            not possible in the present state
│   │   └── StartKeyTaken   the start key belongs to a run with other params
│   ├── NotAllowed          a foreign origin, or a link that does not hold
│   │   └── TokenNeeded     no token, or a wrong one
│   ├── WorkerUnknown       the service does not know this worker: register again
│   └── Busy                the service cannot take it now: try again
│       └── CannotStore     the disk is full, or the records were taken away or are damaged
├── ServiceError            talking to the service did not work
│   ├── NotReachable        nothing answers at that address
│   └── BadAnswer           something answers, but not a Yarn Loom service
├── StartError              a service or worker cannot start here
│   ├── AddressInUse        the port is taken
│   ├── FolderInUse         another service has the data folder
│   └── FolderUnusable      the data folder cannot be written, or is from another version
├── OutputRefused           a run's output is not of the type that is declared here
├── RunEndedBadly           a run ended without an output
│   ├── RunFailed
│   └── RunCancelled
├── WaitTimeout             the run has not ended yet
├── RunCannotEnd            a run in a test's process waits for what will never come
├── NotDone                 raise it inside `ctx.once()` where the effect did not happen
├── GiveUp                  raise it inside a task to fail without more attempts
│   └── UnsureEffect        raised by `ctx.once()` where nobody knows whether it happened
└── TryLater                raise it inside a task to choose when it is tried again

Not errors, and so not of this tree, that `except Exception` around one bad row lets them through:

Leave                       a BaseException: a task is to be left here
├── Stopped                 it was told to stop: by `ctx`, or in the middle of its function
└── CallAgain               it asked to be called again, by `ctx.call_again()`

A message says what was found, what was expected, and what to do next.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, ClassVar, NamedTuple

from yarnloom.units import Duration, duration_text, seconds


class Problem(NamedTuple):
    """One mistake, with the place where it stands.

    Attributes:
        where: a JSON Pointer into the input (`/year`), or an address in a plan (`table/fetch`).
        message: what was found, what was expected, what to do.
        line: of a mistake in a file: its line, from 1; else 0.
        column: of one in a file: its column's name, if it is in one.
    """

    where: str
    message: str
    line: int = 0
    column: str = ""

    def __str__(self) -> str:
        return f"{self.where or '/'}: {self.message}"


class YarnloomError(Exception):
    """Everything that Yarn Loom raises on purpose.

    Args:
        detail: the mistake and the expected value, for people.
        problems: every mistake in what was given, with its place.
        hint: the next command or setting, for people at a terminal.
        facts: details for programs.

    Attributes:
        code: the kind of error; it stays the same in later versions.
    """

    code: ClassVar[str] = "error"

    def __init__(
        self, detail: str, *, problems: Iterable[Problem] = (), hint: str = "", **facts: Any
    ) -> None:
        super().__init__(detail)
        self.detail = detail
        self.problems: tuple[Problem, ...] = tuple(problems)
        self.hint = hint
        self.facts: dict[str, Any] = facts

    def __reduce__(self) -> tuple[Any, ...]:
        """Pickle it with its attributes."""
        return _rebuilt, (type(self), self.args, self.__dict__.copy())

    @property
    def text(self) -> str:
        """The detail and the hint in one line."""
        if not self.hint:
            return self.detail
        return f"{self.detail}{' ' if self.detail.endswith('.') else '; '}{self.hint}"

    def __str__(self) -> str:
        return "\n".join([self.text, *(f"  {problem}" for problem in self.problems)])


def _rebuilt(
    kind: type[YarnloomError], args: tuple[Any, ...], state: dict[str, Any]
) -> YarnloomError:
    error = kind.__new__(kind, *args)
    error.args = args
    error.__dict__.update(state)
    return error


class LoomError(YarnloomError):
    """A loom cannot be used as it stands."""

    code = "loom"


class LoomNotFound(LoomError):
    """MODULE:LOOM names nothing that can be imported."""

    code = "loom-not-found"


class PlanError(LoomError):
    """A plan has mistakes; `problems` holds all of them."""

    code = "plan"


class ValueRefused(YarnloomError):
    """A value is not JSON, or is too large; `problems` says where."""

    code = "value-refused"


class NotInTransaction(ValueRefused):
    """A start would be left in an outbox outside a transaction."""

    code = "not-in-transaction"


class Refused(YarnloomError):
    """The service understood, and says no."""

    code = "refused"


class NotFound(Refused):
    """Nothing has that name or number."""

    code = "not-found"


class Gone(Refused):
    """It existed and was removed."""

    code = "gone"


class InvalidInput(Refused):
    """Inputs are missing, mistyped or surplus; `problems` holds all of them."""

    code = "invalid-input"


class TooLarge(Refused):
    """A request has more bytes than are taken."""

    code = "too-large"


class TooSlow(Refused):
    """A request took too long to arrive."""

    code = "too-slow"


class BadRequest(Refused):
    """What came is no request that can be read."""

    code = "bad-request"


class Conflict(Refused):
    """Not possible in the present state."""

    code = "conflict"


class StartKeyTaken(Conflict):
    """The start key belongs to a run that was started with other params."""

    code = "start-key-taken"


class NotAllowed(Refused):
    """No token, a wrong one, or a request from a foreign page."""

    code = "not-allowed"


class TokenNeeded(NotAllowed):
    """No token came with the request, or another than the service's."""

    code = "token-needed"


class WorkerUnknown(Refused):
    """The service does not know this worker, for example after a restart: register again."""

    code = "worker-unknown"


class Busy(Refused):
    """The service could not store it now; nothing changed; try again."""

    code = "busy"


class CannotStore(Busy):
    """Nothing can be stored: the disk is full, or the records were taken away or are damaged."""

    code = "cannot-store"


class ServiceError(YarnloomError):
    """Talking to the service did not work."""

    code = "service"


class NotReachable(ServiceError):
    """Nothing answers at the service's address."""

    code = "not-reachable"


class BadAnswer(ServiceError):
    """Something answers, but not as a Yarn Loom service does."""

    code = "bad-answer"


class StartError(YarnloomError):
    """A service or worker cannot start here."""

    code = "cannot-start"


class AddressInUse(StartError):
    """The port is taken."""

    code = "address-in-use"


class FolderInUse(StartError):
    """Another service has the data folder."""

    code = "folder-in-use"


class FolderUnusable(StartError):
    """The data folder cannot be written, or its records are of a version not known here."""

    code = "folder-unusable"


class OutputRefused(YarnloomError):
    """A run's output does not fit the type that its task or workflow declares here.

    Attributes:
        value: the output as it is.
    """

    code = "output-refused"

    def __init__(self, detail: str, *, value: Any, problems: Iterable[Problem] = ()) -> None:
        super().__init__(detail, problems=problems)
        self.value = value


class RunEndedBadly(YarnloomError):
    """A run ended without an output."""

    code = "run-ended-badly"


class RunFailed(RunEndedBadly):
    """A run failed; the message names the step and its error."""

    code = "run-failed"


class RunCancelled(RunEndedBadly):
    """A run was cancelled; the message says why, where a reason was given."""

    code = "run-cancelled"


class WaitTimeout(YarnloomError):
    """The run has not ended within the time that was given; it goes on."""

    code = "wait-timeout"


class RunCannotEnd(YarnloomError):
    """A run in a test's process waits for what will never come; the message says for what."""

    code = "run-cannot-end"


class Leave(BaseException):
    """A task is to be left here. No error: `except Exception` does not catch it."""


class Stopped(Leave):
    """The step was told to stop: raised by `ctx`, or in the middle of the task's function."""


class CallAgain(Leave):
    """Raised inside a task by `ctx.call_again()`; let it pass through.

    Args:
        after: seconds after which the task is called again.
    """

    def __init__(self, after: float) -> None:
        self.after = after
        super().__init__(f"to be called again after {duration_text(after)}")


class NotDone(YarnloomError):
    """Raise it in what is given to `ctx.once()` where it is certain that nothing happened."""

    code = "not-done"


class GiveUp(YarnloomError):
    """Raise it inside a task to fail the step without more attempts."""

    code = "give-up"


class UnsureEffect(GiveUp):
    """Whether something outside was done is unsure, so `ctx.once()` does not repeat it."""

    code = "unsure-effect"


class TryLater(YarnloomError):
    """Raise it inside a task to be tried again after a time of your own choice.

    It spends a try like any error, and its step's retry rule still says how many there are.

    Args:
        after: how long to wait: seconds as a number, or text as `"30s"`, `"5m"`.
        reason: why, for people.
    """

    code = "try-later"

    def __init__(self, after: Duration, reason: str = "") -> None:
        self.after = seconds(after)
        super().__init__(reason or f"to be tried again after {duration_text(self.after)}")


def subclasses(root: type[YarnloomError] = YarnloomError) -> dict[str, type[YarnloomError]]:
    """Every class of the tree below `root`, by its code."""
    found = {root.code: root}
    for child in root.__subclasses__():
        found |= subclasses(child)
    return found


def nearest(name: str, known: Iterable[str]) -> str:
    """A hint for a misspelled name: "; did you mean 'x'?", or what there is.

    Args:
        name: what was asked for.
        known: what exists.
    """
    import difflib  # for mistakes only

    names = sorted(set(known))
    close = difflib.get_close_matches(name, names, n=1, cutoff=0.6)
    if close:
        return f"; did you mean {close[0]!r}?"
    if not names:
        return "; there is none"
    shown = ", ".join(names[:8]) + (", …" if len(names) > 8 else "")
    return f"; there is: {shown}"
