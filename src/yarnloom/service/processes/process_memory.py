"""Memory of the service's process: reserve little address space, return free memory.

Nothing of this module may load the rest of the service: `loading` is there before it.
"""

from __future__ import annotations

import contextlib
import ctypes
import gc
import threading
from collections.abc import Iterator

THREAD_STACK = 1024 * 1024
M_ARENA_MAX = -8
YOUNG = 10_000
"""New objects after which Python's collector looks through them; it comes with 700."""


@contextlib.contextmanager
def loading() -> Iterator[None]:
    """Load modules; the garbage collector looks at none of their objects, now or later."""
    gc.disable()
    try:
        yield
    finally:
        gc.freeze()
        gc.set_threshold(YOUNG, *gc.get_threshold()[1:])
        gc.enable()


def stay_small() -> None:
    """Keep threads from reserving address space by the hundred megabytes.

    glibc reserves 64 MB for each thread that allocates, and 8 MB for its stack; a limit on address
    space (`ulimit -v`, or a container's) counts both although nothing is in them.
    """
    threading.stack_size(THREAD_STACK)
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).mallopt(M_ARENA_MAX, 1)


def give_back() -> None:
    """Return memory that nothing uses to the system.

    A closed event stream leaves some 150 objects that refer to each other. Until Python's collector
    comes to the oldest of them, they keep what thousands of watchers needed.
    """
    gc.collect()
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).malloc_trim(0)
