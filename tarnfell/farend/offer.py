"""What a far end offers: its media ports, and a refusal in words where it does not grant something."""

from __future__ import annotations

import socket
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from tarnfell.farend.halves import Halves
from tarnfell.media.channel import Channel
from tarnfell.media.sockets import open_media_socket

MOST_SPREAD = 64


@dataclass(frozen=True)
class Offer:
    """Where a far end takes media."""

    family: int
    address: str
    first_port: int
    last_port: int
    halves: Halves | None = None
    """Where the half of a run that was broken off is kept; None to keep none."""
    certificate: Path | None = None
    """With its key, for SIP over TLS; None where there is none."""
    browsers: Callable[[Channel, Offer, Any], None] | None = None
    """Serves calls with a browser (tarnfell/webrtc); None where this far end was not started for them."""
    bound: str = ""
    """The address it was told to answer at, such as ``::`` for all; empty: ``address`` alone."""


class Refused(Exception):
    """A request this far end does not grant; the text says why."""


def open_sockets(offer: Offer, dscps: list[int]) -> list[socket.socket]:
    """A socket for each, sending with that marking, on free ports of the range."""
    opened: list[socket.socket] = []
    for port in range(offer.first_port, offer.last_port + 1):
        if len(opened) == len(dscps):
            break
        try:
            opened.append(open_media_socket(offer.family, offer.address, port, dscps[len(opened)]))
        except OSError:
            continue  # another session has it
    if len(opened) < len(dscps):
        for sock in opened:
            sock.close()
        raise Refused(
            f"Only {len(opened)} of the far end's media ports {offer.first_port}–{offer.last_port} are free; "
            f"{len(dscps)} are needed. Wait for the other runs to end."
        )
    return opened


def spread(offer: Offer) -> list[socket.socket]:
    """Sockets on ports all over the range, first and last among them: so few that calls still find theirs free."""
    span = offer.last_port - offer.first_port
    many = min(MOST_SPREAD, max(2, (span + 1) // 4))
    opened = []
    for place in range(many):
        try:
            port = offer.first_port + round(span * place / (many - 1))
            opened.append(open_media_socket(offer.family, offer.address, port))
        except OSError:
            continue  # another session has it
    return opened
