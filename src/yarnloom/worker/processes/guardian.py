"""Ends process groups when the worker that started them is gone, even by `kill -9`.

Started by path, without site packages, as its own session. It reads lines `+PGID` and `-PGID`
from its standard input, which ends when the worker ends, however that happened. Then it kills
what is left. It works also while a task is inside C code that never looks at Python.
"""

import contextlib
import os
import signal
import sys


def main() -> None:
    """Read until the worker is gone, then kill every group that is left."""
    for name in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(name, signal.SIG_IGN)
    groups = set()
    for line in sys.stdin:
        group = int(line[1:])
        if line[0] == "+":
            groups.add(group)
        else:
            groups.discard(group)
    for group in groups:
        with contextlib.suppress(ProcessLookupError, PermissionError):
            os.killpg(group, signal.SIGKILL)


if __name__ == "__main__":
    main()
