"""The real server process under people who hold on to it."""

from __future__ import annotations

import contextlib
import json
import socket
import urllib.request
from pathlib import Path

from tarnfell.server.http.serve import IDLE_S
from tests import rig
from tests.server.conftest import built_house


def test_idle_and_dripping_connections_keep_nobody_out(tmp_path: Path) -> None:
    """Three hundred that say nothing, begin a request and stop, or send its body byte by byte."""
    house, port = built_house(tmp_path), rig.free_port()
    beginnings = (
        b"",
        b"GET /api/health HT",
        b"PUT /api/probe/jobs/1/record HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer "
        + house.secret.encode()
        + b"\r\nContent-Length: 100000\r\n\r\nx",
    )
    with (
        rig.process("-m", "tarnfell.cli", "serve", "--data", str(tmp_path), "--bind", f"127.0.0.1:{port}"),
        contextlib.ExitStack() as held,
    ):
        rig.await_port("127.0.0.1", port, within_s=60)
        for n in range(300):
            sock = held.enter_context(socket.create_connection(("127.0.0.1", port), timeout=rig.HANGS_S))
            sock.sendall(beginnings[n % 3])
        # Before those who say nothing are dropped.
        with urllib.request.urlopen(f"http://127.0.0.1:{port}/api/health", timeout=0.8 * IDLE_S) as answer:
            assert json.load(answer)["version"]
