"""Rounds of packets along one flow, and what each hop said of them."""

from __future__ import annotations

import selectors
import socket
import time
from collections.abc import Callable
from dataclasses import dataclass, field

from tarnfell.media import host
from tarnfell.media.tracing.errors import CannotAsk
from tarnfell.media.tracing.flows import Flow, HelperFlow, IcmpFlow, TcpFlow, UdpFlow
from tarnfell.wire.kinds.path import HopFacts, Method, PathFacts

MAX_HOPS = 30
AT_ONCE = 6
"""Hops looked for together; silent ones at the end of the way cost one wait and not thirty."""
SILENT_HOPS = 12
"""After so many in a row that say nothing, the way is taken to end where something was last heard."""

GoOn = Callable[[], bool]
FLOWS: dict[Method, Callable[[str, int, int], Flow]] = {
    "udp": UdpFlow.towards,
    "icmp": IcmpFlow.towards,
    "tcp": TcpFlow.towards,
}


@dataclass
class _Hop:
    """One hop so far; the fields are those of HopFacts."""

    ttl: int
    address: str | None = None
    others: list[str] = field(default_factory=list)
    sent: int = 0
    rtt_ms: list[float] = field(default_factory=list)
    dscp_seen: int | None = None

    def facts(self) -> HopFacts:
        return HopFacts(
            self.ttl, self.address, tuple(self.others), self.sent, tuple(self.rtt_ms), self.dscp_seen
        )  # fmt: skip


def path(
    address: str,
    port: int,
    rounds: int = 5,
    dscp: int = 0,
    wait_s: float = 1.0,
    go_on: GoOn = lambda: True,
    method: Method | None = None,
) -> PathFacts:
    """``port`` is of UDP or TCP, and means nothing to ICMP. Unless a method is asked for it is UDP, which is what media
    takes, and ICMP where this system shows no path of UDP.

    Raises CannotAsk, and OSError where this machine has no way there at all.
    """
    flow = _flow(method, address, port, dscp)
    try:
        return _found(flow, rounds, wait_s, go_on)
    finally:
        flow.close()


def path_of(sock: socket.socket, address: str, port: int, dscp: int, rounds: int, go_on: GoOn) -> PathFacts:
    """Along the flow of a connected UDP socket, whose other end sends back what reaches it. Raises CannotAsk."""
    flow = UdpFlow(sock, address, port, dscp)
    try:
        return _found(flow, rounds, 1.0, go_on)
    finally:
        flow.close()


def _flow(method: Method | None, address: str, port: int, dscp: int) -> Flow:
    if method:
        return _flow_by(method, address, port, dscp)
    try:
        return _flow_by("udp", address, port, dscp)
    except CannotAsk:
        return _flow_by("icmp", address, port, dscp)


def _flow_by(method: Method, address: str, port: int, dscp: int) -> Flow:
    if not host.HERE.windows:
        return FLOWS[method](address, port, dscp)
    if method != "icmp":
        raise CannotAsk(f"Windows shows a program no path by {method.upper()}.")
    return HelperFlow(address, port, dscp)


def _found(flow: Flow, rounds: int, wait_s: float, go_on: GoOn) -> PathFacts:
    tracer = _Tracer(flow)
    length = tracer.find(wait_s, go_on)
    for _ in range(rounds - 1):
        if not go_on():
            break
        tracer.send(range(1, length + 1))
        tracer.listen(wait_s, length)
    return tracer.found(length)


class _Tracer:
    def __init__(self, flow: Flow) -> None:
        self._flow = flow
        self._hops: dict[int, _Hop] = {}
        self._sent_ns: dict[int, int] = {}
        self._end: int | None = None

    def find(self, wait_s: float, go_on: GoOn) -> int:
        """The number of hops to the address, or to the last that says anything."""
        first = 1
        while self._end is None and first <= MAX_HOPS and go_on():
            self.send(range(first, min(first + AT_ONCE, MAX_HOPS + 1)))
            first += AT_ONCE
            self.listen(wait_s, first - 1)
            if first - 1 - self._last_heard() >= SILENT_HOPS:
                break
        return self._end or max(1, self._last_heard())

    def _last_heard(self) -> int:
        return max((ttl for ttl, hop in self._hops.items() if hop.address), default=0)

    def send(self, ttls: range) -> None:
        for ttl in ttls:
            hop = self._hops.setdefault(ttl, _Hop(ttl))
            hop.sent += 1
            for _ in range(2):
                self._sent_ns[ttl] = time.time_ns()
                try:
                    self._flow.send(ttl)
                    break
                except OSError:
                    continue  # what an earlier packet met is told to the next one that is sent

    def listen(self, wait_s: float, length: int) -> None:
        """Until every hop of this round has answered, or ``wait_s`` are over."""
        until = time.monotonic() + wait_s
        with selectors.DefaultSelector() as ready:
            for sock in self._flow.sockets():
                ready.register(sock, selectors.EVENT_READ)
            while any(ttl <= min(length, self._end or length) for ttl in self._sent_ns):
                left = until - time.monotonic()
                if ready.select(max(0.0, left)):  # as of echoes: what came while this process stood still counts
                    self._take()
                if left <= 0:
                    break
        self._sent_ns.clear()

    def _take(self) -> None:
        for heard in self._flow.take():
            hop, sent_ns = self._hops.get(heard.ttl), self._sent_ns.pop(heard.ttl, None)
            if hop is None or sent_ns is None:
                continue
            if hop.address is None:
                hop.address = heard.sender
            elif heard.sender != hop.address and heard.sender not in hop.others:
                hop.others.append(heard.sender)
            hop.rtt_ms.append(max(0, heard.at_ns - sent_ns) / 1e6)
            hop.dscp_seen = heard.dscp if heard.dscp is not None else hop.dscp_seen
            if heard.is_end:
                self._end = min(heard.ttl, self._end or heard.ttl)

    def found(self, length: int) -> PathFacts:
        # Answers that came too late at first make the way look longer than a later round shows it to be.
        length = min(length, self._end or length)
        hops = tuple((self._hops.get(ttl) or _Hop(ttl)).facts() for ttl in range(1, length + 1))
        flow = self._flow
        return PathFacts(
            flow.address, flow.port, flow.dscp, hops, self._end is not None, flow.sees_marking, flow.method
        )  # fmt: skip
