"""A quick look at a name or an address from the command line."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Mapping
from dataclasses import asdict
from typing import Any

from tarnfell.cli.common import DONE, FAILED, print_report
from tarnfell.probe.asking.looking import Look
from tarnfell.wire.kinds.fields import KindError, plain, read
from tarnfell.wire.kinds.look import LONGEST_S, LookArguments, LookResult, LookTarget


def look(options: argparse.Namespace) -> int:
    """Ctrl-C ends it and keeps what was seen."""
    seconds = options.count * options.interval if options.count else LONGEST_S
    target = LookTarget("any", options.host)
    try:
        wanted = LookArguments((target,), seconds, options.interval, options.small, options.large)
        read(LookArguments, plain(wanted), "The look")
    except KindError as error:
        raise ValueError(str(error)) from None
    one = Look(wanted, lambda: True, _shown if sys.stderr.isatty() else lambda _: None)
    one.start()
    try:
        found = one.finish()
    except KeyboardInterrupt:
        one.stop()
        found = one.finish()
    if found.cannot:
        raise ValueError(found.cannot[0])
    print_report(options, {"after_s": found.after_s, "series": [_row(row) for row in found.series]}, _text)
    return DONE if any(row.answered for row in found.series) else FAILED


def _row(row: Any) -> dict[str, object]:
    told = asdict(row)
    del told["role"], told["rtt_us"]
    return told


def _shown(result: LookResult) -> None:
    words = [
        f"{row.packet_bytes} bytes: {row.answered} of {row.sent}, median {row.median_ms or 0:.1f} ms"
        for row in result.series
    ]
    print(f"\r{result.after_s:.0f} s · {' · '.join(words)}   ", end="", file=sys.stderr)


def _text(report: Mapping[str, Any]) -> str:
    lines = []
    for row in report["series"]:
        head = f"{row['packet_bytes']} bytes to {row['address'] or row['host']}"
        if not row["answered"]:
            lines.append(f"{head}: {row['failure'] or 'no answer'}, {row['sent']} sent")
            continue
        lines.append(
            f"{head}: {row['answered']} of {row['sent']} answered, {row['lost']} lost · min {row['min_ms']:.1f}, "
            f"median {row['median_ms']:.1f}, p95 {row['p95_ms']:.1f}, max {row['max_ms']:.1f}, deviation "
            f"{row['deviation_ms']:.1f} ms · {row['reordered']} reordered, {row['duplicates']} duplicated · TTL "
            f"{', '.join(map(str, row['ttls'])) or '–'}"
        )
    return "\n".join(lines)
