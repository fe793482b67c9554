"""Why a run of calls did not take place or was cut, as a closed list that probe and server share.

A code decides whether a failed run is evidence of the network: a far end that cannot be reached, falls silent or goes
away is what users would have met; a wrong key or a worker that died says nothing of the way.
"""

from __future__ import annotations

from typing import NamedTuple

UNREACHABLE = "unreachable"
"""No connection to the far end: the line, its port or the far end is down."""
SILENT = "silent"
"""The far end said nothing for longer than is borne, in the middle of calls."""
GONE = "gone"
"""The connection to the far end broke, in the middle of calls."""
NO_MEDIA = "no-media"
"""The far end answered that calls may begin, and no packet of media came through either way."""
REFUSED = "refused"
"""The far end answered and would not: full, another version, or not a far end."""
KEY = "key"
"""The far end did not accept the key."""
OWN = "own"
"""This end's own fault: a measuring process ended, or the probe was stopped or restarted."""
OTHER = "other"

CODES = (UNREACHABLE, SILENT, GONE, NO_MEDIA, REFUSED, KEY, OWN, OTHER)
CUTS = (UNREACHABLE, SILENT, GONE)
"""By which calls under way may be told to have ended."""
OF_THE_NETWORK = (*CUTS, NO_MEDIA)
"""What a user's call would have met as well."""

_TOLD_AS = (
    # Probes of before told a sentence alone; these are the sentences they had.
    ("cannot be reached on TCP", UNREACHABLE),
    ("Nothing answers at", UNREACHABLE),
    ("has said nothing for", SILENT),
    ("went away", GONE),
    ("is not a far end", REFUSED),
    ("refused:", REFUSED),
    ("speaks protocol version", REFUSED),
    ("did not accept the key", KEY),
    ("A measuring", OWN),
    ("The probe was ended", OWN),
    ("The probe fell silent", OWN),
)


class Failure(NamedTuple):
    """How a run ended without its whole result. ``after_s`` is None where no packet was sent."""

    code: str
    reason: str
    server_reachable: bool | None = None
    """Whether the probe could reach its server at that instant; None: not tried."""
    after_s: float | None = None


def code_of(reason: str) -> str:
    """The code of a failure that was told as a sentence alone."""
    return next((code for words, code in _TOLD_AS if words in reason), OTHER)
