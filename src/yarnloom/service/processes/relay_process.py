"""The relay of an outbox as a child of `serve`: started, started again, and ended with it."""

from __future__ import annotations

import asyncio
import contextlib
import sys
from collections.abc import Callable
from pathlib import Path

from yarnloom.masking import environment_without_secrets

FIRST_PAUSE, LONGEST_PAUSE = 0.5, 30.0
STEADY_SECONDS = 60.0
LONGEST_LINE = 2**20


async def keep_relaying(source: str, folder: Path, url: str, say: Callable[[str], None]) -> None:
    """Run a relay for as long as this is not cancelled; say what it says, and how it ends.

    Args:
        source: a SQLite file, or `module:function`.
        folder: where it is found.
        url: the address of the service's Unix socket.
        say: tells the user, one line at a time.
    """
    given = ["--connect", source] if ":" in source else [str(folder / source)]
    pause = FIRST_PAUSE
    while True:
        begun = asyncio.get_running_loop().time()
        process = await asyncio.create_subprocess_exec(
            *(sys.executable, "-m", "yarnloom", "relay", *given, "--end-with-stdin"),
            stdin=asyncio.subprocess.PIPE,
            stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.STDOUT,
            env={**environment_without_secrets(), "YARNLOOM_URL": url},
            cwd=folder,
            start_new_session=True,
            limit=LONGEST_LINE,
        )
        try:
            assert process.stdout
            while line := await process.stdout.readline():
                say(f"relay: {line.decode('utf-8', 'replace').rstrip()}")
            code = await process.wait()
        except asyncio.CancelledError:
            with contextlib.suppress(ProcessLookupError):
                process.terminate()
            await process.wait()
            raise
        say(f"relay: ended with exit code {code}; another one is started")
        lived = asyncio.get_running_loop().time() - begun
        pause = FIRST_PAUSE if lived > STEADY_SECONDS else min(LONGEST_PAUSE, pause * 2)
        await asyncio.sleep(pause)
