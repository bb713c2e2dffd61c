"""Processes whose parents have ended: this worker adopts and reaps them."""

from __future__ import annotations

import contextlib
import ctypes
import os
from collections.abc import Container

_SET_CHILD_SUBREAPER = 36


def adopt_orphans() -> bool:
    """Let processes whose parents end become children of this one; whether the system can."""
    prctl = getattr(ctypes.CDLL(None), "prctl", None)
    return prctl is not None and prctl(_SET_CHILD_SUBREAPER, 1, 0, 0, 0) == 0


def reap_orphans(own: Container[int]) -> None:
    """Take note of the end of adopted processes, so that none stays as a zombie.

    Args:
        own: processes that are waited for elsewhere.
    """
    with contextlib.suppress(ChildProcessError):
        while ended := os.waitid(os.P_ALL, 0, os.WEXITED | os.WNOHANG | os.WNOWAIT):
            if ended.si_pid in own:
                return
            os.waitpid(ended.si_pid, 0)
