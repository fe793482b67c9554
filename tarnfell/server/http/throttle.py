"""How often somebody may be wrong with a password before waiting.

Counted by who asks and for whom, so that nobody can lock another out, and by who asks alone, so that trying many
addresses does not help. The table is bounded: whoever asked longest ago is forgotten first, and filling it takes
more addresses than it holds.
"""

from __future__ import annotations

import threading
import time
from collections import OrderedDict, deque

WINDOW_S = 300.0
MAX_FAILURES = 10
"""Of one peer with one address."""
MAX_FAILURES_OF_PEER = 50
"""Of one peer with any."""
MAX_WATCHED = 10_000

_failures: OrderedDict[tuple[str, str], deque[float]] = OrderedDict()
_lock = threading.Lock()


def is_held(peer: str, address: str) -> bool:
    with _lock:
        return _recent((peer, address.lower())) >= MAX_FAILURES or _recent((peer, "*")) >= MAX_FAILURES_OF_PEER


def note_failure(peer: str, address: str) -> None:
    now = time.monotonic()
    with _lock:
        for key, most in (((peer, address.lower()), MAX_FAILURES), ((peer, "*"), MAX_FAILURES_OF_PEER)):
            _failures.setdefault(key, deque(maxlen=most)).append(now)
            _failures.move_to_end(key)
        while len(_failures) > MAX_WATCHED:
            _failures.popitem(last=False)


def _recent(key: tuple[str, str]) -> int:
    times = _failures.get(key)
    if times is None:
        return 0
    while times and times[0] < time.monotonic() - WINDOW_S:
        times.popleft()
    if not times:
        del _failures[key]
    return len(times)
