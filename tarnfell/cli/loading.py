"""A load of UDP packets of a size and rate of one's own, from the command line."""

from __future__ import annotations

import argparse
import math
from collections.abc import Mapping
from dataclasses import asdict
from typing import Any

from tarnfell.cli.common import DONE, FAILED, host_port, print_report
from tarnfell.core.causes import DIRECTIONS
from tarnfell.core.flow import flow_of
from tarnfell.core.rates import RTP_HEADER_BYTES
from tarnfell.media.keys import read_key
from tarnfell.probe.call import RunResult, place_calls
from tarnfell.wire.kinds.calls import CallPlan
from tarnfell.work.ingest.packets import clock_relation, trace_of

MOST_PER_S, LEAST_PER_S = 5000, 20
MOST_A_STREAM = 100
LEAST_BYTES, MOST_BYTES = RTP_HEADER_BYTES + 8, 1400
MOST_S = 600.0
_PAYLOAD_TYPE, _CLOCK_HZ = 97, 8000


def load(options: argparse.Namespace) -> int:
    plan = plan_of(options.bytes, options.rate, options.seconds, options.dscp, options.direction)
    host, port = host_port(options.host)
    result = place_calls(host, port, read_key(options.key_file), plan)
    report = report_of(result, options.bytes, options.seconds)
    print_report(options, report, _text)
    lost = any(not report[way]["arrived"] for way in DIRECTIONS if way in report)
    return FAILED if result.cut or lost else DONE


def plan_of(udp_bytes: int, rate: float, seconds: float, dscp: int, direction: Any) -> CallPlan:
    """As many streams as it takes, since one sends at most MOST_A_STREAM packets a second. Raises ValueError."""
    if not LEAST_BYTES <= udp_bytes <= MOST_BYTES:
        raise ValueError(f"Choose {LEAST_BYTES} to {MOST_BYTES} bytes in a packet, RTP's header in them.")
    if not LEAST_PER_S <= rate <= MOST_PER_S:
        raise ValueError(f"Choose {LEAST_PER_S} to {MOST_PER_S} packets a second.")
    if not 1 <= seconds <= MOST_S:
        raise ValueError(f"Choose 1 to {MOST_S:.0f} seconds.")
    if not 0 <= dscp <= 63:
        raise ValueError(f"DSCP {dscp} does not exist: choose 0 to 63.")
    streams = math.ceil(rate / MOST_A_STREAM)
    ptime_us = round(streams * 1e6 / rate)
    return CallPlan(
        streams, max(1, round(seconds * 1e6 / ptime_us)), ptime_us, _PAYLOAD_TYPE, _CLOCK_HZ,
        udp_bytes - RTP_HEADER_BYTES, dscp, direction,
    )  # fmt: skip


def report_of(result: RunResult, udp_bytes: int, seconds: float) -> dict[str, Any]:
    relation = clock_relation(result.clock, result.calls)
    report: dict[str, Any] = {"seconds": seconds, "bytes": udp_bytes, "cut": result.cut.reason if result.cut else None}
    for way in DIRECTIONS:
        traces = [trace for record in result.calls if (trace := trace_of(record, way, relation)) is not None]
        if traces:
            report[way] = asdict(flow_of(traces, udp_bytes, seconds))
    report["invalid"] = list(result.self_check.reasons)
    return report


def _text(report: Mapping[str, Any]) -> str:
    lines = [f"cut: {report['cut']}"] if report["cut"] else []
    for way in DIRECTIONS:
        if way not in report:
            continue
        one = report[way]
        lines.append(
            f"{way}: offered {one['offered']['packets_per_s']:.0f} packets/s of {report['bytes']} bytes "
            f"({one['offered']['payload_kbps']:.0f} kbit/s, {one['offered']['ip_kbps']:.0f} at IP, "
            f"{one['offered']['wire_kbps']:.0f} on Ethernet: {one['overhead_pct']:.0f} % overhead) · arrived "
            f"{one['received']['packets_per_s']:.0f} packets/s, {one['loss_pct']:.2f} % lost"
        )
        if one["arrived_per_s"]:
            each = sorted(one["arrived_per_s"])
            lines.append(f"    a second: {each[0]} to {each[-1]} packets, median {each[len(each) // 2]}")
        if one["delay_added_p95_ms"] is not None:
            lines.append(
                f"    delay above the least: median {one['delay_added_p50_ms']:.1f} ms, 95th percentile "
                f"{one['delay_added_p95_ms']:.1f} ms"
            )
    lines += [f"invalid: {reason}" for reason in report["invalid"]]
    return "\n".join(lines)
