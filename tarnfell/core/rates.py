"""Wire arithmetic: what a call really takes from a line, and how long a run lasts."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Literal

from tarnfell.core.codecs import Codec
from tarnfell.core.stats import MOMENT_S, shown_by
from tarnfell.core.video import DEFAULT_DSCP, VideoProfile, find_profile

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
    ipv6: bool = False
    """Whether calls travel over IPv6; decides ``line_kbps`` and nothing else."""


@dataclass(frozen=True)
class CallRate:
    """One direction of one stream, in kbit/s, without RTCP unless said."""

    payload_bytes: int
    """Of one packet; the mean where packets differ."""
    packets_per_s: float
    ipv4_kbps: float
    ipv6_kbps: float
    ethernet_ipv4_kbps: float
    wire_ipv4_kbps: float
    rtcp_kbps: float
    """RTCP's share of the IPv4 media rate (RFC 3550 §6.2)."""
    line_kbps: float
    """What a line sold by its IP rate must carry: IP, SRTP, tunnel and PPPoE, with RTCP."""


def call_rate(codec: Codec, ptime_ms: int, link: Link | None = None) -> CallRate:
    """Rates of one call and direction at ``ptime_ms`` over ``link``. Raises CodecError for a bad interval."""
    payload, per_second = codec.payload_bytes(ptime_ms), 1000 / ptime_ms
    return _rate(payload * per_second, per_second, link or Link())


def video_rate(profile: VideoProfile, link: Link | None = None) -> CallRate:
    """Rates of one video stream and direction over ``link``, in the mean over a refresh interval."""
    return _rate(profile.kbps * 125, profile.packets_per_s(), link or Link())


def _rate(payload_bytes_per_s: float, packets_per_s: float, link: Link) -> CallRate:
    srtp = SRTP_TAG_BYTES if link.srtp else 0
    media = RTP_HEADER_BYTES + UDP_HEADER_BYTES + srtp + link.tunnel_bytes
    pppoe = PPPOE_BYTES if link.pppoe else 0
    frame = ETHERNET_BYTES + VLAN_TAG_BYTES * link.vlan_tags + pppoe

    def kbps(overhead_bytes: int) -> float:
        return (payload_bytes_per_s + overhead_bytes * packets_per_s) * 8 / 1000

    ip = IPV6_HEADER_BYTES if link.ipv6 else IPV4_HEADER_BYTES
    return CallRate(
        payload_bytes=round(payload_bytes_per_s / packets_per_s),
        packets_per_s=packets_per_s,
        ipv4_kbps=kbps(media + IPV4_HEADER_BYTES),
        ipv6_kbps=kbps(media + IPV6_HEADER_BYTES),
        ethernet_ipv4_kbps=kbps(media + IPV4_HEADER_BYTES + frame),
        wire_ipv4_kbps=kbps(media + IPV4_HEADER_BYTES + frame + PREAMBLE_AND_GAP_BYTES),
        rtcp_kbps=kbps(media + IPV4_HEADER_BYTES) * RTCP_SHARE,
        line_kbps=kbps(media + ip + pppoe) * (1 + RTCP_SHARE),
    )


Flow = Literal["both", "up", "down"]
"""Which ways media flows."""

MAX_CALLS = 100
"""Calls and video streams together, from one probe."""
MAX_MBPS = 100
"""Each way, from one probe; a far end sends no more."""
MAX_CALL_S = 4 * 3600
MAX_RUN_PACKETS = 30_000_000
"""Of one run, both ways: at up to eight bytes a packet its record still fits what is uploaded in one piece."""
MAX_ROUNDS = 1000
MAX_STEPS = 100
GAP_S = 5.0
"""Between two steps: late packets are awaited, the record is handed over, the next calls are opened."""


class PlanError(ValueError):
    """A plan that cannot be run; the text says why and what can."""


@dataclass(frozen=True)
class VideoLoad:
    """Some video streams alike, held beside the calls."""

    profile: str
    streams: int
    dscp: int = DEFAULT_DSCP


@dataclass(frozen=True)
class Shape:
    """A load over time: so many calls at once, step after step, the whole repeated."""

    steps: tuple[int, ...]
    call_s: float
    rounds: int = 1

    @property
    def most(self) -> int:
        return max(self.steps)

    @property
    def calls(self) -> int:
        """In all."""
        return sum(self.steps) * self.rounds

    @property
    def length_s(self) -> float:
        parts = len(self.steps) * self.rounds
        return parts * self.call_s + (parts - 1) * GAP_S


def hold(calls: int, call_s: float, rounds: int = 1) -> Shape:
    """The same number of calls in every round."""
    return Shape((calls,), call_s, rounds)


def ramp(first: int, last: int, by: int, call_s: float, rounds: int = 1) -> Shape:
    """From ``first`` calls to ``last``, ``by`` more a step; the last step is always ``last``. Raises PlanError."""
    if by < 1 or first > last:
        raise PlanError(f"A ramp from {first} to {last} calls by {by} never goes up.")
    return Shape((*range(first, last, by), last), call_s, rounds)


def check_shape(shape: Shape) -> None:
    """Turn away a load outside what one probe places. Raises PlanError."""
    for calls in shape.steps:
        if not 1 <= calls <= MAX_CALLS:
            raise PlanError(f"{calls} concurrent calls cannot be placed: one probe places 1 to {MAX_CALLS}.")
    if not 1 <= len(shape.steps) <= MAX_STEPS:
        raise PlanError(f"{len(shape.steps)} steps cannot be run: choose 1 to {MAX_STEPS}.")
    if not 1 <= shape.call_s <= MAX_CALL_S:
        raise PlanError(f"A call of {shape.call_s:g} s cannot be placed: choose 1 s to {MAX_CALL_S // 3600} hours.")
    if not 1 <= shape.rounds <= MAX_ROUNDS:
        raise PlanError(f"{shape.rounds} rounds cannot be run: choose 1 to {MAX_ROUNDS}.")


@dataclass(frozen=True)
class Plan:
    """A load before it starts: what it costs, how long it takes, what it yields. Rates are of its highest step.

    Each way means each way in which media flows.
    """

    calls_at_once: int
    calls: int
    run_s: float
    rate: CallRate
    """Of one call."""
    each_way_ipv4_kbps: float
    each_way_wire_kbps: float
    each_way_line_kbps: float
    video_line_kbps: float
    """Video's part of ``each_way_line_kbps``."""
    packets: int
    moments: int
    """Ten-minute moments it covers when placed once, from the start of one on."""
    shows_pct: float
    """The share of acceptable calls that so many moments show at 95 % confidence if no call is bad."""


def check_video(video: Iterable[VideoLoad]) -> None:
    """Raises VideoError or PlanError."""
    for load in video:
        profile = find_profile(load.profile)
        if load.streams < 1:
            raise PlanError(f"{load.streams} streams of {profile.title} cannot be placed: at least one.")
        if not 0 <= load.dscp <= 63:
            raise PlanError(f"DSCP {load.dscp} is not valid: choose 0 to 63 (34 is AF41).")


def _check_record(packets_per_s: float, shape: Shape) -> None:
    """Each step of each round is a run with a record of its own."""
    packets = packets_per_s * shape.call_s
    if packets > MAX_RUN_PACKETS:
        raise PlanError(
            f"{shape.most} concurrent calls of {shape.call_s:g} s make {packets / 1e6:.0f} million packets; one run "
            f"keeps up to {MAX_RUN_PACKETS // 1_000_000} million. Let a call last at most "
            f"{int(MAX_RUN_PACKETS / packets_per_s) // 60} minutes, and place it in several rounds."
        )


def plan_run(
    codec: Codec,
    ptime_ms: int,
    shape: Shape,
    link: Link | None = None,
    direction: Flow = "both",
    video: Sequence[VideoLoad] = (),
) -> Plan:
    """Cost and length of placing ``shape`` with ``video`` beside it. Raises CodecError, VideoError or PlanError."""
    check_shape(shape)
    check_video(video)
    rate = call_rate(codec, ptime_ms, link)
    rates = [(shape.most, rate), *((v.streams, video_rate(find_profile(v.profile), link)) for v in video)]
    streams = sum(count for count, _ in rates)
    if streams > MAX_CALLS:
        raise PlanError(f"{streams} calls and video streams together: one probe places up to {MAX_CALLS}.")
    ipv4 = sum(count * (one.ipv4_kbps + one.rtcp_kbps) for count, one in rates)
    if ipv4 > MAX_MBPS * 1000:
        raise PlanError(f"{ipv4 / 1000:.0f} Mbit/s each way cannot be placed: one probe sends up to {MAX_MBPS}.")
    per_s = shape.most * 1000 / ptime_ms + sum(v.streams * find_profile(v.profile).packets_per_s() for v in video)
    _check_record(per_s * (2 if direction == "both" else 1), shape)
    parts = len(shape.steps) * shape.rounds
    pictures = sum(v.streams * find_profile(v.profile).packets_per_s() for v in video) * shape.call_s * parts
    packets = shape.calls * int(shape.call_s * 1000 / ptime_ms) + round(pictures)
    return Plan(
        calls_at_once=shape.most,
        calls=shape.calls,
        run_s=shape.length_s,
        rate=rate,
        each_way_ipv4_kbps=ipv4,
        each_way_wire_kbps=sum(count * (one.wire_ipv4_kbps + one.rtcp_kbps) for count, one in rates),
        each_way_line_kbps=sum(count * one.line_kbps for count, one in rates),
        video_line_kbps=sum(count * one.line_kbps for count, one in rates[1:]),
        packets=packets * (2 if direction == "both" else 1),
        moments=(moments := math.ceil(shape.length_s / MOMENT_S)),
        shows_pct=shown_by(moments),
    )
