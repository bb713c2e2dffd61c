"""Whether the code that calls a function looks at what it returns."""

from __future__ import annotations

import dis
from functools import lru_cache
from types import CodeType, FrameType


def is_value_used(frame: FrameType | None) -> bool:
    """Whether what the call returns that a frame is at, awaited or not, is used by its code.

    Told from what the code does next with it: only a call that stands alone as a statement throws
    its value away. Where that cannot be told, it is used.
    """
    return frame is None or not _is_thrown_away(frame.f_code, frame.f_lasti)


@lru_cache(maxsize=1_000)
def _is_thrown_away(code: CodeType, at: int) -> bool:
    following = [
        instruction for instruction in dis.get_instructions(code) if instruction.offset > at
    ]
    if following and following[0].opname == "GET_AWAITABLE":
        # What an await gives is there where its loop leads to in the end.
        ends = [int(one.argval) for one in following if one.opname == "SEND"][:1]
        following = [one for one in following if ends and one.offset >= ends[0]]
        if following and following[0].opname == "END_SEND":
            following = following[1:]
    return bool(following) and following[0].opname == "POP_TOP"
