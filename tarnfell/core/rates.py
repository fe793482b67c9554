"""Wire arithmetic: what a call really takes from a line, and how long a run lasts."""

from __future__ import annotations

from dataclasses import dataclass

from tarnfell.core.codecs import Codec

RTP_HEADER_BYTES = 12  # RFC 3550 §5.1, no CSRC, no extension
UDP_HEADER_BYTES = 8
IPV4_HEADER_BYTES = 20
IPV6_HEADER_BYTES = 40
ETHERNET_BYTES = 18  # addresses, type and frame check sequence
VLAN_TAG_BYTES = 4
PREAMBLE_AND_GAP_BYTES = 20  # 8 preamble and delimiter, 12 gap (IEEE 802.3)
SRTP_TAG_BYTES = 10  # HMAC-SHA1-80 (RFC 3711 §5.2)
PPPOE_BYTES = 8
RTCP_SHARE = 0.05  # RFC 3550 §6.2


@dataclass(frozen=True)
class Link:
    """Overheads of the site's own link, added to every packet."""

    srtp: bool = False
    pppoe: bool = False
    vlan_tags: int = 0
    tunnel_bytes: int = 0


@dataclass(frozen=True)
class CallRate:
    """One direction of one call, in kbit/s, without RTCP."""

    payload_bytes: int
    packets_per_s: float
    ipv4_kbps: float
    ipv6_kbps: float
    ethernet_ipv4_kbps: float
    wire_ipv4_kbps: float
    rtcp_kbps: float
    """RTCP's share of the IPv4 media rate (RFC 3550 §6.2)."""


def call_rate(codec: Codec, ptime_ms: int, link: Link | None = None) -> CallRate:
    """Rates of one call and direction at ``ptime_ms`` over ``link``. Raises CodecError for a bad interval."""
    link = link or Link()
    payload = codec.payload_bytes(ptime_ms)
    per_second = 1000 / ptime_ms
    media = payload + RTP_HEADER_BYTES + UDP_HEADER_BYTES + (SRTP_TAG_BYTES if link.srtp else 0) + link.tunnel_bytes
    ipv4 = media + IPV4_HEADER_BYTES
    frame = ETHERNET_BYTES + VLAN_TAG_BYTES * link.vlan_tags + (PPPOE_BYTES if link.pppoe else 0)

    def kbps(packet_bytes: int) -> float:
        return packet_bytes * 8 * per_second / 1000

    return CallRate(
        payload_bytes=payload,
        packets_per_s=per_second,
        ipv4_kbps=kbps(ipv4),
        ipv6_kbps=kbps(media + IPV6_HEADER_BYTES),
        ethernet_ipv4_kbps=kbps(ipv4 + frame),
        wire_ipv4_kbps=kbps(ipv4 + frame + PREAMBLE_AND_GAP_BYTES),
        rtcp_kbps=kbps(ipv4) * RTCP_SHARE,
    )


@dataclass(frozen=True)
class Plan:
    """A run before it starts: what it costs, how long it takes, what it yields."""

    calls_at_once: int
    calls: int
    run_s: float
    rate: CallRate
    each_way_ipv4_kbps: float
    each_way_wire_kbps: float
    packets: int


MAX_CALLS = 100
MAX_CALL_S = 4 * 3600
GAP_S = 2.0
"""Quiet time between rounds, long enough for every late packet to be counted or given up (core.trace)."""


@dataclass(frozen=True)
class StreamPlan:
    """A run in RTP's own terms: what a probe is told, who knows no codecs."""

    calls: int
    packets: int
    ptime_us: int
    payload_type: int
    clock_hz: int
    payload_bytes: int
    dscp: int


def stream_plan(codec: Codec, ptime_ms: int, calls: int, call_s: float, dscp: int) -> StreamPlan:
    """``calls`` calls of ``call_s`` seconds. Raises CodecError or PlanError."""
    check_load(calls, call_s)
    if not 0 <= dscp <= 63:
        raise PlanError(f"DSCP {dscp} cannot be: choose 0 to 63 (46 is EF).")
    return StreamPlan(
        calls=calls,
        packets=int(call_s * 1000 / ptime_ms),
        ptime_us=ptime_ms * 1000,
        payload_type=codec.payload_type,
        clock_hz=codec.clock_hz,
        payload_bytes=codec.payload_bytes(ptime_ms),
        dscp=dscp,
    )


class PlanError(ValueError):
    """A plan that cannot be run; the text says why and what can."""


def check_load(calls: int, call_s: float, rounds: int = 1) -> None:
    """Turn away a load outside what one probe places. Raises PlanError."""
    if not 1 <= calls <= MAX_CALLS:
        raise PlanError(f"{calls} calls at once cannot be placed: one probe places 1 to {MAX_CALLS}.")
    if not 1 <= call_s <= MAX_CALL_S:
        raise PlanError(f"A call of {call_s:g} s cannot be placed: choose 1 s to {MAX_CALL_S // 3600} hours.")
    if not 1 <= rounds <= 100:
        raise PlanError(f"{rounds} rounds cannot be run: choose 1 to 100.")


def plan_run(codec: Codec, ptime_ms: int, calls: int, call_s: float, rounds: int = 1, link: Link | None = None) -> Plan:
    """Cost and length of holding ``calls`` calls of ``call_s`` seconds for ``rounds`` rounds. Raises PlanError."""
    check_load(calls, call_s, rounds)
    rate = call_rate(codec, ptime_ms, link)
    return Plan(
        calls_at_once=calls,
        calls=calls * rounds,
        run_s=rounds * call_s + (rounds - 1) * GAP_S,
        rate=rate,
        each_way_ipv4_kbps=calls * (rate.ipv4_kbps + rate.rtcp_kbps),
        each_way_wire_kbps=calls * (rate.wire_ipv4_kbps + rate.rtcp_kbps),
        packets=2 * calls * rounds * int(call_s * 1000 / ptime_ms),
    )
