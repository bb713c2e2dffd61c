"""A second client that asks for `/health` every 10 ms while the service is attacked.

Beside it a bare server in a process of its own is asked the same, so that what the machine does to
both can be told from what the attack does to the service.
"""

from __future__ import annotations

import contextlib
import http.client
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

from tests import raw_http

PASS = b'{"status":"pass"}'
BARE = """
import http.server
class Handler(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    def do_GET(self):
        body = b'{"status":"pass"}'
        self.send_response(200)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)
    def log_message(self, *_): pass
server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
print(server.server_port, flush=True)
server.serve_forever()
"""


class Watch:
    """The answers' waits, in seconds, less the time in which a processor was waited for.

    Args:
        port: that answers.
        pid: of the process behind it.
    """

    def __init__(self, port: int, pid: int) -> None:
        self.waits: list[float] = []
        self._port = port
        self._pid = pid
        self._end = threading.Event()
        self._thread = threading.Thread(target=self._ask, daemon=True)

    def _ask(self) -> None:
        connection = http.client.HTTPConnection("127.0.0.1", self._port, timeout=120)
        with contextlib.closing(connection):
            while not self._end.wait(0.01):
                begun, waited = time.perf_counter(), self._waited()
                connection.request("GET", "/health")
                assert connection.getresponse().read() == PASS
                more = self._waited() - waited
                self.waits.append(max(time.perf_counter() - begun - more, 0.0))

    def _waited(self) -> float:
        """How long this thread and the main thread of the process have waited for a processor."""
        me = f"/proc/self/task/{threading.get_native_id()}/schedstat"
        files = (Path(me), Path(f"/proc/{self._pid}/schedstat"))
        return sum(int(file.read_text(encoding="ascii").split()[1]) for file in files) / 1e9

    def __enter__(self) -> Watch:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._end.set()
        self._thread.join(130)

    def worst(self) -> float:
        """The longest wait but for one in a hundred."""
        return sorted(self.waits)[-1 - len(self.waits) // 100] if self.waits else 0.0


@contextlib.contextmanager
def bare_server() -> Iterator[tuple[int, int]]:
    """A server that does nothing else than to answer; its port and its process."""
    with subprocess.Popen([sys.executable, "-c", BARE], stdout=subprocess.PIPE) as process:
        assert process.stdout
        try:
            yield int(process.stdout.readline()), process.pid
        finally:
            process.kill()


@contextlib.contextmanager
def raw(port: int, *, tcp: bool = False) -> Iterator[socket.socket]:
    """A plain connection, by the Unix socket where there is one."""
    address = ("127.0.0.1", port)
    with socket.create_connection(address) if tcp else raw_http.connect(port) as sock:
        yield sock


def answer_to(port: int, *pieces: bytes, tcp: bool = False) -> bytes:
    """What comes back for some bytes, until the service closes the connection or has answered."""
    with raw(port, tcp=tcp) as sock:
        with contextlib.suppress(ConnectionError):
            for piece in pieces:
                sock.sendall(piece)
        found = b""
        with contextlib.suppress(ConnectionError):
            while block := sock.recv(65_536):
                found += block
                head, _, body = found.partition(b"\r\n\r\n")
                length = [one for one in head.lower().split(b"\r\n") if b"content-length" in one]
                if length and len(body) >= int(length[0].split(b":")[1]):
                    break
        return found


def status_of(port: int, *pieces: bytes) -> int:
    """The status of an answer; 0 if there was none."""
    found = answer_to(port, *pieces)
    return int(found.split(b" ", 2)[1]) if found.startswith(b"HTTP/") else 0
