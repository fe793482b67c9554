"""The way from a far end towards a browser, looked for beside its calls: what no page in a browser can find out.

Packets of UDP to a port that nobody promised to answer at. The browser's own socket is left alone, and a translator in
front of it lets none of them in: the way then ends there.
"""

from __future__ import annotations

import threading
import time

from tarnfell.media.tracing.errors import CannotAsk
from tarnfell.media.tracing.tracer import path
from tarnfell.wire.kinds.path import PathFacts
from tarnfell.wire.kinds.reach import MOST_WORDS, FarReach

PORT = 33434
"""Where looks for a path begin by custom; hardly anything listens there."""
ROUNDS = 3
LONGEST_S = 15.0
LEFT_S = 3.0
"""Waited for it once the calls are over."""


class WayBack:
    """Begins at once, in a thread of its own."""

    def __init__(self, address: str, port: int) -> None:
        self._address, self._port = address, port
        self._found: PathFacts | None = None
        self._why_not = "It was still being looked for when the calls were over."
        self._stop = False
        self._thread = threading.Thread(target=self._look, daemon=True)
        self._thread.start()

    def _look(self) -> None:
        until = time.monotonic() + LONGEST_S
        try:
            self._found = path(self._address, PORT, ROUNDS, go_on=lambda: not self._stop and time.monotonic() < until)
        except (CannotAsk, OSError) as error:
            self._why_not = f"The far end cannot look for it: {error}"

    def told(self) -> FarReach:
        """After the calls."""
        self._stop = True
        self._thread.join(LEFT_S)
        found = self._found
        return FarReach(self._address, self._port, found, "" if found else self._why_not[:MOST_WORDS])
