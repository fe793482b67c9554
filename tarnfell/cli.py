"""One command line over all of Tarnfell. Exit 0: done; 1: the measured thing failed; 2: wrong use."""

from __future__ import annotations

import argparse
import getpass
import json
import signal
import sqlite3
import sys
from collections.abc import Callable
from dataclasses import asdict
from pathlib import Path
from typing import Any

from tarnfell import __version__
from tarnfell.core import emodel, playout
from tarnfell.core.clock import ClockRelation
from tarnfell.core.codecs import CodecError, codec_table, find_codec
from tarnfell.core.quality import MOS_SCALE, MOS_SCALE_WIDE, Criterion, criterion_for, judge
from tarnfell.core.rates import PlanError, hold, plan_run, rise, stream_plan
from tarnfell.core.stats import calls_to_claim
from tarnfell.core.trace import TraceError
from tarnfell.core.tracefile import format_csv, parse_csv
from tarnfell.exchange.capture import FoundStream, find_streams
from tarnfell.exchange.echolog import CAUTION as ECHO_CAUTION
from tarnfell.exchange.echolog import EchoLog, EchoLogError, parse_echo_log
from tarnfell.exchange.foreign import CAPTURE_MAGICS, UNKNOWN_CODEC, foreign_fields
from tarnfell.farend.daemon import DEFAULT_MEDIA_PORTS, FarEndConfig, FarEndError, listen, run
from tarnfell.media.keys import KeyFileError, read_key, read_or_make_key
from tarnfell.probe.agent import agent_status, enrol, run_agent
from tarnfell.probe.call import CallError, CallPlan, LiveSecond, RunResult, place_calls
from tarnfell.probe.http import Unreachable
from tarnfell.probe.state import AgentError, State
from tarnfell.store.packets import clock_relation, judge_record, stamp_exchanges
from tarnfell.wire import WireError
from tarnfell.wire.control import DEFAULT_PORT

DONE, FAILED, WRONG_USE = 0, 1, 2
_WRONG_USE = (CodecError, PlanError, TraceError, KeyFileError, FarEndError, ValueError, OSError)
_FAILED = (CallError, AgentError, WireError)


def main(arguments: list[str] | None = None) -> int:
    """Run one command; returns its exit code."""
    options = _parser().parse_args(arguments)
    try:
        return int(options.verb_function(options))
    except _FAILED as error:
        print(f"tarnfell: {error}", file=sys.stderr)
        return FAILED
    except _WRONG_USE as error:
        print(f"tarnfell: {_sentence(error)}", file=sys.stderr)
        return WRONG_USE
    except KeyboardInterrupt:
        print("tarnfell: stopped.", file=sys.stderr)
        return 130


def _sentence(error: Exception) -> str:
    if isinstance(error, OSError) and error.strerror:
        return f"{error.filename or 'The system'}: {error.strerror}."
    return str(error)


# call


def _call(options: argparse.Namespace) -> int:
    codec = find_codec(options.codec)
    plan = CallPlan(**asdict(stream_plan(codec, options.ptime, options.calls, options.seconds, options.dscp)))
    host, port = _host_port(options.host)
    key = read_key(options.key_file)
    trace_dir = Path(options.trace_dir) if options.trace_dir else None
    if trace_dir:
        trace_dir.mkdir(parents=True, exist_ok=True)
    result = place_calls(host, port, key, plan, _progress(options.seconds) if sys.stderr.isatty() else lambda _: True)
    report, failed = _call_report(result, criterion_for(codec, options.ptime, options.buffer), trace_dir)
    _print(options, report, _call_text)
    return FAILED if failed else DONE


def _host_port(text: str) -> tuple[str, int]:
    """HOST, HOST:PORT or [IPV6]:PORT."""
    if text.startswith("["):
        host, _, rest = text[1:].partition("]")
        text_port = rest.lstrip(":")
    elif text.count(":") == 1:
        host, _, text_port = text.partition(":")
    else:
        host, text_port = text, ""
    if text_port and not (text_port.isdigit() and 0 < int(text_port) < 65536):
        raise ValueError(f"“{text_port}” is not a port: choose 1 to 65535.")
    if not host:
        raise ValueError("Name the far end's host.")
    return host, int(text_port or DEFAULT_PORT)


def _progress(seconds: float) -> Callable[[LiveSecond], bool]:
    def show(live: LiveSecond) -> bool:
        words = []
        for name, rows in (("up", live.up), ("down", live.down)):
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


def _call_report(result: RunResult, criterion: Criterion, trace_dir: Path | None) -> tuple[dict[str, Any], bool]:
    relation = clock_relation(result.clock)
    rtt = _round_trip(result)
    calls: list[dict[str, Any]] = []
    failed = False
    for record in result.calls:
        number = int(record.meta["call"])
        judged = judge_record(record, relation, criterion)
        row: dict[str, Any] = {"call": number}
        for direction, one in judged.items():
            row[direction] = one.fields()
            failed |= one.quality is None or one.quality.metrics.received == 0
            if trace_dir and one.trace is not None:
                (trace_dir / f"call{number}-{direction}.csv").write_text(format_csv(one.trace))
        row["rtt_ms"] = rtt
        row["clock"] = _clock_fields(relation)
        calls.append(row)
    return {"mos_scale": MOS_SCALE, "calls": calls, "self_check": result.self_check}, failed


def _round_trip(result: RunResult) -> dict[str, float] | None:
    import numpy as np

    rtt = stamp_exchanges(result.clock).round_trip_ms
    if len(rtt) == 0:
        return None
    p50, p95 = np.percentile(rtt, [50, 95])
    return {"min": float(rtt.min()), "p50": float(p50), "p95": float(p95), "max": float(rtt.max())}


def _clock_fields(relation: ClockRelation) -> dict[str, Any]:
    return {
        "kind": relation.kind,
        "uncertainty_ms": relation.uncertainty_ms,
        "offset_ms": relation.offset_us / 1000,
        "skew_ppm": relation.skew_ppm,
    }


def _call_text(report: dict[str, Any]) -> str:
    lines = []
    clock = report["calls"][0]["clock"]
    for row in report["calls"]:
        for direction in ("up", "down"):
            lines.append(f"call {row['call']:>3} {direction:<5} {_stream_text(row[direction])}")
    known = {
        "shared": "both ends on one clock",
        "estimated": f"clocks estimated ± {clock['uncertainty_ms'] or 0:.2f} ms",
        "unknown": "clocks unrelated: one-way delay not known",
    }
    lines.append(f"{report['mos_scale']} · {known[clock['kind']]}")
    if report["self_check"]["tainted"]:
        lines.append("Not to be trusted: " + " ".join(report["self_check"]["reasons"]))
    return "\n".join(lines)


def _stream_text(row: dict[str, Any]) -> str:
    if row.get("mos") is None:
        return str(row.get("reason") or "Nothing arrived.")
    delay = "–" if row["delay_min_ms"] is None else f"{row['delay_min_ms']:.1f}"
    return (
        f"{row['mos']:.2f} MOS · {row['sent']} sent, {row['lost']} lost, {row['late']} late · "
        f"delay from {delay} ms, p95 +{row['pdv_p95_ms']:.1f} ms · jitter {row['jitter_ms']:.1f} ms"
    )


# analyse, quality, plan


def _analyse(options: argparse.Namespace) -> int:
    path = Path(options.file)
    if not path.is_file():
        raise ValueError(f"There is no file {path}.")
    with open(path, "rb") as file:
        start = file.read(4)
    if start in CAPTURE_MAGICS:
        return _analyse_capture(options, path)
    try:
        text = path.read_text(encoding="utf-8-sig")
    except UnicodeDecodeError:
        raise TraceError(
            f"{path} is not a text file, and no capture (pcap, pcapng): a packet trace or a log of ping was expected."
        ) from None
    try:
        return _analyse_echo_log(options, path, parse_echo_log(text))
    except EchoLogError:
        pass  # then it is a trace, or the CSV reader says what was expected
    criterion = _criterion(options)
    judged = judge(parse_csv(text), criterion)
    fields = judged.fields()
    if judged.metrics.received == 0:
        fields["reason"] = "Nothing arrived."
    report = {"mos_scale": MOS_SCALE, "streams": [{"file": path.name, **fields}]}
    _print(options, report, lambda r: f"{path.name}: {_stream_text(r['streams'][0])} ({MOS_SCALE})")
    return FAILED if judged.metrics.received == 0 else DONE


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
        fields = judge(stream.trace, _criterion(given) if known else UNKNOWN_CODEC).fields()
        rows.append(foreign_fields(stream, codec, fields, known))
    report = {"mos_scale": MOS_SCALE, "packets": found.packets, "cut_short": found.cut_short, "streams": rows}
    _print(options, report, _capture_text)
    return DONE if rows else FAILED


def _interval(stream: FoundStream, codec: str | None) -> int:
    """The captured packet interval, as near as the codec can be sent at."""
    intervals = find_codec(codec).intervals_ms() if codec else [max(1, round(stream.ptime_ms))]
    return min(intervals, key=lambda ms: abs(ms - stream.ptime_ms))


def _capture_text(r: dict[str, Any]) -> str:
    lines = [f"{r['packets']} packets, {len(r['streams'])} RTP streams" + (", cut short" if r["cut_short"] else "")]
    for row in r["streams"]:
        codec = row["codec"] or f"payload type {row['payload_type']}"
        lines.append(f"{row['source']} → {row['destination']}  SSRC {row['ssrc']:08x}  {codec}\n  {_stream_text(row)}")
    return "\n".join(lines)


def _analyse_echo_log(options: argparse.Namespace, path: Path, log: EchoLog) -> int:
    figures = log.figures()
    samples = [[round(e.at_s, 6), e.rtt_ms] for e in log.samples]
    report = {"file": path.name, "system": log.system, "host": log.host, "caution": ECHO_CAUTION, **figures,
              "samples": samples}  # fmt: skip
    _print(options, report, _echo_text)
    return FAILED if figures["rtt_p50_ms"] is None else DONE


def _echo_text(r: dict[str, Any]) -> str:
    delay = (
        "no answer"
        if r["rtt_p50_ms"] is None
        else (
            f"round trip {r['rtt_min_ms']:.1f} ms least, {r['rtt_p50_ms']:.1f} middle, {r['rtt_p95_ms']:.1f} p95, "
            f"{r['rtt_max_ms']:.1f} most"
        )
    )
    return (
        f"{r['file']}: {r['sent']} echoes to {r['host'] or 'an unnamed host'}, {r['lost']} unanswered "
        f"({r['loss_pct']:.2f} %, {r['longest_loss_run']} in a row) · {delay}\n{r['caution']}"
    )


def _criterion(options: argparse.Namespace) -> Criterion:
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
        raise ValueError(f"Ie {options.ie:g} cannot be: choose 0 to 95.")
    if options.bpl <= 0:
        raise ValueError(f"Bpl {options.bpl:g} cannot be: it is above 0.")


def _quality(options: argparse.Namespace) -> int:
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
        "mos": float(emodel.mos_from_r(R)),
        "mos_scale": MOS_SCALE,
        "mos_wide": float(emodel.mos_wideband_from_r(R)),
        "mos_scale_wide": MOS_SCALE_WIDE,
        "ie_eff": float(
            emodel.equipment_impairment(options.loss_pct, options.burst_ratio, criterion.ie, criterion.bpl)
        ),
        "idd": float(emodel.pure_delay(options.one_way_ms)),
    }
    _print(options, report, lambda r: f"R {r['r_factor']:.1f} · {r['mos']:.2f} MOS ({MOS_SCALE})")
    return DONE


def _plan(options: argparse.Namespace) -> int:
    codec = find_codec(options.codec)
    if options.rise_from is None:
        shape = hold(options.calls, options.seconds, options.rounds)
    else:
        shape = rise(options.rise_from, options.calls, options.rise_by, options.seconds, options.rounds)
    plan = asdict(plan_run(codec, options.ptime, shape))
    rate = plan.pop("rate")
    report = {
        "codec": codec.name,
        "ptime_ms": options.ptime,
        "steps": list(shape.steps),
        **rate,
        **plan,
        "calls_to_claim_97": calls_to_claim(97),
    }
    _print(options, report, _plan_text)
    return DONE


def _plan_text(r: dict[str, Any]) -> str:
    return (
        f"{r['calls_at_once']} calls at once of {r['codec']} every {r['ptime_ms']} ms, {r['calls']} in all\n"
        f"one call, each way   {r['payload_bytes']} bytes a packet · {r['ipv4_kbps']:.1f} kbit/s IPv4 · "
        f"{r['ethernet_ipv4_kbps']:.1f} Ethernet · {r['wire_ipv4_kbps']:.1f} on the wire\n"
        f"all calls, each way  {r['each_way_ipv4_kbps']:.0f} kbit/s IPv4 with RTCP · "
        f"{r['each_way_wire_kbps']:.0f} on the wire\n"
        f"takes                {r['run_s']:g} s · {r['packets']} packets\n"
        f"can claim            at least {r['claims_pct']:.1f} % good calls, if not one of them is bad"
    )


# farend, probe, serve, demo


def _farend(options: argparse.Namespace) -> int:
    low, high = _port_range(options.media_ports)
    config = FarEndConfig(options.bind, options.control_port, low, high)
    key, file, made = read_or_make_key(options.key_file)
    listener = listen(config)
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    if made:
        print(f"Made a key: {file}. Copy it to each probe.", file=sys.stderr)
    print(
        f"Far end at {options.bind}: TCP {listener.getsockname()[1]}, UDP {low}–{high}. Key: {file}. Ctrl-C ends it.",
        file=sys.stderr,
        flush=True,
    )
    try:
        run(listener, config, key)
    finally:
        listener.close()
    return DONE


def _port_range(text: str) -> tuple[int, int]:
    low, dash, high = text.partition("-")
    if not (dash and low.isdigit() and high.isdigit() and 0 < int(low) < int(high) < 65536):
        raise ValueError(f"“{text}” is not a range of ports, such as 20000-20399.")
    return int(low), int(high)


def _probe_enrol(options: argparse.Namespace) -> int:
    try:
        about = vars(enrol(options.server, options.token, State(Path(options.state))))
    except Unreachable as error:
        raise AgentError(f"The server at {options.server} cannot be reached: {error}.") from None
    del about["secret"]
    _print(options, about, lambda a: f"Enrolled as {a['name']} at {a['site']}. Now: tarnfell probe run")
    return DONE


def _probe_run(options: argparse.Namespace) -> int:
    run_agent(State(Path(options.state)))
    return DONE


def _probe_status(options: argparse.Namespace) -> int:
    status = agent_status(State(Path(options.state)))
    _print(options, status, lambda s: "\n".join(f"{name:<14} {value}" for name, value in s.items()))
    return DONE


def _serve(options: argparse.Namespace) -> int:
    from tarnfell.server.serve import serve_forever

    host, port = _host_port(options.bind)
    try:
        serve_forever(Path(options.data), host, port if ":" in options.bind else 8080, options.public_address)
    except OSError as error:
        raise ValueError(f"The server cannot run at {options.bind} with {options.data}: {error.strerror}.") from None
    return DONE


def _user(options: argparse.Namespace) -> int:
    from tarnfell.store.db import open_database, writing
    from tarnfell.store.people import add_user

    password = getpass.getpass("Password: ") if sys.stdin.isatty() else sys.stdin.readline().rstrip("\n")
    db = open_database(Path(options.data))
    try:
        with writing(db):
            add_user(db, options.email, options.name or options.email, password)
    except sqlite3.IntegrityError:
        raise ValueError(f"There is already a user {options.email}.") from None
    finally:
        db.close()
    _print(options, {"email": options.email}, lambda r: f"{r['email']} may sign in now.")
    return DONE


def _demo(options: argparse.Namespace) -> int:
    from tarnfell.demo.run import DemoError, run_demo

    try:
        run_demo(options.port, Path(options.data), fresh=options.fresh)
    except DemoError as error:
        raise ValueError(str(error)) from None
    return DONE


def _print(options: argparse.Namespace, report: dict[str, Any], text: Callable[[dict[str, Any]], str]) -> None:
    print(json.dumps(report, indent=1, ensure_ascii=False) if options.json else text(report))


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        prog="tarnfell",
        description="Finds out whether a site can carry voice and video calls.",
        epilog="Exit status: 0 done, 1 what was measured failed, 2 wrong use. Every verb takes --json.",
    )
    parser.add_argument("--version", action="version", version=f"tarnfell {__version__}")
    verbs = parser.add_subparsers(required=True, metavar="VERB")

    def verb(name: str, function: Callable[[argparse.Namespace], int], words: str, example: str = "") -> Any:
        one = verbs.add_parser(
            name,
            help=words,
            description=words,
            epilog=example,
            formatter_class=argparse.RawDescriptionHelpFormatter,
        )
        one.set_defaults(verb_function=function)
        one.add_argument("--json", action="store_true", help="print JSON")
        return one

    names = ", ".join(codec_table())
    call = verb(
        "call",
        _call,
        "Place synthetic calls to a far end and judge them.",
        "Example: tarnfell call farend.example --codec g711u --ptime 20 --calls 10 --seconds 30 --dscp 46",
    )
    call.add_argument("host", metavar="HOST[:PORT]", help=f"the far end; port {DEFAULT_PORT} unless given")
    call.add_argument("--codec", default="g711u", metavar="NAME", help=f"one of {names}")
    call.add_argument("--ptime", type=int, default=20, metavar="MS", help="packet interval, whole codec frames")
    call.add_argument("--calls", type=int, default=1, metavar="N", help="calls at once, 1 to 100")
    call.add_argument("--seconds", type=float, default=10, metavar="S", help="length of each call")
    call.add_argument("--dscp", type=int, default=46, metavar="N", help="marking, 0 to 63; 46 is EF")
    call.add_argument("--buffer", type=float, default=playout.DEFAULT_BUFFER_MS, metavar="MS", help="playout buffer")
    call.add_argument("--key-file", metavar="F", help="the far end's key")
    call.add_argument("--trace-dir", metavar="DIR", help="write callN-up.csv and callN-down.csv there")

    analyse = verb(
        "analyse",
        _analyse,
        "Judge a packet trace, the RTP streams of a capture, or a log of ping.",
        "The file is a packet trace (CSV: seq,sent_us,recv_us, blank recv_us for a lost packet), a capture (pcap or\n"
        "pcapng), or what ping printed on Linux, macOS or Windows.\n"
        "Example: tarnfell analyse call1-up.csv --codec g711u --buffer 40",
    )
    analyse.add_argument("file", metavar="FILE")
    _criterion_options(analyse, names)
    analyse.add_argument("--buffer", type=float, default=playout.DEFAULT_BUFFER_MS, metavar="MS")
    analyse.add_argument("--adaptive", action="store_true", help="let the buffer follow the delay, up to --buffer")
    analyse.add_argument("--ptime", type=int, metavar="MS", help="packet interval the stream was sent at")

    quality = verb(
        "quality",
        _quality,
        "R and MOS of a delay and a loss, by the E-model (ITU-T G.107).",
        "Example: tarnfell quality --one-way-ms 150 --loss-pct 1 --codec g711u",
    )
    quality.add_argument("--one-way-ms", type=float, required=True, metavar="X", help="mouth to ear")
    quality.add_argument("--loss-pct", type=float, required=True, metavar="P")
    quality.add_argument("--burst-ratio", type=float, default=1, metavar="B", help="1 is random loss")
    _criterion_options(quality, names)

    plan = verb("plan", _plan, "What a run costs on the line, how long it takes and what it yields.")
    plan.add_argument("--codec", default="g711u", metavar="NAME", help=f"one of {names}")
    plan.add_argument("--ptime", type=int, default=20, metavar="MS")
    plan.add_argument("--calls", type=int, default=1, metavar="N")
    plan.add_argument("--seconds", type=float, default=60, metavar="S")
    plan.add_argument("--rounds", type=int, default=1, metavar="N")
    plan.add_argument("--rise-from", type=int, metavar="N", help="rise step by step from N calls to --calls")
    plan.add_argument("--rise-by", type=int, default=1, metavar="N", help="calls more at each step")

    farend = verb("farend", _farend, "Answer calls: run this where calls would really be answered.")
    farend.add_argument("--bind", required=True, metavar="ADDR", help="address to answer at")
    farend.add_argument("--control-port", type=int, default=DEFAULT_PORT, metavar="N")
    farend.add_argument("--media-ports", default="-".join(map(str, DEFAULT_MEDIA_PORTS)), metavar="A-B")
    farend.add_argument("--key-file", metavar="F", help="made there if it does not exist")

    probe = verbs.add_parser("probe", help="Work for a server from inside a site.")
    inner = probe.add_subparsers(required=True, metavar="enrol|run|status")
    state = Path.home() / ".local" / "share" / "tarnfell" / "probe"
    for name, function, words in (
        ("enrol", _probe_enrol, "Make this machine known to a server."),
        ("run", _probe_run, "Take jobs from the server until stopped."),
        ("status", _probe_status, "Say who this probe is and what it still has to deliver."),
    ):
        one = inner.add_parser(name, help=words, description=words)
        one.set_defaults(verb_function=function)
        one.add_argument("--json", action="store_true", help="print JSON")
        one.add_argument("--state", default=str(state), metavar="DIR", help="where the probe keeps its things")
        if name == "enrol":
            one.add_argument("--server", required=True, metavar="URL")
            one.add_argument("--token", required=True, metavar="T", help="from the site's page")

    serve = verb(
        "serve",
        _serve,
        "Run the server.",
        "Example: tarnfell serve --data /var/lib/tarnfell --bind [::1]:8080",
    )
    serve.add_argument("--data", required=True, metavar="DIR")
    serve.add_argument("--bind", default="127.0.0.1:8080", metavar="ADDR:PORT")
    serve.add_argument("--public-address", metavar="URL", help="how sites reach it, such as https://tarnfell.example")

    user = verb(
        "user",
        _user,
        "Let somebody sign in to a server.",
        "The password is asked for, or read from standard input.\n"
        "Example: tarnfell user ines@merrow.example --name 'Ines Harrow' --data /var/lib/tarnfell",
    )
    user.add_argument("email", metavar="EMAIL")
    user.add_argument("--name", metavar="NAME")
    user.add_argument("--data", required=True, metavar="DIR")

    demo = verb("demo", _demo, "Run everything on this machine with made-up data.")
    demo.add_argument("--port", type=int, default=8080, metavar="N")
    demo.add_argument("--data", default="demo-data", metavar="DIR")
    demo.add_argument("--fresh", action="store_true", help="make the demo data anew")
    return parser


def _criterion_options(parser: argparse.ArgumentParser, names: str) -> None:
    parser.add_argument("--codec", metavar="NAME", help=f"one of {names}")
    parser.add_argument("--ie", type=float, metavar="X", help="equipment impairment, instead of a codec")
    parser.add_argument("--bpl", type=float, metavar="Y", help="packet-loss robustness, instead of a codec")


if __name__ == "__main__":
    raise SystemExit(main())
