"""Running the server: waitress in front of the application, and its helpers beside it, the clerk above all."""

from __future__ import annotations

import logging
import subprocess
import sys
import threading
from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager
from importlib import import_module
from pathlib import Path

from waitress.server import create_server

from tarnfell.server.http.app import create_app
from tarnfell.store.calls import MAX_UPLOAD_BYTES

THREADS = 8
CONNECTIONS = 800
"""Held at once, within the 1024 descriptors a process has by default; one that says nothing costs no thread."""
IDLE_S, CLEAN_UP_S = 60, 10
"""How long a connection may say nothing, and how often that is looked at."""
AGAIN_S, HELD_S = 2.0, 30.0
"""Before a helper that ended is started again; before another try where one of its own has the folder."""
WRONG_USE = 2
"""Status of a helper that may not work here; it has said why."""
ENDS_WITHIN_S = 10.0

log = logging.getLogger(__name__)


Process = AbstractContextManager["subprocess.Popen[bytes]"]
Helper = Callable[[], Process]
"""Starts one."""


def serve_forever(
    data: Path, host: str, port: int, public_address: str | None, helpers: Mapping[str, Helper], socket_port: int | None
) -> None:
    """Serve, as the only server of ``data``, until the process is told to end, with helpers that are started again
    whenever they end. ``socket_port`` is where one of them takes tests over WebSocket; None where none does.

    Raises OSError when the address cannot be used.
    """
    logging.getLogger("waitress.queue").setLevel(logging.ERROR)
    app = create_app(data, public_address=public_address, socket_port=socket_port)
    server = create_server(
        app,
        host=host,
        port=port,
        threads=THREADS,
        max_request_body_size=MAX_UPLOAD_BYTES,
        connection_limit=CONNECTIONS,
        channel_timeout=IDLE_S,
        cleanup_interval=CLEAN_UP_S,
        clear_untrusted_proxy_headers=False,  # what a proxy says counts only where peer_of expects one
        asyncore_use_poll=True,  # select() knows no descriptor beyond 1023
    )
    print(
        f"Tarnfell at http://{host}:{port}/ with the data in {data}. Ctrl-C ends it.",
        file=sys.stderr,
        flush=True,
    )
    stop = threading.Event()
    keepers = [
        threading.Thread(target=_keep, args=(name, start, stop), name=name, daemon=True)
        for name, start in helpers.items()
    ]
    for keeper in keepers:
        keeper.start()
    # What the first verdict would wait for, a third of a second of it.
    threading.Thread(target=import_module, args=("scipy.special",), name="imports", daemon=True).start()
    try:
        server.run()
    finally:
        stop.set()
        for keeper in keepers:
            keeper.join(ENDS_WITHIN_S)


def _keep(name: str, start: Helper, stop: threading.Event) -> None:
    while not stop.is_set():
        status: int | None = None
        try:
            with start() as process:
                while process.poll() is None and not stop.wait(0.2):
                    pass
                if process.poll() is None:
                    process.terminate()
                status = process.returncode
        except OSError as error:  # no memory or process left for it now
            log.error("the %s cannot be started: %s", name, error)
        if status is not None and not stop.is_set():
            log.error("the %s ended with status %s; it is started again", name, status)
        stop.wait(HELD_S if status == WRONG_USE else AGAIN_S)
