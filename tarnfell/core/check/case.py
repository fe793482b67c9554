"""One check while it is judged: what was found out, what of the way was heard of, and what was concluded so far."""

from __future__ import annotations

import ipaddress

from tarnfell.core.causes import CauseKey, LegName, Way
from tarnfell.core.check.values import Finding, Limits, NotFault, RungKey
from tarnfell.wire.kinds.check import CheckResult, EchoFacts, Role
from tarnfell.wire.kinds.path import Method, PathFacts

METHODS: dict[Method, str] = {"udp": "UDP", "icmp": "ICMP", "tcp": "TCP"}
DOWN: tuple[CauseKey, ...] = ("inside-down", "line-down")


class Case:
    def __init__(self, result: CheckResult, limits: Limits) -> None:
        self.result, self.limits = result, limits
        self.causes: list[Finding] = []
        self.not_faults: list[NotFault] = []
        self.heard = [hop.address for hop in (result.path.hops if result.path else ()) if hop.address]

    def cause(
        self,
        key: CauseKey,
        leg: LegName,
        title: str,
        says: str,
        remedy: str,
        who: str,
        *rungs: RungKey,
        way: Way = "both",
    ) -> None:
        """What follows from a way that is down altogether is no cause of its own."""
        if not any(one.key in DOWN for one in self.causes):
            self.causes.append(Finding(key, leg, way, title, says, remedy, who, rungs))

    def no_fault(self, key: CauseKey, says: str) -> None:
        self.not_faults.append(NotFault(key, says))

    def echo_of(self, role: Role) -> EchoFacts | None:
        return next((one for one in self.result.echoes if one.role == role), None)

    @property
    def beyond_gateway(self) -> bool:
        """Something beyond the gateway was heard."""
        return self.beyond_edge or self.answers("edge") or len(set(self.heard) - {self.result.stack.gateway}) > 0

    @property
    def beyond_edge(self) -> bool:
        names = any(n.rcode is not None and not private(n.resolver) for n in self.result.names)
        services = any(s.state in ("open", "refused") for s in self.result.services)
        return names or services or self.answers("outside") or self.far_heard

    @property
    def names_work(self) -> bool:
        """Some name server answers."""
        return any(one.rcode is not None for one in self.result.names)

    @property
    def far_heard(self) -> bool:
        reach = self.result.reach
        refused = reach is not None and reach.failure is not None and "refused" in reach.failure.lower()
        return (
            self.answers("far-end")
            or refused
            or (reach is not None and reach.took_ms is not None)
            or bool(self.result.path and self.result.path.reached)
        )

    def udp_ends(self) -> tuple[LegName, str]:
        """Where packets of UDP were last heard of, if those of another sort get farther; the leg and a sentence."""
        path = self.result.path
        if path is None or path.reached or path.method != "udp":
            return "unknown", ""
        last = _last_heard(path)
        farther = [one for one in self.result.other_paths if one.reached or _last_heard(one) > last]
        if not farther:
            return "unknown", ""
        name = METHODS[farther[0].method]
        # A leg is named only where the router that should have heard them next does tell of other packets.
        next_tells = any(len(one.hops) > last and one.hops[last].address not in (None, path.address) for one in farther)
        if not last:
            leg: LegName = "inside" if next_tells else "unknown"
            return leg, f" No router tells of its packets of UDP, while {name} goes on."
        hop = path.hops[last - 1]
        where = f" Packets of UDP were last heard of at {hop.address}, hop {last}; {name} gets farther."
        if hop.address == self.result.edge or last > 1:
            return "beyond", where
        return ("inside or line" if next_tells else "unknown"), where

    def answers(self, role: str) -> bool:
        return any(one.answered for one in self.result.echoes if one.role == role)

    def why_not(self, otherwise: str) -> str:
        """With what this system did not let the probe ask."""
        return f"{otherwise} {' '.join(self.result.cannot)}".strip()


def _last_heard(path: PathFacts) -> int:
    return max((hop.ttl for hop in path.hops if hop.address), default=0)


_PRIVATE = [
    ipaddress.ip_network(one)
    for one in (
        "10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "169.254.0.0/16", "127.0.0.0/8", "fc00::/7", "fe80::/10", "::1"
    )
]  # fmt: skip
"""RFC 1918, RFC 4193, and addresses of one link or machine. Those of carrier-grade translation lie beyond the line."""


def private(address: str) -> bool:
    """Within the site, so that an answer says nothing of the line."""
    try:
        one = ipaddress.ip_address(address.partition("%")[0])
    except ValueError:
        return False
    return any(one in network for network in _PRIVATE)
