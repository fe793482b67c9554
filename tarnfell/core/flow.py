"""A flow of packets all alike, of a size and rate of one's own: what was offered, what arrived, second by second."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from tarnfell.core.causes import Direction
from tarnfell.core.rates import ETHERNET_BYTES, IPV4_HEADER_BYTES, PREAMBLE_AND_GAP_BYTES, UDP_HEADER_BYTES
from tarnfell.core.trace import Trace


@dataclass(frozen=True)
class Rate:
    """Of packets of one size, kbit/s."""

    packets_per_s: float
    payload_kbps: float
    """UDP's payload alone."""
    ip_kbps: float
    wire_kbps: float
    """Over Ethernet, with preamble and gap."""


@dataclass(frozen=True)
class FlowFigures:
    """One direction."""

    sent: int
    arrived: int
    loss_pct: float
    offered: Rate
    received: Rate
    overhead_pct: float
    """Of what the wire carries: everything but the payload."""
    sent_per_s: tuple[int, ...]
    """Packets of each whole second, since the first was sent."""
    arrived_per_s: tuple[int, ...]
    """By when they came, since the first did."""
    lost_per_s: tuple[int, ...]
    """By when they were sent."""
    delay_added_p50_ms: float | None
    """Above the least of the flow; None where fewer than two arrived."""
    delay_added_p95_ms: float | None


@dataclass(frozen=True)
class FlowSeen:
    """A whole load. A direction is None where nothing was to be sent in it, or what arrived is not known."""

    up: FlowFigures | None
    down: FlowFigures | None
    cut: str | None
    """Why it was broken off: what arrived is then not known."""
    invalid: tuple[str, ...]
    """What the ends saw of themselves that makes the figures invalid."""
    says: tuple[str, ...]


def seen(ways: Mapping[Direction, FlowFigures | None], cut: str | None, invalid: tuple[str, ...]) -> FlowSeen:
    says = [f"It was broken off, and what arrived is not known. {cut}"] if cut else []
    for way, one in ways.items():
        if one is None:
            continue
        name = {"up": "Upload", "down": "Download"}[way]
        lost = f"{one.loss_pct:.2f} % lost" if one.sent > one.arrived else "none lost"
        rise = "" if one.delay_added_p95_ms is None else (
            f"; 95th percentile of delay {one.delay_added_p95_ms:.1f} ms above the minimum"
        )  # fmt: skip
        says.append(
            f"{name}: {one.received.packets_per_s:.0f} of {one.offered.packets_per_s:.0f} packets a second arrived, "
            f"{lost}{rise}."
        )
    return FlowSeen(ways.get("up"), ways.get("down"), cut, invalid, tuple(says))


def rate_of(packets_per_s: float, udp_bytes: int) -> Rate:
    """``udp_bytes`` are UDP's payload, RTP's header in it."""

    def kbps(overhead: int) -> float:
        return (udp_bytes + overhead) * packets_per_s * 8 / 1000

    ip = UDP_HEADER_BYTES + IPV4_HEADER_BYTES
    return Rate(packets_per_s, kbps(0), kbps(ip), kbps(ip + ETHERNET_BYTES + PREAMBLE_AND_GAP_BYTES))


def flow_of(traces: Sequence[Trace], udp_bytes: int, seconds: float) -> FlowFigures:
    """Of all streams of a direction together, each with both ends' times on its sender's clock."""
    sent = np.sort(np.concatenate([trace.sent_us for trace in traces]))
    came = np.concatenate([trace.recv_us[trace.arrived] for trace in traces])
    gone = np.concatenate([trace.sent_us[~trace.arrived] for trace in traces])
    delays = np.concatenate([trace.delay_us for trace in traces]) / 1000
    rates = [rate_of(count / seconds, udp_bytes) for count in (len(sent), len(came))]
    p50, p95 = (float(q) for q in np.percentile(delays - delays.min(), [50, 95])) if len(delays) > 1 else (None, None)
    return FlowFigures(
        sent=len(sent),
        arrived=len(came),
        loss_pct=100 * (len(sent) - len(came)) / len(sent),
        offered=rates[0],
        received=rates[1],
        overhead_pct=100 * (1 - rates[0].payload_kbps / rates[0].wire_kbps),
        sent_per_s=_per_second(sent, int(sent[0]), seconds),
        arrived_per_s=_per_second(came - (int(came.min()) if len(came) else 0) + int(sent[0]), int(sent[0]), seconds),
        lost_per_s=_per_second(gone, int(sent[0]), seconds),
        delay_added_p50_ms=p50,
        delay_added_p95_ms=p95,
    )


def _per_second(at_us: np.ndarray, first_us: int, seconds: float) -> tuple[int, ...]:
    counts = np.bincount(np.clip((at_us - first_us) // 1_000_000, 0, None), minlength=int(seconds))
    return tuple(counts[: int(seconds)].tolist())
