"""Requests over a bare connection, so that they may be as wrong as one likes."""

from __future__ import annotations

import contextlib
import socket


def send(host: str, port: int, request: bytes) -> None:
    """Sends bytes and reads until the server closes; a server that refuses or breaks off is no error."""
    with contextlib.suppress(OSError), socket.create_connection((host, port), timeout=5) as connection:
        connection.sendall(request)
        connection.settimeout(5)
        while connection.recv(65_536):
            pass
