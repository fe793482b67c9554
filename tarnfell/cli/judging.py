"""Judging what was recorded, and the arithmetic of quality and plans."""

from __future__ import annotations

import argparse
from collections.abc import Mapping
from dataclasses import asdict
from pathlib import Path
from typing import Any, cast
from zoneinfo import ZoneInfo

from tarnfell.cli.common import DONE, FAILED, print_report, stream_text
from tarnfell.cli.watched import analyse_samples
from tarnfell.core import emodel, playout
from tarnfell.core.codecs import find_codec
from tarnfell.core.imported import Choices
from tarnfell.core.legs import ROLES, Role, echo_path
from tarnfell.core.quality import MOS_SCALE_WIDE, Criterion, StreamQuality, criterion_for, judge
from tarnfell.core.rates import hold, plan_run, ramp
from tarnfell.core.stats import moments_to_show
from tarnfell.core.trace import TraceError
from tarnfell.core.tracefile import parse_csv
from tarnfell.exchange.capture import find_streams
from tarnfell.exchange.echolog import CAUTION as ECHO_CAUTION
from tarnfell.exchange.echolog import EchoLog, EchoLogError, read_echo_logs
from tarnfell.exchange.foreign import UNKNOWN_CODEC, no_quality
from tarnfell.exchange.pairs import pairs_of
from tarnfell.exchange.records import CAPTURE_MAGICS
from tarnfell.exchange.samples import has_samples_header
from tarnfell.exchange.streams import FoundStream
from tarnfell.work.ingest.files import imported_echo, started_us, target_of

MOST_HEADER = 1000
"""Characters of a first line."""


def analyse(options: argparse.Namespace) -> int:
    if options.ping:
        if options.file:
            raise ValueError("Give either a file, or logs of ping with --ping.")
        return _analyse_path(options)
    if not options.file:
        raise ValueError("Name the file to analyse.")
    path = Path(options.file)
    if not path.is_file():
        raise ValueError(f"There is no file {path}.")
    with open(path, "rb") as file:
        start = file.read(4)
    if start in CAPTURE_MAGICS:
        return _analyse_capture(options, path)
    if _is_samples(path):
        return analyse_samples(options, path)
    body = path.read_bytes()
    try:
        return _analyse_echo_logs(options, path, read_echo_logs(body))
    except EchoLogError:
        pass  # then it is a trace, or the CSV reader says what was expected
    try:
        text = body.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise TraceError(
            f"{path} is not a text file, and no capture (pcap, pcapng): a packet trace or a log of ping was expected."
        ) from None
    criterion = criterion_of(options)
    judged = judge(parse_csv(text), criterion)
    fields = judged.fields()
    if judged.metrics.received == 0:
        fields["reason"] = "Nothing arrived."
    report = {"mos_scale": criterion.mos_scale, "streams": [{"file": path.name, **fields}]}
    print_report(options, report, lambda r: f"{path.name}: {stream_text(r['streams'][0])} ({r['mos_scale']})")
    return FAILED if judged.metrics.received == 0 else DONE


def _is_samples(path: Path) -> bool:
    with open(path, encoding="utf-8-sig", errors="replace") as file:
        return has_samples_header(file.readline(MOST_HEADER))


def _analyse_capture(options: argparse.Namespace, path: Path) -> int:
    with open(path, "rb") as file:
        found = find_streams(file)
    rows = []
    for stream in found.streams:
        codec = options.codec or stream.codec
        given = argparse.Namespace(
            **{**vars(options), "codec": codec, "ptime": options.ptime or _interval(stream, codec)}
        )
        known = codec is not None or options.ie is not None
        criterion = criterion_of(given) if known else UNKNOWN_CODEC
        rows.append(_stream_fields(stream, codec, judge(stream.trace, criterion), known, criterion.mos_scale))
    report = {
        "packets": found.packets,
        "cut_short": found.cut_short,
        "notes": list(found.notes),
        "pairs": [list(pair) for pair in pairs_of(found.streams)],
        "streams": rows,
    }
    print_report(options, report, _capture_text)
    return DONE if rows else FAILED


def _stream_fields(
    stream: FoundStream, codec: str | None, judged: StreamQuality, known: bool, mos_scale: str
) -> dict[str, object]:
    """A stream's figures; delay is None, and so is quality where no codec is known."""
    told = {**judged.fields(), "delay_min_ms": None, "delay_p50_ms": None}
    if not known:
        told |= {"mos": None, "r_factor": None, "mouth_to_ear_ms": None, "reason": no_quality(stream)}
    return {
        "ssrc": stream.ssrc,
        "source": stream.source,
        "destination": stream.destination,
        "payload_type": stream.payload_type,
        "codec": codec,
        "clock_hz": stream.clock_hz,
        "ptime_ms": stream.ptime_ms,
        "media": stream.media,
        "first_us": stream.first_us,
        "skew_ppm": stream.skew_ppm,
        "dscp_received": stream.dscp,
        "notes": list(stream.notes),
        "mos_scale": mos_scale,
        **told,
    }


def _interval(stream: FoundStream, codec: str | None) -> int:
    """The captured packet interval, as near as the codec can be sent at."""
    intervals = find_codec(codec).intervals_ms() if codec else [max(1, round(stream.ptime_ms))]
    return min(intervals, key=lambda ms: abs(ms - stream.ptime_ms))


def _capture_text(r: Mapping[str, Any]) -> str:
    lines = [f"{r['packets']} packets, {len(r['streams'])} RTP streams" + (", cut short" if r["cut_short"] else "")]
    for row in r["streams"]:
        codec = row["codec"] or f"payload type {row['payload_type']}"
        lines.append(f"{row['source']} → {row['destination']}  SSRC {row['ssrc']:08x}  {codec}\n  {stream_text(row)}")
        lines += [f"  {note}" for note in row["notes"]]
    lines += [f"Streams {a + 1} and {b + 1} are the two directions of one call." for a, b in r["pairs"]]
    lines += r["notes"]
    return "\n".join(lines)


def _analyse_echo_logs(options: argparse.Namespace, path: Path, logs: list[EchoLog]) -> int:
    """The first host's figures at the top, as of a log of one host; all of them below ``logs``."""
    rows = [_echo_fields(path.name, log) for log in logs]
    report = {**rows[0], "logs": rows}
    print_report(options, report, lambda r: "\n".join([*map(_echo_text, r["logs"]), ECHO_CAUTION]))
    return DONE if any(log.lost < len(log.samples) for log in logs) else FAILED


def _echo_fields(name: str, log: EchoLog) -> dict[str, object]:
    return {
        "file": name,
        "system": log.system,
        "host": log.host,
        "started": log.started.isoformat() if log.started else None,
        "runs": log.runs,
        "duplicates": log.duplicates,
        "notes": list(log.notes),
        "not_understood": [{"line": number, "text": text} for number, text in log.strange],
        "caution": ECHO_CAUTION,
        **asdict(log.figures()),
        "samples": [[round(e.at_s, 6), e.rtt_ms] for e in log.samples],
    }


def _analyse_path(options: argparse.Namespace) -> int:
    """Several logs of ping, each to a place along the path, as one picture."""
    zone = ZoneInfo("UTC")  # stamps without a zone are compared with each other only
    logs = []
    files = {}
    for given in options.ping:
        role, equals, name = given.partition("=")
        if not equals or role not in ROLES:
            raise ValueError(f"--ping takes PLACE=FILE, with one of {', '.join(ROLES)} as the place; not “{given}”.")
        if role in files:
            raise ValueError(f"--ping {role}= was given twice.")
        path = Path(name)
        if not path.is_file():
            raise ValueError(f"There is no file {path}.")
        files[role] = path.name
        try:
            echo = imported_echo(read_echo_logs(path.read_bytes())[0])
        except EchoLogError as error:
            raise ValueError(f"{path}: {error}") from None
        logs.append(target_of(echo, cast(Role, role), started_us(echo, Choices(), zone)))
    found = asdict(echo_path(logs))
    for place in found["places"]:
        place["file"] = files[place["role"]]
    found["not_faults"] = [{"key": key, "says": says} for key, says in found["not_faults"]]
    print_report(options, {**found, "caution": ECHO_CAUTION}, _path_text)
    return DONE if any(p["own"]["lost"] < p["own"]["sent"] for p in found["places"]) else FAILED


def _path_text(r: Mapping[str, Any]) -> str:
    def ms(value: float | None) -> str:
        return "–" if value is None else f"{value:.1f} ms"

    lines = [
        f"{p['role']:<8} {p['host'] or 'unnamed':<24} {p['own']['lost']} of {p['own']['sent']} unanswered, "
        f"{ms(p['own']['p50_ms'])} median, {ms(p['own']['p95_ms'])} p95 · on the way there "
        f"{p['through_loss_pct']:.2f} % lost, {ms(p['through_p95_ms'])} p95"
        for p in r["places"]
    ]
    lines += [
        f"leg {leg['leg']}: adds {leg['loss_pct']:.2f} % loss, {ms(leg['p50_ms'])} median, {ms(leg['p95_ms'])} p95"
        for leg in r["legs"]
    ]
    compared = (
        f"Compared minute by minute, over {r['minutes']} minutes common to all."
        if r["minutes"]
        else "Compared as wholes: the logs do not tell times in common."
    )
    return "\n".join([*lines, r["says"], *(one["says"] for one in r["not_faults"]), compared, r["caution"]])


def _echo_text(r: Mapping[str, Any]) -> str:
    delay = (
        "no answer"
        if r["rtt_p50_ms"] is None
        else (
            f"round trip {r['rtt_min_ms']:.1f} ms least, {r['rtt_p50_ms']:.1f} median, {r['rtt_p95_ms']:.1f} p95, "
            f"{r['rtt_max_ms']:.1f} most"
        )
    )
    return (
        f"{r['file']}: {r['sent']} echoes to {r['host'] or 'an unnamed host'}, {r['lost']} unanswered "
        f"({r['loss_pct']:.2f} %, {r['longest_loss_run']} in a row) · {delay}"
        + "".join(f"\n  {note}" for note in r["notes"])
        + "".join(f"\n  line {one['line']}: {one['text']}" for one in r["not_understood"])
    )


def criterion_of(options: argparse.Namespace) -> Criterion:
    if not 0 <= options.buffer <= playout.MAX_BUFFER_MS:
        raise ValueError(f"A buffer of {options.buffer:g} ms cannot be used: choose 0 to {playout.MAX_BUFFER_MS:g} ms.")
    if options.codec is not None and (options.ie is not None or options.bpl is not None):
        raise ValueError("Give either --codec, or --ie and --bpl.")
    if options.codec is not None:
        codec = find_codec(options.codec)
        ptime = options.ptime or (20 if 20 in codec.intervals_ms() else codec.intervals_ms()[0])
        codec.check_ptime(ptime)
        return criterion_for(codec, ptime, options.buffer, options.adaptive)
    if options.ie is None or options.bpl is None:
        raise ValueError("Give --codec, or both --ie and --bpl.")
    _check_impairment(options)
    return Criterion(options.ie, options.bpl, options.ptime or 20, 0.0, options.buffer, adaptive=options.adaptive)


def _check_impairment(options: argparse.Namespace) -> None:
    if not 0 <= options.ie <= 95:
        raise ValueError(f"Ie {options.ie:g} is not valid: choose 0 to 95.")
    if options.bpl <= 0:
        raise ValueError(f"Bpl {options.bpl:g} is not valid: it must be above 0.")


def quality(options: argparse.Namespace) -> int:
    if options.codec is not None:
        codec = find_codec(options.codec)
        criterion = criterion_for(codec, codec.intervals_ms()[0])
    elif options.ie is None or options.bpl is None:
        raise ValueError("Give --codec, or both --ie and --bpl.")
    else:
        _check_impairment(options)
        criterion = Criterion(options.ie, options.bpl, 20)
    if not 0 <= options.one_way_ms <= 60_000:
        raise ValueError("One-way delay must be 0 to 60000 ms.")
    if not 0 <= options.loss_pct <= 100:
        raise ValueError("Loss must be 0 to 100 %.")
    if not 1 <= options.burst_ratio <= 1e6:
        raise ValueError("The burst ratio is 1 or more: 1 is random loss.")
    R = criterion.rating(options.one_way_ms, options.loss_pct, options.burst_ratio)
    report = {
        "r_factor": float(emodel.clamp_r(R, criterion.most_r)),
        "mos": float(criterion.mos(R)),
        "mos_scale": criterion.mos_scale,
        "mos_wide": float(emodel.mos_wideband_from_r(R)),
        "mos_scale_wide": MOS_SCALE_WIDE,
        "ie_eff": float(
            emodel.equipment_impairment(options.loss_pct, options.burst_ratio, criterion.ie, criterion.bpl)
        ),
        "idd": float(emodel.pure_delay(options.one_way_ms)),
    }
    print_report(options, report, lambda r: f"R {r['r_factor']:.1f} · {r['mos']:.2f} MOS ({r['mos_scale']})")
    return DONE


def plan(options: argparse.Namespace) -> int:
    codec = find_codec(options.codec)
    if options.ramp_from is None:
        shape = hold(options.calls, options.seconds, options.rounds)
    else:
        shape = ramp(options.ramp_from, options.calls, options.ramp_by, options.seconds, options.rounds)
    plan = asdict(plan_run(codec, options.ptime, shape))
    rate = plan.pop("rate")
    report = {
        "codec": codec.name,
        "ptime_ms": options.ptime,
        "steps": list(shape.steps),
        **rate,
        **plan,
        "moments_to_show_97": moments_to_show(97),
    }
    print_report(options, report, _plan_text)
    return DONE


def _plan_text(r: Mapping[str, Any]) -> str:
    return (
        f"{r['calls_at_once']} concurrent calls of {r['codec']} every {r['ptime_ms']} ms, {r['calls']} in all\n"
        f"one call, each way   {r['payload_bytes']} bytes a packet · {r['ipv4_kbps']:.1f} kbit/s IPv4 · "
        f"{r['ethernet_ipv4_kbps']:.1f} Ethernet · {r['wire_ipv4_kbps']:.1f} on the wire\n"
        f"all calls, each way  {r['each_way_ipv4_kbps']:.0f} kbit/s IPv4 with RTCP · "
        f"{r['each_way_wire_kbps']:.0f} on the wire\n"
        f"takes                {r['run_s']:g} s · {r['packets']} packets\n"
        f"shows                at least {r['shows_pct']:.1f} % acceptable calls if none is bad, in {r['moments']} "
        "ten-minute moments"
    )
