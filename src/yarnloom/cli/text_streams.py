"""Standard output and error: the one place where the command writes text.

Names, values, outputs and messages come from others, and a terminal obeys what is in them. So
control characters, those of C1, and marks that turn the direction of text are shown as escapes.
A terminal that is not UTF-8 gets plain characters. Light to import: `--help` needs it, too.
"""

from __future__ import annotations

import codecs
import contextlib
import os
import re
import sys

HARMFUL = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028\u2029\u202a-\u202e\u2066-\u2069\ufeff]"
)
_PLAIN = {
    **dict.fromkeys("─━═╌╍┄╸╺‖", "-"),
    **dict.fromkeys("│┃║╎", "|"),
    **dict.fromkeys("├└╰┗┌╭┐╮┘╯┬┴┼", "+"),
    "…": "...",
    "–": "-",
    "—": "-",
    "•": "*",
    "·": ".",
    "×": "x",
    "→": "->",
    "↳": ">",
    "’": "'",
    "‘": "'",
    "“": '"',
    "”": '"',
    "✓": "+",
    "✗": "x",
    "●": "*",
    "○": "o",
    "◐": "o",
    "◌": "o",
    "◍": "o",
    "▶": ">",
    "▸": ">",
    "■": "#",
    "□": "o",
}
"""What stands for a character on a terminal that does not know it; anything else is a `?`."""


def visible(text: str) -> str:
    """Return a text with what a terminal would obey shown as escapes; lines and tabs stay."""
    return HARMFUL.sub(_escape, text)


def _escape(found: re.Match[str]) -> str:
    code = ord(found[0])
    return f"\\x{code:02x}" if code < 256 else f"\\u{code:04x}"


def say(text: str) -> None:
    """Say one line to the user, on standard error, so that output can be piped."""
    with contextlib.suppress(OSError):  # whoever read it may be gone; that must not end a worker
        print(visible(text), file=sys.stderr, flush=True)


def write(text: str) -> None:
    """Write text as it is meant for a file or another program; to a terminal made visible."""
    sys.stdout.write(visible(text) if sys.stdout.isatty() else text)
    sys.stdout.flush()


def write_bytes(block: bytes) -> None:
    """Write some bytes of a file in the same way."""
    if sys.stdout.isatty():
        write(block.decode("utf-8", "replace"))
    else:
        sys.stdout.buffer.write(block)
        sys.stdout.buffer.flush()


def discard_output() -> None:
    """Let everything that is written from now on vanish: nobody reads it any more."""
    with contextlib.suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _as_plain(error: UnicodeError) -> tuple[str, int]:
    """Put plain characters in place of what an encoding does not have."""
    assert isinstance(error, UnicodeEncodeError)
    text = error.object[error.start : error.end]
    return "".join(_PLAIN.get(one, "?") for one in text), error.end


def prepare_streams() -> None:
    """Let both streams replace what their encoding does not have, in place of an error."""
    codecs.register_error("yarnloom-plain", _as_plain)
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(AttributeError, ValueError):
            stream.reconfigure(errors="yarnloom-plain")  # type: ignore[union-attr]
