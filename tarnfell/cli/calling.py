"""Placing calls from the command line."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable, Mapping
from dataclasses import asdict
from pathlib import Path
from typing import Any

from tarnfell.cli.common import DONE, FAILED, host_port, print_report, stream_text
from tarnfell.core.clock import ClockRelation
from tarnfell.core.codecs import find_codec
from tarnfell.core.picture import SCORE_NAME
from tarnfell.core.quality import Criterion, criterion_for
from tarnfell.core.rates import VideoLoad
from tarnfell.core.tracefile import format_csv
from tarnfell.media.keys import read_key
from tarnfell.probe.call import RunResult, place_calls
from tarnfell.wire.kinds.calls import LiveSecond
from tarnfell.wire.record import Record
from tarnfell.work.ingest.packets import (
    clock_relation,
    flowing,
    half_of,
    judge_record,
    picture_criterion,
    stamp_exchanges,
    trace_of,
)
from tarnfell.work.ingest.pictures import picture_figures
from tarnfell.work.ingest.uploads import figures_of
from tarnfell.work.placing.call_plan import call_plan


def call(options: argparse.Namespace) -> int:
    codec = find_codec(options.codec)
    video = tuple(_video(words, options.video_dscp) for words in options.video or ())
    plan = call_plan(codec, options.ptime, options.calls, options.seconds, options.dscp, options.direction, video)
    host, port = host_port(options.host)
    key = read_key(options.key_file)
    trace_dir = Path(options.trace_dir) if options.trace_dir else None
    if trace_dir:
        trace_dir.mkdir(parents=True, exist_ok=True)
    result = place_calls(host, port, key, plan, _progress(options.seconds) if sys.stderr.isatty() else lambda _: True)
    report, failed = _call_report(result, criterion_for(codec, options.ptime, options.buffer), trace_dir)
    print_report(options, report, _call_text)
    return FAILED if failed else DONE


def _video(words: str, dscp: int) -> VideoLoad:
    """“720p30” or “720p30:3”. Raises ValueError."""
    profile, _, streams = words.partition(":")
    if streams and not streams.isdigit():
        raise ValueError(f"“{words}” is no video: write a profile, or a profile and how many, such as 720p30:3.")
    return VideoLoad(profile, int(streams or 1), dscp)


def _progress(seconds: float) -> Callable[[LiveSecond], bool]:
    def show(live: LiveSecond) -> bool:
        words = []
        for name, rows in (("up", live.up + live.video_up), ("down", live.down + live.video_down)):
            missing = sum(r.reached - r.received for r in rows)
            words.append(f"{name} {sum(r.received for r in rows)} in, {missing} missing")
        print(
            f"\r{min(live.second, int(seconds))} of {seconds:g} s · {' · '.join(words)}   ",
            end="",
            file=sys.stderr,
        )
        if live.second >= seconds:
            print(file=sys.stderr)
        return True

    return show


def _call_report(result: RunResult, criterion: Criterion, trace_dir: Path | None) -> tuple[dict[str, object], bool]:
    relation = clock_relation(result.clock, [*result.calls, *result.video])
    rtt = _round_trip(result)
    calls: list[dict[str, object]] = []
    failed = False
    for record in result.calls:
        number = int(record.meta["call"])
        judged = judge_record(record, relation, criterion)
        row: dict[str, object] = {"call": number}
        for direction, one in judged.items():
            figures = asdict(figures_of(one, criterion, half_of(record)))
            row[direction] = {**(one.quality.fields() if one.quality else {}), **figures}
            failed |= one.quality is None or one.quality.metrics.received == 0
            if trace_dir and one.trace is not None:
                (trace_dir / f"call{number}-{direction}.csv").write_text(format_csv(one.trace))
        row["rtt_ms"] = rtt
        row["clock"] = _clock_fields(relation)
        calls.append(row)
    video = [_video_row(stream, relation, result.clock, trace_dir) for stream in result.video]
    failed |= any(not some for _, some in video)
    report: dict[str, object] = {
        "mos_scale": criterion.mos_scale,
        "calls": calls,
        "self_check": asdict(result.self_check),
    }
    if result.cut:
        report["cut"] = {"code": result.cut.code, "reason": result.cut.reason, "after_s": result.cut.after_s}
        print(f"cut: {result.cut.reason} What follows is this end’s half.", file=sys.stderr)
    if video:
        report["video"] = [row for row, _ in video]
    return report, failed or result.cut is not None


def _video_row(
    record: Record, relation: ClockRelation, clock: Record, trace_dir: Path | None
) -> tuple[dict[str, object], bool]:
    """The figures of a video stream, and whether something arrived in each direction."""
    number = int(record.meta["video"])
    row: dict[str, object] = {"video": number, "profile": record.meta["profile"], "directions": flowing(record)}
    some = True
    for direction in flowing(record):
        figures = picture_figures(record, direction, relation, picture_criterion(clock))
        some &= figures.received > 0
        row[direction] = asdict(figures)
        trace = trace_of(record, direction, relation)
        if trace_dir and trace is not None:
            (trace_dir / f"video{number}-{direction}.csv").write_text(format_csv(trace))
    return row, some


def _round_trip(result: RunResult) -> dict[str, float] | None:
    import numpy as np

    rtt = stamp_exchanges(result.clock).round_trip_ms
    if len(rtt) == 0:
        return None
    p50, p95 = np.percentile(rtt, [50, 95])
    return {"min": float(rtt.min()), "p50": float(p50), "p95": float(p95), "max": float(rtt.max())}


def _clock_fields(relation: ClockRelation) -> dict[str, object]:
    return {
        "kind": relation.kind,
        "uncertainty_ms": relation.uncertainty_ms,
        "offset_ms": relation.offset_us / 1000,
        "skew_ppm": relation.skew_ppm,
    }


def _picture_text(row: Mapping[str, Any]) -> str:
    if row["reason"]:
        return str(row["reason"])
    return (
        f"{SCORE_NAME} {row['score']:.2f}  {row['whole']} of {row['frames']} frames whole  "
        f"{row['mean_fps']:.1f} shown/s, worst second {row['worst_second_fps']}  "
        f"{row['freezes']} freezes, {row['frozen_ms'] / 1000:.1f} s"
    )


def _call_text(report: Mapping[str, Any]) -> str:
    lines = []
    clock = report["calls"][0]["clock"]
    for row in report["calls"]:
        for direction in ("up", "down"):
            if direction in row:
                lines.append(f"call {row['call']:>3} {direction:<5} {stream_text(row[direction])}")
    for row in report.get("video", []):
        lines += [f"video {row['video']:>2} {d:<5} {_picture_text(row[d])}" for d in row["directions"]]
    known = {
        "shared": "both ends on one clock",
        "estimated": f"clocks estimated ± {clock['uncertainty_ms'] or 0:.2f} ms",
        "round trip": f"half of RTCP’s round trip, ± {clock['uncertainty_ms'] or 0:.0f} ms",
        "unknown": "clocks unrelated: one-way delay not known",
    }
    lines.append(f"{report['mos_scale']} · {known[clock['kind']]}")
    if report["self_check"]["tainted"]:
        lines.append("Invalid: " + " ".join(report["self_check"]["reasons"]))
    return "\n".join(lines)
