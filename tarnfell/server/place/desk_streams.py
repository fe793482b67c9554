"""What a page in a browser fills its line with: bytes from the server and bytes to it, of no meaning.

Only while a fill of that browser is under way. No thread waits while a slow line takes its bytes: they are handed whole
to the server underneath, which holds those that come until they are all there as well.
"""

from __future__ import annotations

import io
import os
from functools import cache

from flask import Blueprint, Response, request
from werkzeug.wsgi import wrap_file

from tarnfell.server.access import browser_job
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.place.desk_link import opened
from tarnfell.server.place.models.browsers import StreamTaken
from tarnfell.wire.browser import PIECE_BYTES

blueprint = Blueprint("desk_streams", __name__)

CHUNK = 1 << 16


@endpoint(
    blueprint, "GET", "/api/test/<code>/jobs/<int:job_id>/down", audience="anyone", produces="application/octet-stream"
)
def stream_down(code: str, job_id: int) -> Response:
    """A piece of a stream that fills the line to a browser."""
    _require_filling(code, job_id)
    body = wrap_file(request.environ, io.BytesIO(_noise()))
    response = Response(body, mimetype="application/octet-stream", direct_passthrough=True)
    response.content_length = PIECE_BYTES
    # A proxy in front that collects the piece first would be what is measured.
    response.headers.update({"Cache-Control": "no-store, no-transform", "X-Accel-Buffering": "no"})
    return response


@endpoint(
    blueprint, "PUT", "/api/test/<code>/jobs/<int:job_id>/up", audience="anyone", response=StreamTaken,
    max_body=PIECE_BYTES + 1,  # a body that is just as long as it may be is refused at its end
)  # fmt: skip
def stream_up(code: str, job_id: int) -> StreamTaken:
    """A piece of a stream that fills the line from a browser. It is counted, and kept nowhere."""
    _require_filling(code, job_id)
    return StreamTaken(bytes=sum(map(len, iter(lambda: request.stream.read(CHUNK), b""))))


def _require_filling(code: str, job_id: int) -> None:
    _, probe, _ = opened(code)
    job = browser_job(probe, job_id)
    if job.kind != "fill" or job.state not in ("taken", "running"):
        raise Problem(409, "The line is not being filled.")


@cache
def _noise() -> bytes:
    """Nothing on the way can make it smaller."""
    return os.urandom(PIECE_BYTES)
