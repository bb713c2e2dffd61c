"""Telling one process from every other, and whether it has ended."""

from __future__ import annotations

import json
import subprocess
import sys

from yarnloom.process_identity import has_ended, this_process

TELL = (
    "import json; from yarnloom.process_identity import this_process; "
    "print(json.dumps(this_process()))"
)


def test_only_a_process_of_this_machine_that_is_gone_has_ended() -> None:
    """Another machine's, another container's and one that tells nothing of itself are not known."""
    done = subprocess.run([sys.executable, "-c", TELL], capture_output=True, check=True, text=True)
    ended: dict[str, object] = json.loads(done.stdout)
    assert has_ended(ended)
    assert not has_ended(this_process())
    assert not has_ended({})
    assert not has_ended({**ended, "boot": "another"})
    assert not has_ended({**ended, "pids": "another"})
    assert has_ended({**this_process(), "started": 1})  # a later one has its pid
    assert not has_ended({**ended, "pid": "7"})


def test_one_that_has_ended_and_was_not_waited_for_has_ended() -> None:
    """As a shell leaves it for a moment."""
    with subprocess.Popen([sys.executable, "-c", TELL], stdout=subprocess.PIPE, text=True) as child:
        assert child.stdout
        facts: dict[str, object] = json.loads(child.stdout.read())
        while not has_ended(facts):
            pass
        assert child.returncode is None
