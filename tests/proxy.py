"""A connection to a service that can be cut, and frozen."""

from __future__ import annotations

import contextlib
import socket
import threading
from collections.abc import Iterator

from tests import raw_http


class Proxy:
    """Passes bytes on to a port of this machine, until told otherwise.

    Args:
        port: where to.
    """

    def __init__(self, port: int) -> None:
        self._target = port
        self._server = socket.create_server(("127.0.0.1", 0))
        self._sockets: set[socket.socket] = set()
        self._going = threading.Event()
        self._going.set()
        self._open = True
        self.url = f"http://127.0.0.1:{self._server.getsockname()[1]}"
        threading.Thread(target=self._accept, daemon=True).start()

    def cut(self) -> None:
        """Break every connection, and refuse new ones."""
        self._open = False
        self._break()

    def heal(self) -> None:
        """Take connections again, and pass on what was held back."""
        self._open = True
        self._going.set()

    def freeze(self) -> None:
        """Pass nothing on; connections stay open."""
        self._going.clear()

    def close(self) -> None:
        """End."""
        self._open = False
        self._going.set()
        self._server.close()
        self._break()

    def _break(self) -> None:
        for one in list(self._sockets):
            with contextlib.suppress(OSError):
                one.shutdown(socket.SHUT_RDWR)
            one.close()
        self._sockets.clear()

    def _accept(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                ours, _ = self._server.accept()
                if not self._open:
                    ours.close()
                    continue
                try:
                    theirs = raw_http.connect(self._target)
                except OSError:
                    ours.close()
                    continue
                self._sockets |= {ours, theirs}
                for pair in ((ours, theirs), (theirs, ours)):
                    threading.Thread(target=self._pass_on, args=pair, daemon=True).start()

    def _pass_on(self, source: socket.socket, target: socket.socket) -> None:
        with contextlib.suppress(OSError):
            while data := source.recv(65_536):
                self._going.wait()
                target.sendall(data)
        for one in (source, target):
            with contextlib.suppress(OSError):
                one.shutdown(socket.SHUT_RDWR)
            one.close()
            self._sockets.discard(one)


@contextlib.contextmanager
def proxied(port: int) -> Iterator[Proxy]:
    """A proxy before a port."""
    proxy = Proxy(port)
    try:
        yield proxy
    finally:
        proxy.close()
