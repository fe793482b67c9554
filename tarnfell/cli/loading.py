"""A load of UDP packets of a size and rate of one's own, from the command line."""

from __future__ import annotations

import argparse
from collections.abc import Mapping
from dataclasses import asdict
from typing import Any

from tarnfell.cli.common import DONE, FAILED, host_port, print_report
from tarnfell.core.causes import DIRECTIONS
from tarnfell.media.keys import read_key
from tarnfell.probe.call import place_calls
from tarnfell.probe.works.calls import pack_run
from tarnfell.wire.kinds.fields import KindError, read
from tarnfell.wire.kinds.flow import FlowPlan, FlowResult
from tarnfell.work.ingest.flows import seen_of
from tarnfell.work.placing.flow_plan import streams_of


def load(options: argparse.Namespace) -> int:
    plan = plan_of(options)
    host, port = host_port(options.host)
    result = place_calls(host, port, read_key(options.key_file), streams_of(plan))
    cut = result.cut.reason if result.cut else None
    seen = seen_of(FlowResult(pack_run(result), result.stopped, cut), plan)
    report = {"seconds": plan.seconds, "bytes": plan.packet_bytes, **asdict(seen)}
    print_report(options, {name: value for name, value in report.items() if value is not None}, _text)
    silent = any(one is not None and not one.arrived for one in (seen.up, seen.down))
    return FAILED if cut or silent else DONE


def plan_of(options: argparse.Namespace) -> FlowPlan:
    """Raises ValueError."""
    told = {
        "packet_bytes": options.bytes, "packets_per_s": options.rate, "seconds": options.seconds,
        "dscp": options.dscp, "direction": options.direction,
    }  # fmt: skip
    try:
        return read(FlowPlan, told, "The load")
    except KindError as error:
        raise ValueError(str(error)) from None


def _text(report: Mapping[str, Any]) -> str:
    lines = [f"cut: {report['cut']}"] if "cut" in report else []
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
