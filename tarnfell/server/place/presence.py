"""Who is there: when a probe's contact is written down, and what people look at.

A probe is asked to speak often while somebody looks at its site, and seldom while nobody does, so that a run begins
at once when it is asked for and two hundred idle probes cost next to nothing.
"""

from __future__ import annotations

import threading
import time

from tarnfell.store.db import now_us
from tarnfell.store.probes import Probe

NOTE_EVERY_US = 4 * 1_000_000
"""How often a probe's contact is written down."""
QUICK_S, SLOW_S = 0.5, 4.0
LOOKED_WITHIN_S = 30.0

_looked: dict[int, float] = {}
_lock = threading.Lock()


def needs_note(probe: Probe) -> bool:
    """Whether it is time to write down this probe's contact again."""
    return probe.last_contact_us is None or not 0 <= now_us() - probe.last_contact_us < NOTE_EVERY_US


def look_at(site_id: int) -> None:
    """Somebody has this site on the screen."""
    with _lock:
        _looked[site_id] = time.monotonic()


def again_after_s(site_id: int) -> float:
    """How soon a probe of this site should make contact again."""
    with _lock:
        looked = _looked.get(site_id)
    return QUICK_S if looked is not None and time.monotonic() - looked < LOOKED_WITHIN_S else SLOW_S
