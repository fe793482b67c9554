"""Whether a probe can take a job now, by its last contact."""

from __future__ import annotations

from tarnfell.store.db import now_us
from tarnfell.store.probes import Probe

ONLINE_WITHIN_US = 15 * 1_000_000
"""A probe makes contact every four seconds at least; two may be lost on a bad line, and a third be late."""


def is_online(probe: Probe) -> bool:
    return probe.last_contact_us is not None and now_us() - probe.last_contact_us < ONLINE_WITHIN_US
