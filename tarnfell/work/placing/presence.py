"""Whether a probe can take a job now, by its last contact."""

from __future__ import annotations

from tarnfell.store.db import now_us
from tarnfell.store.probes import Probe

ONLINE_WITHIN_US = 15 * 1_000_000
"""A probe makes contact every four seconds at least; two may be lost on a bad line, and a third be late."""


CLOCK_OFF_US = 10 * 1_000_000
"""From so far on a clock is told as wrong. A heartbeat takes seconds on a line that is full."""


def clock_words(probe: Probe) -> str:
    """By how much a probe's clock is off; empty where it is right, or not known."""
    off_us = probe.clock_off_us
    if off_us is None or abs(off_us) < CLOCK_OFF_US:
        return ""
    minutes = abs(off_us) // 60_000_000
    days, hours = minutes // 1440, minutes % 1440 // 60
    parts = [
        f"{days} d" if days else "",
        f"{hours} h" if hours else "",
        f"{minutes % 60} min" if minutes < 1440 else "",
    ]
    told = " ".join(part for part in parts if part) if minutes else f"{abs(off_us) / 1e6:.0f} s"
    way = "ahead of" if off_us > 0 else "behind"
    return (
        f"The clock of {probe.name} is {told} {way} this server’s, and so are the times of all it measures. Let its "
        "machine keep its clock by NTP."
    )


def is_online(probe: Probe) -> bool:
    return probe.last_contact_us is not None and now_us() - probe.last_contact_us < ONLINE_WITHIN_US
