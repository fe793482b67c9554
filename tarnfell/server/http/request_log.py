"""One line a request: who, what, how it was answered and how long it took.

Bodies, queries and secrets are never in it. What probes ask every few seconds is told at level debug.
"""

from __future__ import annotations

import logging
import re
import time

from flask import Flask, Response, g, request

from tarnfell.server.http.auth import peer_of

log = logging.getLogger("tarnfell.request")

_SECRET = re.compile(r"(/(?:join|shared|test|welcome|invited|reset)/)[^/]+")
"""The code of a link: who has it enrols a machine, reads a report, tests from a site, or sets somebody's password."""
OFTEN = ("/api/probe/heartbeat", "/progress")


def install(app: Flask) -> None:
    @app.before_request
    def _begin() -> None:
        g.begun_s = time.perf_counter()

    @app.after_request
    def _tell(response: Response) -> Response:
        took_ms = 1000 * (time.perf_counter() - g.begun_s) if "begun_s" in g else 0.0
        often = request.path.endswith(OFTEN) and response.status_code < 400
        log.log(
            logging.DEBUG if often else logging.WARNING if response.status_code >= 500 else logging.INFO,
            "%s %s %s %.0f ms %s",
            # As it was asked, so that nobody can write a line of the log by asking for one.
            request.method,
            _SECRET.sub(r"\1…", ascii(request.path)[1:-1]),
            response.status_code,
            took_ms,
            _who(),
        )
        return response


def _who() -> str:
    if "user" in g:
        return f"user {g.user.id}"
    if "probe" in g:
        return f"probe {g.probe.id}"
    return f"nobody known, {peer_of(request)}"
