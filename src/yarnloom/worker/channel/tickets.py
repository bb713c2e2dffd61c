"""The queue of a process: numbers of attempts in a pipe that both sides can read.

The worker sends an attempt's message over the channel, and then its number, the *ticket*. The
process begins an attempt after it has read the ticket. The worker takes an attempt back by reading
the ticket itself: a read of eight bytes is atomic, so only one side gets it.
"""

from __future__ import annotations

import contextlib
import os
import struct
from collections.abc import Sequence

_TICKET = struct.Struct("=Q")
_ALL = 1 << 16
MOST = 512
"""How many are written at once: so many bytes are written as a whole."""


class Tickets:
    """One side of the pipe.

    Args:
        read: the end to read from; it does not block.
        write: the end to write to, which only the worker has.
    """

    def __init__(self, read: int, write: int | None = None) -> None:
        self._read = read
        self._write = write

    def fileno(self) -> int:
        """To wait for the next."""
        return self._read

    def put(self, attempts: Sequence[int]) -> None:
        """Let the process begin these, one after another; at most `MOST` wait in the pipe."""
        assert self._write is not None
        with contextlib.suppress(OSError):  # the process is dead, which is noticed elsewhere
            os.write(self._write, struct.pack(f"={len(attempts)}Q", *attempts))

    def take(self) -> int | None:
        """The next attempt, which nobody else has then; None if there is none."""
        try:
            data = os.read(self._read, _TICKET.size)
        except BlockingIOError:
            return None
        return int.from_bytes(data, "little" if _LITTLE else "big") if data else None

    def take_back(self) -> list[int]:
        """All that have not begun, in their order, none of which will."""
        try:
            data = os.read(self._read, _ALL)
        except OSError:
            return []
        return list(struct.unpack(f"={len(data) // _TICKET.size}Q", data))

    def close(self) -> None:
        """Let go of the ends."""
        os.close(self._read)
        if self._write is not None:
            os.close(self._write)


_LITTLE = _TICKET.pack(1)[0] == 1
