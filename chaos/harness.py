"""A service and workers as processes, trouble for them, and the account of what came of it."""

from __future__ import annotations

import contextlib
import itertools
import json
import math
import random
import resource
import shutil
import signal
import sqlite3
import threading
import time
from collections import Counter, defaultdict
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from tests.helpers import Program, ServiceProgram, run_command
from tests.proxy import Proxy

from chaos.loom import LIMIT, LOG, expected, params
from chaos.processes import children_of, guardians, send, templates
from chaos.reader import Reader
from yarnloom import Client, Run
from yarnloom.client import Request
from yarnloom.errors import YarnloomError

LOOM = "chaos.loom:loom"
LEASE = 3.0
WORKERS = 3
OPEN = ("scheduled", "queued", "running")
WORKFLOWS = ("sums", "charges", "odd", "crowd")
CROWD = 60
"""How many items of a crowd there are for each of the others."""

PATIENCE = 60.0
"""Seconds within which some step has to end when the trouble is over, and another, and so on."""


@dataclass(frozen=True)
class Trouble:
    """One kind of trouble.

    Attributes:
        weight: how often it comes, in proportion to others; about 20 minutes take all of them.
        make: makes it; returns False where there was nothing to be made trouble for.
    """

    weight: int
    make: Callable[[], bool | None]


class ServiceClock:
    """The clock of the service, which can be set.

    Args:
        path: for the file that has by how many seconds it is set, in five characters.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        path.write_text("+0000", encoding="ascii")
        self.env = {"PYTHONPATH": str(Path(__file__).with_name("clock")), "CHAOS_CLOCK": str(path)}

    def set_at_random(self, chance: random.Random) -> Callable[[], None]:
        """Return what sets the clock forward or back by up to an hour."""

        def set_clock() -> None:
            with self._path.open("r+b", buffering=0) as file:  # processes have this file mapped
                file.write(b"%+05d" % chance.choice((-3600, -60, -1, 0, 1, 60, 3600)))

        return set_clock


@dataclass
class Started:
    """A run that was acknowledged."""

    workflow: str
    count: int
    at: float

    @property
    def output(self) -> Any:
        """What it ends with."""
        return expected(self.count) if self.workflow == "sums" else list(range(self.count))


@dataclass
class Account:
    """What came of it.

    Attributes:
        done: how often each kind of trouble was made, and how many runs ended.
        faults: everything that broke a promise.
    """

    done: Counter[str] = field(default_factory=Counter)
    faults: list[str] = field(default_factory=list)


class Chaos:
    """One service in trouble.

    Args:
        folder: for the data and the log of what tasks did.
        seed: decides what trouble comes when; how processes run is not decided by it.
        say: told of everything that is done.
    """

    def __init__(self, folder: Path, seed: int, say: Callable[[str], None]) -> None:
        self._random = random.Random(seed)
        self._say = say
        self._data = folder / "data"
        self._log = folder / "log"
        self._copy = folder / "copy"
        self._clock = ServiceClock(folder / "clock")
        self._copied: set[int] | None = None
        self._put_back_at: list[float] = []
        self._started: dict[int, Started] = {}
        self._lock = threading.Lock()
        self._over = threading.Event()
        self.account = Account()
        self._service = self._serve(0)
        self._proxies = [Proxy(self._service.port) for _ in range(WORKERS)]
        done = run_command("publish", LOOM, url=self._service.url)
        assert done.returncode == 0, done.stderr
        self._workers = [self._work(index) for index in range(WORKERS)]

    def run(self, seconds: float) -> Account:
        """Make trouble for some seconds, let everything end, and look at what came of it."""
        reader = Reader(self._service.url, random.Random(0), self._numbers, self._over)
        threads = [
            threading.Thread(target=work) for work in (self._keep_starting, reader.keep_reading)
        ]
        for thread in threads:
            thread.start()
        until = time.monotonic() + seconds
        troubles = self._troubles()
        try:
            for name in self._order(troubles):
                if time.monotonic() > until:
                    break
                self._say(name)
                if troubles[name].make() is not False:
                    self.account.done[name] += 1
                self._over.wait(self._random.uniform(0.1, 0.6))
            self._over.set()
            for thread in threads:
                thread.join()
            self.account.done += reader.read
            self.account.faults += reader.faults
            if not reader.ended:
                self.account.faults.append("reading: the reader broke off")
            self._settle()
            self._look()
        finally:
            self._over.set()
            self._end()
        return self.account

    def _numbers(self) -> list[int]:
        """The runs that were acknowledged."""
        with self._lock:
            return list(self._started)

    # Processes

    def _serve(self, port: int) -> ServiceProgram:
        return ServiceProgram(self._data, "--lease", str(LEASE), port=port, env=self._clock.env)

    def _work(self, index: int) -> Program:
        url = self._proxies[index].url
        options = ("--processes", "2", "--name", f"w{index}", "--url", url)
        return Program("worker", "--load", LOOM, *options, env={LOG: str(self._log)})

    def _children(self, index: int) -> list[int]:
        """A worker's processes that run attempts."""
        worker = self._workers[index].process.pid
        beside = {*guardians(worker), *templates(worker)}
        return [pid for pid in children_of(worker) if pid not in beside]

    # Runs

    def _keep_starting(self) -> None:
        """Start runs, again and again, with a key each."""
        url, number = self._service.url, 0
        with Client(url, who="chaos") as client:
            while not self._over.wait(0.4):
                number += 1
                count = number % 7
                with contextlib.suppress(YarnloomError):
                    begun = time.time()
                    workflow = WORKFLOWS[number % len(WORKFLOWS)]
                    count *= CROWD if workflow == "crowd" else 1
                    given = params(count) if workflow == "sums" else {"count": count}
                    run = client.start(workflow, given, key=f"key-{number}")
                    with self._lock:
                        self._started[run.number] = Started(workflow, count, begun)

    # Trouble

    def _troubles(self) -> dict[str, Trouble]:
        return {
            "the service is killed": Trouble(100, self._kill_service),
            "a worker is killed": Trouble(60, self._kill_worker),
            "a worker is killed with its guardian": Trouble(
                50, lambda: self._kill_worker(guardian=True)
            ),
            "a guardian is killed": Trouble(110, self._kill_guardian),
            "a template is killed": Trouble(
                60, lambda: self._signal_beside(templates, signal.SIGKILL)
            ),
            "a template is stopped": Trouble(
                20, lambda: self._signal_beside(templates, signal.SIGSTOP)
            ),
            "a process is killed": Trouble(110, lambda: self._signal_child(signal.SIGKILL)),
            "a process is stopped": Trouble(50, lambda: self._signal_child(signal.SIGSTOP)),
            "a worker is stopped for a while": Trouble(30, self._freeze_worker),
            "the service is stopped for a while": Trouble(30, self._freeze_service),
            "a connection is cut for a while": Trouble(30, self._cut),
            "a connection is held up for a while": Trouble(30, self._hold_up),
            "a copy is made": Trouble(30, self._make_copy),
            "a copy is put back": Trouble(30, self._put_back),
            "the clock is set": Trouble(25, self._clock.set_at_random(self._random)),
            "the disk is full for a while": Trouble(20, self._fill_disk),
            "the records are moved away for a while": Trouble(20, self._move_records),
        }

    def _order(self, troubles: dict[str, Trouble]) -> Iterator[str]:
        """All troubles, each as often as it weighs, in random order, again and again."""
        names = [name for name, trouble in troubles.items() for _ in range(trouble.weight)]
        while True:
            self._random.shuffle(names)
            yield from names

    def _kill_service(self, before: Callable[[], None] = lambda: None) -> None:
        self._service.kill()
        self._verify()
        before()
        self._service = self._serve(self._service.port)

    def _verify(self) -> None:
        found = run_command("verify", "--data", str(self._data))
        self.account.done["looks at the records"] += 1
        if found.returncode:
            self.account.faults.append(f"verify: {found.stderr.strip()}")

    def _kill_worker(self, *, guardian: bool = False) -> None:
        index = self._random.randrange(WORKERS)
        worker = self._workers[index].process.pid
        if guardian:
            send(worker, signal.SIGSTOP)
            for pid in guardians(worker):
                send(pid, signal.SIGKILL)
        self._workers[index].kill()
        self._workers[index] = self._work(index)

    def _kill_guardian(self) -> bool:
        return self._signal_beside(guardians, signal.SIGKILL)

    def _signal_beside(self, which: Callable[[int], list[int]], number: int) -> bool:
        index = self._random.randrange(WORKERS)
        pids = which(self._workers[index].process.pid)
        for pid in pids:
            send(pid, number)
        return bool(pids)

    def _signal_child(self, number: int) -> bool:
        children = self._children(self._random.randrange(WORKERS))
        if children:
            send(self._random.choice(children), number)
        return bool(children)

    def _fill_disk(self) -> None:
        """No file of the service grows for a while."""
        pid = self._service.process.pid
        before = resource.prlimit(pid, resource.RLIMIT_FSIZE)
        resource.prlimit(pid, resource.RLIMIT_FSIZE, (1, before[1]))
        self._over.wait(self._random.uniform(0.1, LEASE))
        resource.prlimit(pid, resource.RLIMIT_FSIZE, before)

    def _freeze_worker(self) -> None:
        pid = self._workers[self._random.randrange(WORKERS)].process.pid
        send(pid, signal.SIGSTOP)
        self._later(lambda: send(pid, signal.SIGCONT))

    def _freeze_service(self) -> None:
        self._service.process.send_signal(signal.SIGSTOP)
        self._over.wait(self._random.uniform(0.2, 1.5 * LEASE))
        self._service.process.send_signal(signal.SIGCONT)

    def _cut(self) -> None:
        proxy = self._random.choice(self._proxies)
        proxy.cut()
        self._later(proxy.heal)

    def _hold_up(self) -> None:
        proxy = self._random.choice(self._proxies)
        proxy.freeze()
        self._later(proxy.heal)

    def _move_records(self) -> None:
        """Move the folder away: the service must acknowledge no start meanwhile."""
        away = self._data.with_suffix(".away")
        self._data.rename(away)
        with Client(self._service.url, who="chaos") as client, contextlib.suppress(YarnloomError):
            run = client.start("sums", params(1))
            self.account.faults.append(f"acknowledged without records: run {run.number}")
        away.rename(self._data)

    def _make_copy(self) -> None:
        """What was acknowledged before is in it."""
        with self._lock:
            known = set(self._started)
        self._copy.unlink(missing_ok=True)
        with (
            contextlib.closing(sqlite3.connect(self._data / "yarnloom.db", timeout=30)) as records,
            contextlib.closing(sqlite3.connect(self._copy)) as copy,
        ):
            records.backup(copy)
        self._copied = known

    def _put_back(self) -> bool:
        if self._copied is None:
            return False
        copied, self._copied = self._copied, None

        def put_back() -> None:
            for path in self._data.glob("yarnloom.db*"):
                path.unlink()
            shutil.move(self._copy, self._data / "yarnloom.db")
            with self._lock:  # what came after is lost, as everybody expects
                self._started = {n: one for n, one in self._started.items() if n in copied}

        self._kill_service(put_back)
        self._put_back_at.append(time.time())
        return True

    def _later(self, action: Callable[[], None]) -> None:
        timer = threading.Timer(self._random.uniform(0.2, 2.5 * LEASE), action)
        timer.daemon = True
        timer.start()

    # The end, and the account

    def _settle(self) -> None:
        """End the trouble, and wait until all runs have ended.

        First stop one process of each worker: no later trouble frees the steps that it has.
        """
        for proxy in self._proxies:
            proxy.heal()
        for index in range(WORKERS):
            for pid in self._children(index)[:1]:
                send(pid, signal.SIGSTOP)
        for index, worker in enumerate(self._workers):
            send(worker.process.pid, signal.SIGCONT)
            if worker.process.poll() is not None:
                self.account.faults.append(f"worker w{index} ended:\n{worker.text[-2000:]}")
                self._workers[index] = self._work(index)
        until, most = time.monotonic() + PATIENCE, -math.inf
        attempts: dict[int, int] = {}
        with Client(self._service.url, who="chaos") as client:
            while time.monotonic() < until:
                left = list(client.runs(states=OPEN, limit=200))
                if not left:
                    return
                attempts |= {run.number: run.data["attempts"] for run in left}
                done = sum(attempts.values()) - len(left)
                if done > most:  # something ends: nothing is stuck yet
                    until, most = time.monotonic() + PATIENCE, done
                threading.Event().wait(0.5)
            for run in client.runs(states=OPEN, limit=20):
                why = run_command("why", str(run.number), url=self._service.url).stdout
                self.account.faults.append(f"stuck: run {run.number}: {' '.join(why.split())}")
        for program in (self._service, *self._workers):
            self.account.faults.append(f"{program.process.args} said:\n{program.text[-3000:]}")

    def _look(self) -> None:
        """Compare what was promised with what happened."""
        faults, done = self.account.faults, self.account.done
        lines = [json.loads(line) for line in self._log.read_text().splitlines()]
        lost: set[str] = set()
        with Client(self._service.url, who="chaos") as client:
            for number, started in self._started.items():
                try:
                    run = client.run(number)
                except YarnloomError as error:
                    faults.append(f"lost: run {number}: {error}")
                    continue
                done[f"runs of {started.workflow} {run.state}"] += 1
                if run.state == "done" and run.output != started.output:
                    faults.append(f"wrong: run {number} gave {run.output}")
                mine = _lost_charges(client, run) if started.workflow == "charges" else {}
                lost |= {address for address, began in mine.items() if began}
                # What must not run twice fails where it was lost, or where its process was stopped
                # for longer than it may take, and for no other reason.
                late = (run.data["error"] or {}).get("type") == "TimedOut" and run.state == "failed"
                late = late and started.workflow == "charges"
                if run.state in ("failed", "cancelled") and not mine and not late:
                    faults.append(f"wrong: run {number} is {run.state}: {run.data['error']}")
        self._verify()
        faults += self._overlaps(lines)
        faults += self._repeated(lines, "address", "attempt")
        faults += self._repeated(
            [line for line in lines if "/charges[" in line["address"]], "address"
        )
        faults += self._unbegun(lines, lost)
        faults += self._over_limit()
        done["lines of tasks"] = len(lines)

    def _overlaps(self, lines: list[dict[str, Any]]) -> list[str]:
        """Attempts that must not overlap and left lines at the same time."""
        alive: dict[str, dict[tuple[int, int], list[float]]] = defaultdict(dict)
        for line in lines:
            if line["what"] == "alive":
                alive[line["address"]].setdefault((line["pid"], line["attempt"]), []).append(
                    line["at"]
                )
        found = []
        for address, attempts in alive.items():
            spans = sorted((min(times), max(times)) for times in attempts.values())
            for (_, end), (begin, _) in itertools.pairwise(spans):
                if begin < end:
                    found.append(f"overlap: {address} by {end - begin:.2f} s")
        return found

    def _repeated(self, lines: list[dict[str, Any]], *key: str) -> list[str]:
        """What began twice, by these facts. In a copy that is put back, numbers begin anew."""
        begun: dict[tuple[Any, ...], list[float]] = defaultdict(list)
        for line in lines:
            if line["what"] == "begin":
                begun[tuple(line[name] for name in key)].append(line["at"])
        return [
            f"repeated: {fact} began at {first:.2f} and {second:.2f}"
            for fact, times in begun.items()
            for first, second in itertools.pairwise(sorted(times))
            if not any(first < at + 2 * LEASE and at < second for at in self._put_back_at)
        ]

    def _unbegun(self, lines: list[dict[str, Any]], lost: set[str]) -> list[str]:
        """Steps that must not repeat and count as lost, though their task left no line.

        Between the record that one begins and its first line a kill leaves one of these.
        """
        unbegun = lost - {line["address"] for line in lines if line["what"] == "begin"}
        self.account.done["charges lost"] += len(lost)
        self.account.done["charges lost before their first line"] += len(unbegun)
        return [f"never began: {address}" for address in unbegun] if len(unbegun) > 5 else []

    def _over_limit(self) -> list[str]:
        """Moments at which the records have more in a pool than its limit."""
        path = (self._data / "yarnloom.db").as_uri()
        with contextlib.closing(sqlite3.connect(f"{path}?mode=ro", uri=True)) as records:
            spans = records.execute(
                "SELECT handed_at, ended_at FROM attempts WHERE pool = 'narrow'"
                " AND ended_at > handed_at UNION ALL"
                " SELECT handed_at, ended_at FROM folded WHERE pool = 'narrow'"
            ).fetchall()
        # Ends before begins: a place that is given back may be taken in the same moment.
        events = sorted([(at, 1) for at, _ in spans] + [(at, -1) for _, at in spans])
        open_now = most = 0
        for _, more in events:
            open_now += more
            most = max(most, open_now)
        return [f"over a limit: {most} at once in a pool of {LIMIT}"] if most > LIMIT else []

    def _end(self) -> None:
        for proxy in self._proxies:
            proxy.close()
        for program in (*self._workers, self._service):
            pid = program.process.pid
            for child in children_of(pid):
                send(child, signal.SIGKILL)
            program.kill()


def _lost_charges(client: Client, run: Run) -> dict[str, bool]:
    """Addresses of the run's steps that must not repeat and were lost, with whether they began.

    When a copy of the records was put back, nobody can tell what had begun since it was made.
    """
    answer = client.call(Request("GET", f"/runs/{run.number}/attempts", query={"limit": 2_000}))
    return {
        f"{run.number}/{attempt['address']}": attempt["begun_at"] is not None
        for attempt in answer["attempts"]
        if attempt["outcome"] == "lost" and "charges[" in attempt["address"]
    }
