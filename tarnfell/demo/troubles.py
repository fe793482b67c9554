"""What may be wrong with the live bench's path: a visitor chooses one, and checks, calls and line fills find it."""

from __future__ import annotations

from dataclasses import dataclass

from tarnfell.demo.scenario import BENCH_PATH
from tarnfell.wire import Unchecked

_LINE: Unchecked = {
    "seed": 20417,
    "up": {"delay_ms": 14, "spread_ms": 0.6, "rate_kbps": 2000, "queue_ms": 260},
    "down": {"delay_ms": 15, "spread_ms": 0.8, "rate_kbps": 4000, "queue_ms": 120},
}


@dataclass(frozen=True)
class Trouble:
    key: str
    title: str
    says: str
    """Where it shows."""
    path: Unchecked
    """As the stand-in path reads it."""


def _with(up: Unchecked | None = None, down: Unchecked | None = None) -> Unchecked:
    return {**_LINE, "up": {**_LINE["up"], **(up or {})}, "down": {**_LINE["down"], **(down or {})}}


TROUBLES = (
    Trouble(
        "changing", "Changing by the minute", "Twelve busy seconds up and ten lossy ones down in each minute.",
        dict(BENCH_PATH),
    ),
    Trouble("none", "None", "A line of 2 Mbit/s up and 4 Mbit/s down, with nothing else on it.", _LINE),
    Trouble(
        "uplink-queue", "Upload busy", "Other people’s uploads fill the line: place calls, or fill the line.",
        _with(up={"cross_kbps": 1950}),
    ),
    Trouble(
        "downlink-queue", "Download busy", "Other people’s downloads fill the line: place calls, or fill the line.",
        _with(down={"cross_kbps": 3900, "queue_ms": 260}),
    ),
    Trouble(
        "fair-queue", "Busy, but fair", "As busy, but the router lets flows take turns: calls stay as they are.",
        _with(up={"cross_kbps": 1950, "discipline": "fair"}),
    ),
    Trouble(
        "small", "Line too small", "256 kbit/s up: two calls fit, four do not. Place calls step by step.",
        _with(up={"rate_kbps": 256}),
    ),
    Trouble("loss", "Scattered loss", "Two packets of a hundred are lost on the way up.", _with(up={"loss_pct": 2})),
    Trouble(
        "bursts", "Loss in bursts", "Several packets in a row are lost on the way down, as over a weak radio link.",
        _with(down={"burst_enter_pct": 1.2, "burst_leave_pct": 30}),
    ),
    Trouble(
        "swings", "Delay that swings", "Packets down arrive up to 100 ms apart from their time: place calls.",
        _with(down={"spread_ms": 30}),
    ),
    Trouble(
        "marking-up", "Marking removed, upload", "Check: packets marked EF arrive without their marking.",
        _with(up={"dscp": 0}),
    ),
    Trouble(
        "marking-down", "Marking removed, download", "Check: the same the other way.", _with(down={"dscp": 0})
    ),
    Trouble(
        "ports", "Part of the media ports closed", "Check: ports from 21064 on answer nothing.",
        _with(up={"blocked_ports": [[21064, 21127]]}),
    ),
    Trouble(
        "media", "All media ports closed", "Check: the control port answers, media does not.",
        _with(up={"blocked_ports": [[21000, 21127]]}),
    ),
    Trouble(
        "signalling", "Signalling closed", "Check: SIP over UDP does not pass.",
        _with(up={"blocked_ports": [[5060, 5060]]}),
    ),
)  # fmt: skip
"""What a path that only relays cannot show (a dead name server, a hole for large packets) is in the lab's tests."""
