"""The other ends of wires: a socket, a serial line."""

from __future__ import annotations

import os
import socket
import tty

import pytest


@pytest.fixture
def peer():
    """An instrument's end of a socket, and the address of it."""
    with socket.create_server(("127.0.0.1", 0)) as server:
        yield server, f"tcp://127.0.0.1:{server.getsockname()[1]}"


@pytest.fixture
def line():
    """The instrument's end of a serial line, and the name of ours."""
    ours, other = os.openpty()
    tty.setraw(ours)
    yield ours, os.ttyname(other)
    os.close(ours)
    os.close(other)
