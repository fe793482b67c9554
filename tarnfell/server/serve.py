"""Running the server: waitress in front of the application."""

from __future__ import annotations

import logging
import sys
import threading
from importlib import import_module
from pathlib import Path

from waitress.server import create_server

from tarnfell.clerk.loop import keep_turning
from tarnfell.server.app import create_app
from tarnfell.store.calls import MAX_UPLOAD_BYTES

THREADS = 8


def serve_forever(data: Path, host: str, port: int, public_address: str | None = None) -> None:
    """Serve until the process is told to end. Raises OSError when the address cannot be used."""
    logging.basicConfig(level=logging.INFO, format="%(asctime)s %(name)s %(levelname)s %(message)s")
    logging.getLogger("waitress.queue").setLevel(logging.ERROR)
    app = create_app(data, public_address=public_address)
    server = create_server(app, host=host, port=port, threads=THREADS, max_request_body_size=MAX_UPLOAD_BYTES)
    print(
        f"Tarnfell at http://{host}:{port}/ with the data in {data}. Ctrl-C ends it.",
        file=sys.stderr,
        flush=True,
    )
    stop = threading.Event()
    clerk = threading.Thread(target=keep_turning, args=(data, stop), name="clerk", daemon=True)
    clerk.start()
    # Judging needs it, and it takes a second to load: better now than while the first person waits for a call.
    threading.Thread(target=import_module, args=("scipy.signal",), name="warm", daemon=True).start()
    try:
        server.run()
    finally:
        stop.set()
        clerk.join(5)
