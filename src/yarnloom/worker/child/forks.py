"""Processes that a task forks: each ends where the task's function ends in it.

A fork has a copy of everything, the channel to the worker included. If it returned from the task
like its parent, the worker would get two ends of one attempt, and two processes would read one
channel. So a fork loses the channel, and never gets back into our code.
"""

from __future__ import annotations

import contextlib
import os
import sys
import traceback
from collections.abc import Callable
from typing import NoReturn, TypeVar

T = TypeVar("T")


class Forks:
    """Notices that this process is a fork of the one that runs attempts.

    Attributes:
        happened: whether it is.
    """

    happened = False

    def watch(self, *actions: Callable[[], None]) -> None:
        """From now on, note each fork, and do these actions in it."""

        def note() -> None:
            self.happened = True
            for action in actions:
                action()

        os.register_at_fork(after_in_child=note)

    def call(self, function: Callable[[], T]) -> T:
        """Call a task's function; in a fork that it makes, the process ends with it."""
        try:
            value = function()
        except BaseException as error:
            if self.happened:
                leave(error)
            raise
        if self.happened:
            leave(None)
        return value


FORKS = Forks()


def leave(error: BaseException | None) -> NoReturn:
    """End a fork as Python ends a program that raised this error, without clean-up of our own."""
    status = 0 if error is None else 1
    if isinstance(error, SystemExit):
        if error.code is None or isinstance(error.code, int):
            status = (error.code or 0) & 0xFF
        else:
            sys.stderr.write(f"{error.code}\n")
    elif error is not None:
        traceback.print_exception(error)
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError, ValueError):  # the task may have closed it
            stream.flush()
    os._exit(status)
