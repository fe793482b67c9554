"""A server as probes see it, that answers what it is told to and remembers what it was asked."""

from __future__ import annotations

import json
import threading
from collections.abc import Iterator
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest


@dataclass
class FakeServer:
    address: str = ""
    answers: dict[str, tuple[int, bytes]] = field(default_factory=dict)
    asked: list[tuple[str, str, bytes, str]] = field(default_factory=list)
    """Method, path, body and authorization."""
    offers: list[dict[str, Any]] = field(default_factory=list)
    """Jobs, told once each at the next heartbeat."""
    stop: list[int] = field(default_factory=list)
    watch: dict[str, Any] | None = None

    def paths(self) -> list[str]:
        return [path for _, path, _, _ in self.asked]

    def told(self, path: str) -> list[dict[str, Any]]:
        """Bodies sent to an address, in order."""
        return [json.loads(body) for _, asked, body, _ in self.asked if asked == path]

    def answer(self, path: str) -> tuple[int, bytes]:
        if path in self.answers or path != "/api/probe/heartbeat":
            return self.answers.get(path, (200, b"{}"))
        jobs, self.offers = self.offers, []
        answer = {"jobs": jobs, "stop": self.stop, "watch": self.watch, "again_s": 0.2}
        return 200, json.dumps(answer).encode()


@pytest.fixture
def server() -> Iterator[FakeServer]:
    fake = FakeServer()

    class Handler(BaseHTTPRequestHandler):
        def handle_any(self) -> None:
            body = self.rfile.read(int(self.headers.get("Content-Length", 0)))
            fake.asked.append((self.command, self.path, body, self.headers.get("Authorization", "")))
            code, answer = fake.answer(self.path)
            self.send_response(code)
            self.send_header("Content-Length", str(len(answer)))
            self.end_headers()
            self.wfile.write(answer)

        do_POST = do_PUT = do_HEAD = handle_any

        def log_message(self, *_: Any) -> None:
            pass

    with ThreadingHTTPServer(("127.0.0.1", 0), Handler) as http:
        fake.address = f"http://127.0.0.1:{http.server_port}"
        thread = threading.Thread(target=http.serve_forever, args=(0.05,), daemon=True)
        thread.start()
        yield fake
        http.shutdown()


@pytest.fixture
def state(tmp_path: Path, server: FakeServer) -> Path:
    """The folder of an enrolled probe."""
    folder = tmp_path / "probe"
    (folder / "spool").mkdir(parents=True)
    kept = {"server": server.address, "secret": "s3cret", "name": "probe", "site": "Pier"}
    (folder / "enrolment.json").write_text(json.dumps(kept))
    return folder
