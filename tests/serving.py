"""A server of any sort, answering from a thread of its own."""

from __future__ import annotations

import socketserver
from collections.abc import Iterator
from contextlib import contextmanager
from threading import Thread


@contextmanager
def on_loopback(server: socketserver.TCPServer) -> Iterator[str]:
    """The server's address, for as long as it answers."""
    # It looks that often whether it is to end, and whoever ends it waits for that look.
    Thread(target=server.serve_forever, args=(0.01,), daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_address[1]}"
    finally:
        server.shutdown()
        server.server_close()
