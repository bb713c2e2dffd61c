"""What many tests need: waiting for a condition, and programs as processes."""

from __future__ import annotations

import contextlib
import os
import re
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any, TypeVar

from tests.warm_programs import WarmProgram, fits
from yarnloom import Client

T = TypeVar("T")

ROOT = Path(__file__).parent.parent
LOOM = "tests.looms:loom"
PATIENCE = 60.0
THOROUGH = bool(os.environ.get("YARNLOOM_THOROUGH"))


def much(few: int, many: int) -> int:
    """How often something random is tried: often in `make thorough`, else as time allows."""
    return many if THOROUGH else few


def eventually(
    ask: Callable[[], T | None], what: str | Callable[[], str] = "", patience: float = PATIENCE
) -> T:
    """The first true answer; fails when there is none for a long time."""
    begun = time.monotonic()
    pause = threading.Event()
    while True:
        answer = ask()
        if answer:
            return answer
        waited = time.monotonic() - begun
        if waited > patience:
            raise AssertionError(f"never came true: {what() if callable(what) else what or ask}")
        # Asking without a pause would take the processor from the program under test.
        pause.wait(min(0.1, max(0.01, waited / 20)))


class Program:
    """A `yarnloom` process whose lines are kept."""

    def __init__(
        self,
        *arguments: str,
        env: dict[str, str] | None = None,
        cwd: Path = ROOT,
        limit: int | None = None,
    ) -> None:
        self.lines: list[str] = []
        whole = {**os.environ, "YARNLOOM_URL": "", "PYTHONUNBUFFERED": "1", **(env or {})}
        reading, writing = os.pipe()
        self.process: subprocess.Popen[bytes] | WarmProgram
        if limit is None and fits(env or {}):
            with open(os.devnull, "rb") as nothing:
                ends = (nothing.fileno(), writing, writing)
                self.process = WarmProgram(arguments, whole, str(cwd), ends, unbuffered=True)
        else:
            command = [sys.executable, "-m", "yarnloom", *arguments]
            if limit is not None:  # bytes of address space
                command = ["sh", "-c", f'ulimit -v {limit // 1024}; exec "$@"', "sh", *command]
            self.process = subprocess.Popen(
                command, stdout=writing, stderr=writing, cwd=cwd, env=whole, start_new_session=True
            )
        os.close(writing)
        self._reader = threading.Thread(target=self._read, args=(reading,), daemon=True)
        self._reader.start()

    def _read(self, end: int) -> None:
        with open(end, encoding="utf-8", errors="replace") as lines:
            for line in lines:
                self.lines.append(line.rstrip("\n"))

    @property
    def text(self) -> str:
        """Everything that it printed."""
        return "\n".join(self.lines)

    def wait_for(self, pattern: str, patience: float = PATIENCE) -> re.Match[str]:
        """The first match of a pattern in what it prints."""

        def look() -> re.Match[str] | None:
            found = re.search(pattern, self.text)
            assert found or self.process.poll() is None, f"it ended:\n{self.text}"
            return found

        return eventually(look, lambda: f"{pattern} in:\n{self.text}", patience)

    def kill(self) -> None:
        """As `kill -9` does."""
        self.process.kill()
        self.process.wait()

    def end(self, number: int = signal.SIGTERM) -> int:
        """Tell it to end; its exit code."""
        if self.process.poll() is None:
            self.process.send_signal(number)
        try:
            code = self.process.wait(PATIENCE)
        finally:
            self.process.kill()
        self._reader.join(5)
        return code


class ServiceProgram(Program):
    """`yarnloom serve` as a process."""

    def __init__(self, data: Path, *arguments: str, port: int = 0, **more: Any) -> None:
        self.data = data
        self.clients: list[Client] = []
        super().__init__("serve", "--data", str(data), "--port", str(port), *arguments, **more)
        self.url = self.wait_for(r"serves at (http://[^,]+),")[1]
        if "--load" in arguments:
            self.wait_for(r"(published|unchanged) \S+ at version")
        self.port = int(self.url.rsplit(":", 1)[1])

    def client(self, token: str = "") -> Client:
        """A client of this service, closed with it at the latest."""
        found = Client(self.url, who="test", token=token)
        self.clients.append(found)
        return found

    def end(self, number: int = signal.SIGTERM) -> int:
        """Tell it to end; its exit code."""
        for client in self.clients:
            client.close()
        return super().end(number)


@contextlib.contextmanager
def service(data: Path, *arguments: str, **more: Any) -> Iterator[ServiceProgram]:
    """A service that is ended afterwards, with its workers."""
    program = ServiceProgram(data, *arguments, **more)
    try:
        yield program
    finally:
        program.end()


def run_command(*arguments: str, url: str = "", **more: Any) -> subprocess.CompletedProcess[str]:
    """Run a command to its end."""
    env = {**os.environ, "COLUMNS": "120", "YARNLOOM_URL": url, **more.pop("env", {})}
    if fits(env) and more.keys() <= {"cwd"}:
        return _run_warm(arguments, env, str(more.get("cwd", ROOT)))
    return subprocess.run(
        [sys.executable, "-m", "yarnloom", *arguments],
        capture_output=True,
        text=True,
        timeout=PATIENCE,
        cwd=more.pop("cwd", ROOT),
        env=env,
        check=False,
        **more,
    )


def _run_warm(
    arguments: Sequence[str], env: dict[str, str], cwd: str
) -> subprocess.CompletedProcess[str]:
    with (
        open(os.devnull, "rb") as nothing,
        tempfile.TemporaryFile("w+b") as output,
        tempfile.TemporaryFile("w+b") as errors,
    ):
        ends = (nothing.fileno(), output.fileno(), errors.fileno())
        program = WarmProgram(arguments, env, cwd, ends)
        try:
            code = program.wait(PATIENCE)
        finally:
            program.kill()
        texts = []
        for file in (output, errors):
            file.seek(0)
            texts.append(file.read().decode())
        return subprocess.CompletedProcess(program.args, code, *texts)


def processes_with(mark: str) -> list[int]:
    """Processes in whose environment a text stands, zombies left out."""
    found = []
    for folder in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError):
            state = (folder / "stat").read_text().rpartition(")")[2].split()[0]
            if state != "Z" and mark.encode() in (folder / "environ").read_bytes():
                found.append(int(folder.name))
    return found
