"""An event loop whose datagram sockets stand on a far end's own address and media ports.

WebRTC's library takes any free port of every address of the host; a far end has promised a range to firewalls.
"""

from __future__ import annotations

import asyncio
import errno
import ipaddress
from collections.abc import Collection, Sequence
from pathlib import Path
from typing import Any

from tarnfell.farend.offer import Offer

_TABLES = (Path("/proc/net/udp"), Path("/proc/net/udp6"))


class MediaPortsLoop(asyncio.SelectorEventLoop):
    def __init__(self, offer: Offer) -> None:
        super().__init__()
        self._offer = offer
        self.ports: set[int] = set()
        """Of its sockets."""

    async def create_datagram_endpoint(  # type: ignore[override]
        self, protocol_factory: Any, local_addr: Any = None, **how: Any
    ) -> Any:
        """Raises OSError where the address is not the far end's, or none of its ports is free."""
        if local_addr is None or local_addr[1]:
            return await super().create_datagram_endpoint(protocol_factory, local_addr=local_addr, **how)
        if not _answers_at(self._offer, local_addr[0]):
            raise OSError(errno.EADDRNOTAVAIL, "the far end does not answer at this address")
        for port in range(self._offer.first_port, self._offer.last_port + 1):
            try:
                made = await super().create_datagram_endpoint(protocol_factory, local_addr=(local_addr[0], port), **how)
                self.ports.add(port)
                return made
            except OSError as error:
                if error.errno != errno.EADDRINUSE:
                    raise
        raise OSError(errno.EADDRINUSE, "no media port is free")


def _answers_at(offer: Offer, address: str) -> bool:
    bound = ipaddress.ip_address(offer.bound or offer.address)
    if bound.is_unspecified:
        # Who answers at all of ``::`` takes both families, as its control port does.
        return bound.version == 6 or ipaddress.ip_address(address).version == 4
    # A far end at a loopback address is for this machine alone, which browsers do not use for media: any address of
    # the machine then serves.
    return ipaddress.ip_address(offer.address).is_loopback or address == offer.address


def dropped(ports: Collection[int], tables: Sequence[Path] = _TABLES) -> int:
    """Packets that the system dropped because these ports' sockets were not read in time; 0 where it does not tell."""
    total = 0
    for table in tables:
        try:
            rows = table.read_text().splitlines()[1:]
        except OSError:
            continue
        for row in rows:
            columns = row.split()
            if int(columns[1].rpartition(":")[2], 16) in ports:
                total += int(columns[12])
    return total
