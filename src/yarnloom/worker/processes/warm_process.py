"""The template of a worker's processes: loads the looms once; each process is a fork of it.

Started as `python -m yarnloom.worker.processes.warm_process FD PAGE TICKETS PARENT MODULE:LOOM,…
CONTROL`, where all but the last are those of `child/main.py`. CONTROL is a socket on which the
worker asks for processes, one by one: `PLACES` (0 where it runs one attempt at a time) with five
descriptors, those of `child/main.py` and where it prints. The answer is the number of the process.

A process is forked twice, and its parent ends, so that it becomes a child of the worker (which
adopts orphans): the worker sees its end, and it dies with the worker, not with the template.
"""

from __future__ import annotations

import ctypes
import gc
import os
import signal
import socket
import stat
import sys
import threading
import time

from yarnloom.worker.channel.frames import Channel
from yarnloom.worker.child.deadline import die_with_parent
from yarnloom.worker.child.main import Ends, LoadedLooms, MessageHandler, leave, load, prepare, work

ADOPTION_SECONDS = 5.0
_SET_NAME = 15


def main(descriptor: int, specs: list[str], control: socket.socket, worker: int) -> int:
    """Load the looms, say what they have, and fork until the worker goes away."""
    channel = Channel(socket.socket(fileno=descriptor))
    handler = MessageHandler(channel.send)
    prepare(handler)
    before = open_descriptors()
    loaded = load(channel, specs)
    if loaded is None:
        return 1
    wanted = all(loom.fork for loom in loaded.looms)
    why = reason_not_to_fork(before) if wanted else None
    forks = wanted and why is None
    publications = [loom.publication() for loom in loaded.looms]
    channel.send(
        {**loaded.message, "forks": forks, "not_forking": why, "publications": publications}
    )
    if not forks:
        return 0
    gc.freeze()  # what all processes share is not looked through by each, so it stays shared
    while True:
        request, descriptors, _, _ = socket.recv_fds(control, 100, 5)
        if not request:
            return 0
        read, write = os.pipe()
        # Forked twice, so that the child has no parent that must wait for its end.
        first = os.fork()
        if not first:
            if second := os.fork():
                os.write(write, str(second).encode())
                os._exit(0)
            for one in (read, write):
                os.close(one)
            control.close()
            become_child(handler, descriptors, loaded, int(request) or None, worker)
        os.close(write)
        pid = os.read(read, 20)
        os.close(read)
        os.waitpid(first, 0)
        for one in descriptors:
            os.close(one)
        control.send(pid)


def become_child(
    handler: MessageHandler,
    descriptors: list[int],
    loaded: LoadedLooms,
    places: int | None,
    worker: int,
) -> None:
    """Be one of the worker's processes, in a fork; does not return."""
    code = 1
    try:
        *given, out, err = descriptors
        ends = Ends(*given)
        os.setsid()
        name_process("loom-process")
        until = time.monotonic() + ADOPTION_SECONDS
        while os.getppid() != worker and time.monotonic() < until:
            time.sleep(0.0005)
        die_with_parent(worker)
        for source, target in ((out, 1), (err, 2)):
            os.dup2(source, target)
            os.close(source)
        channel = Channel(socket.socket(fileno=ends.channel))
        handler.send = channel.send
        seed_anew()
        code = work(channel, ends, handler, loaded, places)
    finally:
        leave(code)


def name_process(name: str) -> None:
    """Give this process a name for `ps` and `top`, at most 15 characters: forks look alike."""
    if prctl := getattr(ctypes.CDLL(None), "prctl", None):
        prctl(_SET_NAME, name.encode(), 0, 0, 0)


def seed_anew() -> None:
    """Let this fork draw other random numbers than its siblings; Python's own does so itself."""
    if numpy := sys.modules.get("numpy"):
        numpy.random.seed()


def open_descriptors() -> set[tuple[int, str]]:
    """Return the open files and sockets of this process, and what each is."""
    found = set()
    for name in os.listdir("/proc/self/fd"):
        try:
            target = os.readlink(f"/proc/self/fd/{name}")
            kind = os.fstat(int(name)).st_mode
        except OSError:  # that of the list itself
            continue
        if stat.S_ISSOCK(kind) or stat.S_ISREG(kind):
            found.add((int(name), target))
    return found


def reason_not_to_fork(before: set[tuple[int, str]]) -> str | None:
    """Return why this process must not be forked; None if it can be.

    Args:
        before: the files and sockets that were open before the looms were loaded.
    """
    others = [one.name for one in threading.enumerate() if one is not threading.main_thread()]
    if others or len(os.listdir("/proc/self/task")) > 1:
        return f"threads run once it is loaded ({', '.join(others) or 'not of Python'})"
    if opened := sorted(target for _, target in open_descriptors() - before):
        return f"{opened[0]} is open once it is loaded"
    return None


if __name__ == "__main__":
    descriptor, parent, specs = int(sys.argv[1]), int(sys.argv[4]), sys.argv[5].split(",")
    die_with_parent(parent)
    name_process("loom-template")
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    leave(main(descriptor, specs, socket.socket(fileno=int(sys.argv[6])), parent))
