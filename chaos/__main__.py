"""`python -m chaos [SECONDS] [SEED]`: trouble for real processes, and what came of it."""

from __future__ import annotations

import random
import shutil
import sys
import tempfile
import time
from pathlib import Path

from chaos.harness import Chaos


def main(seconds: float, seed: int) -> int:
    """Make trouble; the exit code says whether a promise was broken."""
    begun = time.monotonic()
    folder = Path(tempfile.mkdtemp(prefix="yarnloom-chaos-"))
    print(f"seed {seed}")
    say = lambda text: print(f"{time.monotonic() - begun:7.1f} {text}", flush=True)  # noqa: E731
    account = Chaos(folder, seed, say).run(seconds)
    for what, count in sorted(account.done.items()):
        print(f"{count:6} {what}")
    for fault in account.faults:
        print(fault)
    if account.faults:
        print(f"{len(account.faults)} faults; the records are in {folder}")
        return 1
    shutil.rmtree(folder)
    print("no promise was broken")
    return 0


if __name__ == "__main__":
    given = [float(one) for one in sys.argv[1:]]
    sys.exit(
        main(given[0] if given else 60.0, int(given[1]) if given[1:] else random.getrandbits(32))
    )
